package collect

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"tinbell/core/timeline"
	"tinbell/internal/record"
)

// ParsePeriod reads durations as people write them: 90s, 15m, 1h, 30d, 8w, 1y.
func ParsePeriod(text string) (time.Duration, error) {
	units := map[byte]time.Duration{'s': time.Second, 'm': time.Minute, 'h': time.Hour,
		'd': 24 * time.Hour, 'w': 7 * 24 * time.Hour, 'y': 365 * 24 * time.Hour}
	if n := len(text); n > 1 {
		if unit, known := units[text[n-1]]; known {
			if v, err := strconv.ParseFloat(text[:n-1], 64); err == nil && v >= 0 && v*float64(unit) < 9e18 {
				return time.Duration(v * float64(unit)), nil
			}
		}
	}
	return 0, record.Invalid{Field: "duration", Given: text, Allowed: "a number and a unit: 90s, 15m, 1h, 30d, 8w, 1y"}
}

// Declare makes a pushed metric, and its dataset if that is new.
func (c *Collector) Declare(ctx context.Context, d Declaration) (record.Metric, error) {
	period, err := ParsePeriod(d.Period)
	if err != nil {
		return record.Metric{}, err
	}
	if d.Zone == "" {
		d.Zone = "UTC"
	}
	dataset, err := c.store.Dataset(ctx, d.Dataset)
	var missing record.NotFound
	if errors.As(err, &missing) {
		dataset, err = c.pushedDataset(ctx, d)
	}
	if err != nil {
		return record.Metric{}, err
	}
	return c.AddMetric(ctx, record.Metric{
		DatasetID: dataset.ID, Dataset: dataset.Name, Name: d.Metric, Measure: d.Measure, Kind: d.Kind,
		Unit: d.Unit, PeriodSeconds: int64(period.Seconds()), Zone: d.Zone,
	})
}

func (c *Collector) pushedDataset(ctx context.Context, d Declaration) (record.Dataset, error) {
	const source = "pushed"
	from, err := c.store.Source(ctx, source)
	if err != nil {
		var missing record.NotFound
		if !errors.As(err, &missing) {
			return record.Dataset{}, err
		}
		if from.ID, err = c.store.AddSource(ctx, record.Source{Name: source, Kind: "push", Login: []byte{}}); err != nil {
			return record.Dataset{}, err
		}
	}
	v := record.Dataset{SourceID: from.ID, Namespace: d.Namespace, Name: d.Dataset, Owner: d.Owner, Zone: d.Zone}
	if v.Namespace == "" {
		v.Namespace = source
	}
	v.ID, err = c.store.AddDataset(ctx, v)
	return v, err
}

// AddMetric checks a metric and stores it. A collected one is tried first, so
// that a wrong column or table is told before anything is kept.
func (c *Collector) AddMetric(ctx context.Context, m record.Metric) (record.Metric, error) {
	if strings.TrimSpace(m.Name) == "" {
		return m, record.Invalid{Field: "name", Given: m.Name, Allowed: "a name of its own, for example boarding-rows"}
	}
	if !m.Kind.Valid() {
		return m, record.Invalid{Field: "kind", Given: string(m.Kind), Allowed: "count, share, value or duration"}
	}
	grid, err := m.Grid()
	if err != nil {
		return m, record.Invalid{Field: "period or zone", Given: fmt.Sprintf("%d s, %s", m.PeriodSeconds, m.Zone), Allowed: err.Error()}
	}
	if !m.Pushed() {
		if err := c.try(ctx, m, grid); err != nil {
			return m, err
		}
		now := c.now()
		m.NextAt = &now
	}
	if m.ID, err = c.store.AddMetric(ctx, m); err != nil {
		return m, err
	}
	return c.store.Metric(ctx, m.Name)
}

// KindOf is the kind of value a warehouse measure gives.
func KindOf(measure string) timeline.Kind {
	switch measure {
	case record.MeasureNullShare:
		return timeline.Share
	case record.MeasureFreshness:
		return timeline.Duration
	}
	return timeline.Count
}

func (c *Collector) try(ctx context.Context, m record.Metric, grid timeline.Grid) error {
	source, err := c.store.DatasetSource(ctx, m.DatasetID)
	if err != nil {
		return err
	}
	if m.TimeColumn == "" {
		return record.Invalid{Field: "time_column", Given: "", Allowed: "the column that holds each row's event time"}
	}
	if m.Measure == record.MeasureNullShare && m.Column == "" {
		return record.Invalid{Field: "column", Given: "", Allowed: "null_share needs the column whose nulls are counted"}
	}
	dataset, err := c.store.Dataset(ctx, m.Dataset)
	if err != nil {
		return err
	}
	q, err := BuildQuery(m, dataset.LoadedBy)
	if err != nil {
		return err
	}
	end := grid.Floor(c.now())
	if _, err := c.warehouses.ask(ctx, source, q, grid.Add(end, -1), end); err != nil {
		return record.Invalid{Field: "metric", Given: m.Name, Allowed: "the warehouse answered: " + err.Error()}
	}
	return nil
}
