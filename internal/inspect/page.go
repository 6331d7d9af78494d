package inspect

import (
	"context"

	"tinbell/internal/record"
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
	list, err := v.Health(ctx)
	if err != nil {
		return p, err
	}
	for _, h := range list {
		if h.Dataset.ID == d.ID {
			p.Health = h
		}
	}
	metrics, err := v.store.Metrics(ctx)
	if err != nil {
		return p, err
	}
	for _, m := range metrics {
		if m.Dataset != name {
			continue
		}
		series, err := v.store.SeriesOf(ctx, m.ID)
		if err != nil {
			return p, err
		}
		p.Metrics = append(p.Metrics, MetricSeries{m, series})
	}
	monitors, err := v.store.Monitors(ctx)
	for _, m := range monitors {
		if m.Dataset == name {
			p.Monitors = append(p.Monitors, m)
		}
	}
	return p, err
}
