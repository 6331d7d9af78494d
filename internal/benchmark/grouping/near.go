package grouping

import (
	"math"
	"slices"

	"tinbell/core/fault"
)

// near is the rule to compare with: alerts of one dataset, or of datasets that the
// lineage joins within three steps, that begin within six hours of one another are
// one group, for a day; its origin is the most upstream of them that came first.
func near(p past) outcome {
	const gap, growth = 6 * 3600.0, 24 * 3600
	rings := p.rings
	above := map[string]map[string]bool{}
	for _, r := range rings {
		place := r.alert.Place
		if above[place] != nil {
			continue
		}
		above[place] = map[string]bool{}
		layer := []string{place}
		for range 3 {
			var next []string
			for _, at := range layer {
				for _, up := range p.up[at] {
					if !above[place][up] {
						above[place][up] = true
						next = append(next, up)
					}
				}
			}
			layer = next
		}
	}
	linked := func(a, b int) bool {
		x, y := rings[a].alert.Place, rings[b].alert.Place
		apart := math.Min(math.Abs(rings[a].alert.Onset-rings[b].alert.Onset),
			math.Abs(float64(rings[a].alert.Raised-rings[b].alert.Raised)))
		return (x == y || above[x][y] || above[y][x]) && apart <= gap+3600
	}
	var groups [][]int
	var o outcome
	for i := range rings {
		into := -1
		for g := range groups {
			if len(groups[g]) == 0 || rings[i].alert.Raised > rings[groups[g][0]].alert.Raised+growth ||
				!slices.ContainsFunc(groups[g], func(k int) bool { return linked(i, k) }) {
				continue
			}
			if into < 0 {
				into = g
			} else {
				groups[into], groups[g] = append(groups[into], groups[g]...), nil
				order(rings, groups[into])
				o.corrections++
			}
		}
		if into < 0 {
			groups = append(groups, nil)
			into = len(groups) - 1
		}
		groups[into] = append(groups[into], i)
	}
	for _, g := range groups {
		if len(g) == 0 {
			continue
		}
		best := g[0]
		for _, k := range g {
			x, y := rings[k].alert.Place, rings[best].alert.Place
			if above[y][x] || x == y && rings[k].alert.Onset < rings[best].alert.Onset {
				best = k
			}
		}
		a := rings[best].alert
		o.groups = append(o.groups, named{g, fault.Origin{Place: a.Place, Segment: a.Segment, Alert: a.ID}})
	}
	return o
}
