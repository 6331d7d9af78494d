package benchmark

import (
	"math/rand/v2"

	"tinbell/core/filter"
	"tinbell/core/tune"
)

// told is what became of a fleet's second half.
type told struct {
	Hits, False   int
	Found, Faults int
	Delays        []int64
}

func (t *told) add(o told) {
	t.Hits, t.False, t.Found, t.Faults = t.Hits+o.Hits, t.False+o.False, t.Found+o.Found, t.Faults+o.Faults
	t.Delays = append(t.Delays, o.Delays...)
}

func (t told) precision() float64 { return float64(t.Hits) / float64(max(t.Hits+t.False, 1)) }
func (t told) recall() float64    { return float64(t.Found) / float64(max(t.Faults, 1)) }

// lesson is what a fleet's people have said so far, and what follows from it.
type lesson struct {
	*fleet
	answers map[int]bool // by place in the first half's alerts: a fault or not
	cases   []filter.Labelled
	filter  filter.Filter
	choice  []int // budget of each monitor
}

// first is how many alerts belong to the half that is labelled.
func (f *fleet) first() int {
	for i := range f.alerts[0] {
		if f.alerts[0][i].alert.Raised >= f.half {
			return i
		}
	}
	return len(f.alerts[0])
}

// learn takes answers in: each with the labels beside it, its own left out.
func (f *fleet) learn(answers map[int]bool, limit float64) (*lesson, error) {
	l := &lesson{fleet: f, answers: answers}
	all := f.alerts[0]
	n := f.first()
	known := newMemory()
	for i := range n {
		if fault, answered := answers[i]; answered {
			known.learn(&all[i], fault)
		}
	}
	for i := range n {
		if fault, answered := answers[i]; answered {
			a := all[i]
			known.recallWithout(&a, fault)
			l.cases = append(l.cases, filter.Labelled{Case: a.Case, Fault: fault})
		}
	}
	var err error
	var everyone []filter.Case
	for i := range n {
		if a := all[i]; a.counts() {
			known.recall(&a)
			everyone = append(everyone, a.Case)
		}
	}
	if l.filter, err = filter.FitFilter(l.cases, everyone, filter.ShippedPrior, limit); err != nil {
		return nil, err
	}
	l.tune(known, limit)
	for b := range f.alerts {
		for i := range f.alerts[b] {
			known.recall(&f.alerts[b][i])
		}
	}
	return l, nil
}

// tune chooses each monitor's budget by what the first half would have been.
func (l *lesson) tune(known memory, limit float64) {
	gone := make([][][]tune.Gone, len(Families))
	faults := make([]float64, len(Families))
	for m := range gone {
		gone[m] = make([][]tune.Gone, len(budgets))
	}
	n := l.first()
	for i := 0; i < n; i++ {
		a := l.alerts[0][i]
		if !a.counts() {
			continue
		}
		known.recall(&a)
		fault, answered := l.answers[i]
		g := tune.Gone{Chance: l.filter.Probability(&a.Case), Answered: answered, Fault: fault}
		faults[a.monitor] += g.Chance
		for b := range budgets {
			if !l.kept(&a, b) {
				gone[a.monitor][b] = append(gone[a.monitor][b], g)
			}
		}
	}
	l.choice = tune.Allocate(tune.Outlooks(gone), faults, limit)
}

// kept tells whether an alert would be told under another budget.
func (f *fleet) kept(a *rang, b int) bool {
	end := a.alert.End
	if end == 0 {
		end = f.end
	}
	for i := range f.alerts[b] {
		other := &f.alerts[b][i]
		until := other.alert.End
		if until == 0 {
			until = f.end
		}
		if other.scene == a.scene && other.alert.Since < end && until > a.alert.Since {
			return true
		}
	}
	return false
}

// outcome scores the second half under the chosen budgets and the filter.
func (l *lesson) outcome(tuned, filtered bool) told {
	t := told{Faults: l.faultsIn(l.half, l.end)}
	type id struct{ scene, fault int }
	first := map[id]int64{}
	for b := range l.alerts {
		for i := range l.alerts[b] {
			a := &l.alerts[b][i]
			if a.alert.Raised < l.half || !a.counts() || tuned && l.choice[a.monitor] != b || !tuned && b != 0 {
				continue
			}
			wait := 0
			if filtered {
				if wait = l.filter.Waits(a.Case); wait < 0 {
					continue
				}
			}
			if !a.real() {
				t.False++
				continue
			}
			if l.scenes[a.scene].Faults[a.fault].From < l.half {
				continue
			}
			key, at := id{a.scene, a.fault}, a.alert.Raised+int64(wait)*3600
			if have, there := first[key]; !there || at < have {
				first[key] = at
			}
		}
	}
	for key, at := range first {
		t.Hits++
		t.Found++
		t.Delays = append(t.Delays, max(at-l.scenes[key.scene].Faults[key.fault].From, 0))
	}
	return t
}

// answersTo gives as many answers as a lesson has labels, of one monitor only
// unless that is negative.
func (f *fleet) answersTo(l Lesson, only int, rng *rand.Rand) (map[int]bool, error) {
	if l.Chosen == byQueue {
		return f.queued(l.Labels, l.Wrong, l.Limit, only, rng)
	}
	answers := map[int]bool{}
	for _, i := range rng.Perm(f.first()) {
		a := &f.alerts[0][i]
		if len(answers) < l.Labels && a.counts() && (only < 0 || a.monitor == only) {
			answers[i] = a.real() != (rng.Float64() < l.Wrong)
		}
	}
	return answers, nil
}

// queued answers the first half's alerts as the queue would have it, a few at a
// time: each answer is taken in before the next few are chosen.
func (f *fleet) queued(n int, wrong, limit float64, only int, rng *rand.Rand) (map[int]bool, error) {
	answers := map[int]bool{}
	for len(answers) < n {
		l, err := f.learn(answers, limit)
		if err != nil {
			return nil, err
		}
		var questions []filter.Question
		var places []int
		asked, askedSeries := map[int64]int{}, map[int64]int{}
		for i := range f.first() {
			a := &f.alerts[0][i]
			if _, answered := answers[i]; answered {
				asked[int64(a.monitor)]++
				askedSeries[int64(a.scene)]++
			} else if a.counts() && (only < 0 || a.monitor == only) {
				weight := 0.05
				for b := 1; b < len(budgets); b++ {
					if !f.kept(a, b) {
						weight += 1 / float64(len(budgets)-1)
					}
				}
				questions = append(questions, filter.Question{Case: a.Case, Monitor: int64(a.monitor), Series: int64(a.scene),
					Chance: l.filter.Probability(&a.Case), Weight: weight})
				places = append(places, i)
			}
		}
		order := filter.Ask(questions, &l.filter, asked, askedSeries, min(5, n-len(answers)))
		if len(order) == 0 {
			break
		}
		for _, k := range order {
			answers[places[k]] = f.alerts[0][places[k]].real() != (rng.Float64() < wrong)
		}
	}
	return answers, nil
}
