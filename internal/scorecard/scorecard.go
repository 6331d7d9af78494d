// Package scorecard measures how good the alerts are: what was told, against labels and
// the catalogue of incidents, and what grouping spares people.
package scorecard

import (
	"context"
	"slices"
	"sort"
	"time"

	"tinbell/core/score"
	"tinbell/core/timeline"
	"tinbell/internal/record"
	"tinbell/internal/store"
	"tinbell/internal/watch"
)

// Week is the load of one week by verdict.
type Week struct {
	From       time.Time `json:"from"`
	Faults     int       `json:"faults"`
	Noise      int       `json:"noise"`
	Planned    int       `json:"planned"`
	Unlabelled int       `json:"unlabelled"`
	Precision  Figure    `json:"precision"`
	Recall     Figure    `json:"recall"`
}

// Scorecard is the score over a stretch of the past.
type Scorecard struct {
	From      time.Time        `json:"from"`
	To        time.Time        `json:"to"`
	Overall   Card             `json:"overall"`
	Monitors  []Card           `json:"monitors" doc:"worst precision first"`
	Weeks     []Week           `json:"weeks"`
	By        string           `json:"by" doc:"what groups are made of"`
	Groups    []Card           `json:"groups" doc:"worst precision first"`
	HeldBack  int              `json:"held_back" doc:"alerts that the filter held back; they were told to nobody and count in no figure"`
	HeldNoise int              `json:"held_back_noise" doc:"of these, labelled noise"`
	HeldFault int              `json:"held_back_faults" doc:"of these, labelled a fault"`
	Missed    []string         `json:"missed" doc:"references of incidents nobody was told of"`
	Unwatched int              `json:"unwatched" doc:"incidents on measures that no monitor covers; they count as missed"`
	Outcomes  map[int64]string `json:"outcomes" doc:"per alert id: hit, repeat, false or planned, against the catalogue"`
}

// Desk is where alerts are scored.
type Desk struct {
	store *store.Store
	now   func() time.Time
}

// New makes a desk.
func New(s *store.Store, now func() time.Time) *Desk { return &Desk{s, now} }

// Score gives the scorecard over the alerts raised in [from, to). A zero from
// starts with the first alert.
// by says what groups are made of, one of Groupings; empty makes none. With a tag only
// what has it is scored: monitors, alerts, and incidents on datasets that such a monitor
// watches.
func (d *Desk) Score(ctx context.Context, from, to time.Time, by, tag string) (Scorecard, error) {
	if to.IsZero() {
		to = d.now().Add(time.Second) // what was raised this very moment counts
	}
	monitors, err := d.store.Monitors(ctx)
	if err != nil {
		return Scorecard{}, err
	}
	watches := map[string]bool{}
	monitors = slices.DeleteFunc(monitors, func(m record.Monitor) bool {
		return tag != "" && !slices.Contains(m.Tags, tag) && !slices.Contains(m.Inherited, tag)
	})
	for _, m := range monitors {
		watches[m.Dataset] = true
	}
	every, err := d.store.Scored(ctx, from, to)
	if err != nil {
		return Scorecard{}, err
	}
	if from.IsZero() {
		if from, err = d.start(ctx, to); err != nil {
			return Scorecard{}, err
		}
		// What weeks and months told in years before is asked for by its dates.
		every = slices.DeleteFunc(every, func(a store.Scored) bool { return a.Start < from.Unix() && a.Of.Period > 86400 })
	}
	incidents, err := d.store.Incidents(ctx, "", from, to)
	if err != nil {
		return Scorecard{}, err
	}
	// Incidents that began before the stretch belong to the one before.
	kept := incidents[:0]
	for _, i := range incidents {
		if !i.StartedAt.Before(from) && (tag == "" || slices.ContainsFunc(i.Datasets(), func(name string) bool { return watches[name] })) {
			kept = append(kept, i)
		}
	}
	alerts, held := every[:0], []store.Scored(nil)
	for _, a := range every {
		if tag != "" && !slices.Contains(a.Of.Tags, tag) {
			continue
		}
		if a.Held == record.HeldBack {
			held = append(held, a)
		} else {
			alerts = append(alerts, a)
		}
	}
	card, err := d.compile(ctx, monitors, alerts, kept, from, to, by)
	card.HeldBack = len(held)
	for _, a := range held {
		switch a.Label {
		case record.Noise:
			card.HeldNoise++
		case record.Fault:
			card.HeldFault++
		}
	}
	return card, err
}

// start is when judging of the past began: the first alert or incident that
// could have been told, by a monitor of days or less if there is one.
func (d *Desk) start(ctx context.Context, to time.Time) (time.Time, error) {
	list, err := d.store.FirstJudged(ctx)
	if err != nil || len(list) == 0 {
		return to.AddDate(0, 0, -28), err
	}
	first := slices.MinFunc(list, func(a, b store.FirstJudged) int {
		switch {
		case a.Long != b.Long && b.Long:
			return -1
		case a.Long != b.Long:
			return 1
		}
		return a.At.Compare(b.At)
	})
	return first.At, nil
}

func (d *Desk) compile(ctx context.Context, monitors []record.Monitor, alerts []store.Scored, incidents []record.Incident, from,
	to time.Time, by string) (Scorecard, error) {
	card := Scorecard{From: from, To: to, By: by, Groups: []Card{}, Monitors: []Card{}, Weeks: []Week{}, Missed: []string{},
		Outcomes: map[int64]string{}}
	metrics, err := d.store.Metrics(ctx)
	if err != nil {
		return card, err
	}
	byID := map[int64]string{}
	for _, m := range metrics {
		byID[m.ID] = m.Measure
	}
	measures := map[string]string{}
	for _, m := range monitors {
		measures[m.Name] = byID[m.MetricID]
	}
	reach, err := d.reach(ctx, incidents)
	if err != nil {
		return card, err
	}
	cases := casesOf(incidents, alerts, reach)
	weeks := to.Sub(from).Hours() / (7 * 24)
	all, ofMonitor := make([]score.Alert, len(alerts)), map[int64][]score.Alert{}
	for i := range alerts {
		all[i] = alerts[i].Alert
		ofMonitor[alerts[i].Of.MonitorID] = append(ofMonitor[alerts[i].Of.MonitorID], all[i])
	}
	matched := score.Match(all, cases, to.Unix())
	card.Overall = All(score.Sum(all, matched, weeks, false))
	card.Outcomes = make(map[int64]string, len(alerts))
	for i := range alerts {
		card.Outcomes[alerts[i].ID] = string(matched.Outcomes[i])
	}
	for j, i := range incidents {
		if !matched.Found[j] {
			card.Missed = append(card.Missed, i.Reference)
			if !Watched(i, monitors, measures) {
				card.Unwatched++
			}
		}
	}
	first, err := d.store.FirstJudged(ctx)
	if err != nil {
		return card, err
	}
	since := map[int64]time.Time{}
	for _, f := range first {
		since[f.Monitor] = f.At
	}
	for _, m := range monitors {
		var own []score.Incident
		for j, i := range incidents {
			if i.On(m.Dataset) && (i.Measure == "" || i.Measure == measures[m.Name]) {
				own = append(own, cases[j])
			}
		}
		// A monitor that is younger than the stretch had less time to cry wolf in.
		its := max(to.Sub(timeline.Later(from, since[m.ID])).Hours(), 24) / (7 * 24)
		card.Monitors = append(card.Monitors, CardOf(m, measures[m.Name],
			score.Sum(ofMonitor[m.ID], score.Match(ofMonitor[m.ID], own, to.Unix()), its, false)))
	}
	sort.SliceStable(card.Monitors, func(i, j int) bool { return worse(card.Monitors[i], card.Monitors[j]) })
	card.Weeks = byWeek(all, matched, incidents, from, to)
	if by != "" {
		g := grouping{by: by}
		if by == "channel" {
			if g.told, err = d.store.ToldOn(ctx, from); err != nil {
				return card, err
			}
		}
		card.Groups = g.cards(alerts, incidents, cases, weeks, to)
	}
	return card, nil
}

// Watched tells whether any monitor could have seen the incident.
func Watched(i record.Incident, monitors []record.Monitor, measures map[string]string) bool {
	for _, m := range monitors {
		if i.On(m.Dataset) && (i.Measure == "" || measures[m.Name] == i.Measure) {
			return true
		}
	}
	return false
}

// worse puts low precision first, then monitors without any labelled alert by
// how many alerts they raised.
func worse(a, b Card) bool {
	if (a.Precision.Estimate == nil) != (b.Precision.Estimate == nil) {
		return a.Precision.Estimate != nil
	}
	if a.Precision.Estimate != nil && *a.Precision.Estimate != *b.Precision.Estimate {
		return *a.Precision.Estimate < *b.Precision.Estimate
	}
	return a.Alerts > b.Alerts
}

// casesOf makes incidents ready for scoring some alerts.
func casesOf(incidents []record.Incident, alerts []store.Scored, reach map[string]map[string]bool) []score.Incident {
	series := map[int64]*store.ScoredSeries{}
	for i := range alerts {
		series[alerts[i].Of.Series] = alerts[i].Of
	}
	cases := make([]score.Incident, len(incidents))
	for i := range incidents {
		cases[i] = CaseOf(incidents[i], reach, func(id int64) (string, string, string) {
			of := series[id]
			return of.Dataset, of.Measure, of.Segment
		})
	}
	return cases
}

// CaseOf makes an incident ready for scoring. reach holds, by dataset, what an
// incident on it hits downstream.
func CaseOf(i record.Incident, reach map[string]map[string]bool, what func(series int64) (dataset, measure,
	segment string)) score.Incident {
	end := int64(0)
	if i.EndedAt != nil {
		end = i.EndedAt.Unix()
	}
	return score.Incident{Start: i.StartedAt.Unix(), End: end, Covers: func(series int64) bool {
		dataset, measure, segment := what(series)
		if i.On(dataset) && watch.Covers(i, measure, segment) {
			return true
		}
		return i.Downstream && slices.ContainsFunc(i.Datasets(), func(name string) bool { return reach[name][dataset] })
	}}
}

// reach gives what lies downstream of the datasets of incidents that spread, two
// steps along the lineage.
func (d *Desk) reach(ctx context.Context, incidents []record.Incident) (map[string]map[string]bool, error) {
	spreads := false
	for _, i := range incidents {
		spreads = spreads || i.Downstream
	}
	if !spreads {
		return nil, nil
	}
	steps, err := d.store.Steps(ctx)
	if err != nil {
		return nil, err
	}
	next := map[string][]string{}
	for _, s := range steps {
		next[s.From] = append(next[s.From], s.To)
	}
	reach := map[string]map[string]bool{}
	for _, i := range incidents {
		for _, name := range i.Datasets() {
			if !i.Downstream || reach[name] != nil {
				continue
			}
			reach[name] = map[string]bool{}
			for _, one := range next[name] {
				reach[name][one] = true
				for _, two := range next[one] {
					reach[name][two] = true
				}
			}
		}
	}
	return reach, nil
}
