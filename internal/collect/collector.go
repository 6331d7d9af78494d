// Package collect makes samples: it probes warehouses, watches folders, and
// takes in what others push. Samples and the order to judge them are written in
// one transaction.
package collect

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
	"github.com/robfig/cron/v3"

	"tinbell/core/timeline"
	"tinbell/internal/collect/warehouse"
	"tinbell/internal/contain"
	"tinbell/internal/record"
	"tinbell/internal/store"
	"tinbell/internal/work"
)

// Clock tells the time; tests and demos pass their own.
type Clock func() time.Time

// Collector runs probes and keeps their samples.
type Collector struct {
	store      *store.Store
	queue      *work.Queue
	warehouses *warehouse.Pools
	now        Clock
	log        *slog.Logger
}

func New(s *store.Store, q *work.Queue, w *warehouse.Pools, now Clock, log *slog.Logger) *Collector {
	return &Collector{s, q, w, now, log}
}

// retryAfter is when something that failed is tried again.
const retryAfter = time.Minute

// Collect measures what is due of a dataset, in as few passes over its table as
// there are different rows to look at. A failure becomes a state with the
// database's own words, and recovers with the next success.
func (c *Collector) Collect(ctx context.Context, datasetID int64) error {
	now := c.now()
	release, held, err := c.store.HoldDataset(ctx, datasetID)
	if err != nil || !held {
		return err // another process collects it
	}
	defer release()
	due, err := c.store.DueMetrics(ctx, datasetID, now)
	if err != nil || len(due) == 0 {
		return err
	}
	if err := c.collect(ctx, due); err != nil {
		return err
	}
	// Only now: what was cut off before is due as it was.
	for _, m := range due {
		next := now.Add(time.Duration(m.EverySeconds) * time.Second)
		if m.Cron != "" {
			next = NextTurn(m.Cron, m.Zone, now)
		}
		if err := c.store.NextCollection(ctx, m.ID, now, next); err != nil {
			return err
		}
	}
	return nil
}

// collect measures metrics of one dataset. What it panics over is told as the
// failure of what it was collecting.
func (c *Collector) collect(ctx context.Context, due []record.Metric) error {
	p, err := c.probeOf(ctx, due[0])
	if err != nil {
		return err
	}
	err = contain.Run(func() error { return c.collectFrom(ctx, p, due) })
	if broke := (*contain.Panic)(nil); errors.As(err, &broke) {
		c.log.ErrorContext(ctx, "a collection broke off", "dataset", p.dataset.Name, "error", err, "stack", broke.Stack)
		return c.failed(ctx, p, due, err)
	}
	return err
}

func (c *Collector) collectFrom(ctx context.Context, p probe, due []record.Metric) error {
	if p.source.Kind == "folder" {
		return c.collectFiles(ctx, p, due)
	}
	look, err := c.warehouses.Look(ctx, p.source, p.dataset.Name)
	if err != nil {
		return c.failed(ctx, p, due, err)
	}
	if err := c.watchColumns(ctx, p, look.Columns); err != nil {
		return err
	}
	var broken error
	for _, batch := range warehouse.Batches(due) {
		if err := c.collectBatch(ctx, p, batch, look.Mark); err != nil {
			if stored := (storing{}); errors.As(err, &stored) {
				return err
			}
			broken = err
			if err := c.failed(ctx, p, batch, err); err != nil {
				return err
			}
		}
	}
	if broken != nil {
		return nil
	}
	return c.recovered(ctx, p)
}

// storing marks an error of our own database, which is not the source's fault.
type storing struct{ error }

func (s storing) Unwrap() error { return s.error }

// probe is a table and where it is read from.
type probe struct {
	source  record.Source
	dataset record.Dataset
}

func (c *Collector) probeOf(ctx context.Context, m record.Metric) (probe, error) {
	source, err := c.store.DatasetSource(ctx, m.DatasetID)
	if err != nil {
		return probe{}, err
	}
	dataset, err := c.store.Dataset(ctx, m.Dataset)
	return probe{source, dataset}, err
}

// settledEnd is the end of a metric's last period that has settled.
func (c *Collector) settledEnd(m record.Metric, grid timeline.Grid) time.Time {
	return grid.Floor(c.now().Add(-time.Duration(m.SettleSeconds) * time.Second))
}

// collectBatch reads the periods that are new, and of those before only what
// rows were written to since the last reading.
func (c *Collector) collectBatch(ctx context.Context, p probe, batch []record.Metric, mark warehouse.Mark) error {
	grid, err := batch[0].Grid()
	if err != nil {
		return err
	}
	end := c.settledEnd(batch[0], grid)
	stretches, err := c.toRead(ctx, p, batch, mark, grid, end)
	if err != nil {
		return err
	}
	for _, s := range stretches {
		if err := c.gather(ctx, p, batch, grid, time.Unix(s.From, 0).UTC(), time.Unix(s.To, 0).UTC()); err != nil {
			return err
		}
	}
	for _, m := range batch {
		kept := mark
		if own := warehouse.ParseMark(m.Fingerprint); mark.Still(own) {
			kept = own // counters lag: a row they do not show yet is newer than this
		}
		if err := c.store.Collected(ctx, m.ID, end, kept.String()); err != nil {
			return storing{err}
		}
	}
	return nil
}

// toRead gives the stretches that a collection reads, up to the end of the last
// settled period: what is new; of the lookback the periods that rows were added
// to, or all of it where that is not known; and the days that rows later than
// the lookback belong to.
func (c *Collector) toRead(ctx context.Context, p probe, batch []record.Metric, mark warehouse.Mark, grid timeline.Grid,
	end time.Time) ([]timeline.Span, error) {
	reached, still, added, lookback := end, true, true, int64(0)
	before := warehouse.ParseMark(batch[0].Fingerprint)
	for _, m := range batch {
		lookback = max(lookback, m.LookbackSeconds)
		if m.CollectedTo == nil {
			reached, still, added = timeline.Earlier(reached, grid.Add(end, -1)), false, false
		} else if m.CollectedTo.Before(reached) {
			reached = *m.CollectedTo
		}
		own := warehouse.ParseMark(m.Fingerprint)
		still, added = still && mark.Still(own), added && own == before && mark.OnlyAdded(own)
	}
	fresh := timeline.Span{From: reached.Unix(), To: end.Unix()}
	if still {
		return []timeline.Span{fresh}, nil
	}
	again := grid.Floor(reached.Add(-time.Duration(lookback) * time.Second))
	byEvent := !batch[0].Snapshot() && batch[0].Measure != record.MeasureFreshness
	if !byEvent {
		fresh.From = again.Unix()
		return []timeline.Span{fresh}, nil
	}
	var stretches []timeline.Span
	if added {
		periods, err := c.warehouses.Added(ctx, p.source, batch[0], before, again, reached)
		if err != nil {
			return nil, err
		}
		for _, at := range periods {
			stretches = append(stretches, timeline.Span{From: at, To: grid.Next(time.Unix(at, 0)).Unix()})
		}
	} else {
		fresh.From = again.Unix()
	}
	known := !slices.ContainsFunc(batch, func(m record.Metric) bool { return m.CollectedTo == nil })
	if p.dataset.LoadedBy != "" && known && reached.Before(end) {
		days, err := c.warehouses.LateDays(ctx, p.source, batch[0], warehouse.LoadColumnOf(p.dataset), reached,
			record.Furthest(c.now()), again)
		if err != nil {
			return nil, err
		}
		for _, day := range days {
			next := timeline.Earlier(grid.Floor(day.In(grid.Zone).AddDate(0, 0, 1)), again)
			if grid.Long() {
				next = timeline.Earlier(grid.Next(grid.Floor(day)), again)
			}
			stretches = append(stretches, timeline.Span{From: grid.Floor(day).Unix(), To: next.Unix()})
		}
	}
	return timeline.Join(append(stretches, fresh)), nil
}

// gather measures the periods of [from, to) and keeps the samples, with the
// order to judge what changed.
func (c *Collector) gather(ctx context.Context, p probe, batch []record.Metric, grid timeline.Grid, from, to time.Time) error {
	found, err := c.ask(ctx, p, batch, from, to)
	if err != nil {
		return err
	}
	var loads []record.Load
	var before []warehouse.Reading
	fresh := batch[0].Measure == record.MeasureFreshness
	readsLoads, err := c.readsLoads(ctx, p, batch[0])
	if err != nil {
		return storing{err}
	}
	if readsLoads {
		byRow := false
		if loads, byRow, err = c.warehouses.Loads(ctx, p.source, p.dataset, loadsAfter(from), c.loadsUntil(to)); err != nil {
			return err
		}
		if note := loadsNote(p.dataset.LoadedBy); byRow && batch[0].Message != note {
			if err := c.store.NoteMetric(ctx, batch[0].ID, note); err != nil {
				return storing{err}
			}
		}
	}
	if fresh {
		if before, err = c.warehouses.Ask(ctx, p.source, warehouse.BuildNewest(batch[0], warehouse.LoadColumnOf(p.dataset)), from,
			to); err != nil {
			return err
		}
	}
	samples := make([][]record.Sample, len(batch))
	for i, m := range batch {
		l := layer{metric: m, grid: grid, from: from, to: to, readings: found, before: before, place: i}
		if samples[i], err = c.lay(ctx, l); err != nil {
			return storing{err}
		}
		// Said once, and taken back where a look over the same periods finds none any more.
		if note := unlikeItsKind(m, samples[i]); note != m.Message && (note != "" || strings.HasPrefix(m.Message, ownSQLGave)) {
			if err := c.store.NoteMetric(ctx, m.ID, note); err != nil {
				return storing{err}
			}
		}
	}
	return c.keep(ctx, batch, samples, func(tx pgx.Tx) error {
		if loads == nil {
			return nil
		}
		return store.PutLoads(ctx, tx, p.dataset.ID, loadsAfter(from), c.loadsUntil(to), loads)
	})
}

// readsLoads tells whether a dataset's loads are read with a metric: with its freshness,
// or where that is not measured with the first metric of its rows' times.
func (c *Collector) readsLoads(ctx context.Context, p probe, m record.Metric) (bool, error) {
	if p.dataset.LoadedBy == "" || m.Measure == record.MeasureFreshness {
		return p.dataset.LoadedBy != "", nil
	}
	metrics, err := c.store.MetricsOf(ctx, p.dataset.ID)
	if err != nil {
		return false, err
	}
	first := ""
	for _, one := range metrics {
		if one.Measure == record.MeasureFreshness {
			return false, nil
		}
		if first == "" && !one.Snapshot() && !one.Pushed() {
			first = one.Name
		}
	}
	return m.Name == first, nil
}

// keep writes the samples of some metrics, and what else belongs to them, with
// the order to judge what changed.
func (c *Collector) keep(ctx context.Context, metrics []record.Metric, samples [][]record.Sample, also func(pgx.Tx) error) error {
	err := c.store.InTx(ctx, func(tx pgx.Tx) error {
		if err := store.Stay(ctx, tx, metrics[0].DatasetID); err != nil {
			return err
		}
		if also != nil {
			if err := also(tx); err != nil {
				return err
			}
		}
		for i, m := range metrics {
			changes, err := store.PutSamples(ctx, tx, samples[i], store.RecentFrom(c.now()))
			if err != nil {
				return err
			}
			if err := Judge(ctx, tx, c.queue, m.ID, time.Duration(m.PeriodSeconds)*time.Second, changes, c.now()); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return storing{err}
	}
	return nil
}

// ownSQLGave begins what is said of values that their kind cannot have.
const ownSQLGave = "its SQL gave "

// unlikeItsKind says that SQL of a person's own gives what its metric's kind cannot have;
// empty if it does not. Such values are kept as they came and judged as the nearest that
// it can.
func unlikeItsKind(m record.Metric, samples []record.Sample) string {
	low, high := 0.0, math.Inf(1)
	switch {
	case m.Measure != record.MeasureExpression || m.Kind == timeline.Value:
		return ""
	case m.Kind == timeline.Share:
		high = 1
	}
	for _, s := range samples {
		if s.Value != nil && (*s.Value < low || *s.Value > high) {
			allowed := "never below 0"
			if m.Kind == timeline.Share {
				allowed = "from 0 to 1"
			}
			return fmt.Sprintf(ownSQLGave+"%g at %s, where a %s is %s: that is judged as the nearest it can be; if it is meant, make the metric one of kind value",
				*s.Value, s.At.UTC().Format(time.RFC3339), m.Kind, allowed)
		}
	}
	return ""
}

// loadsNote says what to know of a load column that tells no loads.
func loadsNote(column string) string {
	return "nearly every row has a time of its own in " + column + " (a default of now()?): loads are told by the minute in which rows came"
}

// loadsAfter is from when on loads are read again with the periods of a stretch.
func loadsAfter(from time.Time) time.Time { return from.Add(-2 * time.Hour) }

// loadsUntil is up to when loads are read: without end in the present.
func (c *Collector) loadsUntil(to time.Time) time.Time {
	if c.now().Sub(to) > 8*24*time.Hour {
		return to
	}
	return time.Date(9000, 1, 1, 0, 0, 0, 0, time.UTC)
}

var cronFields = cron.NewParser(cron.Minute | cron.Hour | cron.Dom | cron.Month | cron.Dow)

// ParseCron checks five cron fields.
func ParseCron(text string) (cron.Schedule, error) {
	schedule, err := cronFields.Parse(text)
	if err != nil {
		return nil, record.Invalid{Field: "cron", Given: text,
			Allowed: "five fields: minute, hour, day of month, month, weekday; for example '30 6 * * 1-5' (" + err.Error() + ")"}
	}
	return schedule, nil
}

// NextTurn is when a cron schedule, checked before, comes next in its zone.
func NextTurn(text, zone string, after time.Time) time.Time {
	schedule, err := ParseCron(text)
	location, zoneErr := time.LoadLocation(zone)
	if err != nil || zoneErr != nil {
		return after.Add(time.Hour)
	}
	if next := schedule.Next(after.In(location)); !next.IsZero() {
		return next.UTC()
	}
	return after.AddDate(1, 0, 0) // a date that never comes
}
