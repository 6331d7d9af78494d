package template

import (
	"cmp"
	"math"
	"slices"

	"tinbell/core/robust"
)

// Tally is how often a template came in a stretch and in another it is held against.
type Tally struct {
	ID          int
	Now, Before int64
	Fresh       bool // it had never come before the stretch
}

// Ways in which a template's count differs.
const (
	New      = "new"
	Vanished = "vanished"
	More     = "more"
	Less     = "less"
	Same     = "same"
)

// Difference is how a template's count differs between two stretches.
type Difference struct {
	Tally
	Expected float64 // now, by the stretch before and how long both are
	Way      string
	Surprise float64 // −log10 of the chance of so much by how counts wander here
}

// surprising is from which surprise on a count differs.
const surprising = 3

// Compare holds the counts of a stretch against those of another that is ratio times as
// long, most surprising first. Roots of counts differ by a normal with variance (1+r)/4
// where they are Poisson's (Anscombe 1948); real counts wander more, by how much is read
// from the middle of all templates that came often.
func Compare(tallies []Tally, ratio float64) []Difference {
	if ratio <= 0 || math.IsNaN(ratio) || math.IsInf(ratio, 0) {
		ratio = 1
	}
	scale := 1 / ratio // lines now for one before
	z := make([]float64, len(tallies))
	var often []float64
	for i, t := range tallies {
		now, before := math.Sqrt(float64(t.Now)+0.375), math.Sqrt(float64(t.Before)+0.375)
		z[i] = 2 * (now - before*math.Sqrt(scale)) / math.Sqrt(1+scale)
		if t.Now+t.Before >= 20 {
			often = append(often, math.Abs(z[i]))
		}
	}
	wander := 1.0
	if len(often) >= 5 {
		wander = max(robust.Median(often)/0.6745, 1)
	}
	var list []Difference
	for i, t := range tallies {
		d := Difference{Tally: t, Expected: float64(t.Before) * scale, Way: Same}
		d.Surprise = -math.Log10(max(math.Erfc(math.Abs(z[i])/wander/math.Sqrt2), 1e-300))
		switch {
		case t.Now > 0 && t.Before == 0 && t.Fresh:
			d.Way = New
			d.Surprise = max(d.Surprise, surprising) // that it came at all is what surprises
		case d.Surprise < surprising:
		case t.Now == 0:
			d.Way = Vanished
		case z[i] > 0:
			d.Way = More
		default:
			d.Way = Less
		}
		list = append(list, d)
	}
	slices.SortStableFunc(list, func(a, b Difference) int {
		return cmp.Or(cmp.Compare(b.Surprise, a.Surprise), cmp.Compare(b.Now+b.Before, a.Now+a.Before))
	})
	return list
}
