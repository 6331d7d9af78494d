package collect

import (
	"fmt"
	"hash/fnv"
	"math"
	"time"

	"tinbell/core/timeline"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// beyond takes samples of segments that are more than their metric may have. They
// are kept as points of one series, a stream for each segment, until its periods
// are over and are made of them: so what is sent twice counts once here too.
type beyond struct {
	push   *push
	now    time.Time
	n      int64
	points map[int64][]record.Point
	due    map[store.PeriodDue]bool
}

func newBeyond(p *push) *beyond {
	return &beyond{push: p, now: p.collector.now(), points: map[int64][]record.Point{}, due: map[store.PeriodDue]bool{}}
}

func (b *beyond) take(v taken) error {
	id := v.target.series[record.OtherSegment]
	if b.now.Sub(v.sample.At) > pointsKept {
		return fmt.Errorf("segment %q of %s: the metric has its %d segments, and those beyond are counted together for three days back only; raise max_segments", v.segment, v.target.Name, v.target.MaxSegments)
	}
	p := record.Point{At: v.sample.At, Stream: streamOf(v.segment), Shape: record.Gauge, Value: math.NaN(), Weight: math.NaN()}
	switch {
	case v.sample.Value == nil:
		p.Value, p.Weight = 0, 0
	case v.target.Kind == timeline.Count:
		p.Shape, p.Value = record.Delta, *v.sample.Value
		p.At = v.target.grid.Next(p.At) // a sum belongs to the period in which it ended
	case v.sample.Rows != nil:
		p.Value, p.Weight = *v.sample.Value**v.sample.Rows, *v.sample.Rows
	default:
		p.Value = *v.sample.Value
	}
	b.points[id] = append(b.points[id], p)
	b.due[store.PeriodDue{SeriesID: id, At: v.sample.At, EndsAt: v.target.grid.Next(v.sample.At)}] = true
	b.n++
	return nil
}

// streamOf numbers a segment.
func streamOf(segment string) int64 {
	h := fnv.New64a()
	h.Write([]byte(segment))
	return int64(h.Sum64())
}
