package collect

import (
	"context"
	"fmt"
	"log/slog"
	"sort"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/timeline"
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
	warehouses *Warehouses
	now        Clock
	log        *slog.Logger
}

func New(s *store.Store, q *work.Queue, w *Warehouses, now Clock, log *slog.Logger) *Collector {
	return &Collector{s, q, w, now, log}
}

// Collect reads a metric's periods from its lookback on to the last one that
// has settled. A failure becomes the metric's and the source's state and
// recovers with the next success.
func (c *Collector) Collect(ctx context.Context, metric int64) error {
	m, grid, end, err := c.settled(ctx, metric)
	if err != nil {
		return err
	}
	from := grid.Add(end, -1)
	if m.CollectedTo != nil {
		from = *m.CollectedTo
	}
	from = grid.Floor(from.Add(-time.Duration(m.LookbackSeconds) * time.Second))
	return c.gather(ctx, m, grid, from, end)
}

// settled gives a metric and the end of its last period that has settled.
func (c *Collector) settled(ctx context.Context, metric int64) (m record.Metric, grid timeline.Grid, end time.Time, err error) {
	if m, err = c.store.MetricByID(ctx, metric); err != nil {
		return m, grid, end, err
	}
	if grid, err = m.Grid(); err != nil {
		return m, grid, end, err
	}
	return m, grid, grid.Floor(c.now().Add(-time.Duration(m.SettleSeconds) * time.Second)), nil
}

// Backfill reads a metric's past week by week, telling how far it is.
func (c *Collector) Backfill(ctx context.Context, metric int64, from time.Time, progress func(done, total int)) error {
	m, grid, end, err := c.settled(ctx, metric)
	if err != nil {
		return err
	}
	from = grid.Floor(from)
	total := int(end.Sub(from)/(7*24*time.Hour)) + 1
	for done := range total {
		progress(done, total)
		start := grid.Floor(from.AddDate(0, 0, 7*done))
		stop := grid.Floor(from.AddDate(0, 0, 7*(done+1)))
		if stop.After(end) {
			stop = end
		}
		if !start.Before(stop) {
			continue
		}
		if err := c.gather(ctx, m, grid, start, stop); err != nil {
			return err
		}
	}
	progress(total, total)
	return nil
}

func (c *Collector) gather(ctx context.Context, m record.Metric, grid timeline.Grid, from, to time.Time) error {
	source, err := c.store.DatasetSource(ctx, m.DatasetID)
	if err != nil {
		return err
	}
	samples, loads, err := c.probe(ctx, source, m, grid, from, to)
	if err != nil {
		c.log.Warn("collection failed", "metric", m.Name, "error", err)
		if stateErr := c.store.MetricState(ctx, m.ID, "failed", err.Error(), nil); stateErr != nil {
			return stateErr
		}
		return c.store.SourceState(ctx, source.ID, "failed", err.Error())
	}
	err = c.store.InTx(ctx, func(tx pgx.Tx) error {
		if loads != nil {
			if err := store.PutLoads(ctx, tx, m.DatasetID, loadsAfter(from), c.loadsUntil(to), loads); err != nil {
				return err
			}
		}
		changed, earliest, err := store.PutSamples(ctx, tx, samples, store.RecentFrom(c.now()))
		if err != nil || changed == 0 {
			return err
		}
		return c.queue.Put(ctx, tx, work.Evaluate{MetricID: m.ID, From: earliest})
	})
	if err != nil {
		return err
	}
	if err := c.store.MetricState(ctx, m.ID, "ready", "", &to); err != nil {
		return err
	}
	return c.store.SourceState(ctx, source.ID, "ready", "")
}

// probe measures the periods of [from, to) and, for freshness, reads new loads.
func (c *Collector) probe(ctx context.Context, source record.Source, m record.Metric, grid timeline.Grid, from, to time.Time) ([]record.Sample, []record.Load, error) {
	dataset, err := c.store.Dataset(ctx, m.Dataset)
	if err != nil {
		return nil, nil, err
	}
	q, err := BuildQuery(m, dataset.LoadedBy)
	if err != nil {
		return nil, nil, err
	}
	found := []reading{}
	if from.Before(to) {
		if found, err = c.warehouses.ask(ctx, source, q, from, to); err != nil {
			return nil, nil, fmt.Errorf("probe %s: %w", m.Name, err)
		}
	}
	var loads []record.Load
	if m.Measure == record.MeasureFreshness {
		if dataset.LoadedBy != "" {
			if loads, err = c.warehouses.loads(ctx, source, m.Dataset, dataset.LoadedBy, loadsAfter(from), c.loadsUntil(to)); err != nil {
				return nil, nil, fmt.Errorf("read loads of %s: %w", m.Dataset, err)
			}
		}
		before, err := c.warehouses.ask(ctx, source, BuildNewest(m, dataset.LoadedBy), from, to)
		if err != nil {
			return nil, nil, fmt.Errorf("probe %s: %w", m.Name, err)
		}
		samples, err := c.lay(ctx, m, grid, from, to, append(before, found...))
		return samples, loads, err
	}
	samples, err := c.lay(ctx, m, grid, from, to, found)
	return samples, loads, err
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

// lay puts readings on every period of the stretch: a period without rows is a
// count of zero, a share of nothing, and one more period's age of the newest row.
// A segment first seen here starts with its first reading.
func (c *Collector) lay(ctx context.Context, m record.Metric, grid timeline.Grid, from, to time.Time, found []reading) ([]record.Sample, error) {
	known, err := c.store.SeriesOf(ctx, m.ID)
	if err != nil {
		return nil, err
	}
	bySegment := map[string]map[int64]reading{}
	first := map[string]int64{}
	for _, series := range known {
		bySegment[series.Segment], first[series.Segment] = map[int64]reading{}, from.Unix()
	}
	if len(m.SegmentBy) == 0 && bySegment[""] == nil {
		bySegment[""], first[""] = map[int64]reading{}, from.Unix()
	}
	for _, r := range found {
		if bySegment[r.segment] == nil {
			bySegment[r.segment], first[r.segment] = map[int64]reading{}, max(r.period, from.Unix())
		}
		bySegment[r.segment][r.period] = r
	}
	segments := make([]string, 0, len(bySegment))
	for segment := range bySegment {
		segments = append(segments, segment)
	}
	sort.Strings(segments)
	ids, err := c.store.EnsureSeries(ctx, m.ID, segments)
	if err != nil {
		return nil, err
	}
	var samples []record.Sample
	for _, segment := range segments {
		newest := bySegment[segment][0].value // freshness alone has a reading before the stretch
		for at := from; at.Before(to); at = grid.Next(at) {
			r, there := bySegment[segment][at.Unix()]
			if at.Unix() < first[segment] {
				continue
			}
			s := record.Sample{SeriesID: ids[segment], At: at}
			switch m.Measure {
			case record.MeasureFreshness:
				if there && r.value != nil && (newest == nil || *r.value > *newest) {
					newest = r.value
				}
				if newest == nil {
					continue
				}
				age := max(float64(grid.Next(at).Unix())-*newest, 0)
				s.Value = &age
			case record.MeasureNullShare:
				rows := 0.0
				if there && r.of != nil {
					rows = *r.of
				}
				s.Rows = &rows
				if rows > 0 {
					share := *r.value / rows
					s.Value = &share
				}
			default:
				value := 0.0
				if there && r.value != nil {
					value = *r.value
				}
				s.Value = &value
			}
			samples = append(samples, s)
		}
	}
	return samples, nil
}
