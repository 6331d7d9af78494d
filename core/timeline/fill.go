package timeline

import (
	"fmt"
	"math"
)

// Filling is what stands in the place of values that did not come.
type Filling string

const (
	FillNone     Filling = ""
	FillZero     Filling = "zero"
	FillPrevious Filling = "previous"
	FillLinear   Filling = "linear" // straight between the values before and after
)

// CheckFilling refuses what is no way to fill.
func CheckFilling(f Filling) error {
	switch f {
	case FillNone, "none", FillZero, FillPrevious, FillLinear:
		return nil
	}
	return fmt.Errorf("fill %q: allowed are none, zero, previous and linear", f)
}

// Fill puts values in the place of those that are missing from ascending samples, and
// tells which. What has no value before it (previous) or on one side (linear) stays
// missing.
func Fill(samples []Sample, how Filling) (filled []bool) {
	filled = make([]bool, len(samples))
	last := -1
	for i := range samples {
		if !math.IsNaN(samples[i].Value) {
			if how == FillLinear && last >= 0 {
				a, b := samples[last], samples[i]
				for k := last + 1; k < i; k++ {
					along := float64(samples[k].At-a.At) / float64(b.At-a.At)
					samples[k].Value, filled[k] = a.Value+along*(b.Value-a.Value), true
				}
			}
			last = i
			continue
		}
		switch {
		case how == FillZero:
			samples[i].Value, filled[i] = 0, true
		case how == FillPrevious && last >= 0:
			samples[i].Value, filled[i] = samples[last].Value, true
		}
	}
	return filled
}
