package wire

import "math"

// Finite is a figure that is known, as JSON can say it; nil for NaN and infinities.
func Finite(x float64) *float64 {
	if math.IsNaN(x) || math.IsInf(x, 0) {
		return nil
	}
	return &x
}
