package timeline

import (
	"math"
	"slices"
	"testing"
)

func TestFillingPutsValuesWhereNoneCameAndSaysWhich(t *testing.T) {
	nan := math.NaN()
	for how, want := range map[Filling]struct {
		values []float64
		filled []bool
	}{
		FillNone:     {[]float64{nan, 2, nan, nan, 8, nan}, []bool{false, false, false, false, false, false}},
		FillZero:     {[]float64{0, 2, 0, 0, 8, 0}, []bool{true, false, true, true, false, true}},
		FillPrevious: {[]float64{nan, 2, 2, 2, 8, 8}, []bool{false, false, true, true, false, true}},
		FillLinear:   {[]float64{nan, 2, 4, 6, 8, nan}, []bool{false, false, true, true, false, false}},
	} {
		samples := make([]Sample, 6)
		for i, v := range []float64{nan, 2, nan, nan, 8, nan} {
			samples[i] = Sample{At: int64(i) * 3600, Value: v}
		}
		filled := Fill(samples, how)
		for i, s := range samples {
			if s.Value != want.values[i] && !(math.IsNaN(s.Value) && math.IsNaN(want.values[i])) {
				t.Errorf("%q: value %d is %g, want %g", how, i, s.Value, want.values[i])
			}
		}
		if !slices.Equal(filled, want.filled) {
			t.Errorf("%q: filled %v, want %v", how, filled, want.filled)
		}
	}
	if CheckFilling("mean") == nil || CheckFilling("none") != nil {
		t.Error("mean is no way to fill, none is")
	}
}
