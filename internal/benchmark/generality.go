package benchmark

import (
	"context"
	"fmt"
	"time"

	"tinbell/core/detect"
	"tinbell/core/replay"
	"tinbell/core/score"
)

// Generality is what one sort of everyday series showed at one period: false
// alarms stated and found on clean series, by rule, and faults found on others.
type Generality struct {
	Sort    string
	Novel   int // changes for good, each of which may ring once
	Period  time.Duration
	Months  float64
	Stated  float64
	Found   int
	Ratio   score.Interval
	Rules   map[detect.Cause]int
	Faults  int
	Noticed int
}

// Generalities judges everyday series of all sorts and periods, clean and with
// faults, at a budget of false alarms per series and 30 days.
func (p Plan) Generalities(ctx context.Context, budget float64) ([]Generality, error) {
	var list []Generality
	for k, st := range stretches {
		for i := range everydays {
			sort := &everydays[i]
			if st.Period == 24*time.Hour && !sort.Daily {
				continue
			}
			if err := ctx.Err(); err != nil {
				return nil, err
			}
			g, err := p.generality(sort, st, budget, newEveryday)
			if err != nil {
				return nil, err
			}
			list = append(list, g)
		}
		p.Progress(k+1, len(stretches))
	}
	return list, nil
}

// generality judges series of one sort at one period that grow makes, clean and with faults.
func (p Plan) generality(sort *everyday, st stretch, budget float64,
	grow func(sort *everyday, seed uint64, st stretch, index int, faults bool) Scene) (Generality, error) {
	g := Generality{Sort: sort.Name, Period: st.Period, Rules: map[detect.Cause]int{}}
	var clean, spoilt []Scene
	for _, seed := range p.Seeds {
		for n := range p.PerFamily {
			clean = append(clean, grow(sort, seed, st, n, false))
			spoilt = append(spoilt, grow(sort, seed+5000, st, n, true))
		}
	}
	alerts, err := walkKin(clean, ruleOf(budget), p.PerFamily)
	if err != nil {
		return g, fmt.Errorf("%s: %w", sort.Name, err)
	}
	for _, of := range alerts {
		g.Months += float64(st.Judge) / 30
		for _, a := range of {
			g.Found++
			g.Rules[a.Cause]++
		}
	}
	g.Stated = budget * g.Months
	if sort.Novel {
		g.Novel = len(clean)
	}
	g.Ratio = score.PoissonRate(g.Found, g.Stated+float64(g.Novel))
	rang, err := walkKin(spoilt, ruleOf(budget), p.PerFamily)
	if err != nil {
		return g, fmt.Errorf("%s: %w", sort.Name, err)
	}
	o := tally(sort.Name, spoilt, rang)
	g.Faults, g.Noticed = o.Faults, o.Found
	return g, nil
}

// walkKin judges scenes of which so many in a row are series of one monitor.
func walkKin(scenes []Scene, rule detect.Rule, kin int) ([][]detect.Alert, error) {
	alerts := make([][]detect.Alert, len(scenes))
	err := each((len(scenes)+kin-1)/kin, func(k int) error {
		own := scenes[k*kin : min((k+1)*kin, len(scenes))]
		jobs := make([]replay.Job, len(own))
		for i, s := range own {
			jobs[i] = replay.Job{Config: s.Config, Rule: rule, History: s.History, Exclusions: s.Exclusions, From: s.From}
		}
		trial, err := replay.HoldOut(jobs)
		if err != nil {
			return err
		}
		for i := range jobs {
			jobs[i].Rule = trial.Keep(jobs[i].Rule)
			if alerts[k*kin+i], err = replay.Walk(jobs[i]); err != nil {
				return err
			}
		}
		return nil
	})
	return alerts, err
}
