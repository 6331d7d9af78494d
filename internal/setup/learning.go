package setup

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
	"tinbell/internal/store"
	"tinbell/internal/work"
)

// SetLearning changes how the service learns: the filter, its limit, and whether
// tuning runs by itself. Switched off, it lets go what it holds back.
func (d *Desk) SetLearning(ctx context.Context, state record.FilterState, limit float64, nightly bool, author string) (record.Learning, error) {
	if limit < 0.001 || limit > 0.2 {
		return record.Learning{}, record.Invalid{Field: "limit", Given: fmt.Sprint(limit),
			Allowed: "0.001 to 0.2: the share of faults that may be lost"}
	}
	if err := d.store.SetLearning(ctx, state, limit, nightly, author); err != nil {
		return record.Learning{}, err
	}
	if state != record.FilterActive {
		if err := d.store.Release(ctx); err != nil {
			return record.Learning{}, err
		}
	}
	if err := d.queue.Add(ctx, work.Relearn{}); err != nil {
		return record.Learning{}, err
	}
	return d.store.Learning(ctx)
}

// LearnAgain has monitors fitted again, with what is known now.
func (d *Desk) LearnAgain(ctx context.Context, tx pgx.Tx, monitors []int64) error {
	for _, id := range monitors {
		if err := d.queue.Put(ctx, tx, work.Learn{MonitorID: id, Asked: d.now().UTC()}); err != nil {
			return err
		}
	}
	return nil
}

// ExplainAgain has everything fitted again that leaves out what incidents and
// planned events of some datasets explain.
func (d *Desk) ExplainAgain(ctx context.Context, tx pgx.Tx, datasets []string) error {
	monitors, err := store.MonitorsOfDatasets(ctx, tx, datasets)
	if err != nil {
		return err
	}
	if err := d.LearnAgain(ctx, tx, monitors); err != nil {
		return err
	}
	return store.Notify(ctx, tx, store.TopicIncidents)
}
