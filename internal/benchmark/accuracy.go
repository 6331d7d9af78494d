package benchmark

import (
	"context"
	"fmt"
	"math"
	"time"

	"tinbell/core/detect"
	"tinbell/core/replay"
	"tinbell/core/robust"
	"tinbell/core/score"
	"tinbell/core/timeline"
)

// stretch is how a period length is tried: days of history, days judged, and
// how many periods in a row the patient rivals wait for.
type stretch struct {
	Period       time.Duration
	Learn, Judge int
	InRow        int
}

var stretches = []stretch{
	{time.Hour, 56, 28, 2},
	{15 * time.Minute, 42, 14, 2},
	{5 * time.Minute, 42, 14, 3},
	{24 * time.Hour, 182, 91, 2},
}

// Plan says how much an accuracy report tries.
type Plan struct {
	Seeds     []uint64
	PerFamily int // scenes of each family, period and seed
	Progress  func(done, total int)
}

// scenes makes the plan's scenes of a period.
func (p Plan) scenes(st stretch, contaminated, faults bool) []Scene {
	list := make([]Scene, 0, len(p.Seeds)*len(Families)*p.PerFamily)
	for _, seed := range p.Seeds {
		for _, f := range Families {
			for i := range p.PerFamily {
				list = append(list, NewScene(Setting{Seed: seed, Period: st.Period, Learn: st.Learn, Judge: st.Judge,
					Contaminated: contaminated, Faults: faults}, f, i))
			}
		}
	}
	return list
}

// ruleOf states a budget of false alarms per series and 30 days.
func ruleOf(budget float64) detect.Rule {
	warn := time.Duration(30 * 24 / budget * float64(time.Hour))
	return detect.Rule{Warn: warn, Critical: 10 * warn}
}

// Contest is Tin Bell and the simple rivals on the same faults.
type Contest struct {
	Period   time.Duration
	Budget   float64
	Ours     Outcome
	Asked    Outcome   // ours, after the first questions about each past were answered
	Usual    []Outcome // rivals at the limit people choose
	Equal    []Outcome // rivals at the limit that rings falsely as often as ours
	Families []Outcome // ours, by family
}

// Best is the rival with the highest recall at the same number of false alarms.
func (c Contest) Best() Outcome {
	best := c.Equal[0]
	for _, o := range c.Equal {
		if o.Found > best.Found {
			best = o
		}
	}
	return best
}

// Contests judges every period's scenes: half of them have faults in the
// history that nobody labelled.
func (p Plan) Contests(ctx context.Context, budget float64) ([]Contest, error) {
	var list []Contest
	for k, st := range stretches {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		scenes := append(p.scenes(st, true, true), p.scenes(st, false, true)...)
		alerts, err := walkAll(scenes, ruleOf(budget))
		if err != nil {
			return nil, err
		}
		c := Contest{Period: st.Period, Budget: budget, Ours: tally("Tin Bell", scenes, alerts)}
		told, err := asked(scenes, ruleOf(budget))
		if err != nil {
			return nil, err
		}
		rang, err := walkAll(told, ruleOf(budget))
		if err != nil {
			return nil, err
		}
		c.Asked = tally("answered", told, rang)
		c.Usual, c.Equal = rivals(scenes, st.InRow, c.Ours.False)
		for _, f := range Families {
			var own []Scene
			var rang [][]detect.Alert
			for i := range scenes {
				if scenes[i].Family == f {
					own, rang = append(own, scenes[i]), append(rang, alerts[i])
				}
			}
			c.Families = append(c.Families, tally(string(f), own, rang))
		}
		list = append(list, c)
		p.Progress(k+1, len(stretches))
	}
	return list, nil
}

// Absent is what happens without one of the detectors.
type Absent struct {
	Without string
	Outcome
}

// LeaveOneOut judges the hourly scenes with one detector, or one thing the
// service is told, left out at a time.
func (p Plan) LeaveOneOut(ctx context.Context, budget float64) ([]Absent, error) {
	variants := []struct {
		name  string
		rule  func(*detect.Rule)
		scene func(*Scene)
	}{
		{name: "nothing: all of it"},
		{name: "the worst period left out of each window", rule: func(r *detect.Rule) { r.KeepWorst = true }},
		{name: "windows over 6 periods", rule: func(r *detect.Rule) { r.Sustained = detect.SustainedOff }},
		{name: "the silence test", rule: func(r *detect.Rule) { r.SilenceOff = true }},
		{name: "the stuck test", rule: func(r *detect.Rule) { r.StuckOff = true }},
		{name: "the missing-data test", rule: func(r *detect.Rule) { r.Missing = -1 }},
		{name: "row counts of shares and means", scene: forgetRows},
		{name: "holidays", scene: func(s *Scene) { s.Config.Holidays = nil }},
		{name: "planned events", scene: func(s *Scene) { s.Exclusions = nil }},
		{name: "local time", scene: func(s *Scene) { s.Config.Grid.Zone = time.UTC }},
	}
	var list []Absent
	for k, v := range variants {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		scenes := append(p.scenes(stretches[0], true, true), p.scenes(stretches[0], false, true)...)
		rule := ruleOf(budget)
		if v.rule != nil {
			v.rule(&rule)
		}
		told := make([]Scene, len(scenes))
		copy(told, scenes)
		for i := range told {
			if v.scene != nil {
				v.scene(&told[i])
			}
		}
		alerts, err := walkAll(told, rule)
		if err != nil {
			return nil, err
		}
		list = append(list, Absent{v.name, tally(v.name, scenes, alerts)})
		p.Progress(k+1, len(variants))
	}
	return list, nil
}

func forgetRows(s *Scene) {
	s.History = append([]timeline.Sample(nil), s.History...)
	for i := range s.History {
		s.History[i].Rows = 0
	}
}

// Rarity is a stated figure beside the one found on series without any fault
// that were not used in fitting.
type Rarity struct {
	Period       time.Duration
	Family       string
	Contaminated bool
	Months       float64
	Stated       []float64        // false alarms per series and 30 days
	Found        []score.Interval // counted in groups
	Coverage     []CoverageFound
}

// CoverageFound is a stated coverage of the band and the share of clean values
// found inside, of counts those of at least 20 expected.
type CoverageFound struct {
	Stated, Found float64
	N             int
}

var statedBudgets = []float64{0.3, 1, 3}
var statedCoverage = []float64{0.95, 0.99}

// Rarities measures stated budgets and coverages for every period, by family
// and for all of them, with clean history and with 5 % of it spoilt by faults
// that nobody labelled.
func (p Plan) Rarities(ctx context.Context) ([]Rarity, error) {
	var list []Rarity
	total := 2 * len(stretches)
	for k, st := range stretches {
		for half, contaminated := range []bool{false, true} {
			if err := ctx.Err(); err != nil {
				return nil, err
			}
			rows, err := p.rarity(st, contaminated)
			if err != nil {
				return nil, err
			}
			list = append(list, rows...)
			p.Progress(2*k+half+1, total)
		}
	}
	return list, nil
}

func (p Plan) rarity(st stretch, contaminated bool) ([]Rarity, error) {
	scenes := p.scenes(st, contaminated, false)
	type found struct {
		groups  [3]int
		inside  [2]int
		outside [2]int
	}
	results := make([]found, len(scenes))
	err := each(len(scenes), func(i int) error {
		s := &scenes[i]
		for k, budget := range statedBudgets {
			alerts, err := replay.Walk(replay.Job{Config: s.Config, Rule: ruleOf(budget), History: s.History, From: s.From})
			if err != nil {
				return err
			}
			spans := make([]score.Span, len(alerts))
			for j, a := range alerts {
				spans[j] = score.Span{Start: a.Since, End: a.End}
			}
			_, results[i].groups[k] = score.Groups(spans, max(score.GroupGap, 3*int64(st.Period.Seconds())))
		}
		for k, coverage := range statedCoverage {
			cfg := s.Config
			cfg.Coverage = coverage
			_, err := replay.Walk(replay.Job{Config: cfg, Rule: detect.Rule{BandOnly: true}, History: s.History, From: s.From,
				Read: func(r detect.Reading) {
					if math.IsNaN(r.Observed) || cfg.Kind == timeline.Count && r.Expected < 20 {
						return
					}
					if r.Observed >= r.Low && r.Observed <= r.High {
						results[i].inside[k]++
					} else {
						results[i].outside[k]++
					}
				}})
			if err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	rows := make([]Rarity, 0, len(Families)+1)
	for _, family := range append([]Family{""}, Families...) {
		row := Rarity{Period: st.Period, Family: string(family), Contaminated: contaminated, Stated: statedBudgets}
		var sum found
		for i, s := range scenes {
			// A reference table has steps and no band: its rule has no rarity.
			if s.Family != family && (family != "" || s.Family == Reference) {
				continue
			}
			row.Months += float64(st.Judge) / 30
			for k := range sum.groups {
				sum.groups[k] += results[i].groups[k]
			}
			for k := range sum.inside {
				sum.inside[k] += results[i].inside[k]
				sum.outside[k] += results[i].outside[k]
			}
		}
		if family == "" {
			row.Family = "all with a band"
		}
		for k := range statedBudgets {
			row.Found = append(row.Found, score.PoissonRate(sum.groups[k], row.Months))
		}
		for k, stated := range statedCoverage {
			n := sum.inside[k] + sum.outside[k]
			row.Coverage = append(row.Coverage, CoverageFound{stated, float64(sum.inside[k]) / float64(max(n, 1)), n})
		}
		rows = append(rows, row)
	}
	return rows, nil
}

// LossCheck is a predicted detectable loss beside how often a loss of that size
// was found.
type LossCheck struct {
	Within      time.Duration
	Predicted   float64 // median over series of the share sometimes found
	AtSometimes score.Interval
	AtAlways    score.Interval
	AtLess      score.Interval // at six tenths of it
	SeriesTried int
}

// Losses plants losses of the predicted sizes in clean hourly counts and counts
// how many are found in time.
func (p Plan) Losses(ctx context.Context, budget float64) ([]LossCheck, error) {
	st := stretches[0]
	var scenes []Scene
	for _, s := range p.scenes(st, false, false) {
		if s.Family == Counts {
			scenes = append(scenes, s)
		}
	}
	lengths := []int{6, 24}
	type tried struct{ found, n [3]int }
	results := make([][2]tried, len(scenes))
	predicted := make([][2]float64, len(scenes))
	err := each(len(scenes), func(i int) error {
		s := &scenes[i]
		first := len(s.History) * st.Learn / (st.Learn + st.Judge)
		e, err := detect.Fit(s.Config, ruleOf(budget), s.History[:first], timeline.Mask{})
		if err != nil {
			return err
		}
		for k, length := range lengths {
			for _, l := range e.Losses() {
				if l.Periods != length || l.Always >= 1 {
					continue
				}
				predicted[i][k] = l.Sometimes
				for j, share := range []float64{0.6 * l.Sometimes, l.Sometimes, l.Always} {
					for at := first + 5; at+length < len(s.History); at += 97 {
						results[i][k].n[j]++
						if found, err := lossFound(s, first, at, length, share, budget); err != nil {
							return err
						} else if found {
							results[i][k].found[j]++
						}
					}
				}
			}
		}
		return ctx.Err()
	})
	if err != nil {
		return nil, err
	}
	var list []LossCheck
	for k, length := range lengths {
		c := LossCheck{Within: time.Duration(length) * st.Period}
		var sum tried
		var shares []float64
		for i := range results {
			for j := range sum.n {
				sum.n[j] += results[i][k].n[j]
				sum.found[j] += results[i][k].found[j]
			}
			if predicted[i][k] > 0 {
				shares = append(shares, predicted[i][k])
			}
		}
		c.SeriesTried = len(shares)
		c.Predicted = robust.Median(shares)
		c.AtLess, c.AtSometimes, c.AtAlways = score.Wilson(sum.found[0], sum.n[0]), score.Wilson(sum.found[1], sum.n[1]),
			score.Wilson(sum.found[2], sum.n[2])
		list = append(list, c)
	}
	return list, nil
}

// lossFound tells whether a loss planted in a stretch raises an alert within it.
func lossFound(s *Scene, first, at, length int, share, budget float64) (bool, error) {
	e, err := detect.Fit(s.Config, ruleOf(budget), s.History[:first], timeline.Mask{})
	if err != nil {
		return false, fmt.Errorf("fit: %w", err)
	}
	for i := first; i < at+length; i++ {
		x := s.History[i]
		if i >= at {
			x.Value = math.Round(x.Value * (1 - share))
		}
		r := e.Step(x, timeline.Judged)
		if a, open := e.OpenAlert(); open && i >= at && (r.Change == detect.Opened || r.Change == detect.Reopened) &&
			a.Direction == detect.Low {
			return true, nil
		}
	}
	return false, nil
}
