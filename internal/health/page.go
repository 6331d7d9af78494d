package health

import (
	"context"

	"tinbell/internal/record"
	"tinbell/internal/store"
)

// Page is what a dataset's page shows.
type Page struct {
	Dataset  record.Dataset   `json:"dataset"`
	Health   Health           `json:"health"`
	Metrics  []MetricSeries   `json:"metrics"`
	Monitors []record.Monitor `json:"monitors"`
}

// MetricSeries is a metric with its segments.
type MetricSeries struct {
	record.Metric
	Series []record.Series `json:"series"`
}

// Page gathers one dataset's health, metrics and monitors.
func (r *Reader) Page(ctx context.Context, name string) (Page, error) {
	d, err := r.store.Dataset(ctx, name)
	if err != nil {
		return Page{}, err
	}
	p := Page{Dataset: d, Metrics: []MetricSeries{}, Monitors: []record.Monitor{}}
	stored, err := r.store.Healths(ctx)
	if err != nil {
		return p, err
	}
	if err := r.healthOf(ctx, &p.Health, d, stored); err != nil {
		return p, err
	}
	open, err := r.store.Alerts(ctx, store.AlertFilter{State: "open", Dataset: name})
	if err != nil {
		return p, err
	}
	for _, a := range open {
		p.Health.Open++
		p.Health.Worst = a.Worst(p.Health.Worst)
	}
	metrics, err := r.store.MetricsOf(ctx, d.ID)
	if err != nil {
		return p, err
	}
	for _, m := range metrics {
		series, err := r.store.SeriesOf(ctx, m.ID)
		if err != nil {
			return p, err
		}
		p.Metrics = append(p.Metrics, MetricSeries{m, series})
	}
	p.Monitors, err = r.store.MonitorsOn(ctx, name)
	return p, err
}
