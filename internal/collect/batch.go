package collect

import (
	"context"
	"maps"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/contain"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// taken is a sample on its way, whose series may still have to be made.
type taken struct {
	line    int
	target  *target
	segment string
	sample  record.Sample
}

// written is what became of a batch.
type written struct {
	accepted, changed int64
	err               error
}

// flush hands what is pending to be written, while the next lines are read; at
// most one batch is on its way. Within a strict push it is written at once.
func (p *push) flush(ctx context.Context) error {
	if err := p.settle(); err != nil || len(p.pending) == 0 {
		return err
	}
	b, err := p.batch(ctx)
	if err != nil {
		return err
	}
	if p.tx != nil {
		return p.count(p.write(ctx, p.tx, b))
	}
	p.writing = make(chan written, 1)
	go func() {
		var w written
		err := contain.Run(func() error {
			return p.collector.store.InTx(ctx, func(tx pgx.Tx) error {
				w = p.write(ctx, tx, b)
				return w.err
			})
		})
		w.err = err
		p.writing <- w
	}()
	return nil
}

// settle waits until the batch on its way is durable.
func (p *push) settle() error {
	if p.writing == nil {
		return nil
	}
	w := <-p.writing
	p.writing = nil
	return p.count(w)
}

func (p *push) count(w written) error {
	if w.err == nil {
		p.receipt.Accepted += w.accepted
		p.receipt.Changed += w.changed
	}
	return w.err
}

// batch is what is written at once: samples of series that are there, and points
// of segments that are counted together.
type batch struct {
	samples []record.Sample
	metrics map[int64]*target // by series
	beyond  *beyond
	taken   int64
}

// batch makes the series that what is pending needs, all of a metric at once, and
// gives what is to be written.
func (p *push) batch(ctx context.Context) (batch, error) {
	missing := map[*target]map[string]bool{}
	for _, v := range p.pending {
		if v.target.series[v.segment] == 0 {
			if missing[v.target] == nil {
				missing[v.target] = map[string]bool{}
			}
			missing[v.target][v.segment] = true
		}
	}
	for t, segments := range missing {
		if err := t.make(ctx, p.store(), segments); err != nil {
			return batch{}, err
		}
	}
	b := batch{samples: make([]record.Sample, 0, len(p.pending)), metrics: map[int64]*target{}}
	for _, v := range p.pending {
		id := v.target.series[v.segment]
		if id == 0 {
			if b.beyond == nil {
				b.beyond = newBeyond(p)
			}
			if err := b.beyond.take(v); err != nil {
				p.refuse(v.line, err)
				continue
			}
			b.taken++
			continue
		}
		v.sample.SeriesID = id
		b.metrics[id] = v.target
		b.samples = append(b.samples, v.sample)
		b.taken++
	}
	p.pending = p.pending[:0]
	if b.beyond != nil {
		p.receipt.Together += b.beyond.n
	}
	return b, nil
}

// make makes the series of some segments, as long as the metric has fewer than it
// may; the first of the alphabet first, so that it does not matter who asks.
func (t *target) make(ctx context.Context, s *store.Store, segments map[string]bool) error {
	names := slices.Sorted(maps.Keys(segments))
	if room := max(t.MaxSegments-len(t.series), 0); len(names) > room {
		names = names[:room]
		if t.series[record.OtherSegment] == 0 {
			names = append(names, record.OtherSegment)
		}
	}
	if len(names) == 0 {
		return nil
	}
	ids, err := s.EnsureSeries(ctx, t.ID, names)
	if err != nil {
		return err
	}
	maps.Copy(t.series, ids)
	return nil
}

// write stores a batch and orders that it is judged.
func (p *push) write(ctx context.Context, tx pgx.Tx, b batch) written {
	now := p.collector.now()
	var datasets []int64
	for _, t := range b.metrics {
		datasets = append(datasets, t.DatasetID)
	}
	if err := store.Stay(ctx, tx, datasets...); err != nil {
		return written{err: err}
	}
	changes, err := store.PutSamples(ctx, tx, b.samples, store.RecentFrom(now))
	if err != nil {
		return written{err: err}
	}
	if b.beyond != nil {
		if err := store.PutPoints(ctx, tx, b.beyond.points, slices.Collect(maps.Keys(b.beyond.due))); err != nil {
			return written{err: err}
		}
	}
	byMetric := map[int64]store.Changes{}
	for series, first := range changes.First {
		id := b.metrics[series].ID
		c := byMetric[id]
		if c.First == nil {
			c.First = map[int64]time.Time{}
		}
		c.N++
		c.First[series] = first
		byMetric[id] = c
	}
	of := map[int64]*target{}
	for _, t := range b.metrics {
		of[t.ID] = t
	}
	// In one order, so that two pushes wait for each other instead of blocking.
	for _, id := range slices.Sorted(maps.Keys(byMetric)) {
		if err := Judge(ctx, tx, p.collector.queue, id, of[id].grid.Period, byMetric[id], now); err != nil {
			return written{err: err}
		}
	}
	return written{accepted: b.taken, changed: changes.N}
}
