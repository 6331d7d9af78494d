package benchmark

import (
	"cmp"
	"slices"
	"time"

	"tinbell/core/detect"
	"tinbell/core/filter"
	"tinbell/core/score"
)

// fleet is a team's monitors over some months: one monitor for each family of
// series, set looser than it should be, and what truly happened. Labels are
// given in the first half of what is judged, and their worth is measured in the
// second.
type fleet struct {
	scenes []Scene
	half   int64
	end    int64
	alerts [][]rang // by budget, in order of time
}

// rang is an alert of a fleet with the truth about it.
type rang struct {
	filter.Case
	scene   int
	monitor int
	alert   detect.Alert
	outcome score.Outcome
	fault   int // which of the scene's, −1 for none
}

// budgets are the false alarms per series and month that tuning chooses from;
// the first is what monitors begin with.
var budgets = []float64{3, 1, 0.3, 0.1, 0.03, 0.01}

const (
	fleetLearn = 56 // days
	fleetJudge = 84
)

// newFleet makes and judges a fleet.
func newFleet(seed uint64, perFamily int, budgets []float64) (*fleet, error) {
	f := &fleet{}
	var monitor []int
	for k, family := range Families {
		for i := range perFamily {
			f.scenes = append(f.scenes, NewScene(Setting{Seed: seed, Period: time.Hour, Learn: fleetLearn, Judge: fleetJudge,
				Contaminated: i%2 == 0, Faults: true}, family, i))
			monitor = append(monitor, k)
		}
	}
	f.half = f.scenes[0].From + fleetJudge/2*86400
	last := f.scenes[0].History
	f.end = last[len(last)-1].At + 3600
	for _, b := range budgets {
		found, err := walkAll(f.scenes, ruleOf(b))
		if err != nil {
			return nil, err
		}
		f.alerts = append(f.alerts, f.judge(found, monitor, b))
	}
	return f, nil
}

// judge says of each alert what is true, and what surrounded it.
func (f *fleet) judge(found [][]detect.Alert, monitor []int, budget float64) []rang {
	var list []rang
	for i, s := range f.scenes {
		m := score.Match(scored(s, found[i]), faultsOf(s), f.end)
		for k, a := range found[i] {
			list = append(list, rang{scene: i, monitor: monitor[i], alert: a, outcome: m.Outcomes[k], fault: m.Incident[k],
				Case: filter.Case{Budget: budget, Kind: s.Config.Kind, Cause: a.Cause, Direction: a.Direction, Looks: a.Looks}})
		}
	}
	inTime(list)
	for i := range list {
		a := &list[i]
		for k := i - 1; k >= 0 && list[k].alert.Raised > a.alert.Raised-filter.RecentSpan; k-- {
			other := &list[k]
			if other.scene == a.scene {
				a.Recent++
			} else if other.monitor == a.monitor && a.alert.Raised-other.alert.Raised <= filter.CompanySpan {
				a.Company++
			}
		}
	}
	return list
}

func inTime(list []rang) {
	slices.SortFunc(list, func(a, b rang) int {
		return cmp.Or(cmp.Compare(a.alert.Raised, b.alert.Raised), cmp.Compare(a.scene, b.scene))
	})
}

// real tells whether the alert belongs to a fault; counts tells whether it
// counts at all.
func (r *rang) real() bool   { return r.outcome == score.Hit || r.outcome == score.Repeat }
func (r *rang) counts() bool { return r.outcome != score.Expected }

// faultsIn is how many faults of a scene begin in [from, to).
func (f *fleet) faultsIn(from, to int64) (n int) {
	for _, s := range f.scenes {
		for _, v := range s.Faults {
			if v.From >= from && v.From < to {
				n++
			}
		}
	}
	return n
}
