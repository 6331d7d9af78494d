package inspect

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

// DatasetPage gathers one dataset's health, metrics and monitors.
func (v *Inspector) DatasetPage(ctx context.Context, name string) (Page, error) {
	d, err := v.store.Dataset(ctx, name)
	if err != nil {
		return Page{}, err
	}
	p := Page{Dataset: d, Metrics: []MetricSeries{}, Monitors: []record.Monitor{}}
	stored, err := v.store.Healths(ctx)
	if err != nil {
		return p, err
	}
	if err := v.healthOf(ctx, &p.Health, d, stored); err != nil {
		return p, err
	}
	open, err := v.store.Alerts(ctx, store.AlertFilter{State: "open", Dataset: name})
	if err != nil {
		return p, err
	}
	for _, a := range open {
		p.Health.Open++
		p.Health.Worst = worst(p.Health.Worst, a)
	}
	metrics, err := v.store.MetricsOf(ctx, d.ID)
	if err != nil {
		return p, err
	}
	for _, m := range metrics {
		series, err := v.store.SeriesOf(ctx, m.ID)
		if err != nil {
			return p, err
		}
		p.Metrics = append(p.Metrics, MetricSeries{m, series})
	}
	p.Monitors, err = v.store.MonitorsOn(ctx, name)
	return p, err
}
