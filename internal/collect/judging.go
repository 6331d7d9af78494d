package collect

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/store"
	"tinbell/internal/work"
)

// steppedThrough is how far back samples are stepped through again when they
// change; series that changed further back are walked through anew.
const steppedThrough = 24 * time.Hour

// Judge orders, in the transaction that wrote samples of a metric, that what
// changed is judged.
func Judge(ctx context.Context, tx pgx.Tx, q *work.Queue, metric int64, period time.Duration, changes store.Changes, now time.Time) error {
	if changes.N == 0 {
		return nil
	}
	newest := time.Time{}
	for _, first := range changes.First {
		if first.After(newest) {
			newest = first
		}
	}
	order, late := work.Evaluate{MetricID: metric, From: newest, Late: map[int64]time.Time{}}, map[int64]time.Time{}
	for series, first := range changes.First {
		if newest.Sub(first) > 3*period {
			order.Late[series] = first
		} else if first.Before(order.From) {
			order.From = first
		}
		if now.Sub(first) > steppedThrough {
			late[series] = first
		}
	}
	earliest := order.From
	for _, at := range order.Late {
		if at.Before(earliest) {
			earliest = at
		}
	}
	if err := store.CameUnfitted(ctx, tx, metric, earliest); err != nil {
		return err
	}
	corrected, err := store.PutLate(ctx, tx, late)
	if err != nil {
		return err
	}
	if corrected > 0 {
		if err := q.Put(ctx, tx, work.Rejudge{MetricID: metric}); err != nil {
			return err
		}
	}
	return q.Put(ctx, tx, order.With(work.Evaluate{From: order.From}))
}
