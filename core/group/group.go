// Package group puts alerts that share a cause together, so that one fault is
// told once, and names the likely origin.
//
// Two alerts belong together when they are about the same dataset or datasets
// that the lineage joins, and began near each other in time. An alert that
// belongs to several groups makes one of them. The origin is the most upstream
// place among the members.
package group

import "slices"

const (
	hour = 3600
	day  = 24 * hour
	// Gap is how far apart in time alerts of one cause may begin, beside the
	// length of their periods, in seconds. It is the gap that budgets are
	// counted with.
	Gap = 6 * hour
	// siblingGap is the same for datasets that only read the same one.
	siblingGap = hour
	// Growth is how long after its first alert a group takes in others, beside
	// the length of their periods: a restless dataset does not make one endless
	// group.
	Growth = day
)

// Alert is what grouping sees of an alert. Times are Unix seconds.
type Alert struct {
	ID       int64
	Place    string // of the graph: a dataset, or the source or job that it is about
	Period   int64  // of its series, seconds; 0 without a series
	Since    int64  // start of the first deviating period
	Raised   int64
	Critical bool
}

// Linked tells whether two alerts share a cause, as far as place and time say.
func (g *Graph) Linked(a, b Alert) bool {
	period := max(a.Period, b.Period)
	switch g.relation(a.Place, b.Place) {
	case same, along:
		return min(apart(a.Since, b.Since), apart(a.Raised, b.Raised)) <= Gap+period
	case siblings:
		return apart(a.Since, b.Since) <= siblingGap+period
	}
	return false
}

func apart(a, b int64) int64 { return max(a-b, b-a) }

// Joins gives the indices of the groups that an alert belongs to, in their
// order; more than one means that it holds them together. Groups without
// members take nothing in.
func (g *Graph) Joins(a Alert, groups [][]Alert) []int {
	var joined []int
	for i, members := range groups {
		if len(members) == 0 || a.Raised > first(members)+Growth+a.Period {
			continue
		}
		if slices.ContainsFunc(members, func(b Alert) bool { return g.Linked(a, b) }) {
			joined = append(joined, i)
		}
	}
	return joined
}

func first(members []Alert) int64 {
	at := members[0].Raised
	for _, m := range members {
		at = min(at, m.Raised)
	}
	return at
}

// All groups a past, one alert after another in the order in which they were
// raised, as the live service would have.
func (g *Graph) All(alerts []Alert) [][]Alert {
	ordered := slices.Clone(alerts)
	slices.SortStableFunc(ordered, func(a, b Alert) int { return int(a.Raised - b.Raised) })
	var groups [][]Alert
	from := 0 // groups before it have stopped growing
	for _, a := range ordered {
		for from < len(groups) && (len(groups[from]) == 0 || a.Raised > first(groups[from])+Growth+31*day) {
			from++
		}
		joined := g.Joins(a, groups[from:])
		if len(joined) == 0 {
			groups = append(groups, []Alert{a})
			continue
		}
		into := from + joined[0]
		groups[into] = append(groups[into], a)
		for _, other := range joined[1:] {
			groups[into] = append(groups[into], groups[from+other]...)
			groups[from+other] = nil
		}
	}
	return slices.DeleteFunc(groups, func(members []Alert) bool { return len(members) == 0 })
}

// Origin is where a group likely began. Alert is 0 where the place itself has no
// alert: everything that reads it has.
type Origin struct {
	Place string
	Alert int64
}

// Origin gives the most upstream place among a group's members, of several the
// one that deviated first. Where members have nothing in common but a dataset
// that they all read, it is that one.
func (g *Graph) Origin(members []Alert) Origin {
	var roots []Alert
	for _, m := range members {
		below := slices.ContainsFunc(members, func(other Alert) bool {
			steps, above := g.ancestors(m.Place)[other.Place]
			return above && steps > 0 && other.Since <= m.Since+Gap+max(m.Period, other.Period)
		})
		if !below {
			roots = append(roots, m)
		}
	}
	if len(roots) == 0 { // a cycle of jobs
		roots = members
	}
	best := roots[0]
	for _, m := range roots[1:] {
		if m.Since < best.Since || m.Since == best.Since && (m.Critical && !best.Critical || m.Critical == best.Critical && m.ID < best.ID) {
			best = m
		}
	}
	if place, shared := g.shared(roots); shared {
		return Origin{Place: place}
	}
	return Origin{best.Place, best.ID}
}

// shared gives the one dataset that several places read directly.
func (g *Graph) shared(roots []Alert) (string, bool) {
	var common []string
	places := map[string]bool{}
	for _, m := range roots {
		if places[m.Place] {
			continue
		}
		if len(places) == 0 {
			common = slices.Clone(g.up[m.Place])
		}
		places[m.Place] = true
		common = slices.DeleteFunc(common, func(p string) bool { return !slices.Contains(g.up[m.Place], p) || g.holds[p] })
	}
	if len(places) < 2 || len(common) == 0 {
		return "", false
	}
	return slices.Min(common), true
}
