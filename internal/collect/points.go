package collect

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/timeline"
	"tinbell/internal/collect/otlp"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

const (
	// pointsKept is how late a point may come.
	pointsKept = 3 * 24 * time.Hour
	// pointGrace is how long after a period its points may still be under way.
	pointGrace = 10 * time.Second
)

// Export takes an OTLP export of metrics. Its points are kept until the periods
// they lie in are over, and then become samples; a late point corrects its
// period. What is refused is told.
func (c *Collector) Export(ctx context.Context, body []byte, json bool) (accepted int, refused []string, err error) {
	named, refused, err := otlp.Decode(body, json)
	if err != nil {
		return 0, nil, record.Invalid{Field: "body", Given: "", Allowed: err.Error()}
	}
	x := export{collector: c, targets: map[string]*target{}, unknown: map[string]error{}}
	for _, n := range named {
		if err := x.take(ctx, n); err != nil {
			var internal storing
			if errors.As(err, &internal) {
				return 0, nil, err
			}
			refused = append(refused, n.Metric+": "+err.Error())
		}
	}
	if len(x.places) == 0 {
		return 0, refused, nil
	}
	if err := x.makeSeries(ctx); err != nil {
		return 0, nil, err
	}
	points, due := x.laid()
	err = c.store.InTx(ctx, func(tx pgx.Tx) error { return store.PutPoints(ctx, tx, points, due) })
	return len(x.places), refused, err
}

type export struct {
	collector *Collector
	targets   map[string]*target
	unknown   map[string]error
	places    []place
}

// place is where a point belongs.
type place struct {
	target  *target
	segment string
	point   record.Point
}

func (x *export) take(ctx context.Context, n otlp.Named) error {
	t, err := x.target(ctx, n.Metric)
	if err != nil {
		return err
	}
	now := x.collector.now()
	switch {
	case t.grid.Long():
		return errors.New("points are put together to periods of a day at most, and those of this metric are longer: push its samples")
	case n.At.Before(now.Add(-pointsKept)):
		return fmt.Errorf("a point of %s is too late: they are taken for three days; push samples for older periods",
			n.At.Format(time.RFC3339))
	case n.At.After(now.Add(5 * time.Minute)):
		return fmt.Errorf("a point of %s lies in the future", n.At.Format(time.RFC3339))
	case t.Kind == timeline.Share && n.Shape == record.Gauge && (n.Value < 0 || n.Value > 1):
		return fmt.Errorf("%g is no share: 0 to 1", n.Value)
	case t.Kind == timeline.Count && n.Value < 0, t.Kind == timeline.Duration && n.Value < 0:
		return fmt.Errorf("%g: a %s is 0 or more", n.Value, t.Kind)
	}
	segment := n.Segment(t.SegmentBy)
	if len(t.SegmentBy) == 0 {
		segment = ""
	}
	if err := record.CheckName("segment", segment); err != nil {
		return err
	}
	x.places = append(x.places, place{t, segment, n.Point})
	return nil
}

// makeSeries makes the series that the points need, all of a metric at once.
func (x *export) makeSeries(ctx context.Context) error {
	missing := map[*target]map[string]bool{}
	for _, p := range x.places {
		if p.target.series[p.segment] == 0 {
			if missing[p.target] == nil {
				missing[p.target] = map[string]bool{}
			}
			missing[p.target][p.segment] = true
		}
	}
	for t, segments := range missing {
		if err := t.make(ctx, x.collector.store, segments); err != nil {
			return storing{err}
		}
	}
	return nil
}

// laid gives the points by series, and the periods to be made of them.
func (x *export) laid() (map[int64][]record.Point, []store.PeriodDue) {
	points, due := map[int64][]record.Point{}, map[store.PeriodDue]bool{}
	for _, p := range x.places {
		id, known := p.target.series[p.segment]
		if !known {
			id = p.target.series[record.OtherSegment]
		}
		points[id] = append(points[id], p.point)
		in := p.point.At
		if p.point.Shape != record.Gauge {
			in = in.Add(-time.Microsecond) // a sum belongs to the period in which it ended
		}
		at := p.target.grid.Floor(in)
		due[store.PeriodDue{SeriesID: id, At: at, EndsAt: p.target.grid.Next(at)}] = true
		if p.point.Shape == record.Cumulative {
			at = p.target.grid.Next(at) // whose increase begins with this point
			due[store.PeriodDue{SeriesID: id, At: at, EndsAt: p.target.grid.Next(at)}] = true
		}
	}
	return points, slices.Collect(maps.Keys(due))
}

func (x *export) target(ctx context.Context, name string) (*target, error) {
	if t := x.targets[name]; t != nil {
		return t, nil
	}
	if err := x.unknown[name]; err != nil {
		return nil, err
	}
	m, err := x.collector.store.MetricByOTLP(ctx, name)
	var missing record.NotFound
	if errors.As(err, &missing) {
		x.unknown[name] = errors.New("no metric takes it: declare one of this name, or with --otlp " + name)
		return nil, x.unknown[name]
	}
	if err != nil {
		return nil, storing{err}
	}
	t, err := targetOf(ctx, x.collector.store, m)
	if err != nil {
		return nil, storing{err}
	}
	x.targets[name] = t
	return t, nil
}

// SettlePoints makes the samples of the periods that are over.
func (c *Collector) SettlePoints(ctx context.Context) error {
	const atOnce = 2000
	for {
		n := 0
		err := c.store.InTx(ctx, func(tx pgx.Tx) error {
			due, err := store.TakeDue(ctx, tx, c.now().Add(-pointGrace), atOnce)
			if n = len(due); err != nil || n == 0 {
				return err
			}
			return c.settlePeriods(ctx, tx, due)
		})
		if err != nil || n < atOnce {
			return err
		}
	}
}

func (c *Collector) settlePeriods(ctx context.Context, tx pgx.Tx, due []store.PeriodDue) error {
	metrics := map[int64]record.Metric{}
	samples := map[int64][]record.Sample{} // by metric
	for _, d := range due {
		if _, known := metrics[d.MetricID]; !known {
			m, err := c.store.In(tx).MetricByID(ctx, d.MetricID)
			if err != nil {
				return err
			}
			metrics[d.MetricID] = m
		}
		points, err := store.Points(ctx, tx, d.SeriesID, d.At.AddDate(0, 0, -1), d.EndsAt)
		if err != nil {
			return err
		}
		value, rows, ok := otlp.Aggregate(points, d.At, d.EndsAt)
		if !ok {
			continue
		}
		s := record.Sample{SeriesID: d.SeriesID, At: d.At}
		if !math.IsNaN(value) {
			if metrics[d.MetricID].Kind == timeline.Count {
				value = math.Round(value)
			}
			s.Value = &value
		}
		if !math.IsNaN(rows) {
			s.Rows = &rows
		}
		samples[d.MetricID] = append(samples[d.MetricID], s)
	}
	for metric, list := range samples {
		changes, err := store.PutSamples(ctx, tx, list, store.RecentFrom(c.now()))
		if err != nil {
			return err
		}
		if err := Judge(ctx, tx, c.queue, metric, time.Duration(metrics[metric].PeriodSeconds)*time.Second, changes, c.now()); err != nil {
			return err
		}
	}
	return nil
}

// ForgetPoints drops points that no period needs any more.
func (c *Collector) ForgetPoints(ctx context.Context) error {
	return c.store.ForgetPoints(ctx, c.now().Add(-pointsKept-24*time.Hour))
}
