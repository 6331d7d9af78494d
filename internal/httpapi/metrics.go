package httpapi

import (
	"context"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tinbell/core/timeline"
	"tinbell/internal/collect"
	"tinbell/internal/people"
	"tinbell/internal/record"
)

// NewMetric says what to measure of a table.
type NewMetric struct {
	Dataset         string        `json:"dataset"`
	Name            string        `json:"name" minLength:"1"`
	Measure         string        `json:"measure" enum:"rows,freshness,null_share,distinct,mean,sum,min,max,sd,quantile,value_share,expression,table_bytes,deliveries,bytes,bytes_per_row"`
	Column          string        `json:"column,omitempty" doc:"that the measure is taken of"`
	Quantile        float64       `json:"quantile,omitempty" doc:"of the measure quantile, 0 to 1"`
	Matches         string        `json:"matches,omitempty" doc:"of the measure value_share: the value whose share is taken"`
	Expression      string        `json:"expression,omitempty" doc:"of the measure expression: an SQL aggregate"`
	Kind            timeline.Kind `json:"kind,omitempty" enum:"count,share,value,duration" doc:"of the measure expression: what its values are; else it follows from the measure"`
	TimeColumn      string        `json:"time_column,omitempty" doc:"each row's event time; without it a table is measured as it stands. Of files it is the time of landing"`
	SegmentBy       []string      `json:"segment_by,omitempty"`
	RowFilter       string        `json:"row_filter,omitempty" doc:"an SQL condition"`
	Unit            string        `json:"unit,omitempty"`
	PeriodSeconds   int64         `json:"period_seconds" doc:"a part of a day, a day, or 604800, 2592000, 31536000: a week, month or year of the calendar"`
	SettleSeconds   int64         `json:"settle_seconds,omitempty"`
	LookbackSeconds int64         `json:"lookback_seconds,omitempty"`
	EverySeconds    int64         `json:"every_seconds,omitempty" doc:"how often it is collected, 5 at least"`
	Cron            string        `json:"cron,omitempty" doc:"five fields, in the dataset's zone, instead of every_seconds"`
	MaxSegments     int           `json:"max_segments,omitempty" minimum:"1" maximum:"10000" doc:"500 if left out"`

	Tags record.Strings `json:"tags,omitempty"`
}

// MetricChange is what may change of a metric: all that leaves the meaning of
// its samples alone. What is left out stays.
type MetricChange struct {
	Name            *string `json:"name,omitempty" doc:"a pushed metric goes on taking the OTLP metric of its old name; senders of samples give the new one"`
	Unit            *string `json:"unit,omitempty"`
	SettleSeconds   *int64  `json:"settle_seconds,omitempty" minimum:"0"`
	LookbackSeconds *int64  `json:"lookback_seconds,omitempty" minimum:"0"`
	EverySeconds    *int64  `json:"every_seconds,omitempty" minimum:"5" doc:"takes the place of cron"`
	Cron            *string `json:"cron,omitempty" doc:"takes the place of every_seconds"`
	MaxSegments     *int    `json:"max_segments,omitempty" minimum:"1" maximum:"10000"`

	Tags *record.Strings `json:"tags,omitempty"`
}

// MetricSQL is what a probe asks the warehouse.
type MetricSQL struct {
	SQL string `json:"sql" doc:"$1 and $2 are the first and the end of the periods asked for"`
}

// Backfill says which past to measure.
type Backfill struct {
	Metrics      []string `json:"metrics,omitempty" doc:"of one dataset; they share passes over it where they can"`
	SinceSeconds int64    `json:"since_seconds" minimum:"1" doc:"how far back"`
}

func (s *server) addMetrics(api huma.API) {
	add(api, "GET", "/measures", "measures", "What can be measured of a warehouse table", people.Reader,
		func(context.Context, *none) (*body[[]record.Measure], error) {
			return ok(record.Measures, nil)
		})
	add(api, "GET", "/metrics", "metrics", "What is measured", people.Reader, func(ctx context.Context, in *struct {
		Drift bool `query:"drift" doc:"with the figures of drift comparisons, which are metrics too"`
	}) (*body[[]record.Metric], error) {
		list, err := s.Store.Metrics(ctx)
		return ok(slices.DeleteFunc(list, func(m record.Metric) bool { return !in.Drift && m.Comparison != "" }), err)
	})
	add(api, "GET", "/metrics/{name}", "metric", "One metric", people.Reader,
		func(ctx context.Context, in *Named) (*body[record.Metric], error) {
			return ok(s.Store.Metric(ctx, in.Name))
		})
	add(api, "POST", "/metrics", "add-metric", "Measure a table from now on; the probe is tried first", people.Editor,
		func(ctx context.Context, in *body[NewMetric]) (*body[record.Metric], error) {
			m, err := s.metricOf(ctx, in.Body)
			if err != nil {
				return nil, err
			}
			return ok(s.Collector.AddMetric(ctx, m))
		})
	add(api, "POST", "/metrics/try", "try-metric", "Try a metric on its table and keep nothing: its SQL and its segments",
		people.Editor, func(ctx context.Context, in *body[NewMetric]) (*body[collect.Tried], error) {
			m, err := s.metricOf(ctx, in.Body)
			if err != nil {
				return nil, err
			}
			_, tried, err := s.Collector.Try(ctx, m)
			return ok(tried, err)
		})
	add(api, "POST", "/metrics/declare", "declare-metric", "Say once what a pushed metric is", people.Editor,
		func(ctx context.Context, in *body[collect.Declaration]) (*body[record.Metric], error) {
			return ok(s.Collector.Declare(ctx, in.Body))
		})
	add(api, "GET", "/metrics/{name}/sql", "metric-sql", "The SQL a probe runs", people.Reader,
		func(ctx context.Context, in *Named) (*body[MetricSQL], error) {
			sql, err := s.Collector.SQL(ctx, in.Name)
			return ok(MetricSQL{sql}, err)
		})
	add(api, "PATCH", "/metrics/{name}", "change-metric", "Change how a metric is collected; what it measures stays",
		people.Editor, func(ctx context.Context, in *struct {
			Named
			Body MetricChange
		}) (*body[record.Metric], error) {
			return ok(s.changeMetric(ctx, in.Name, in.Body))
		})
	add(api, "DELETE", "/metrics/{name}", "remove-metric", "Remove a metric with its samples, monitors and alerts", people.Editor,
		func(ctx context.Context, in *Named) (*none, error) {
			return &none{}, s.Store.RemoveMetric(ctx, in.Name)
		})
	add(api, "POST", "/metrics/{name}/backfill", "backfill-metric", "Measure the past of a table", people.Editor,
		func(ctx context.Context, in *struct {
			Named
			Body Backfill
		}) (*body[Started], error) {
			return s.backfill(ctx, append(in.Body.Metrics, in.Name), in.Body.SinceSeconds)
		})
	add(api, "POST", "/backfills", "backfill", "Measure the past of several metrics of a dataset, in as few passes as can be",
		people.Editor, func(ctx context.Context, in *body[Backfill]) (*body[Started], error) {
			return s.backfill(ctx, in.Body.Metrics, in.Body.SinceSeconds)
		})
}

func (s *server) backfill(ctx context.Context, metrics []string, since int64) (*body[Started], error) {
	task, err := s.Collector.StartBackfill(ctx, metrics, s.Now().Add(-time.Duration(since)*time.Second))
	return ok(Started{task}, err)
}

func (s *server) changeMetric(ctx context.Context, name string, c MetricChange) (record.Metric, error) {
	m, err := s.Store.Metric(ctx, name)
	if err != nil {
		return m, err
	}
	if (c.EverySeconds != nil || c.Cron != nil) && m.Pushed() {
		return m, record.Invalid{Field: "every_seconds", Given: name, Allowed: "a metric that is collected; this one is pushed"}
	}
	if c.Cron != nil && *c.Cron == "" && c.EverySeconds == nil {
		return m, record.Invalid{Field: "cron", Given: "", Allowed: "five fields, or every_seconds instead"}
	}
	if c.EverySeconds != nil && c.Cron != nil && *c.Cron != "" {
		return m, record.Invalid{Field: "cron", Given: *c.Cron, Allowed: "either every_seconds or cron"}
	}
	if c.EverySeconds != nil {
		m.EverySeconds, m.Cron = *c.EverySeconds, ""
	} else if c.Cron != nil {
		m.EverySeconds, m.Cron = 0, *c.Cron
	}
	set(&m.Unit, c.Unit)
	set(&m.SettleSeconds, c.SettleSeconds)
	set(&m.LookbackSeconds, c.LookbackSeconds)
	set(&m.MaxSegments, c.MaxSegments)
	set(&m.Tags, c.Tags)
	if m, err = s.Collector.ChangeMetric(ctx, m); err != nil || c.Name == nil {
		return m, err
	}
	return s.Collector.RenameMetric(ctx, m, *c.Name)
}

func set[T any](into *T, given *T) {
	if given != nil {
		*into = *given
	}
}

// metricOf makes a record of what was asked for.
func (s *server) metricOf(ctx context.Context, in NewMetric) (record.Metric, error) {
	dataset, err := s.Store.Dataset(ctx, in.Dataset)
	if err != nil {
		return record.Metric{}, err
	}
	if (in.EverySeconds == 0) == (in.Cron == "") || in.Cron == "" && in.EverySeconds < 5 {
		return record.Metric{}, record.Invalid{Field: "every_seconds", Given: in.Cron, Allowed: "either every_seconds, 5 at least, or cron"}
	}
	m := record.Metric{
		DatasetID: dataset.ID, Dataset: dataset.Name, Name: in.Name, Measure: in.Measure, Column: in.Column,
		Quantile: in.Quantile, Matches: in.Matches,
		Expression: in.Expression, TimeColumn: in.TimeColumn, SegmentBy: in.SegmentBy, RowFilter: in.RowFilter,
		Kind: collect.KindOf(in.Measure),
		Unit: in.Unit, PeriodSeconds: in.PeriodSeconds, Zone: dataset.Zone, SettleSeconds: in.SettleSeconds,
		LookbackSeconds: in.LookbackSeconds, EverySeconds: in.EverySeconds, Cron: in.Cron, MaxSegments: in.MaxSegments, Tags: in.Tags,
	}
	if in.Measure == record.MeasureExpression && in.Kind != "" {
		m.Kind = in.Kind
	}
	if in.Measure == record.MeasureQuantile && in.Quantile == 0 {
		m.Quantile = 0.5
	}
	return m, nil
}
