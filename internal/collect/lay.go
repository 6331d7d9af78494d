package collect

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sort"
	"time"

	"tinbell/core/timeline"
	"tinbell/internal/collect/warehouse"
	"tinbell/internal/record"
	"tinbell/internal/words"
)

// ask runs one pass for a batch. Where it has more segments than are measured
// one by one, the largest are kept and all others asked for as one; the choice
// is remembered.
func (c *Collector) ask(ctx context.Context, p probe, batch []record.Metric, from, to time.Time) ([]warehouse.Reading, error) {
	if !from.Before(to) {
		return nil, nil
	}
	q, err := warehouse.Build(batch, warehouse.LoadColumnOf(p.dataset))
	if err != nil {
		return nil, err
	}
	found, err := c.warehouses.Ask(ctx, p.source, q, from, to)
	m := batch[0]
	crowded := errors.Is(err, warehouse.ErrTooMany)
	if err != nil && !crowded || len(m.SegmentBy) == 0 || len(m.KeptSegments) > 0 {
		return found, err
	}
	names := map[string]bool{}
	for _, r := range found {
		names[r.Segment] = true
	}
	series, err := c.store.SeriesOf(ctx, m.ID)
	if err != nil {
		return nil, storing{err}
	}
	known := make([]string, 0, len(series))
	for _, s := range series {
		names[s.Segment] = true
		known = append(known, s.Segment)
	}
	if !crowded && len(names) <= m.MaxSegments {
		return found, nil
	}
	grid, err := m.Grid()
	if err != nil {
		return nil, err
	}
	kept, n, err := c.warehouses.Segments(ctx, p.source, m, lately(grid, to), to, m.MaxSegments)
	if err != nil {
		return nil, err
	}
	kept = mostOf(known, kept, m.MaxSegments)
	if len(kept) == 0 {
		return nil, err
	}
	note := fmt.Sprintf("%s segments: %s are measured one by one, the others together as %s",
		words.Number(float64(max(n, len(names)))), words.Number(float64(len(kept))), record.OtherSegment)
	for i := range batch {
		batch[i].KeptSegments = kept
		if err := c.store.KeepSegments(ctx, batch[i].ID, kept, note); err != nil {
			return nil, storing{err}
		}
	}
	if q, err = warehouse.Build(batch, warehouse.LoadColumnOf(p.dataset)); err != nil {
		return nil, err
	}
	return c.warehouses.Ask(ctx, p.source, q, from, to)
}

// mostOf keeps the segments that have series already, then the largest.
func mostOf(known, largest []string, most int) []string {
	var kept []string
	for _, one := range slices.Concat(known, largest) {
		if len(kept) < most && one != record.OtherSegment && !slices.Contains(kept, one) {
			kept = append(kept, one)
		}
	}
	return kept
}

// layer is what is laid on the periods of [from, to): the readings of one
// metric of a batch, and, for freshness, the newest event before.
type layer struct {
	metric   record.Metric
	grid     timeline.Grid
	from, to time.Time
	readings []warehouse.Reading
	before   []warehouse.Reading
	place    int
}

// lay puts readings on every period of the stretch: a period without rows is a
// count of zero, a share or mean of nothing, or one more period's age of the
// newest row. A segment first seen here starts with its first reading.
func (c *Collector) lay(ctx context.Context, l layer) ([]record.Sample, error) {
	m := l.metric
	if m.Snapshot() {
		l.from = l.grid.Add(l.to, -1)
		for i := range l.readings {
			l.readings[i].Period = l.from.Unix()
		}
	}
	known, err := c.store.SeriesOf(ctx, m.ID)
	if err != nil {
		return nil, err
	}
	bySegment := map[string]map[int64]warehouse.Reading{}
	first := map[string]int64{}
	for _, series := range known {
		bySegment[series.Segment], first[series.Segment] = map[int64]warehouse.Reading{}, l.from.Unix()
	}
	if len(m.SegmentBy) == 0 && bySegment[""] == nil {
		bySegment[""], first[""] = map[int64]warehouse.Reading{}, l.from.Unix()
	}
	newest := map[string]*float64{}
	for _, r := range l.before {
		newest[r.Segment] = r.Value[0]
	}
	for _, r := range slices.Concat(l.before, l.readings) {
		if bySegment[r.Segment] == nil {
			bySegment[r.Segment], first[r.Segment] = map[int64]warehouse.Reading{}, max(r.Period, l.from.Unix())
		}
		bySegment[r.Segment][r.Period] = r
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
	measure, _ := record.MeasureNamed(m.Measure)
	var samples []record.Sample
	for _, segment := range segments {
		for at := l.from; at.Before(l.to); at = l.grid.Next(at) {
			if at.Unix() < first[segment] {
				continue
			}
			var value, of *float64
			if r, there := bySegment[segment][at.Unix()]; there {
				value, of = r.Value[l.place], r.Of[l.place]
			}
			if measure.Empty == record.Age {
				if value != nil && (newest[segment] == nil || *value > *newest[segment]) {
					newest[segment] = value
				}
				if newest[segment] == nil {
					continue
				}
				value = number(max(float64(l.grid.Next(at).Unix())-*newest[segment], 0))
			} else if !settle(m, measure, &value, &of) {
				continue
			}
			samples = append(samples, record.Sample{SeriesID: ids[segment], At: at, Value: value, Rows: of})
		}
	}
	return samples, nil
}

// settle makes what the warehouse answered, or did not, into a sample; ok is
// false if there is none.
func settle(m record.Metric, measure record.Measure, value, of **float64) (ok bool) {
	if measure.Empty == record.Zero {
		if *value == nil {
			*value = number(0)
		}
		*of = nil
		return true
	}
	switch {
	case m.Measure == record.MeasureTableBytes:
		*of = nil
		return *value != nil
	case *of == nil || **of == 0:
		*value, *of = nil, number(0)
	case *value == nil: // a deviation of one row, say
		return false
	case measure.Kind == timeline.Share:
		*value = number(**value / **of)
	case m.Measure == record.MeasureExpression && m.Kind == timeline.Count:
		*of = nil
	}
	return true
}

func number(v float64) *float64 { return &v }
