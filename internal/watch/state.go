package watch

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/baseline"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// newsFor is how old what a correction shows may be and still be told.
const newsFor = 14 * 24 * time.Hour

// retryFailed is when a series that broke off is tried again.
const retryFailed = time.Hour

// begin fits those of some series without a baseline that can be by now, and walks
// each through what it has: every sample is judged once it can be.
func (w *Watcher) begin(ctx context.Context, v *Subject, unfitted []record.Series, c Changed) (begun []record.Series, err error) {
	if len(unfitted) == 0 {
		return nil, nil
	}
	ids := make([]int64, len(unfitted))
	for i, series := range unfitted {
		ids[i] = series.ID
	}
	ready, err := w.store.ReadyToFit(ctx, v.Monitor.ID, ids, c.of(ids), w.now().Add(-retryFailed))
	if err != nil || len(ready) == 0 {
		return nil, err
	}
	for _, series := range unfitted {
		if ready[series.ID] {
			begun = append(begun, series)
		}
	}
	if v.Monitor.Budget == nil {
		if err := w.hold(ctx, v); err != nil {
			return nil, err
		}
	}
	return begun, w.learnSome(ctx, v, begun, Order{Monitor: v.Monitor.ID},
		walk{from: func(record.Series) time.Time { return theBeginning }})
}

// waits keeps that a series has too little history, and from which sample on it
// may have enough.
func (w *Watcher) waits(ctx context.Context, tx pgx.Tx, v *Subject, r fitted) error {
	now := w.now().UTC()
	ready := v.Grid.Add(v.Grid.Floor(now), max(r.short.Need-r.short.Have, 1)-1)
	return store.PutSeriesState(ctx, tx, record.SeriesState{
		MonitorID: v.Monitor.ID, SeriesID: r.series.ID, State: record.SeriesWaiting, Since: now, TriedAt: now, FirstAt: &r.first,
		ReadyAt: &ready,
		Message: waiting(*r.short, v.Grid.Period),
	})
}

// waiting says what a series waits for.
func waiting(short baseline.TooShort, period time.Duration) string {
	return fmt.Sprintf("it has %d of the %d samples that a baseline needs", short.Have, short.Need)
}

// failed keeps that a series broke off, and why; it is tried again.
func (w *Watcher) failed(ctx context.Context, tx pgx.Tx, v *Subject, series record.Series, why error) error {
	now := w.now().UTC()
	return store.PutSeriesState(ctx, tx, record.SeriesState{
		MonitorID: v.Monitor.ID, SeriesID: series.ID, State: record.SeriesFailed, Since: now, TriedAt: now,
		Message: "it cannot be judged: " + why.Error() + "; it is tried again each hour",
	})
}

// Rejudge judges again the series of a metric whose samples changed before what
// their baselines were fitted to, as a backtest of the same past would.
func (w *Watcher) Rejudge(ctx context.Context, metric int64) error {
	monitors, err := w.store.MonitorsOf(ctx, metric)
	if err != nil {
		return err
	}
	for _, m := range monitors {
		if m.Paused || m.LearnedAt == nil {
			continue
		}
		for {
			late, err := w.store.LateChanges(ctx, m.ID, atOnce)
			if err != nil {
				return err
			}
			if len(late) == 0 {
				break
			}
			if err := w.rejudge(ctx, m, late); err != nil {
				return fmt.Errorf("judge %s again: %w", m.Name, err)
			}
			if err := w.store.ForgetLate(ctx, m.ID, late); err != nil {
				return err
			}
		}
	}
	return nil
}

func (w *Watcher) rejudge(ctx context.Context, m record.Monitor, late []store.LateChange) error {
	v, err := Load(ctx, w.store, m)
	if err != nil {
		return err
	}
	from := map[int64]time.Time{}
	for _, change := range late {
		from[change.SeriesID] = v.Grid.Floor(change.From)
	}
	var part []record.Series
	for _, series := range v.Series {
		if !from[series.ID].IsZero() {
			part = append(part, series)
		}
	}
	if len(part) == 0 {
		return nil
	}
	return w.learnSome(ctx, v, part, Order{Monitor: m.ID},
		walk{from: func(series record.Series) time.Time { return from[series.ID] }, news: w.now().Add(-max(newsFor, 2*v.Grid.Period))})
}
