package timeline

import (
	"math"
	"testing"
	"time"
)

// Segments add up period by period, whatever is missing of each; shares are averaged.
func TestSeriesAddUpPeriodByPeriod(t *testing.T) {
	hours, err := NewGrid(time.Hour, time.UTC)
	if err != nil {
		t.Fatal(err)
	}
	from := time.Date(2026, 6, 1, 0, 0, 0, 0, time.UTC)
	at := func(hour int) int64 { return from.Add(time.Duration(hour) * time.Hour).Unix() }
	sum := NewSum(hours, from, from.Add(6*time.Hour))
	sum.Add([]Sample{{At: at(1), Value: 4}, {At: at(2), Value: math.NaN()}, {At: at(4), Value: 10}, {At: at(9), Value: 99}})
	sum.Add([]Sample{{At: at(-1), Value: 99}, {At: at(1), Value: 2}, {At: at(2), Value: 3}, {At: at(3), Value: math.NaN()}})
	want := map[bool][]float64{true: {6, 3, math.NaN(), 10, math.NaN()}, false: {3, 3, math.NaN(), 10, math.NaN()}}
	for count, values := range want {
		got := sum.Samples(count)
		if len(got) != len(values) || got[0].At != at(1) {
			t.Fatalf("count %v: %+v; it begins with the first period that came and ends with the span", count, got)
		}
		for i, s := range got {
			if s.Value != values[i] && !(math.IsNaN(s.Value) && math.IsNaN(values[i])) || s.At != at(1+i) {
				t.Errorf("count %v, hour %d: %g, want %g", count, i+1, s.Value, values[i])
			}
		}
	}
	if none := NewSum(hours, from, from).Samples(true); len(none) != 0 {
		t.Errorf("over no time: %v", none)
	}
}
