package diagnose

import (
	"math"
	"slices"
)

// Matched is a period of two stages: what came at the first, a lag earlier, and at
// the second.
type Matched struct {
	At       int64
	Up, Down float64
	Apart    float64 // share of the larger that the other lacks, 0 to 1
}

// Reconcile pairs the periods of two stages. A period downstream stands against the
// same stretch upstream a lag earlier; where that is no whole number of periods, against
// the two that it lies in, each by its part. Values are by the start of their periods;
// periods that either side does not have are left out.
func Reconcile(up, down map[int64]float64, period, lag int64) []Matched {
	whole, part := lag/period, float64(lag%period)/float64(period)
	var list []Matched
	for at, d := range down {
		first, known := up[at-whole*period]
		u := first * (1 - part)
		if part > 0 {
			before, there := up[at-(whole+1)*period]
			u, known = u+part*before, known && there
		}
		if !known || math.IsNaN(u) || math.IsNaN(d) {
			continue
		}
		list = append(list, Matched{at, u, d, apart(u, d)})
	}
	slices.SortFunc(list, func(a, b Matched) int { return int(a.At - b.At) })
	return list
}

// apart is which share of the larger of two amounts the other lacks; amounts of
// opposite signs have nothing in common.
func apart(u, d float64) float64 {
	most := math.Max(math.Abs(u), math.Abs(d))
	if most == 0 {
		return 0
	}
	return math.Min(math.Abs(u-d)/most, 1)
}

// OneSided compares the keys of two stages: those of first that second lacks, in
// their order, each once. More than limit are counted, not listed.
func OneSided(first, second []string, limit int) (list []string, n int) {
	has := make(map[string]bool, len(second))
	for _, k := range second {
		has[k] = true
	}
	seen := map[string]bool{}
	for _, k := range first {
		if has[k] || seen[k] {
			continue
		}
		seen[k] = true
		if n++; len(list) < limit {
			list = append(list, k)
		}
	}
	return list, n
}
