package fault

import (
	"math"
	"slices"
)

// gather makes one of many segments of a place that changed alike at about the same
// time, under the place as a whole, where no two of them alone would be: that the whole
// failed unseen is unlikely, and that many of its parts fail at once without it is more so.
func (in *Inference) gather() {
	for _, f := range in.faults {
		if !f.changed || len(f.members) == 0 || in.spent > effort {
			continue
		}
		alike := in.alike(f)
		if len(alike) < 3 {
			continue
		}
		var members []*member
		apart := 0.0
		for _, other := range alike {
			members = append(members, other.members...)
			apart += other.worth()
		}
		root, cost := in.silentRoot(members)
		if root == nil {
			continue
		}
		all := &Fault{members: copies(members), root: root, silent: cost}
		all.rebuild(in)
		if all.worth()-apart <= gains {
			continue
		}
		into := alike[0]
		for _, other := range alike {
			if other.ID != 0 && (into.ID == 0 || other.ID < into.ID) {
				into = other
			}
		}
		for _, other := range alike {
			if other != into {
				in.unite(into, other, all)
			}
		}
	}
}

// alike lists a fault and those that began at segments of the same place, with the same
// kind of change to the same side, within half a day of it; none if it is not of that sort.
func (in *Inference) alike(f *Fault) []*Fault {
	if len(f.root.Segment) == 0 || f.root.ID == 0 {
		return nil
	}
	list := []*Fault{f}
	held := len(f.members)
	for _, other := range in.faults {
		if other == f || len(other.members) == 0 || other.root.ID == 0 || len(other.root.Segment) == 0 ||
			other.root.at != f.root.at || other.root.Kind != f.root.Kind || other.root.Sign != f.root.Sign ||
			math.Abs(other.root.Onset-f.root.Onset) >= 12*hour || f.members[0].Raised > other.last+Grows ||
			other.members[0].Raised > f.last+Grows ||
			held+len(other.members) > looked || slices.ContainsFunc(list, func(one *Fault) bool { return keptApart(one, other) }) {
			continue
		}
		list, held = append(list, other), held+len(other.members)
	}
	return list
}

// keptApart tells whether a person said that two faults are not one.
func keptApart(f, other *Fault) bool {
	return other.ID != 0 && slices.Contains(f.Apart, other.ID) || f.ID != 0 && slices.Contains(other.Apart, f.ID)
}
