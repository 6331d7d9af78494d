package replay

import (
	"cmp"
	"slices"
)

// ring is a stretch over which a rule rang on a series.
type ring struct {
	series    int
	from, end int64 // unix seconds, end past the last
	log       float64
}

// occasions counts what rang over several series: what overlaps is one occasion,
// however many series it rang on, and no series counts for more than one, so that
// neither a fault that all segments share nor an odd segment weighs as many. It
// gives the number and the sum over them of the mean logarithm of what rang.
func occasions(rings []ring) (n int, logs float64) {
	slices.SortFunc(rings, func(a, b ring) int { return cmp.Compare(a.from, b.from) })
	var all [][]ring
	end := int64(0)
	for i, r := range rings {
		if i == 0 || r.from >= end {
			all = append(all, nil)
			end = r.end
		}
		all[len(all)-1] = append(all[len(all)-1], r)
		end = max(end, r.end)
	}
	// Those of few series choose first; each takes one that has not counted yet.
	slices.SortStableFunc(all, func(a, b []ring) int { return cmp.Compare(len(a), len(b)) })
	counted := map[int]bool{}
	for _, o := range all {
		i := slices.IndexFunc(o, func(r ring) bool { return !counted[r.series] })
		if i < 0 {
			continue
		}
		counted[o[i].series] = true
		sum := 0.0
		for _, r := range o {
			sum += r.log
		}
		n, logs = n+1, logs+sum/float64(len(o))
	}
	return n, logs
}
