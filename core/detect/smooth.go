package detect

import (
	"math"
	"slices"
)

// lately keeps the standardised residuals of the last periods for smoothing before
// detection. A moving median lets a spike of fewer than half as many periods pass unseen
// and keeps edges sharp; a moving mean takes a part of everything, and is the stronger
// against noise (J. W. Tukey, Exploratory Data Analysis, 1977, chapter 7).
type lately struct {
	Last []float64 // a ring; the oldest is at Next once it is full
	Next int

	ordered []float64 // the same, ascending; made again after it was stored
}

// smooth replaces a point's residual by the median or mean of the last ones. Only
// detection sees it: the band and the chart keep the value itself.
func (e *Evaluator) smooth(p *point) {
	z := e.Lately.take(p.Z, e.rule.Smooth, e.rule.SmoothMean)
	moved := (z - p.Z) * math.Sqrt(p.Var)
	p.Z, p.X, p.Shift = z, p.X+moved, p.Shift+moved
}

// take adds a value to the last n and gives their median or mean.
func (l *lately) take(z float64, n int, mean bool) float64 {
	if len(l.Last) > n || len(l.Last) < n && l.Next != 0 { // another length was in force
		*l = lately{}
	}
	if len(l.ordered) != len(l.Last) {
		l.ordered = slices.Sorted(slices.Values(l.Last))
	}
	if len(l.Last) < n {
		l.Last = append(l.Last, z)
	} else {
		oldest, _ := slices.BinarySearch(l.ordered, l.Last[l.Next])
		l.ordered = slices.Delete(l.ordered, oldest, oldest+1)
		l.Last[l.Next] = z
		l.Next = (l.Next + 1) % n
	}
	at, _ := slices.BinarySearch(l.ordered, z)
	l.ordered = slices.Insert(l.ordered, at, z)
	if !mean {
		return (l.ordered[(len(l.ordered)-1)/2] + l.ordered[len(l.ordered)/2]) / 2
	}
	sum := 0.0
	for _, v := range l.Last {
		sum += v
	}
	return sum / float64(len(l.Last))
}
