// Package fault infers which alerts have one cause, and where it lies.
//
// A fault has a root: an alert, or a place without one, that the others follow
// from. An alert joins the fault whose root and members make it likelier than
// chance does: by when it began against the lag along the lineage, by kind,
// segment, direction and size, and by how often its series rings at all. What
// deviates from its fault's root as if something else had caused it is a fault of
// its own.
//
// The evidence is a sum of logarithms of likelihoods (Good 1950, "Probability and
// the Weighing of Evidence"); all rates are per hour.
package fault

import (
	"math"
	"slices"
)

// Kind is what an alert says is wrong.
type Kind uint8

const (
	Rows       Kind = iota // too few or too many rows, or none
	Nulls                  // a share of rows that lack a value or hold a wrong one
	Mean                   // any other value
	Late                   // rows, loads or runs that come late
	Drift                  // a distribution that changed
	Columns                // a table's columns changed
	Unreadable             // a source or table that cannot be read
	kinds
)

// Segment is the part of a dataset that an alert is about: a value for each of
// some columns, ordered by column. Empty is the whole.
type Segment []Pair

// Pair is a column and its value.
type Pair struct{ Column, Value string }

// SegmentOf makes a segment of values of columns; where their numbers differ it
// is one of a column without a name.
func SegmentOf(columns []string, text string, values []string) Segment {
	if text == "" {
		return nil
	}
	if len(columns) != len(values) {
		return Segment{{"", text}}
	}
	s := make(Segment, len(columns))
	for i := range columns {
		s[i] = Pair{columns[i], values[i]}
	}
	slices.SortFunc(s, func(a, b Pair) int {
		if a.Column < b.Column {
			return -1
		}
		return 1
	})
	return s
}

func (s Segment) equal(other Segment) bool { return slices.Equal(s, other) }

// Alert is what is known of an alert. Times are Unix seconds.
type Alert struct {
	ID       int64
	Series   int64  // 0 where it has none
	Place    string // of the lineage
	Kind     Kind
	Column   string // what is measured, of kinds other than Rows
	Segment  Segment
	Sign     int8    // −1 too little, 1 too much, 0 neither
	Onset    float64 // when it likely began
	Spread   float64 // standard deviation of Onset
	Raised   int64
	Ended    int64   // 0 while it lasts
	Effect   float64 // change as a share of what was expected, with its sign; 0 unknown
	Error    float64 // standard deviation of Effect
	Rate     float64 // how often an hour its series rings for any other reason
	Critical bool
	Fixed    bool // a person said which fault it belongs to

	at int // number of the place
}

// Origin is where a fault began.
type Origin struct {
	Place   string
	Segment Segment
	Alert   int64 // 0 where the place has no alert of its own
	At      float64
}

// Fault is alerts with one cause.
type Fault struct {
	ID     int64 // the caller's; 0 for a new one
	Apart  []int64
	Origin Origin

	members []*member
	places  []int   // of its root and its members
	root    *member // one of members, or silent
	silent  float64 // what a root without an alert costs
	sound   float64 // what speaks against the root because it does not ring
	last    int64   // when its newest alert was raised
	changed bool
}

// member is an alert with the evidence that holds it in its fault.
type member struct {
	Alert
	byRoot float64 // that the root caused it
	byAny  float64 // that any member did
}

// Members gives the ids of a fault's alerts.
func (f *Fault) Members() []int64 {
	list := make([]int64, len(f.members))
	for i, m := range f.members {
		list[i] = m.ID
	}
	return list
}

// Grows is how long after its last alert a fault takes in others, in seconds.
const Grows = 96 * 3600

const (
	movable    = 24 * 3600 // how long after it was raised an alert may change its fault
	looked     = 60        // members that an alert is compared with
	silentMost = 24        // members that a place without an alert is looked for above
	effort     = 300_000   // comparisons after which a settling leaves the rest as it is
	weighRoot  = 0.3       // weight of the root against that of the nearest member
	gains      = 2.0       // what a merger, a split or a move must gain
	rootClear  = 1.0       // what another root must gain
	dearer     = 10.0      // a fault hidden in another's message costs so many times a message too many
	silence    = 2.0       // what a root without an alert costs
	unheard    = 6.0       // and how much more where alerts would be expected of it
)

func (f *Fault) rebuild(in *Inference) {
	for _, m := range f.members {
		m.byRoot, m.byAny = math.Inf(-1), math.Inf(-1)
	}
	f.last = 0
	f.places = append(f.places[:0], f.root.at)
	for i, m := range f.members {
		f.last = max(f.last, m.Raised)
		f.reaches(m.at)
		if m == f.root {
			continue
		}
		m.byRoot = in.effect(&m.Alert, &f.root.Alert)
		m.byAny = m.byRoot
		for _, other := range f.seen(i) {
			if other != m {
				m.byAny = max(m.byAny, in.effect(&m.Alert, &other.Alert))
			}
		}
	}
	f.sound = in.sound(f)
	f.Origin = Origin{Place: f.root.Place, Segment: f.root.Segment, Alert: f.root.ID, At: f.root.Onset}
}

// reaches keeps that a fault has an alert at a place.
func (f *Fault) reaches(place int) {
	if !slices.Contains(f.places, place) {
		f.places = append(f.places, place)
	}
}

// seen are the members that one is compared with: not all of a thousand.
func (f *Fault) seen(at int) []*member {
	if len(f.members) <= looked {
		return f.members
	}
	from := min(max(at-looked/2, 0), len(f.members)-looked)
	return f.members[from : from+looked]
}

// worth is how much likelier one cause for all is than nothing at all.
func (f *Fault) worth() float64 {
	v := math.Log(f.root.Rate) - f.silent + f.sound
	for _, m := range f.members {
		if m != f.root {
			v += m.held()
		}
	}
	return v
}

func (m *member) held() float64 { return weighRoot*m.byRoot + (1-weighRoot)*m.byAny }

// floor keeps evidence against a member finite, so that one impossible relation to
// the root does not outweigh what holds it to its neighbours.
const floor = -40
