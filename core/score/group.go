package score

import (
	"cmp"
	"slices"
)

// GroupGap is how soon after an alert of a monitor another one counts as the
// same disturbance, in seconds: one cause that rings twice in a night, or in
// several segments at once, is one alarm.
const GroupGap = 6 * 3600

// Span is when what an alert tells of began and when it ended, Unix seconds; End 0 while
// open.
type Span struct{ Start, End int64 }

// Groups numbers alerts by the disturbance they belong to, in order of start,
// and says how many there are: an alert joins a group that it overlaps or
// follows within the gap.
func Groups(alerts []Span, gap int64) (group []int, n int) {
	order := make([]int, len(alerts))
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(i, j int) int { return cmp.Or(cmp.Compare(alerts[i].Start, alerts[j].Start), i-j) })
	group = make([]int, len(alerts))
	until := int64(-1) << 62
	for _, i := range order {
		a := alerts[i]
		if a.Start > until+gap || n == 0 {
			n++
			until = a.Start
		}
		group[i] = n - 1
		until = max(until, a.Start, a.End)
	}
	return group, n
}
