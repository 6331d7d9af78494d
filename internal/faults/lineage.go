package faults

import (
	"context"
	"slices"
	"strings"
	"time"

	"tinbell/core/detect"
	"tinbell/core/fault"
	"tinbell/core/timeline"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// place names a dataset, job or source in the lineage that faults are inferred
// along.
func place(kind record.OriginKind, name string) string {
	if kind == record.OriginDataset || kind == "" {
		return name
	}
	return string(kind) + "\x00" + name
}

// unplace is the name and kind of a place.
func unplace(p string) (name string, kind record.OriginKind) {
	if kind, name, found := strings.Cut(p, "\x00"); found {
		return name, record.OriginKind(kind)
	}
	return p, record.OriginDataset
}

// datasetsOf are those of some places that are datasets.
func datasetsOf(places []string) []string {
	return slices.DeleteFunc(places, func(p string) bool {
		_, kind := unplace(p)
		return kind != record.OriginDataset
	})
}

func segmentOf(parts record.SegmentValues) fault.Segment {
	var s fault.Segment
	for _, p := range parts {
		s = append(s, fault.Pair{Column: p.Column, Value: p.Value})
	}
	return s
}

func partsOf(s fault.Segment) record.SegmentValues {
	parts := record.SegmentValues{}
	for _, p := range s {
		parts = append(parts, record.SegmentValue{Column: p.Column, Value: p.Value})
	}
	return parts
}

// segment is the part of its dataset that a series is about.
func segment(by record.Strings, text string) fault.Segment {
	return fault.SegmentOf(by, text, strings.Split(text, " / "))
}

// rates are how often monitors rang of late.
type rates map[int64]store.MonitorRate

const rateDays = 90

// graph gives the lineage, with lags as far as they were learned, and what each
// dataset is made from.
func (d *Desk) graph(ctx context.Context, s *store.Store) (l *fault.Lineage, up map[string][]string, err error) {
	l = &fault.Lineage{}
	steps, err := s.Steps(ctx)
	if err != nil {
		return nil, nil, err
	}
	learned, err := s.LineageLags(ctx)
	if err != nil {
		return nil, nil, err
	}
	lags := make(map[[2]string]store.LineageLag, len(learned))
	for _, one := range learned {
		lags[[2]string{one.From, one.To}] = one
	}
	up = map[string][]string{}
	for _, one := range steps {
		lag, pass := fault.Unknown(3600), 0.0
		if known, ok := lags[[2]string{one.From, one.To}]; ok {
			lag, pass = fault.Lag{Low: known.Low, High: known.High, Spread: known.Spread}, known.Pass
		}
		l.Step(one.From, one.To, lag, pass)
		up[one.To] = append(up[one.To], one.From)
	}
	writes, err := s.Writes(ctx)
	if err != nil {
		return nil, nil, err
	}
	for _, w := range writes {
		l.Write(place(record.OriginJob, w.Job), w.Dataset)
	}
	datasets, err := s.Datasets(ctx)
	if err != nil {
		return nil, nil, err
	}
	for _, d := range datasets {
		l.Hold(place(record.OriginSource, d.Source), d.Name)
	}
	return l, up, nil
}

// surroundings adds to a lineage what is judged where and the shares of segments, near
// the alerts, and gives how often their monitors ring.
func (d *Desk) surroundings(ctx context.Context, s *store.Store, l *fault.Lineage, up map[string][]string, g *gathering,
	now time.Time) (rates, error) {
	near := nearby(g, up)
	watched, err := s.Watched(ctx, near)
	if err != nil {
		return nil, err
	}
	for _, w := range watched {
		kind, column := measured(w.Measure, w.Kind, w.Column, w.Metric)
		l.Judge(w.Dataset, kind, column, segment(w.SegmentBy, w.Segment))
	}
	shares, err := s.SegmentShares(ctx, near)
	if err != nil {
		return nil, err
	}
	for _, x := range shares {
		l.Share(x.Dataset, fault.Pair{Column: x.Column, Value: x.Value}, x.Share)
	}
	var monitors []int64
	for _, a := range g.alerts {
		if a.MonitorID != 0 && !slices.Contains(monitors, a.MonitorID) {
			monitors = append(monitors, a.MonitorID)
		}
	}
	return s.MonitorRates(ctx, monitors, now.Add(-rateDays*24*time.Hour))
}

// nearby are the datasets of all alerts, and what these are made from in two steps.
func nearby(g *gathering, up map[string][]string) []string {
	found := map[string]bool{}
	var list []string
	take := func(name string) {
		if name != "" && !found[name] {
			found[name] = true
			list = append(list, name)
		}
	}
	for _, a := range g.alerts {
		take(a.Dataset)
		for _, parent := range up[a.Dataset] {
			take(parent)
			for _, grand := range up[parent] {
				take(grand)
			}
		}
	}
	slices.Sort(list)
	return list
}

// measured says of what kind a metric's alerts are, and what they measure.
func measured(measure string, kind timeline.Kind, column, metric string) (fault.Kind, string) {
	if column == "" {
		column = metric
	}
	switch {
	case measure == record.MeasureDrift:
		return fault.Drift, ""
	case measure == record.MeasureFreshness:
		return fault.Late, ""
	case kind == timeline.Count:
		return fault.Rows, ""
	case kind == timeline.Share:
		return fault.Nulls, column
	}
	return fault.Mean, column
}

// explain finds where what a group holds began, whatever was thought before.
func (r rates) explain(l *fault.Lineage, g *Group) *fault.Fault {
	cores := make([]fault.Alert, len(g.Members))
	for i, m := range g.Members {
		cores[i] = r.coreOf(m)
	}
	return fault.NewInference(l).Explain(g.ID, cores)
}

// home is what an alert is about: a dataset, else a job or a source.
func home(m store.GroupedAlert) string {
	switch {
	case m.Dataset != "":
		return m.Dataset
	case m.Job != "":
		return place(record.OriginJob, m.Job)
	}
	return place(record.OriginSource, m.Source)
}

// coreOf is an alert as the inference sees it.
func (r rates) coreOf(m store.GroupedAlert) fault.Alert {
	a := fault.Alert{ID: m.ID, Series: m.SeriesID, Place: home(m), Segment: segment(m.SegmentBy, m.Segment),
		Onset: float64(m.Since.Unix()), Spread: m.Spread,
		Raised: m.RaisedAt.Unix(), Effect: m.Effect, Error: m.EffectError, Critical: m.Severity == "critical", Fixed: m.Fixed}
	if m.ClosedAt != nil {
		if a.Ended = m.ClosedAt.Unix(); m.EndedAt != nil {
			a.Ended = m.EndedAt.Unix()
		}
	}
	a.Sign = map[string]int8{"low": -1, "high": 1}[m.Direction]
	a.Kind, a.Column = measured(m.Measure, m.Kind, m.Column, m.Metric)
	switch m.Cause {
	case detect.Silence, detect.Missing:
		a.Kind, a.Column, a.Sign, a.Effect, a.Error = fault.Rows, "", -1, -1, 0.05 // nothing came
	case detect.Overdue, record.CauseSilentJob, record.CausePromise, record.CauseSentence:
		a.Kind, a.Column, a.Sign, a.Effect = fault.Late, "", 1, 0
		if m.Cause == record.CausePromise {
			a.Spread = 86400 // its window opens when it does, whatever held the rows back
		}
	case record.CauseUnreadable, record.CauseComparison:
		a.Kind, a.Column, a.Sign, a.Effect = fault.Unreadable, "", 0, 0
	case record.CauseColumns, record.CauseFile:
		a.Kind, a.Column, a.Sign, a.Effect = fault.Columns, "", 0, 0
	}
	if a.Kind == fault.Drift {
		a.Segment, a.Effect = nil, 0
	}
	// As often as it rang, and half a time more; and as often as it may by chance.
	rung := r[m.MonitorID]
	series := float64(max(rung.Series, 1))
	a.Rate = (float64(rung.Alerts)/series + 0.5) / (rateDays * 24)
	if m.WarnSeconds > 0 {
		a.Rate += 3600 / m.WarnSeconds / series
	}
	return a
}
