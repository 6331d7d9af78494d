// Package reconcile compares two stages by the same aggregate, period by period and
// segment by segment, and keeps the difference as a series like any other.
package reconcile

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/diagnose"
	"tinbell/core/timeline"
	"tinbell/internal/collect"
	"tinbell/internal/collect/warehouse"
	"tinbell/internal/contain"
	"tinbell/internal/record"
	"tinbell/internal/setup"
	"tinbell/internal/store"
	"tinbell/internal/work"
)

// Reconciler keeps reconciliations up to date.
type Reconciler struct {
	store     *store.Store
	collector *collect.Collector
	pools     *warehouse.Pools
	setup     *setup.Desk
	queue     *work.Queue
	now       func() time.Time
	log       *slog.Logger
}

func New(s *store.Store, c *collect.Collector, p *warehouse.Pools, d *setup.Desk, q *work.Queue, now func() time.Time,
	log *slog.Logger) *Reconciler {
	return &Reconciler{s, c, p, d, q, now, log}
}

// Order is a reconciliation as somebody wants it: of the same measure of two datasets.
type Order struct {
	Name          string         `json:"name,omitempty" doc:"DOWN-against-UP if left out"`
	Up            string         `json:"up" doc:"dataset of the first stage"`
	Down          string         `json:"down" doc:"dataset of the second"`
	Measure       string         `json:"measure,omitempty" enum:"rows,sum,distinct," doc:"rows if left out"`
	UpColumn      string         `json:"up_column,omitempty" doc:"that is summed or counted"`
	DownColumn    string         `json:"down_column,omitempty" doc:"as up_column if left out"`
	By            record.Strings `json:"by,omitempty" doc:"columns that both are segmented by"`
	PeriodSeconds int64          `json:"period_seconds,omitempty" doc:"3600 if left out"`
	LagSeconds    int64          `json:"lag_seconds,omitempty" minimum:"0" maximum:"604800" doc:"how long after the first the second has the same"`
	Tolerance     float64        `json:"tolerance,omitempty" minimum:"0" maximum:"1" doc:"share that never rings"`
	UpKey         string         `json:"up_key,omitempty" doc:"column of the first that names a row"`
	DownKey       string         `json:"down_key,omitempty" doc:"column of the second that names the same row"`
	Owner         string         `json:"owner,omitempty"`
}

const (
	again   = 12 * time.Hour // that is compared once more each time: late rows
	history = 16 * 7 * 24 * time.Hour
	inStep  = 28 * 24 * time.Hour
	back    = 8 * 7 * 24 * time.Hour // that is read of metrics made for it
)

var measures = map[string]string{"": record.MeasureRows, "rows": record.MeasureRows, "sum": record.MeasureSum,
	"distinct": record.MeasureDistinct}

// Set makes a reconciliation, or changes the one of its name: with metrics of both
// stages, made where there are none that fit, the metric of the difference and its
// monitor.
func (r *Reconciler) Set(ctx context.Context, o Order) (v record.Reconciliation, err error) {
	if o.Up == o.Down {
		return v, record.Invalid{Field: "down", Given: o.Down, Allowed: "another dataset than up"}
	}
	if o.Name == "" {
		o.Name = o.Down + "-against-" + o.Up
	}
	if err := record.CheckName("name", o.Name); err != nil {
		return v, err
	}
	if o.PeriodSeconds == 0 {
		o.PeriodSeconds = 3600
	}
	if (o.UpKey == "") != (o.DownKey == "") {
		return v, record.Invalid{Field: "up_key and down_key", Given: o.UpKey + o.DownKey, Allowed: "both, or neither"}
	}
	if o.DownColumn == "" {
		o.DownColumn = o.UpColumn
	}
	measure := measures[o.Measure]
	if (o.UpColumn == "") != (measure == record.MeasureRows) {
		return v, record.Invalid{Field: "up_column", Given: o.UpColumn, Allowed: "a column with sum or distinct, none with rows"}
	}
	up, err := r.metricOf(ctx, o.Up, measure, o.UpColumn, o)
	if err != nil {
		return v, err
	}
	down, err := r.metricOf(ctx, o.Down, measure, o.DownColumn, o)
	if err != nil {
		return v, err
	}
	known, err := r.store.Metric(ctx, o.Name)
	if missing := (record.NotFound{}); errors.As(err, &missing) {
		known, err = r.collector.Declare(ctx, collect.Declaration{Metric: o.Name, Dataset: o.Down, Measure: record.MeasureApart,
			Kind: timeline.Share, Unit: "share on one side only",
			Period: fmt.Sprintf("%ds", o.PeriodSeconds), Zone: down.Zone, SegmentBy: down.SegmentBy, MaxSegments: down.MaxSegments})
	}
	if err != nil {
		return v, err
	}
	if known.Measure != record.MeasureApart {
		return v, record.Conflict{What: fmt.Sprintf("there is a metric named %s already: give the reconciliation another name", o.Name)}
	}
	v = record.Reconciliation{Name: o.Name, UpID: up.ID, DownID: down.ID, MetricID: known.ID, LagSeconds: o.LagSeconds,
		Tolerance: o.Tolerance, UpKey: o.UpKey, DownKey: o.DownKey, CreatedAt: r.now().UTC()}
	if err := r.store.InTx(ctx, func(tx pgx.Tx) error { return store.PutReconciliation(ctx, tx, v) }); err != nil {
		return v, err
	}
	if v, err = r.store.Reconciliation(ctx, o.Name); err != nil {
		return v, err
	}
	if err := r.compare(ctx, v); err != nil {
		return v, err
	}
	if err := r.watch(ctx, v, o.Owner); err != nil {
		return v, err
	}
	return r.store.Reconciliation(ctx, o.Name)
}

// watch makes the monitor of the difference; one that somebody has stays.
func (r *Reconciler) watch(ctx context.Context, v record.Reconciliation, owner string) error {
	_, err := r.store.Monitor(ctx, v.Metric)
	if missing := (record.NotFound{}); !errors.As(err, &missing) {
		return err
	}
	s := record.DefaultSettings()
	s.Direction, s.MinEffect, s.StuckOff, s.SilenceOff, s.Missing = "high", v.Tolerance, true, true, -1
	_, err = r.setup.AddMonitor(ctx, record.Monitor{Metric: v.Metric, Name: v.Metric, Owner: owner, Settings: s})
	return err
}

// metricOf finds the metric of a dataset that measures what is compared, or makes it
// with the time column that others of it have.
func (r *Reconciler) metricOf(ctx context.Context, dataset, measure, column string, o Order) (record.Metric, error) {
	d, err := r.store.Dataset(ctx, dataset)
	if err != nil {
		return record.Metric{}, err
	}
	list, err := r.store.MetricsOf(ctx, d.ID)
	if err != nil {
		return record.Metric{}, err
	}
	timeColumn := ""
	for _, m := range list {
		if m.Measure == measure && m.Column == column && m.PeriodSeconds == o.PeriodSeconds && slices.Equal(m.SegmentBy, o.By) &&
			m.RowFilter == "" {
			return m, nil
		}
		if m.TimeColumn != "" && timeColumn == "" {
			timeColumn = m.TimeColumn
		}
	}
	if timeColumn == "" {
		return record.Metric{}, record.Conflict{What: fmt.Sprintf("%s has no metric of %s by %s in periods of %s, and none with a time column to make one with: tinbell metric add makes it",
			dataset, measure, orWhole(o.By), time.Duration(o.PeriodSeconds)*time.Second)}
	}
	parts := slices.DeleteFunc(append([]string{strings.ReplaceAll(dataset, ".", "-"), measure, column}, o.By...),
		func(p string) bool { return p == "" })
	name := strings.Join(parts, "-")
	m, err := r.collector.AddMetric(ctx, record.Metric{Dataset: dataset, DatasetID: d.ID, Name: name, Measure: measure,
		Kind: collect.KindOf(measure), Column: column, TimeColumn: timeColumn,
		SegmentBy: append(record.Strings{}, o.By...), KeptSegments: record.Strings{}, PeriodSeconds: o.PeriodSeconds,
		Zone: d.Zone, EverySeconds: 300, LookbackSeconds: int64(again.Seconds()), SettleSeconds: 1200, Quantile: 0.5})
	if err != nil {
		return m, err
	}
	_, err = r.collector.StartBackfill(ctx, []string{m.Name}, r.now().Add(-back))
	return m, err
}

func orWhole(by record.Strings) string {
	if len(by) == 0 {
		return "the whole"
	}
	return strings.Join(by, ", ")
}

// Due compares what has come at both stages of every reconciliation. One that fails
// says why, and leaves the others alone.
func (r *Reconciler) Due(ctx context.Context) error {
	list, err := r.store.Reconciliations(ctx)
	if err != nil {
		return err
	}
	for _, v := range list {
		if err := contain.Run(func() error { return r.compare(ctx, v) }); err != nil && ctx.Err() == nil {
			r.log.WarnContext(ctx, "two stages could not be compared", "reconciliation", v.Name, "error", err)
			err = r.store.InTx(ctx, func(tx pgx.Tx) error { return store.Compared(ctx, tx, v.ID, nil, err.Error()) })
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// settled is up to when a metric's samples are there.
func (r *Reconciler) settled(m record.Metric) time.Time {
	if m.CollectedTo != nil {
		return *m.CollectedTo
	}
	return r.now().Add(-time.Duration(m.SettleSeconds+m.PeriodSeconds) * time.Second)
}

func (r *Reconciler) compare(ctx context.Context, v record.Reconciliation) error {
	up, err := r.store.Metric(ctx, v.Up)
	if err != nil {
		return err
	}
	down, err := r.store.Metric(ctx, v.Down)
	if err != nil {
		return err
	}
	lag := time.Duration(v.LagSeconds) * time.Second
	to := r.settled(down)
	if first := r.settled(up).Add(lag); first.Before(to) {
		to = first
	}
	from := r.now().Add(-history)
	if v.ComparedTo != nil {
		if !to.After(*v.ComparedTo) {
			return nil
		}
		from = v.ComparedTo.Add(-again)
	}
	for begin := from; begin.Before(to); begin = begin.Add(inStep) {
		end := begin.Add(inStep)
		if end.After(to) {
			end = to
		}
		if err := r.stretch(ctx, v, up, down, begin, end, end.Equal(to)); err != nil {
			return err
		}
	}
	return nil
}

// stretch compares a part of the past in one transaction.
func (r *Reconciler) stretch(ctx context.Context, v record.Reconciliation, up, down record.Metric, from, to time.Time, last bool) error {
	lag := time.Duration(v.LagSeconds) * time.Second
	period := time.Duration(down.PeriodSeconds) * time.Second
	first, err := r.values(ctx, up.ID, from.Add(-lag-2*period), to)
	if err != nil {
		return err
	}
	second, err := r.values(ctx, down.ID, from, to)
	if err != nil {
		return err
	}
	segments := make([]string, 0, len(first))
	matched := map[string][]diagnose.Matched{}
	for segment, u := range first {
		d := second[segment]
		if segment == record.OtherSegment {
			continue
		}
		if d == nil { // of this segment nothing arrived at all
			d = map[int64]float64{}
			for at := range u {
				if later := at + v.LagSeconds/down.PeriodSeconds*down.PeriodSeconds; later >= from.Unix() && later < to.Unix() {
					d[later] = 0
				}
			}
		}
		if list := diagnose.Reconcile(u, d, down.PeriodSeconds, v.LagSeconds); len(list) > 0 {
			matched[segment] = list
			segments = append(segments, segment)
		}
	}
	m, err := r.store.Metric(ctx, v.Metric)
	if err != nil {
		return err
	}
	ids, err := r.store.EnsureSeries(ctx, m.ID, segments)
	if err != nil {
		return err
	}
	var samples []record.Sample
	for segment, list := range matched {
		for _, x := range list {
			value, rows := x.Apart, math.Round(max(x.Up, x.Down))
			s := record.Sample{SeriesID: ids[segment], At: time.Unix(x.At, 0).UTC(), Value: &value}
			if down.Kind == timeline.Count && rows > 0 {
				s.Rows = &rows
			} else if down.Kind == timeline.Count {
				continue // nothing on either side: a share of no rows
			}
			samples = append(samples, s)
		}
	}
	return r.store.InTx(ctx, func(tx pgx.Tx) error {
		changes, err := store.PutSamples(ctx, tx, samples, store.RecentFrom(r.now()))
		if err != nil {
			return err
		}
		if last {
			if err := store.Compared(ctx, tx, v.ID, &to, ""); err != nil {
				return err
			}
		}
		return collect.Judge(ctx, tx, r.queue, m.ID, period, changes, r.now())
	})
}

// values gives a metric's samples by segment and period.
func (r *Reconciler) values(ctx context.Context, metric int64, from, to time.Time) (map[string]map[int64]float64, error) {
	list, err := r.store.SeriesOf(ctx, metric)
	if err != nil {
		return nil, err
	}
	names := map[int64]string{}
	var ids []int64
	for _, s := range list {
		names[s.ID] = s.Segment
		ids = append(ids, s.ID)
	}
	values := map[string]map[int64]float64{}
	err = r.store.EachSeries(ctx, ids, from, to, func(id int64, samples []timeline.Sample) error {
		by := make(map[int64]float64, len(samples))
		for _, x := range samples {
			by[x.At] = x.Value
		}
		values[names[id]] = by
		return nil
	})
	return values, err
}

// Remove ends a reconciliation; the metric of the difference, its monitor and alerts
// go with it.
func (r *Reconciler) Remove(ctx context.Context, name string) error {
	v, err := r.store.Reconciliation(ctx, name)
	if err != nil {
		return err
	}
	return r.store.RemoveMetric(ctx, v.Metric)
}
