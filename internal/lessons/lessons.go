// Package lessons learns from labels what a false alarm is like: the filter, what it makes
// of an alert and why, and which alerts to ask people about.
package lessons

import (
	"context"
	"math"
	"slices"
	"time"

	"tinbell/core/filter"
	"tinbell/core/timeline"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// Desk is where lessons are drawn.
type Desk struct {
	store *store.Store
	now   func() time.Time
}

// New makes a desk.
func New(s *store.Store, now func() time.Time) *Desk { return &Desk{s, now} }

// Archive is everything the filter and the queue learn from.
type Archive struct {
	alerts   []record.Alert // of monitors, newest first
	cases    []filter.Case  // of each alert, with what was answered beside it
	monitors map[int64]record.Monitor
	kinds    map[int64]timeline.Kind // by metric
	series   map[int64]int           // by metric

	Model record.Model // as it stands
	How   record.Learning
}

// Open reads the archive whole.
func (d *Desk) Open(ctx context.Context) (*Archive, error) {
	alerts, err := d.store.Alerts(ctx, store.AlertFilter{Judged: true, Evidence: true})
	if err != nil {
		return nil, err
	}
	return d.openOf(ctx, alerts)
}

// openOf is Open of some alerts.
func (d *Desk) openOf(ctx context.Context, alerts []record.Alert) (*Archive, error) {
	a := &Archive{monitors: map[int64]record.Monitor{}, kinds: map[int64]timeline.Kind{}}
	monitors, err := d.store.Monitors(ctx)
	if err != nil {
		return nil, err
	}
	for _, m := range monitors {
		a.monitors[m.ID] = m
	}
	metrics, err := d.store.Metrics(ctx)
	if err != nil {
		return nil, err
	}
	for _, m := range metrics {
		a.kinds[m.ID] = m.Kind
	}
	if a.series, err = d.store.SeriesCounts(ctx); err != nil {
		return nil, err
	}
	if a.How, err = d.store.Learning(ctx); err != nil {
		return nil, err
	}
	a.Model = record.Model{Filter: filter.Filter{Weights: filter.ShippedPrior.Weights, Limit: a.How.Limit},
		Series: map[int64]filter.Surprise{}, Monitors: map[int64]filter.Surprise{}}
	if a.How.Model != nil {
		a.Model = *a.How.Model
	}
	a.alerts = alerts
	a.cases = make([]filter.Case, len(a.alerts))
	for i, alert := range a.alerts {
		a.cases[i] = a.caseOf(alert)
	}
	return a, nil
}

func (a *Archive) caseOf(alert record.Alert) filter.Case {
	m := a.monitors[alert.MonitorID]
	return alert.Case(a.kinds[m.MetricID], m.Settings, a.series[m.MetricID])
}

// teaches tells whether an alert's label says anything to the filter.
func teaches(a record.Alert) bool {
	return a.Verdict == record.Fault || a.Verdict == record.Noise
}

// fit learns a filter from the labels of some alerts.
func (a *Archive) fit(limit float64, use func(record.Alert) bool) (record.Model, error) {
	m := record.Model{Series: map[int64]filter.Surprise{}, Monitors: map[int64]filter.Surprise{}}
	for i, alert := range a.alerts {
		if !teaches(alert) || !use(alert) {
			continue
		}
		s, v := m.Series[alert.SeriesID], m.Monitors[alert.MonitorID]
		s.Add(a.cases[i], alert.Verdict == record.Fault)
		v.Add(a.cases[i], alert.Verdict == record.Fault)
		m.Series[alert.SeriesID], m.Monitors[alert.MonitorID] = s, v
	}
	var labelled []filter.Labelled
	everyone := make([]filter.Case, 0, len(a.alerts))
	for i, alert := range a.alerts {
		c := a.cases[i]
		c.Series, c.Monitor = m.Series[alert.SeriesID], m.Monitors[alert.MonitorID]
		if teaches(alert) && use(alert) {
			fault := alert.Verdict == record.Fault
			c.Series.Less(a.cases[i], fault)
			c.Monitor.Less(a.cases[i], fault)
			labelled = append(labelled, filter.Labelled{Case: c, Fault: fault})
		}
		if alert.Verdict != record.Planned {
			everyone = append(everyone, c)
		}
	}
	var err error
	m.Filter, err = filter.FitFilter(labelled, everyone, filter.ShippedPrior, limit)
	if math.IsNaN(m.Right) {
		m.Right = -1 // JSON knows no NaN
	}
	return m, err
}

// Relearn fits the filter to all labels there are and keeps it, with what it
// makes of every alert.
func (d *Desk) Relearn(ctx context.Context) error {
	a, err := d.Open(ctx)
	if err != nil {
		return err
	}
	m, err := a.fit(a.How.Limit, func(record.Alert) bool { return true })
	if err != nil {
		return err
	}
	ids, chances := make([]int64, len(a.alerts)), make([]float64, len(a.alerts))
	for i, alert := range a.alerts {
		ids[i] = alert.ID
		chances[i], _ = m.Chance(a.cases[i], alert.SeriesID, alert.MonitorID)
	}
	return d.store.PutModel(ctx, m, d.now().UTC(), ids, chances)
}

// FilterReport says how the filter of false alarms does.
type FilterReport struct {
	record.Learning
	Labels     int     `json:"labels" doc:"it was learned from"`
	Faults     int     `json:"faults"`
	Noise      int     `json:"noise"`
	Cut        float64 `json:"cut" doc:"alerts under this chance of being a fault are held back"`
	Right      float64 `json:"right" doc:"share of pairs of a labelled fault and a labelled noise that it orders rightly without having seen their labels; -1 without pairs"`
	Checked    Checked `json:"checked" doc:"learned from the older labels, tried on the newer ones"`
	HeldNow    int     `json:"held_now" doc:"alerts held back, or in shadow those that would be, of the last four weeks"`
	HeldFaults int     `json:"held_faults" doc:"of these, labelled a fault since"`
}

// Checked is a filter tried on later time than it was learned from.
type Checked struct {
	From       *time.Time `json:"from" doc:"start of the later time; null with too few labels"`
	Faults     int        `json:"faults"`
	FaultsLost int        `json:"faults_lost"`
	Noise      int        `json:"noise"`
	NoiseHeld  int        `json:"noise_held"`
	LostHigh   *float64   `json:"lost_high" doc:"share of faults lost, upper 95 % bound"`
}

// FilterReport gives how the filter does.
func (d *Desk) FilterReport(ctx context.Context) (FilterReport, error) {
	a, err := d.Open(ctx)
	if err != nil {
		return FilterReport{}, err
	}
	r := FilterReport{Learning: a.How, Cut: a.Model.Cut, Faults: a.Model.Faults, Noise: a.Model.Noise,
		Labels: a.Model.Faults + a.Model.Noise, Right: a.Model.Right}
	since := d.now().AddDate(0, 0, -28)
	for _, alert := range a.alerts {
		if alert.Held != "" && alert.RaisedAt.After(since) {
			r.HeldNow++
			if alert.Verdict == record.Fault {
				r.HeldFaults++
			}
		}
	}
	r.Checked, err = a.check()
	return r, err
}

// check learns from the older two thirds of the labels and tries the newer.
func (a *Archive) check() (Checked, error) {
	var times []time.Time
	for _, alert := range a.alerts {
		if teaches(alert) {
			times = append(times, alert.RaisedAt)
		}
	}
	slices.SortFunc(times, time.Time.Compare)
	if len(times) < 15 {
		return Checked{}, nil
	}
	from := times[len(times)*2/3]
	m, err := a.fit(a.How.Limit, func(alert record.Alert) bool { return alert.RaisedAt.Before(from) })
	c := Checked{From: &from}
	for i, alert := range a.alerts {
		if !teaches(alert) || alert.RaisedAt.Before(from) {
			continue
		}
		_, holds := m.Chance(a.cases[i], alert.SeriesID, alert.MonitorID)
		if alert.Verdict == record.Fault {
			c.Faults++
			if holds {
				c.FaultsLost++
			}
		} else {
			c.Noise++
			if holds {
				c.NoiseHeld++
			}
		}
	}
	c.LostHigh = upper(c.FaultsLost, c.Faults)
	return c, err
}

// Held is why an alert is held back, or would be: what speaks for noise, and the
// labelled alerts most like it.
type Held struct {
	Chance  float64        `json:"chance"`
	Cut     float64        `json:"cut"`
	Reasons []HeldReason   `json:"reasons" doc:"what speaks most against a fault first"`
	Nearest []record.Alert `json:"nearest" doc:"labelled alerts most like it"`
}

// HeldReason is what an alert is judged by, and how far it pushes the chance, on
// the log-odds scale.
type HeldReason struct {
	Theme string  `json:"theme"`
	Push  float64 `json:"push"`
}

// reasons speak of evidence; alerts of rules that have none have no reasons.
func reasons(a *Archive, c *filter.Case, labelled []filter.Labelled) []filter.Reason {
	if len(c.Looks) == 0 {
		return nil
	}
	return a.Model.Reasons(c, labelled)
}

// WhyHeld explains what the filter makes of an alert.
func (d *Desk) WhyHeld(ctx context.Context, id int64) (Held, error) {
	h := Held{Reasons: []HeldReason{}, Nearest: []record.Alert{}}
	alert, err := d.store.Alert(ctx, id)
	if err != nil {
		return h, err
	}
	if !alert.Judged() {
		return h, record.Invalid{Field: "alert", Given: string(alert.Cause), Allowed: "an alert of a monitor; the filter looks at no others"}
	}
	a, err := d.Open(ctx)
	if err != nil {
		return h, err
	}
	c := a.caseOf(alert)
	h.Cut = a.Model.Cut
	h.Chance, _ = a.Model.Chance(c, alert.SeriesID, alert.MonitorID)
	c.Series, c.Monitor = a.Model.Series[alert.SeriesID], a.Model.Monitors[alert.MonitorID]
	var labelled []filter.Labelled
	var places []int
	for i, other := range a.alerts {
		if teaches(other) && other.ID != id {
			labelled, places = append(labelled, filter.Labelled{Case: a.cases[i], Fault: other.Verdict == record.Fault}), append(places, i)
		}
	}
	for _, r := range reasons(a, &c, labelled) {
		h.Reasons = append(h.Reasons, HeldReason(r))
	}
	for _, k := range a.Model.Nearest(&c, labelled, 4) {
		h.Nearest = append(h.Nearest, a.alerts[places[k]])
	}
	return h, nil
}
