// Package chart lays out a series over time with the band it was judged by, what was
// raised in it and what people say of it. It reads and never writes.
package chart

import (
	"context"
	"errors"
	"math"
	"slices"
	"time"

	"tinbell/core/baseline"
	"tinbell/core/detect"
	"tinbell/core/replay"
	"tinbell/core/timeline"
	"tinbell/internal/record"
	"tinbell/internal/store"
	"tinbell/internal/study"
	"tinbell/internal/watch"
	"tinbell/internal/wire"
)

// Reader draws what is stored.
type Reader struct {
	store *store.Store
	now   func() time.Time
}

func New(s *store.Store, now func() time.Time) *Reader { return &Reader{store: s, now: now} }

// Chart is a series over a stretch: columns of equal length, one entry per
// period, null where there is nothing.
type Chart struct {
	Series        record.Series         `json:"series"`
	Metric        string                `json:"metric"`
	Measure       string                `json:"measure"`
	Dataset       string                `json:"dataset"`
	Kind          timeline.Kind         `json:"kind"`
	Unit          string                `json:"unit"`
	Zone          string                `json:"zone"`
	PeriodSeconds int64                 `json:"period_seconds"`
	At            []time.Time           `json:"at" doc:"start of each period"`
	Observed      []*float64            `json:"observed"`
	Filled        []bool                `json:"filled,omitempty" doc:"nothing came: the value was put there because it was asked for"`
	Rows          []*float64            `json:"rows" doc:"row counts of shares"`
	Expected      []*float64            `json:"expected" doc:"goes on past now, as far as the axis"`
	Low           []*float64            `json:"low"`
	High          []*float64            `json:"high"`
	Floor         []*float64            `json:"floor,omitempty" doc:"the lowest that a person allows, where somebody does"`
	Ceiling       []*float64            `json:"ceiling,omitempty" doc:"and the highest"`
	Deviation     []*float64            `json:"deviation"`
	ReturnPeriod  []*float64            `json:"return_period_seconds"`
	Alerts        []record.Alert        `json:"alerts"`
	Incidents     []record.Incident     `json:"incidents"`
	Planned       []record.PlannedEvent `json:"planned"`
	Notes         []record.Note         `json:"notes" doc:"what people say happened in it"`
	Message       string                `json:"message" doc:"why there is no band, if there is none"`
}

// Of draws a series over [from, to) with the band its monitor had: the
// baseline is fitted on what was there before the stretch and walked forward.
// Past the last sample the expectation goes on up to to. Where nothing came it may be
// filled; that changes what is seen, not what is judged.
func (r *Reader) Of(ctx context.Context, seriesID int64, from, to time.Time, fill timeline.Filling) (Chart, error) {
	if err := timeline.CheckFilling(fill); err != nil {
		return Chart{}, record.Refused{Field: "fill", Why: err.Error()}
	}
	subject, named, err := study.Load(ctx, r.store, seriesID)
	if err != nil {
		return Chart{}, err
	}
	m := subject.Metric
	c := Chart{Series: named.Series, Metric: m.Name, Measure: m.Measure, Dataset: m.Dataset, Kind: m.Kind, Unit: m.Unit,
		Zone: m.Zone, PeriodSeconds: m.PeriodSeconds}
	end := subject.SettledTo(r.now())
	if to.Before(end) {
		end = to
	}
	history, err := subject.History(ctx, r.store, seriesID, time.Time{}, end)
	if err != nil {
		return c, err
	}
	show, err := subject.Waits(ctx, r.store, from, to)
	if err != nil {
		return c, err
	}
	walk(&c, subject, seriesID, history, from, to, show)
	c.bound(subject.Rule(named.Series).Bounds, subject.Grid, history)
	c.fill(history, fill)
	return c, r.annotate(ctx, &c, from, to)
}

// walk fills the columns with readings, as show has them.
func walk(c *Chart, v *watch.Subject, series int64, history []timeline.Sample, from, to time.Time, show func(*detect.Reading)) {
	rule := v.Rule(v.Of(series))
	rule.BandOnly = rule.BandOnly || v.Monitor.ID == 0
	judged := map[int64]bool{}
	read := func(r detect.Reading) {
		judged[r.At] = true
		show(&r)
		c.add(r)
	}
	_, e, err := replay.WalkOn(replay.Job{
		Config: v.Config, Rule: rule, History: history, Exclusions: v.Exclusions[series], From: from.Unix(), Read: read,
	})
	var short baseline.TooShort
	if errors.As(err, &short) || e == nil {
		c.Message = "no band: there is too little history before this stretch"
		if err != nil {
			c.Message = "no band: " + err.Error()
		}
	}
	if len(judged) == 0 || history[len(history)-1].At > from.Unix() && c.At[0].Unix() > from.Unix() {
		c.prependPlain(history, from, judged)
	}
	if e == nil || len(history) == 0 {
		return
	}
	at := v.Grid.Next(time.Unix(history[len(history)-1].At, 0))
	for n := 0; at.Before(to) && n < 500; n++ {
		r := e.Peek(timeline.Sample{At: at.Unix(), Value: math.NaN()})
		show(&r)
		c.add(r)
		at = v.Grid.Next(at)
	}
}

// bound lays what a person allows beside the values.
func (c *Chart) bound(b detect.Bounds, g timeline.Grid, history []timeline.Sample) {
	if low, high := b.Around(math.NaN()); math.IsInf(low, -1) && math.IsInf(high, 1) && b.Fall == 0 && b.Rise == 0 {
		return
	}
	values := make(map[int64]float64, len(history))
	for _, s := range history {
		values[s.At] = s.Value
	}
	for _, at := range c.At {
		before, known := values[g.Add(at, -b.Back).Unix()]
		if !known {
			before = math.NaN()
		}
		low, high := b.Around(before)
		c.Floor, c.Ceiling = append(c.Floor, wire.Finite(low)), append(c.Ceiling, wire.Finite(high))
	}
}

// fill puts values in the place of those that did not come, and marks them.
func (c *Chart) fill(history []timeline.Sample, how timeline.Filling) {
	put := filledBy(history, how)
	if len(put) == 0 {
		return
	}
	c.Filled = make([]bool, len(c.At))
	for i, at := range c.At {
		if value, there := put[at.Unix()]; there {
			c.Observed[i], c.Filled[i] = &value, true
		}
	}
}

// filledBy gives what is put in the place of values that did not come, by when they
// were due. It may lean on values outside of what is shown.
func filledBy(history []timeline.Sample, how timeline.Filling) map[int64]float64 {
	whole, put := slices.Clone(history), map[int64]float64{}
	for i, filled := range timeline.Fill(whole, how) {
		if filled {
			put[whole[i].At] = whole[i].Value
		}
	}
	return put
}

// prependPlain puts samples from before the first judged period in front,
// without a band.
func (c *Chart) prependPlain(history []timeline.Sample, from time.Time, judged map[int64]bool) {
	head := Chart{}
	for _, s := range history {
		if s.At < from.Unix() {
			continue
		}
		if judged[s.At] {
			break
		}
		head.At = append(head.At, time.Unix(s.At, 0).UTC())
		head.Observed, head.Rows = append(head.Observed, wire.Finite(s.Value)), append(head.Rows, positive(s.Rows))
		for _, column := range []*[]*float64{&head.Expected, &head.Low, &head.High, &head.Deviation, &head.ReturnPeriod} {
			*column = append(*column, nil)
		}
	}
	c.At = append(head.At, c.At...)
	c.Observed, c.Rows = append(head.Observed, c.Observed...), append(head.Rows, c.Rows...)
	c.Expected, c.Low, c.High = append(head.Expected, c.Expected...), append(head.Low, c.Low...), append(head.High, c.High...)
	c.Deviation, c.ReturnPeriod = append(head.Deviation, c.Deviation...), append(head.ReturnPeriod, c.ReturnPeriod...)
}

func (c *Chart) add(r detect.Reading) {
	c.At = append(c.At, time.Unix(r.At, 0).UTC())
	c.Observed, c.Rows = append(c.Observed, wire.Finite(r.Observed)), append(c.Rows, positive(r.Rows))
	c.Expected, c.Low, c.High = append(c.Expected, wire.Finite(r.Expected)), append(c.Low, wire.Finite(r.Low)), append(c.High, wire.Finite(r.High))
	if math.IsNaN(r.Observed) {
		c.Deviation, c.ReturnPeriod = append(c.Deviation, nil), append(c.ReturnPeriod, nil)
		return
	}
	c.Deviation, c.ReturnPeriod = append(c.Deviation, wire.Finite(r.Deviation)), append(c.ReturnPeriod, positive(r.ReturnPeriod))
}

func positive(x float64) *float64 {
	if x > 0 {
		return wire.Finite(x)
	}
	return nil
}

// annotate adds what the strip under the chart shows.
func (r *Reader) annotate(ctx context.Context, c *Chart, from, to time.Time) error {
	alerts, err := r.store.Alerts(ctx, store.AlertFilter{Series: c.Series.ID, To: to, Limit: 500})
	if err != nil {
		return err
	}
	c.Alerts = []record.Alert{}
	for _, a := range alerts {
		if a.ClosedAt == nil || a.ClosedAt.After(from) {
			c.Alerts = append(c.Alerts, a)
		}
	}
	incidents, err := r.store.Incidents(ctx, c.Dataset, from, to)
	if err != nil {
		return err
	}
	c.Incidents = []record.Incident{}
	for _, i := range incidents {
		if watch.Covers(i, c.Measure, c.Series.Segment) {
			c.Incidents = append(c.Incidents, i)
		}
	}
	events, err := r.store.PlannedEvents(ctx, c.Dataset)
	if err != nil {
		return err
	}
	if c.Notes, err = r.store.Notes(ctx, c.Dataset, from, to); err != nil {
		return err
	}
	c.Planned = []record.PlannedEvent{}
	for _, e := range events {
		if e.StartedAt.Before(to) && e.EndedAt.After(from) {
			c.Planned = append(c.Planned, e)
		}
	}
	return nil
}

// Explanation says where an expected value comes from.
type Explanation struct {
	study.Subject
	At          time.Time       `json:"at"`
	Expected    float64         `json:"expected"`
	Parts       []baseline.Part `json:"parts" doc:"add up to expected"`
	TrainedFrom time.Time       `json:"trained_from"`
	TrainedTo   time.Time       `json:"trained_to"`
	Excluded    []record.Span   `json:"excluded" doc:"left out of learning"`
	HalfLife    float64         `json:"level_half_life_periods"`
	Weeks       float64         `json:"profile_half_life_weeks"`
}

// Explain splits the expected value of a series' period into parts, fitted on
// what was known when the period began.
func (r *Reader) Explain(ctx context.Context, seriesID int64, at time.Time) (Explanation, error) {
	subject, named, err := study.Load(ctx, r.store, seriesID)
	if err != nil {
		return Explanation{}, err
	}
	if named.Monitor == "" {
		return Explanation{}, record.NotFound{Kind: "monitor of series", Name: named.Series.Segment}
	}
	at = subject.Grid.Floor(at)
	history, err := subject.History(ctx, r.store, seriesID, time.Time{}, subject.Grid.Next(at))
	if err != nil {
		return Explanation{}, err
	}
	here := timeline.Sample{At: at.Unix(), Value: math.NaN()}
	if n := len(history); n > 0 && history[n-1].At == at.Unix() {
		here, history = history[n-1], history[:n-1]
	}
	if len(history) == 0 {
		return Explanation{}, record.Invalid{Field: "at", Given: at.Format(time.RFC3339), Allowed: "a time after the first sample"}
	}
	e, err := detect.Fit(subject.Config, subject.Rule(subject.Of(seriesID)), history, replay.Mask(subject.Exclusions[seriesID], at.Unix()))
	if err != nil {
		return Explanation{}, record.Invalid{Field: "at", Given: at.Format(time.RFC3339), Allowed: err.Error()}
	}
	from := time.Unix(history[0].At, 0).UTC()
	x := Explanation{Subject: named, At: at, Expected: e.Peek(here).Expected, Parts: e.Explain(here), TrainedFrom: from, TrainedTo: at,
		Excluded: subject.Excluded(seriesID, from, at), HalfLife: e.Choice().HalfLife, Weeks: e.Choice().Weeks}
	return x, nil
}
