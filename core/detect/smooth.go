package detect

import (
	"math"
	"slices"
)

// lately keeps the standardised residuals of the last periods for a moving
// median, which a spike of fewer than half as many periods passes unseen.
type lately struct {
	Z    [MaxSmooth]float64
	Next int
	Seen int
}

// smooth replaces a point's residual by the median of the last ones. Only
// detection sees it: the band and the chart keep the value itself.
func (e *Evaluator) smooth(p *point) {
	n := e.rule.Smooth
	l := &e.Lately
	l.Z[l.Next] = p.Z
	l.Next = (l.Next + 1) % n
	l.Seen = min(l.Seen+1, n)
	var last [MaxSmooth]float64
	list := last[:copy(last[:], l.Z[:l.Seen])]
	slices.Sort(list)
	z := (list[(len(list)-1)/2] + list[len(list)/2]) / 2
	moved := (z - p.Z) * math.Sqrt(p.Var)
	p.Z, p.X, p.Shift = z, p.X+moved, p.Shift+moved
}
