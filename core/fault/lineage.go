package fault

import "slices"

// steps is how many steps of the lineage a cause is followed.
const steps = 4

// Lag is how long after its upstream a dataset shows a disturbance: somewhere in
// [Low, High], beyond it with a spread. Seconds.
type Lag struct{ Low, High, Spread float64 }

// unknown is the lag of a step of which nothing was learned.
var unknown = Lag{Low: 0, High: 3 * 3600, Spread: 2 * 3600}

// Lineage is what is made from what. Places are named by strings; sources and jobs
// may be places beside datasets. The zero value has no steps.
type Lineage struct {
	numbers  map[string]int
	names    []string
	up, down [][]step     // by place
	holds    map[int]bool // sources: they hold datasets, which are not alike for that
	jobs     map[int]bool
	judged   map[int][]judged
	shares   map[int]map[Pair]float64
	paths    []map[int]path // by place, where asked for
}

type step struct {
	place int
	lag   Lag
	pass  float64 // share of the rows downstream that come from upstream; 0 unknown
}

// number gives the number of a place.
func (l *Lineage) number(place string) int {
	n, known := l.numbers[place]
	if !known {
		if l.numbers == nil {
			l.numbers = map[string]int{}
		}
		n = len(l.up)
		l.numbers[place] = n
		l.names = append(l.names, place)
		l.up, l.down, l.paths = append(l.up, nil), append(l.down, nil), append(l.paths, nil)
	}
	return n
}

// judged is a series that a monitor judges.
type judged struct {
	kind    Kind
	column  string
	segment Segment
}

// path is the way from a place to one downstream.
type path struct {
	pass      float64
	low, high float64
	spread    float64
	steps     int
}

// Step adds that to is made from from; pass is the share of its rows that come
// from there, 0 if it is not known.
func (l *Lineage) Step(from, to string, lag Lag, pass float64) {
	a, b := l.number(from), l.number(to)
	if a == b || slices.ContainsFunc(l.up[b], func(s step) bool { return s.place == a }) {
		return
	}
	l.up[b] = append(l.up[b], step{a, lag, pass})
	l.down[a] = append(l.down[a], step{b, lag, pass})
	clear(l.paths)
}

// Hold adds that a source holds a dataset: what is wrong with the source shows in
// it, but its datasets have no cause in common by that alone.
func (l *Lineage) Hold(source, dataset string) {
	l.Step(source, dataset, Lag{High: 3600, Spread: 1800}, 1)
	if l.holds == nil {
		l.holds = map[int]bool{}
	}
	l.holds[l.number(source)] = true
}

// Write adds that a job writes a dataset: one that writes several may be why all of
// them are wrong, without an alert of its own.
func (l *Lineage) Write(job, dataset string) {
	l.Step(job, dataset, Lag{High: hour, Spread: hour / 2}, 1)
	if l.jobs == nil {
		l.jobs = map[int]bool{}
	}
	l.jobs[l.number(job)] = true
}

// Judge adds that a monitor judges a series of a place: were something wrong with
// it, it would likely have an alert.
func (l *Lineage) Judge(place string, kind Kind, column string, s Segment) {
	if l.judged == nil {
		l.judged = map[int][]judged{}
	}
	n := l.number(place)
	l.judged[n] = append(l.judged[n], judged{kind, column, s})
}

// watched tells whether the rows of a place are judged as a whole.
func (l *Lineage) watched(place int) bool {
	return slices.ContainsFunc(l.judged[place], func(j judged) bool { return j.kind == Rows && len(j.segment) == 0 })
}

// Share adds which share of a place's rows a value of a column has.
func (l *Lineage) Share(place string, p Pair, share float64) {
	if l.shares == nil {
		l.shares = map[int]map[Pair]float64{}
	}
	n := l.number(place)
	if l.shares[n] == nil {
		l.shares[n] = map[Pair]float64{}
	}
	l.shares[n][p] = share
}

// Unknown is the lag of a step of which nothing was learned, between periods of
// such lengths.
func Unknown(period int64) Lag {
	lag := unknown
	lag.High = max(lag.High, float64(period))
	return lag
}

// passes is a step's share of rows; where it is not known, less the more others
// there are.
func (l *Lineage) passes(s step, to int) float64 {
	if s.pass > 0 {
		return s.pass
	}
	n := 0
	for _, other := range l.up[to] {
		if !l.holds[other.place] && !l.jobs[other.place] {
			n++
		}
	}
	return 1 / float64(max(n, 1))
}

// below gives the ways to all places downstream of one, layer by layer, so that
// cycles end with the layers.
func (l *Lineage) below(place int) map[int]path {
	if found := l.paths[place]; found != nil {
		return found
	}
	found := map[int]path{}
	layer := map[int]path{place: {pass: 1}}
	for n := 1; n <= steps && len(layer) > 0; n++ {
		next := map[int]path{}
		for at, p := range layer {
			for _, s := range l.down[at] {
				if s.place == place {
					continue
				}
				way := path{p.pass * l.passes(s, s.place), p.low + s.lag.Low, p.high + s.lag.High, p.spread + s.lag.Spread, n}
				next[s.place] = join(next[s.place], way)
			}
		}
		for at, p := range next {
			found[at] = join(found[at], p)
		}
		layer = next
	}
	l.paths[place] = found
	return found
}

// join is two ways to one place seen as one.
func join(a, b path) path {
	if a.steps == 0 {
		return b
	}
	return path{min(a.pass+b.pass, 1), min(a.low, b.low), max(a.high, b.high), max(a.spread, b.spread), min(a.steps, b.steps)}
}

// way is how what is wrong at one place reaches another; ok is false if it does
// not.
func (l *Lineage) way(from, to int) (path, bool) {
	if from == to {
		return path{pass: 1}, true
	}
	p, ok := l.below(from)[to]
	return p, ok
}

// above gives the places up to n steps upstream of one that may be a cause without
// an alert of its own: all but sources.
func (l *Lineage) above(place, n int) []int {
	var found []int
	layer := []int{place}
	for range n {
		var next []int
		for _, at := range layer {
			for _, s := range l.up[at] {
				if !l.holds[s.place] && s.place != place && !slices.Contains(found, s.place) {
					found, next = append(found, s.place), append(next, s.place)
				}
			}
		}
		layer = next
	}
	return found
}

// portion is the share of a place's rows that a pair has.
func (l *Lineage) portion(place, other int, p Pair) float64 {
	if share, known := l.shares[place][p]; known {
		return share
	}
	if share, known := l.shares[other][p]; known {
		return share
	}
	return 0.15
}

// name gives the place of a number.
func (l *Lineage) name(number int) string { return l.names[number] }

// around are the places that one cause may reach together with a place: upstream,
// downstream, and made from the same within two steps.
func (l *Lineage) around(place int) []bool {
	found := make([]bool, len(l.names))
	found[place] = true
	for down := range l.below(place) {
		found[down] = true
	}
	layer := []int{place}
	for range steps {
		var next []int
		for _, at := range layer {
			for _, s := range l.up[at] {
				if !found[s.place] {
					found[s.place] = true
					next = append(next, s.place)
				}
			}
		}
		layer = next
	}
	for _, up := range l.above(place, 2) {
		for down, p := range l.below(up) {
			if p.steps <= 2 {
				found[down] = true
			}
		}
	}
	return found
}

// Near names the places that one cause may reach together with any of some.
func (l *Lineage) Near(places []string) []string {
	var near []string
	seen := map[int]bool{}
	for _, place := range places {
		for at, is := range l.around(l.number(place)) {
			if is && !seen[at] {
				seen[at] = true
				near = append(near, l.names[at])
			}
		}
	}
	return near
}
