package fault

import (
	"math"
	"slices"
)

// Settle weighs again what new alerts changed: the root of each fault that took
// one in, whether two faults are one, whether one is two, and whether an alert of
// late belongs elsewhere.
func (in *Inference) Settle() []*Fault {
	in.faults = slices.DeleteFunc(in.faults, func(f *Fault) bool { return f.ID == 0 && len(f.members) == 0 })
	for _, f := range in.faults {
		if f.changed && len(f.members) > 0 {
			in.chooseRoot(f)
		}
	}
	in.spent = 0
	in.merge()
	in.gather()
	for _, f := range slices.Clone(in.faults) {
		for f.changed && len(f.members) > 1 {
			part := in.split(f)
			if part == nil {
				break
			}
			in.faults = append(in.faults, part)
		}
	}
	in.move()
	in.faults = slices.DeleteFunc(in.faults, func(f *Fault) bool { return f.ID == 0 && len(f.members) == 0 })
	for _, f := range in.faults {
		f.changed = false
	}
	return in.faults
}

// Explain finds the root of alerts that are one fault, whatever speaks against it.
func (in *Inference) Explain(id int64, alerts []Alert) *Fault {
	f := in.Known(id, nil, alerts, Origin{})
	if len(f.members) > 0 {
		in.chooseRoot(f)
	}
	return f
}

// Became gives the fault that one became part of; nil if it did not.
func (in *Inference) Became(id int64) *Fault {
	f := in.away[id]
	for f != nil && f.ID != 0 && in.away[f.ID] != nil {
		f = in.away[f.ID]
	}
	return f
}

// chooseRoot gives a fault the root that makes it likeliest, if that is clearly
// more so than the one it has.
func (in *Inference) chooseRoot(f *Fault) {
	if len(f.members) < 2 {
		f.root, f.silent = f.members[0], 0
		f.rebuild(in)
		return
	}
	now := f.worth()
	best, bestRoot, bestSilent := now+rootClear, f.root, f.silent
	try := func(root *member, cost float64) {
		if root == f.root {
			return
		}
		trial := &Fault{members: copies(f.members), silent: cost}
		trial.root = root
		for i, m := range f.members {
			if m == root {
				trial.root = trial.members[i]
			}
		}
		trial.rebuild(in)
		if v := trial.worth(); v > best {
			best, bestRoot, bestSilent = v, root, cost
		}
	}
	for _, m := range in.candidates(f) {
		try(m, 0)
	}
	if root, cost := in.silentRoot(f.members); root != nil {
		try(root, cost)
	}
	if bestRoot != f.root {
		f.root, f.silent = bestRoot, bestSilent
		f.rebuild(in)
	}
}

// candidates are the members that may be a root: those that began first, and those
// most upstream.
func (in *Inference) candidates(f *Fault) []*member {
	const many = 12
	list := slices.Clone(f.members)
	if len(list) <= many {
		return list
	}
	above := map[int]int{}
	for _, m := range list {
		if _, known := above[m.at]; !known {
			n := 0
			for _, other := range list[:min(len(list), looked)] {
				if _, below := in.lineage.way(m.at, other.at); below {
					n++
				}
			}
			above[m.at] = n
		}
	}
	slices.SortStableFunc(list, func(a, b *member) int {
		if d := above[b.at] - above[a.at]; d != 0 {
			return d
		}
		return int(math.Max(-1, math.Min(1, a.Onset-b.Onset)))
	})
	return list[:many]
}

// merge makes one of two faults where that is clearly likelier.
func (in *Inference) merge() {
	for i := 0; i < len(in.faults); i++ {
		f := in.faults[i]
		if !f.changed || len(f.members) == 0 || len(f.members) > looked {
			continue
		}
		for _, other := range in.faults {
			if in.spent > effort {
				return
			}
			if other == f || len(other.members) == 0 || len(other.members)+len(f.members) > looked || keptApart(f, other) ||
				f.members[0].Raised > other.last+Grows || other.members[0].Raised > f.last+Grows || !in.close(f, other) {
				continue
			}
			if both := in.both(f, other); both != nil && both.worth()-f.worth()-other.worth() > gains {
				in.unite(f, other, both)
			}
			if len(f.members) == 0 {
				break
			}
		}
	}
}

// close tells whether two faults may be one: their places are related, and the
// root of one follows from the other about as well as by chance, or both began at
// about the same time with the same in something above both.
func (in *Inference) close(f, other *Fault) bool {
	a, b := f.root, other.root
	if related := in.around(a.at); b.at >= len(related) || !related[b.at] {
		return false
	}
	if a.Kind == b.Kind && a.Sign == b.Sign && math.Abs(a.Onset-b.Onset) < 12*hour {
		return true
	}
	return in.effect(&a.Alert, &b.Alert) > math.Log(a.Rate) || in.effect(&b.Alert, &a.Alert) > math.Log(b.Rate)
}

// both is two faults seen as one, with the better of their roots or a silent one.
func (in *Inference) both(f, other *Fault) *Fault {
	members := append(slices.Clip(f.members), other.members...)
	var best *Fault
	try := func(root *member, cost float64) {
		trial := &Fault{members: copies(members), root: root, silent: cost}
		for i, m := range members {
			if m == root {
				trial.root = trial.members[i]
			}
		}
		trial.rebuild(in)
		if best == nil || trial.worth() > best.worth() {
			best = trial
		}
	}
	try(f.root, f.silent)
	try(other.root, other.silent)
	if root, cost := in.silentRoot(members); root != nil {
		try(root, cost)
	}
	return best
}

// unite makes the younger of two faults part of the older.
func (in *Inference) unite(f, other, both *Fault) {
	into, from := f, other
	if other.ID != 0 && (f.ID == 0 || other.ID < f.ID) {
		into, from = other, f
	}
	into.members, into.root, into.silent = both.members, both.root, both.silent
	into.changed, from.changed = true, true
	into.Apart = append(into.Apart, from.Apart...)
	slices.SortStableFunc(into.members, func(a, b *member) int { return int(a.Raised - b.Raised) })
	into.rebuild(in)
	if from.ID != 0 {
		in.away[from.ID] = into
	}
	from.members = nil
}

// split takes a second fault out of one: a member of late, with what follows
// rather from it than from the root, where both are likelier apart. None: nil.
func (in *Inference) split(f *Fault) *Fault {
	if len(f.members) > 4*looked {
		return nil
	}
	now := f.worth()
	var best *Fault
	var rest *Fault
	gain := gains
	newest := f.last - movable
	tried := 0
	for i := len(f.members) - 1; i >= 0 && tried < 24; i-- {
		k := f.members[i]
		if k == f.root || k.Fixed || k.Raised < newest || in.spent > effort {
			continue
		}
		tried++
		part, left := &Fault{}, &Fault{silent: f.silent, root: f.root}
		for _, m := range f.members {
			to := left
			if m == k || m != f.root && !m.Fixed && m.Raised >= newest && in.effect(&m.Alert, &k.Alert) > m.byRoot {
				to = part
			}
			c := *m
			to.members = append(to.members, &c)
			if m == k {
				part.root = &c
			}
			if m == f.root {
				left.root = &c
			}
		}
		if len(left.members) == 0 || f.root.ID == 0 && len(left.members) < 2 {
			continue
		}
		part.rebuild(in)
		left.rebuild(in)
		if g := part.worth() + left.worth() - now; g > gain {
			best, rest, gain = part, left, g
		}
	}
	if best == nil {
		return nil
	}
	f.members, f.root, f.silent = rest.members, rest.root, rest.silent
	f.rebuild(in)
	best.changed = true
	if len(best.members) > 1 {
		in.chooseRoot(best)
	}
	return best
}

// move takes alerts of the last day to the fault that explains them clearly better.
func (in *Inference) move() {
	for _, f := range slices.Clone(in.faults) {
		if !f.changed || len(f.members) < 2 || len(f.members) > looked {
			continue
		}
		for _, m := range slices.Clone(f.members) {
			if m == f.root || m.Fixed || m.Raised < f.last-movable || in.spent > effort {
				continue
			}
			held := m.held()
			for _, other := range in.faults {
				if other == f || len(other.members) == 0 || m.Raised > other.last+Grows || slices.Contains(f.Apart, other.ID) &&
					other.ID != 0 || !in.near(m, other) {
					continue
				}
				if gain, how := in.joins(m, other); how == asEffect && gain+math.Log(m.Rate) > held+gains {
					f.members = slices.DeleteFunc(f.members, func(o *member) bool { return o == m })
					f.rebuild(in)
					other.members = append(other.members, m)
					other.changed, f.changed = true, true
					slices.SortStableFunc(other.members, func(a, b *member) int { return int(a.Raised - b.Raised) })
					other.rebuild(in)
					break
				}
			}
		}
	}
}
