package grouping

import (
	"cmp"
	"slices"

	"tinbell/core/fault"
)

// Score is what a rule of grouping made of the alerts of some worlds.
type Score struct {
	Rule        string  `json:"rule"`
	Faults      int     `json:"faults" doc:"that rang at all"`
	Alerts      int     `json:"alerts"`
	False       int     `json:"false" doc:"alerts that no fault caused"`
	Groups      int     `json:"groups"`
	Messages    float64 `json:"messages" doc:"a fault: groups that hold alerts of it and of no other more"`
	Purity      float64 `json:"purity" doc:"share of the alerts of faults whose group is mostly of their fault"`
	Hidden      float64 `json:"hidden" doc:"share of faults that no group is mostly of"`
	Origin      float64 `json:"origin" doc:"share of faults whose largest group names the right dataset"`
	Segment     float64 `json:"segment" doc:"… and the right segment"`
	Corrections float64 `json:"corrections" doc:"a fault: told groups whose origin was renamed, that became part of another, or lost an alert"`

	messages, pure, held, hidden, origin, segment, corrections int
}

// named is a group as it ended: its alerts and where it says that it began.
type named struct {
	alerts []int // indices of rings
	origin fault.Origin
}

// outcome is what a rule made of one world.
type outcome struct {
	groups      []named
	corrections int
}

// past is what happened, in the order in which alerts were raised, and the truth
// about it.
type past struct {
	rings   []ring
	lineage *fault.Lineage
	up      map[string][]string
	origin  func(cause int) fault.Origin
}

// add judges one past.
func (s *Score) add(p past, o outcome) {
	rings := p.rings
	of := map[int]int{} // alerts of each fault
	for _, r := range rings {
		s.Alerts++
		if r.cause < 0 {
			s.False++
		} else {
			of[r.cause]++
		}
	}
	s.Faults += len(of)
	s.Groups += len(o.groups)
	s.corrections += o.corrections
	largest := map[int]*named{}
	most := map[int]int{}
	for i := range o.groups {
		g := &o.groups[i]
		count := map[int]int{}
		for _, k := range g.alerts {
			if c := rings[k].cause; c >= 0 {
				count[c]++
			}
		}
		main, n := -1, 0
		for c, m := range count {
			if m > n || m == n && c < main {
				main, n = c, m
			}
			s.held += m
		}
		if main < 0 {
			continue
		}
		s.pure += n
		s.messages++
		if n > most[main] {
			largest[main], most[main] = g, n
		}
	}
	for c := range of {
		g := largest[c]
		if g == nil {
			s.hidden++
			continue
		}
		if truth := p.origin(c); g.origin.Place == truth.Place {
			s.origin++
			if slices.Equal(g.origin.Segment, truth.Segment) {
				s.segment++
			}
		}
	}
}

func (s *Score) finish() {
	n := float64(max(s.Faults, 1))
	s.Messages, s.Hidden, s.Origin, s.Segment, s.Corrections = float64(s.messages)/n, float64(s.hidden)/n, float64(s.origin)/n,
		float64(s.segment)/n, float64(s.corrections)/n
	s.Purity = float64(s.pure) / float64(max(s.held, 1))
}

// infer walks through a world's alerts as the service would: it knows of each alert
// what was known by then.
func infer(p past) outcome {
	l, rings := p.lineage, p.rings
	type kept struct {
		id       int64
		alerts   []int
		origin   fault.Origin
		told     bool
		openedAt int64
	}
	var o outcome
	groups := map[int64]*kept{}
	next := int64(1)
	for i := 0; i < len(rings); {
		now := rings[i].alert.Raised
		j := i
		for j < len(rings) && rings[j].alert.Raised == now {
			j++
		}
		in := fault.NewInference(l)
		as := func(k int) fault.Alert {
			a := rings[k].alert
			if end := rings[k].end; end != 0 && end <= now {
				a.Ended = end
			}
			return a
		}
		var ids []int64
		for id := range groups {
			ids = append(ids, id)
		}
		slices.Sort(ids)
		for _, id := range ids {
			g := groups[id]
			if now-rings[g.alerts[len(g.alerts)-1]].alert.Raised > 96*3600 {
				continue
			}
			var alerts []fault.Alert
			for _, k := range g.alerts {
				alerts = append(alerts, as(k))
			}
			in.Known(id, nil, alerts, g.origin)
		}
		for k := i; k < j; k++ {
			in.Place(as(k))
		}
		seen := map[int64]bool{}
		for _, f := range in.Settle() {
			members := f.Members()
			if len(members) == 0 {
				if f.ID != 0 {
					if groups[f.ID].told {
						o.corrections++
					}
					delete(groups, f.ID)
				}
				continue
			}
			id := f.ID
			if id == 0 {
				id = next
				next++
				groups[id] = &kept{id: id, openedAt: now}
			}
			g := groups[id]
			var alerts []int
			for _, m := range members {
				alerts = append(alerts, int(m)-1)
			}
			lost := 0
			for _, k := range g.alerts {
				if !slices.Contains(alerts, k) {
					lost++
				}
			}
			renamed := g.origin.Place != "" && (g.origin.Place != f.Origin.Place || !slices.Equal(g.origin.Segment, f.Origin.Segment))
			if g.told && (renamed || lost > 0) {
				o.corrections++
			}
			g.alerts, g.origin = alerts, f.Origin
			seen[id] = true
		}
		for _, g := range groups {
			if !g.told {
				g.told = g.openedAt+wait <= now || slices.ContainsFunc(g.alerts,
					func(k int) bool { return rings[k].alert.Critical && rings[k].alert.Raised+3600 <= now })
			}
		}
		i = j
	}
	ids := make([]int64, 0, len(groups))
	for id := range groups {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	for _, id := range ids {
		o.groups = append(o.groups, named{groups[id].alerts, groups[id].origin})
	}
	return o
}

// wait is how long a message waits for other alerts of its fault; a critical one
// goes at once.
const wait = 2 * 3600

// Run judges worlds from some seeds by the inference and by the rule of nearness.
func Run(seeds []uint64, dense bool, progress func(done, total int)) (inferred, nearby Score, err error) {
	inferred.Rule, nearby.Rule = "inferred", "nearness"
	for i, seed := range seeds {
		w := NewWorld(seed, dense)
		rings, flows, err := w.rings()
		if err != nil {
			return inferred, nearby, err
		}
		p := past{rings, w.lineage(flows), w.up(), func(cause int) fault.Origin {
			f := &w.Faults[cause]
			return fault.Origin{Place: name(f.Table), Segment: series{f.Table, f.Dimension, f.Value, 0}.segment()}
		}}
		inferred.add(p, infer(p))
		nearby.add(p, near(p))
		if progress != nil {
			progress(i+1, len(seeds))
		}
	}
	inferred.finish()
	nearby.finish()
	return inferred, nearby, nil
}

// order sorts indices of rings by when they were raised.
func order(rings []ring, list []int) {
	slices.SortFunc(list, func(a, b int) int { return cmp.Compare(rings[a].alert.Raised, rings[b].alert.Raised) })
}
