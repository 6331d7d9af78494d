package config

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"tinbell/internal/collect"
	"tinbell/internal/collect/landing"
	"tinbell/internal/compare"
	"tinbell/internal/record"
	"tinbell/internal/setup"
)

func (l *load) dataset(ctx context.Context, d WrittenDataset) error {
	source, known := l.wanted[d.Source]
	if !known && d.Source == collect.PushedSource {
		source, known = record.Source{Name: d.Source, Kind: "push", Login: []byte{}}, true
	}
	if !known {
		var err error
		source, err = l.store.Source(ctx, d.Source)
		var missing record.NotFound
		if errors.As(err, &missing) {
			return record.Invalid{Field: "source", Given: d.Source,
				Allowed: "a source that is there or in the files; or add it: tinbell source add " + d.Source + " ADDRESS"}
		}
		if err != nil {
			return err
		}
	}
	v := record.Dataset{Namespace: d.Namespace, Name: d.Name, Owner: d.Owner, Zone: d.Zone, LoadedBy: d.LoadedBy,
		Pattern: d.Pattern, KeepDays: d.KeepDays, Hidden: append(record.Strings{}, d.Hidden...), Tags: d.Tags}
	if err := setup.CheckDataset(&v, source); err != nil {
		return err
	}
	if err := l.collector.CheckTable(ctx, &v, source); err != nil {
		return err
	}
	l.datasets[d.Name], l.sources[d.Name] = v, source
	return nil
}

// fixed are the keys of a metric that say what its samples mean.
var fixed = []string{"dataset", "measure", "column", "quantile", "matches", "expression", "values", "time_column", "segment_by",
	"row_filter", "period"}

func (l *load) metric(ctx context.Context, m WrittenMetric, there Documents) error {
	dataset, known := l.datasets[m.Dataset]
	if !known {
		var err error
		if dataset, err = l.store.Dataset(ctx, m.Dataset); err != nil {
			return err
		}
		if l.sources[m.Dataset], err = l.store.DatasetSource(ctx, dataset.ID); err != nil {
			return err
		}
	}
	v := record.Metric{DatasetID: dataset.ID, Dataset: m.Dataset, Name: m.Name, Measure: m.Measure, Column: m.Column,
		Quantile: m.Quantile, Matches: m.Matches, Expression: m.Expression,
		Kind: m.Values, TimeColumn: m.TimeColumn, SegmentBy: m.SegmentBy, RowFilter: m.RowFilter, Unit: m.Unit,
		PeriodSeconds: m.PeriodSeconds, Zone: dataset.Zone,
		SettleSeconds: m.SettleSeconds, LookbackSeconds: m.LookbackSeconds, EverySeconds: m.EverySeconds, Cron: m.Cron,
		MaxSegments: m.MaxSegments, OTLPName: m.OTLP, Tags: m.Tags}
	if v.Kind == "" && !v.Pushed() {
		v.Kind = collect.KindOf(m.Measure)
	}
	if v.Quantile == 0 {
		v.Quantile = 0.5
	}
	if i := slices.IndexFunc(there.Metrics, func(one WrittenMetric) bool { return one.Name == m.Name }); i >= 0 {
		for _, c := range Compare(Documents{Metrics: there.Metrics[i : i+1]}, Documents{Metrics: []WrittenMetric{m}}) {
			for _, f := range c.Fields {
				if slices.Contains(fixed, f.Key) {
					return record.Invalid{Field: f.Key, Given: f.Is,
						Allowed: fmt.Sprintf("%q, as it is: its samples would mean something else; give the new one a name of its own", f.Was)}
				}
			}
		}
	}
	v, _, err := l.collector.TryOn(ctx, v, l.sources[m.Dataset], dataset)
	l.metrics[m.Name] = v
	return err
}

// comparison checks a comparison against its rows; its dataset may be of the same
// files.
func (l *load) comparison(ctx context.Context, w WrittenComparison) error {
	v, err := l.comparer.PrepareWith(ctx, record.Comparison{Name: w.Name, Dataset: w.Dataset, Owner: w.Owner,
		Settings: w.ComparisonSettings}, func(ctx context.Context, name string) (record.Dataset, record.Source, error) {
		if d, here := l.datasets[name]; here {
			return d, l.sources[name], nil
		}
		return l.comparer.Stored(ctx, name)
	})
	if err != nil {
		return err
	}
	l.compared = append(l.compared, v)
	m := compare.Watched(v)
	l.metrics[m.Name] = m
	return nil
}

// reconciliation checks that its metrics are there, or in the files, and fit together.
func (l *load) reconciliation(ctx context.Context, w WrittenReconciliation) error {
	find := func(field, name string) (record.Metric, error) {
		if m, here := l.metrics[name]; here {
			return m, nil
		}
		m, err := l.store.Metric(ctx, name)
		if missing := (record.NotFound{}); errors.As(err, &missing) {
			err = record.Invalid{Field: field, Given: name, Allowed: "a metric that is there or in the files"}
		}
		return m, err
	}
	up, err := find("up", w.Up)
	if err != nil {
		return err
	}
	down, err := find("down", w.Down)
	if err != nil {
		return err
	}
	apart, err := find("name", w.Name)
	switch {
	case err != nil:
		return err
	case apart.Measure != record.MeasureApart:
		return record.Invalid{Field: "name", Given: w.Name, Allowed: "the name of a metric of the measure " + record.MeasureApart}
	case up.PeriodSeconds != down.PeriodSeconds:
		return record.Invalid{Field: "down", Given: w.Down, Allowed: "a metric with the periods of " + w.Up}
	case w.LagSeconds < 0 || !(w.Tolerance >= 0 && w.Tolerance <= 1):
		return record.Invalid{Field: "lag and tolerance", Given: fmt.Sprint(w.LagSeconds, ", ", w.Tolerance),
			Allowed: "a lag from 0, a share from 0 to 1"}
	case (w.UpKey == "") != (w.DownKey == ""):
		return record.Invalid{Field: "up_key and down_key", Given: w.UpKey + w.DownKey, Allowed: "both, or neither"}
	}
	return nil
}

// log checks a log's settings, and that its dataset is there or in the files.
func (l *load) log(ctx context.Context, w WrittenLog) error {
	if _, here := l.datasets[w.Dataset]; !here {
		if _, err := l.store.Dataset(ctx, w.Dataset); err != nil {
			return err
		}
	}
	v := record.Log{
		Name: w.Name, Dataset: w.Dataset, KeepSamples: w.KeepSamples, Watched: w.Watch, RareSeconds: w.RareSeconds, Normal: w.NormalSeconds,
		Kinds: w.Kinds, Job: w.Job, Service: w.Service, Source: w.Source, Pattern: w.Pattern, By: w.By, Masked: w.Masked,
	}
	if err := v.Check(); err != nil {
		return err
	}
	if v.Source != "" {
		kind := l.wanted[v.Source].Kind
		if _, here := l.wanted[v.Source]; !here {
			source, err := l.store.Source(ctx, v.Source)
			if err != nil {
				return err
			}
			kind = source.Kind
		}
		if kind != "folder" {
			return record.Invalid{Field: "source", Given: v.Source, Allowed: "a folder; this source is of kind " + kind}
		}
		if _, err := landing.ParsePattern(v.Pattern); err != nil {
			return err
		}
	}
	l.logs = append(l.logs, v)
	return nil
}

func (l *load) check(ctx context.Context, m WrittenMonitor) error {
	metric, known := l.metrics[m.Metric]
	if !known {
		var err error
		if metric, err = l.store.Metric(ctx, m.Metric); err != nil {
			return err
		}
	}
	return setup.CheckMonitor(&record.Monitor{Name: m.Name, Settings: m.Settings, Tags: m.Tags}, metric)
}
