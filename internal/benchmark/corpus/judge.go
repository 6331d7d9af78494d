package corpus

import (
	"errors"
	"fmt"
	"math"
	"runtime"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"tinbell/core/baseline"
	"tinbell/core/detect"
	"tinbell/core/replay"
	"tinbell/core/timeline"
)

// Order says how a corpus is judged.
type Order struct {
	Budget     float64 // false alarms stated per series and 30 days; 0: 0.03, of periods under an hour 0.1
	Unlabelled bool    // incidents before the split are not told
	Unplanned  bool    // events are not told

	answers map[string][]replay.Exclusion // by series: what people said of alerts
}

// Rang is an alert that would have been told about a series.
type Rang struct {
	Series *Series
	Alert  detect.Alert
}

// BudgetOf is the budget that is stated for a corpus.
func (o Order) BudgetOf(c *Corpus) float64 {
	if o.Budget > 0 {
		return o.Budget
	}
	for i := range c.Series {
		if c.Series[i].Grid.Period < time.Hour {
			return 0.1
		}
	}
	return 0.03
}

// Judge walks forward through each series from its split on. What was labelled
// before the split, and what was planned, is known.
func Judge(c *Corpus, o Order) ([]Rang, error) {
	budget := o.BudgetOf(c)
	warn := time.Duration(30 * 24 / budget * float64(time.Hour))
	found := make([][]detect.Alert, len(c.Series))
	var group errgroup.Group
	group.SetLimit(runtime.NumCPU())
	for _, of := range c.monitors() {
		group.Go(func() error {
			jobs := make([]replay.Job, len(of))
			for k, i := range of {
				s := &c.Series[i]
				rule := detect.Rule{Warn: warn, Critical: 10 * warn}
				if s.Kind == timeline.Share || s.Kind == timeline.Duration {
					rule.Direction = detect.High
				}
				jobs[k] = replay.Job{Config: baseline.Config{Kind: s.Kind, Grid: s.Grid}, Rule: rule, History: s.History,
					Exclusions: c.exclusions(s, o), From: s.Split}
			}
			trial, err := replay.HoldOut(jobs)
			if err != nil {
				return err
			}
			for k, i := range of {
				jobs[k].Rule = trial.Keep(jobs[k].Rule)
				alerts, err := replay.Walk(jobs[k])
				var short baseline.TooShort
				if err != nil && !errors.As(err, &short) {
					return fmt.Errorf("%s: %w", c.Series[i].ID, err)
				}
				found[i] = alerts
			}
			return nil
		})
	}
	err := group.Wait()
	var rang []Rang
	for i := range found {
		for _, a := range found[i] {
			rang = append(rang, Rang{&c.Series[i], a})
		}
	}
	return rang, err
}

// monitors groups the series of one dataset and metric.
func (c *Corpus) monitors() [][]int {
	at := map[[2]string]int{}
	var list [][]int
	for i, s := range c.Series {
		key := [2]string{s.Dataset, s.Metric}
		k, known := at[key]
		if !known {
			k = len(list)
			at[key], list = k, append(list, nil)
		}
		list[k] = append(list[k], i)
	}
	return list
}

func (c *Corpus) exclusions(s *Series, o Order) []replay.Exclusion {
	list := slices.Clone(o.answers[s.ID])
	for k := range c.Incidents {
		i := &c.Incidents[k]
		if !o.Unlabelled && i.Start < s.Labelled && i.covers(s) {
			list = append(list, replay.Exclusion{Span: timeline.Span{From: i.Start, To: i.End}, Known: min(i.End, s.Labelled)})
		}
	}
	for k := range c.Events {
		e := &c.Events[k]
		if !o.Unplanned && e.covers(s) {
			list = append(list, replay.Exclusion{Span: timeline.Span{From: e.Start, To: e.End}, Known: math.MinInt64, Planned: true})
		}
	}
	return list
}
