package chart

import (
	"context"
	"sort"
	"time"

	"tinbell/core/detect"
	"tinbell/core/score"
	"tinbell/core/timeline"
	"tinbell/internal/record"
	"tinbell/internal/study"
)

// SeriesValue is one period of a series as it was judged: with the band that its
// monitor had then, fitted on what lay before.
type SeriesValue struct {
	Metric        string        `json:"metric"`
	Dataset       string        `json:"dataset"`
	Segment       string        `json:"segment"`
	At            time.Time     `json:"at" doc:"start of the period"`
	PeriodSeconds int64         `json:"period_seconds"`
	Value         *float64      `json:"value"`
	Filled        bool          `json:"filled" doc:"nothing came: the value was put there because it was asked for"`
	Rows          *float64      `json:"rows" doc:"rows that a share or mean is of"`
	Expected      *float64      `json:"expected"`
	Low           *float64      `json:"low"`
	High          *float64      `json:"high"`
	Deviation     *float64      `json:"deviation" doc:"in half-widths of the band"`
	ReturnPeriod  *float64      `json:"return_period_seconds"`
	Masked        bool          `json:"masked" doc:"neither judged nor learned from: planned, or labelled"`
	AlertID       int64         `json:"alert_id" doc:"that claims the period is wrong; 0 if none does"`
	Verdict       score.Verdict `json:"verdict" doc:"of that alert"`
	Incident      string        `json:"incident" doc:"reference of one that covers the period"`
}

// Values hands over the periods of a metric's series in [from, to), series by series,
// in the order of time. Segment narrows it to one; empty: all.
func (r *Reader) Values(ctx context.Context, name, segment string, from, to time.Time, fill timeline.Filling,
	do func(SeriesValue) error) error {
	if err := timeline.CheckFilling(fill); err != nil {
		return record.Refused{Field: "fill", Why: err.Error()}
	}
	m, err := r.store.Metric(ctx, name)
	if err != nil {
		return err
	}
	all, err := r.store.SeriesOf(ctx, m.ID)
	if err != nil {
		return err
	}
	found := false
	for _, series := range all {
		if segment != "" && series.Segment != segment {
			continue
		}
		found = true
		if err := r.valuesOf(ctx, series.ID, from, to, fill, do); err != nil {
			return err
		}
	}
	if !found && segment != "" {
		return record.NotFound{Kind: "segment of " + name, Name: segment}
	}
	return nil
}

func (r *Reader) valuesOf(ctx context.Context, id int64, from, to time.Time, fill timeline.Filling, do func(SeriesValue) error) error {
	subject, named, err := study.Load(ctx, r.store, id)
	if err != nil {
		return err
	}
	settled := subject.SettledTo(r.now())
	history, err := subject.History(ctx, r.store, id, time.Time{}, settled)
	if err != nil || len(history) == 0 {
		return err
	}
	filled := filledBy(history, fill)
	end := settled
	if to.Before(end) {
		end = to
	}
	history = history[:sort.Search(len(history), func(i int) bool { return history[i].At >= end.Unix() })]
	if len(history) == 0 {
		return nil
	}
	c := Chart{Series: named.Series, Metric: named.Metric, Measure: named.Measure, Dataset: named.Dataset,
		PeriodSeconds: named.PeriodSeconds}
	masked := map[int64]bool{}
	show := func(r *detect.Reading) { masked[r.At] = r.Masked }
	walk(&c, subject, id, history, from, end, show)
	if err := r.annotate(ctx, &c, from, end); err != nil {
		return err
	}
	for i, at := range c.At {
		row := SeriesValue{Metric: c.Metric, Dataset: c.Dataset, Segment: c.Series.Segment, At: at, PeriodSeconds: c.PeriodSeconds,
			Value: c.Observed[i], Rows: c.Rows[i], Expected: c.Expected[i], Low: c.Low[i], High: c.High[i],
			Deviation: c.Deviation[i], ReturnPeriod: c.ReturnPeriod[i], Masked: masked[at.Unix()]}
		if value, put := filled[at.Unix()]; put {
			row.Value, row.Filled = &value, true
		}
		for _, a := range c.Alerts {
			if until := ended(a); !at.Before(a.Since) && (until.IsZero() || at.Before(until)) {
				row.AlertID, row.Verdict = a.ID, a.Verdict
			}
		}
		for _, n := range c.Incidents {
			if !at.Before(n.StartedAt) && (n.EndedAt == nil || at.Before(*n.EndedAt)) {
				row.Incident = n.Reference
			}
		}
		if err := do(row); err != nil {
			return err
		}
	}
	return nil
}

// ended is when what an alert claims ended; zero while it lasts.
func ended(a record.Alert) time.Time {
	switch {
	case a.EndedAt != nil:
		return *a.EndedAt
	case a.ClosedAt != nil:
		return *a.ClosedAt
	}
	return time.Time{}
}
