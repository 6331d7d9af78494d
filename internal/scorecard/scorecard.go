// Package scorecard measures how good the alerts are: what was told, against labels and
// the catalogue of incidents, and what grouping spares people.
package scorecard

import (
	"context"
	"math"
	"slices"
	"sort"
	"time"

	"tinbell/core/score"
	"tinbell/internal/record"
	"tinbell/internal/store"
	"tinbell/internal/watch"
)

// Figure is an estimate with its 95 % interval; null where nothing is known.
type Figure struct {
	Estimate *float64 `json:"estimate"`
	Low      *float64 `json:"low"`
	High     *float64 `json:"high"`
	K        int      `json:"k" doc:"counted"`
	N        int      `json:"n" doc:"out of"`
}

func figure(v score.Interval) Figure {
	number := func(x float64) *float64 {
		if math.IsNaN(x) || math.IsInf(x, 0) {
			return nil
		}
		return &x
	}
	return Figure{number(v.Estimate), number(v.Low), number(v.High), v.K, v.N}
}

// Card is the score of one monitor, or of all together.
type Card struct {
	Name          string   `json:"name" doc:"of a group: the dataset, measure, segment, owner, tag, rule, channel or month"`
	Monitor       string   `json:"monitor" doc:"empty for all together"`
	Dataset       string   `json:"dataset"`
	Owner         string   `json:"owner"`
	Measure       string   `json:"measure"`
	Alerts        int      `json:"alerts"`
	Labelled      int      `json:"labelled"`
	Faults        int      `json:"faults"`
	Noise         int      `json:"noise"`
	Planned       int      `json:"planned"`
	Unlabelled    int      `json:"unlabelled"`
	Precision     Figure   `json:"precision" doc:"faults among alerts labelled fault or noise"`
	Lowest        *float64 `json:"precision_if_all_noise" doc:"if every unlabelled alert were noise"`
	Highest       *float64 `json:"precision_if_all_faults" doc:"if every unlabelled alert were a fault"`
	Catalogue     Figure   `json:"precision_catalogue" doc:"alerts that match an incident, labels set aside; repeats not counted"`
	Recall        Figure   `json:"recall" doc:"of known incidents"`
	F1            *float64 `json:"f1"`
	DelaySeconds  Figure   `json:"delay_seconds" doc:"median time to detect"`
	FalseWeekly   Figure   `json:"false_alarms_per_week" doc:"labelled noise; in a replay, alerts that match no incident"`
	FalseMost     *float64 `json:"false_alarms_per_week_if_all_noise" doc:"if every unlabelled alert that matches no incident were noise"`
	StatedSeconds int64    `json:"stated_seconds" doc:"return period the monitor is set to"`
	Achieved      Achieved `json:"achieved" doc:"how often it has cried wolf so far, to stand beside stated_seconds"`
}

// Achieved is the time between false alarms so far, one disturbance counted
// once, with its 95 % interval.
type Achieved struct {
	Groups     int      `json:"groups" doc:"false alarms, those of one disturbance counted once"`
	Seconds    *float64 `json:"seconds" doc:"time between them; null if there was none"`
	Shortest   *float64 `json:"shortest_seconds" doc:"95 % sure that it is not shorter"`
	Longest    *float64 `json:"longest_seconds" doc:"… not longer; null if there was none"`
	GroupsMost int      `json:"groups_if_all_noise" doc:"if every unlabelled alert that matches no incident were noise"`
	Least      *float64 `json:"seconds_if_all_noise" doc:"time between them then; null if there were none"`
}

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
	alerts, held := every[:0], []record.Alert(nil)
	for _, a := range every {
		if tag != "" && !slices.Contains(a.Tags, tag) {
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
		switch a.Verdict {
		case record.Noise:
			card.HeldNoise++
		case record.Fault:
			card.HeldFault++
		}
	}
	return card, err
}

// start is when judging of the past began: the first alert or incident that
// could have been told.
func (d *Desk) start(ctx context.Context, to time.Time) (time.Time, error) {
	first, err := d.store.FirstJudged(ctx)
	if err != nil || first.IsZero() {
		return to.AddDate(0, 0, -28), err
	}
	return first, nil
}

func (d *Desk) compile(ctx context.Context, monitors []record.Monitor, alerts []record.Alert, incidents []record.Incident, from,
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
	series, told := map[int64]*record.Alert{}, map[int64]int{}
	for i := range alerts {
		series[alerts[i].SeriesID] = &alerts[i]
		told[alerts[i].MonitorID]++
	}
	ofMonitor := map[int64][]record.Alert{}
	for i := range alerts {
		id := alerts[i].MonitorID
		if ofMonitor[id] == nil {
			ofMonitor[id] = make([]record.Alert, 0, told[id])
		}
		ofMonitor[id] = append(ofMonitor[id], alerts[i])
	}
	reach, err := d.reach(ctx, incidents)
	if err != nil {
		return card, err
	}
	cases := make([]score.Incident, len(incidents))
	for i := range incidents {
		cases[i] = CaseOf(incidents[i], reach, func(id int64) (string, string, string) {
			a := series[id]
			return a.Dataset, a.Measure, a.Segment
		})
	}
	weeks := to.Sub(from).Hours() / (7 * 24)
	matched := score.Match(scores(alerts), cases, to.Unix())
	card.Overall = Sum(alerts, matched, weeks, false)
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
	for _, m := range monitors {
		own := ofMonitor[m.ID]
		var ownCases []score.Incident
		for j, i := range incidents {
			if i.On(m.Dataset) && (i.Measure == "" || i.Measure == measures[m.Name]) {
				ownCases = append(ownCases, cases[j])
			}
		}
		c := Sum(own, score.Match(scores(own), ownCases, to.Unix()), weeks, false)
		c.Monitor, c.Dataset, c.Owner, c.Measure, c.StatedSeconds = m.Name, m.Dataset, m.Owner, measures[m.Name], m.Settings.WarnSeconds
		card.Monitors = append(card.Monitors, c)
	}
	sort.SliceStable(card.Monitors, func(i, j int) bool { return worse(card.Monitors[i], card.Monitors[j]) })
	card.Weeks = byWeek(alerts, matched, incidents, from, to)
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

func scored(a *record.Alert) score.Alert {
	end := int64(0)
	if a.EndedAt != nil {
		end = a.EndedAt.Unix()
	} else if a.ClosedAt != nil {
		end = a.ClosedAt.Unix()
	}
	return score.Alert{Series: a.SeriesID, Start: a.RaisedAt.Unix(), End: end, Slack: 3 * a.PeriodSeconds,
		Label: score.Verdict(a.Verdict), Planned: a.Planned}
}

func scores(list []record.Alert) []score.Alert {
	out := make([]score.Alert, len(list))
	for i := range list {
		out[i] = scored(&list[i])
	}
	return out
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
