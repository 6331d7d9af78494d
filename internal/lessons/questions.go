package lessons

import (
	"context"
	"fmt"
	"math"
	"slices"
	"time"

	"tinbell/core/filter"
	"tinbell/core/score"
	"tinbell/internal/record"
	"tinbell/internal/watch"
	"tinbell/internal/words"
)

// Question is an alert whose label would teach much, with others like it.
type Question struct {
	Alert  record.Alert   `json:"alert"`
	Chance float64        `json:"chance" doc:"that it is a fault, as the filter sees it"`
	Alike  []record.Alert `json:"alike" doc:"of the same disturbance, not answered either: they can be answered together"`
}

// Questions is the label queue: the most instructive first.
type Questions struct {
	Questions []Question `json:"questions"`
	Waiting   int        `json:"waiting" doc:"alerts without a label"`
	Answered  int        `json:"answered" doc:"labelled fault or noise"`
	Faults    int        `json:"faults"`
	Noise     int        `json:"noise"`
	Enough    int        `json:"enough" doc:"answers after which tuning has shown most of its worth"`
	Sentence  string     `json:"sentence"`
}

// What tuning needs before it proposes anything, and what is plenty.
const (
	needAnswers = 10
	needEach    = 3
	enough      = 30
)

// TooFew tells whether there are too few answers to tune.
func (q Questions) TooFew() bool {
	return q.Answered < needAnswers || q.Faults < needEach || q.Noise < needEach
}

const (
	// candidates are how many alerts the queue chooses among: those the filter is
	// least sure of, of no monitor more than perMonitor.
	candidates, perMonitor = 600, 60
	// together is how many alerts of one disturbance are asked about at once.
	together = 12
)

// Ask gives the label queue.
func (d *Desk) Ask(ctx context.Context, limit int, monitor string) (Questions, error) {
	q := Questions{Questions: []Question{}, Enough: enough}
	tally, err := d.store.TallyLabels(ctx, monitor)
	if err != nil {
		return q, err
	}
	q.Waiting, q.Faults, q.Noise, q.Answered = tally.Waiting, tally.Faults, tally.Noise, tally.Faults+tally.Noise
	unsure, err := d.store.Unsure(ctx, monitor, candidates, perMonitor)
	if err != nil {
		return q, err
	}
	a, err := d.openOf(ctx, unsure)
	if err != nil {
		return q, err
	}
	incidents, err := d.store.Incidents(ctx, "", time.Time{}, time.Time{})
	if err != nil {
		return q, err
	}
	asked, askedSeries, err := d.store.Answered(ctx)
	if err != nil {
		return q, err
	}
	questions := make([]filter.Question, len(a.alerts))
	for i, alert := range a.alerts {
		chance, _ := a.Model.Chance(a.cases[i], alert.SeriesID, alert.MonitorID)
		if explained(alert, incidents) {
			chance = 1 // the catalogue has answered it
		}
		m := a.monitors[alert.MonitorID]
		rarer := max(alert.ReturnPeriod/float64(max(m.Settings.WarnSeconds, 1)), 1)
		questions[i] = filter.Question{Case: a.cases[i], Monitor: alert.MonitorID, Series: alert.SeriesID, Chance: chance,
			Weight: max(1-math.Log(rarer)/math.Log(300), 0.05)}
	}
	taken := map[int64]bool{}
	for _, k := range filter.Ask(questions, &a.Model.Filter, asked, askedSeries, 3*limit) {
		alert := a.alerts[k]
		if taken[alert.ID] || len(q.Questions) == limit {
			continue
		}
		one := Question{Alert: alert, Chance: questions[k].Chance, Alike: []record.Alert{}}
		taken[alert.ID] = true
		others, err := d.store.SameDisturbance(ctx, alert, score.GroupGap*time.Second, 4*together)
		if err != nil {
			return q, err
		}
		for _, o := range others {
			if !taken[o.ID] && len(one.Alike) < together {
				one.Alike = append(one.Alike, o)
				taken[o.ID] = true
			}
		}
		q.Questions = append(q.Questions, one)
	}
	q.Sentence = q.sentence()
	return q, nil
}

// explained tells whether an incident of the catalogue covers the alert.
func explained(a record.Alert, incidents []record.Incident) bool {
	return slices.ContainsFunc(incidents, func(i record.Incident) bool {
		return i.On(a.Dataset) && watch.Covers(i, a.Measure, a.Segment) && (i.EndedAt == nil || a.Since.Before(*i.EndedAt)) &&
			(a.EndedAt == nil || a.EndedAt.After(i.StartedAt))
	})
}

func (q Questions) sentence() string {
	switch {
	case q.Waiting == 0:
		return "Every alert is answered."
	case q.TooFew():
		return fmt.Sprintf("%s waiting; %s before tuning can propose anything.", words.Plural(q.Waiting, "alert"), q.Missing())
	case q.Answered < enough:
		return fmt.Sprintf("%s waiting; %d of %d answers, after which tuning has shown most of its worth.",
			words.Plural(q.Waiting, "alert"), q.Answered, enough)
	}
	return fmt.Sprintf("%s waiting; there are answers enough to tune, and each one more sharpens it.", words.Plural(q.Waiting, "alert"))
}

// Missing says in words how many answers are still needed.
func (q Questions) Missing() string {
	var parts []string
	if n := needAnswers - q.Answered; n > 0 {
		parts = append(parts, words.Plural(n, "more answer"))
	}
	if n := needEach - q.Faults; n > 0 {
		parts = append(parts, words.Plural(n, "more fault"))
	}
	if n := needEach - q.Noise; n > 0 {
		parts = append(parts, fmt.Sprintf("%d more noise", n))
	}
	return words.List(parts)
}

// upper is the 95 % upper bound of a share (Clopper and Pearson 1934); nil for
// none counted.
func upper(k, n int) *float64 {
	if n == 0 {
		return nil
	}
	bound := score.UpperShare(k, n)
	return &bound
}
