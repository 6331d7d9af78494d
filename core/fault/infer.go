package fault

import (
	"cmp"
	"math"
	"slices"
)

// Inference puts alerts to faults. Give it the faults of late with Known, each new
// alert with Place, and let Settle weigh what they changed. Not safe for concurrent
// use.
type Inference struct {
	lineage *Lineage
	faults  []*Fault
	away    map[int64]*Fault // faults that became part of another
	related map[int][]bool   // by place: those that a cause may share with it
	spent   int              // comparisons of this settling
	now     int64            // when the newest alert was raised
}

// NewInference begins one along a lineage.
func NewInference(l *Lineage) *Inference {
	return &Inference{lineage: l, away: map[int64]*Fault{}, related: map[int][]bool{}}
}

// Known takes in a fault as it stood: its alerts, oldest first, and its root's
// alert, place and segment.
func (in *Inference) Known(id int64, apart []int64, alerts []Alert, origin Origin) *Fault {
	f := &Fault{ID: id, Apart: apart}
	for _, a := range alerts {
		f.members = append(f.members, &member{Alert: in.sane(a)})
		in.now = max(in.now, a.Raised)
	}
	if len(f.members) == 0 {
		return f
	}
	for _, m := range f.members {
		if m.ID == origin.Alert {
			f.root = m
		}
	}
	if f.root == nil && origin.Place != "" {
		f.root, f.silent = in.unseen(in.lineage.number(origin.Place), origin.Place, origin.Segment, f.members)
	}
	if f.root == nil {
		f.root = f.members[0]
	}
	f.rebuild(in)
	in.faults = append(in.faults, f)
	return f
}

// sane bounds what an alert says, so that no figure of it makes evidence infinite.
func (in *Inference) sane(a Alert) Alert {
	a.at = in.lineage.number(a.Place)
	a.Rate = min(max(a.Rate, 1e-6), 0.1) * dearer
	if math.IsNaN(a.Effect) || math.IsInf(a.Effect, 0) {
		a.Effect = 0
	}
	if math.IsNaN(a.Error) || math.IsInf(a.Error, 0) || a.Error < 0 {
		a.Error = 1
	}
	if math.IsNaN(a.Onset) || a.Onset == 0 {
		a.Onset = float64(a.Raised)
	}
	if !(a.Spread > 0) || math.IsInf(a.Spread, 0) {
		a.Spread = hour
	}
	return a
}

// Place puts a new alert to the fault that explains it best, or makes it the root
// of one that it explains better, or opens a fault.
func (in *Inference) Place(alert Alert) *Fault {
	a := &member{Alert: in.sane(alert)}
	in.now = max(in.now, a.Raised)
	var into *Fault
	best, as := 0.0, 0
	for _, f := range in.faults {
		if len(f.members) == 0 || a.Raised > f.last+Grows || !in.near(a, f) {
			continue
		}
		gain, how := in.joins(a, f)
		if gain > best {
			into, best, as = f, gain, how
		}
	}
	if into == nil {
		into = &Fault{root: a, changed: true}
		into.members = append(into.members, a)
		into.rebuild(in)
		in.faults = append(in.faults, into)
		return into
	}
	into.members = append(into.members, a)
	into.changed, into.last = true, max(into.last, a.Raised)
	into.reaches(a.at)
	switch as {
	case asRoot:
		into.root, into.silent = a, 0
		into.rebuild(in)
	case bySilence:
		// In a flood it may not be looked for once more: then it is held as it is.
		if root, cost := in.silentRoot(into.members); root != nil {
			into.root, into.silent = root, cost
		}
		into.rebuild(in)
	default:
		in.hold(a, into)
	}
	return into
}

// Ways in which an alert joins a fault.
const (
	asEffect = iota
	asRoot
	bySilence
)

// hold weighs a member that just joined, and what it explains of the others.
func (in *Inference) hold(a *member, f *Fault) {
	a.byRoot = in.effect(&a.Alert, &f.root.Alert)
	a.byAny = a.byRoot
	for _, m := range f.seen(len(f.members) - 1) {
		if m == a {
			continue
		}
		a.byAny = max(a.byAny, in.effect(&a.Alert, &m.Alert))
		if m != f.root {
			m.byAny = max(m.byAny, in.effect(&m.Alert, &a.Alert))
		}
	}
}

// joins is how much likelier an alert is as part of a fault than alone, and as
// what.
func (in *Inference) joins(a *member, f *Fault) (gain float64, how int) {
	own := math.Log(a.Rate)
	byRoot := in.effect(&a.Alert, &f.root.Alert)
	byAny := byRoot
	for _, m := range f.seen(len(f.members) - 1) {
		byAny = max(byAny, in.effect(&a.Alert, &m.Alert))
	}
	gain = weighRoot*byRoot + (1-weighRoot)*byAny - own
	if f.root.ID != 0 {
		if turned := in.effect(&f.root.Alert, &a.Alert) - math.Log(f.root.Rate); turned > gain {
			gain, how = turned, asRoot
		}
	}
	if gain <= 0 && f.silent == 0 {
		// Neither explains the other: what both are made from may explain both.
		if root, cost := in.silentRoot(append(slices.Clip(f.members), a)); root != nil {
			trial := &Fault{members: copies(append(slices.Clip(f.members), a)), root: root, silent: cost}
			trial.rebuild(in)
			if together := trial.worth() - f.worth() - own; together > gain {
				gain, how = together, bySilence
			}
		}
	}
	return gain, how
}

func copies(members []*member) []*member {
	list := make([]*member, len(members))
	for i, m := range members {
		c := *m
		list[i] = &c
	}
	return list
}

// near tells whether the lineage relates an alert to any member of a fault.
func (in *Inference) near(a *member, f *Fault) bool {
	related := in.around(a.at)
	for _, place := range f.places {
		if place < len(related) && related[place] {
			return true
		}
	}
	return false
}

// around is Lineage.around, remembered.
func (in *Inference) around(place int) []bool {
	found := in.related[place]
	if found == nil {
		found = in.lineage.around(place)
		in.related[place] = found
	}
	return found
}

// silentRoot finds the place without an alert that explains members of several
// places, or several segments of one, best. None: nil.
func (in *Inference) silentRoot(members []*member) (*member, float64) {
	if len(members) < 2 || len(members) > silentMost || in.spent > effort {
		return nil, 0
	}
	places := map[int]int{}
	parted := map[int]bool{}
	first := map[int]*member{}
	for _, m := range members {
		if places[m.at]++; places[m.at] == 1 {
			first[m.at] = m
		} else if one := first[m.at].Segment; !one.equal(m.Segment) && len(m.Segment) > 0 && len(one) > 0 {
			parted[m.at] = true
		}
	}
	count := map[int]int{}
	for place := range places {
		for _, up := range in.lineage.above(place, 2) {
			count[up]++
		}
	}
	var best *member
	bestWorth, bestCost := math.Inf(-1), 0.0
	try := func(place int, segment Segment) {
		if slices.ContainsFunc(members, func(m *member) bool { return m.at == place && m.Segment.equal(segment) }) {
			return // it has an alert
		}
		root, cost := in.unseen(place, in.lineage.name(place), segment, members)
		trial := &Fault{members: copies(members), root: root, silent: cost}
		trial.rebuild(in)
		if v := trial.worth(); v > bestWorth || v == bestWorth && root.Place < best.Place {
			best, bestWorth, bestCost = root, v, cost
		}
	}
	shared := sharedSegment(members)
	for place, n := range count {
		if n >= 2 || len(places) == 1 && parted[members[0].at] && !in.lineage.jobs[place] {
			try(place, shared)
		}
	}
	for place := range parted {
		try(place, nil)
	}
	return best, bestCost
}

// sharedSegment is what the segments of all members that have one agree in.
func sharedSegment(members []*member) Segment {
	var shared Segment
	begun := false
	for _, m := range members {
		if len(m.Segment) == 0 {
			continue
		}
		if !begun {
			shared, begun = slices.Clone(m.Segment), true
			continue
		}
		shared = slices.DeleteFunc(shared, func(p Pair) bool { return !slices.Contains(m.Segment, p) })
	}
	return shared
}

// unseen is what a place would look like if it were the root of some alerts and
// had none itself, and what that costs.
func (in *Inference) unseen(place int, named string, segment Segment, members []*member) (*member, float64) {
	r := &member{Alert: Alert{Place: named, at: place, Segment: segment, Raised: math.MaxInt64}}
	var onset, weight, rate float64
	count := [kinds]int{}
	signs := 0
	var effects []float64
	for _, m := range members {
		p, ok := in.lineage.way(place, m.at)
		if !ok {
			continue
		}
		w := 1 / (m.Spread*m.Spread + p.spread*p.spread + hour*hour)
		onset, weight = onset+w*(m.Onset-(p.low+p.high)/2), weight+w
		count[m.Kind]++
		signs += int(m.Sign)
		rate = max(rate, m.Rate)
		r.Raised = min(r.Raised, m.Raised)
		if m.Ended == 0 || r.Ended < m.Ended {
			r.Ended = m.Ended
		}
	}
	if weight == 0 {
		return &member{Alert: Alert{Place: named, at: place, Segment: segment, Onset: members[0].Onset, Spread: hour,
			Rate: members[0].Rate, Raised: members[0].Raised}}, silence
	}
	for k, n := range count {
		if n > count[r.Kind] {
			r.Kind = Kind(k)
		}
	}
	for _, m := range members {
		if p, ok := in.lineage.way(place, m.at); ok && m.Kind == r.Kind && m.Effect != 0 {
			over, _ := in.overlap(&m.Alert, &r.Alert, p)
			effects = append(effects, m.Effect/max(p.pass*over, 0.05))
		}
		if m.Kind == r.Kind && r.Column == "" {
			r.Column = m.Column
		}
	}
	r.Sign = int8(cmp.Compare(signs, 0))
	if n := len(effects); n > 0 {
		slices.Sort(effects)
		r.Effect = min(max(effects[n/2], -1), 5)
		r.Error = 0.3 * math.Abs(r.Effect)
	}
	r.Onset, r.Spread, r.Rate = onset/weight, 1/math.Sqrt(weight), rate
	cost := silence
	if len(segment) == 0 && in.lineage.watched(place) && !slices.ContainsFunc(members,
		func(m *member) bool { return m.at == place && len(m.Segment) == 0 && m.Kind == r.Kind }) {
		cost += unheard
	}
	return r, cost
}
