package service

import (
	"context"
	"errors"
	"time"

	"tinbell/core/learn"
	"tinbell/internal/answer"
	"tinbell/internal/collect"
	"tinbell/internal/compare"
	"tinbell/internal/improve"
	"tinbell/internal/inspect"
	"tinbell/internal/store"
	"tinbell/internal/watch"
	"tinbell/internal/work"
)

// duties say what each job of the queue does.
type duties struct {
	store     *store.Store
	watcher   *watch.Watcher
	collector *collect.Collector
	queue     *work.Queue
	inspector *inspect.Inspector
	bench     *improve.Bench
	desk      *answer.Desk
	comparer  *compare.Comparer
	now       func() time.Time
	keepDays  int
	minute    time.Time // when what is done each minute was last done by this process
}

func (d *duties) all() work.Duties {
	return work.Duties{
		Evaluate: d.evaluate,
		Collect:  func(ctx context.Context, j work.Collect) error { return d.collected(ctx, j.DatasetID) },
		Learn: func(ctx context.Context, j work.Learn) error {
			if !j.Asked.IsZero() {
				m, err := d.store.MonitorByID(ctx, j.MonitorID)
				if err != nil || m.LearnedAt != nil && m.LearnedAt.After(j.Asked) {
					return err
				}
			}
			return d.followed(ctx, j.TaskID, func(progress func(int, int)) error {
				return d.watcher.Learn(ctx, j.MonitorID, j.History, progress)
			})
		},
		Backfill:  d.backfilled,
		Summarise: func(ctx context.Context, j work.Summarise) error { return d.inspector.Refresh(ctx, j.DatasetID) },
		Relearn:   func(ctx context.Context) error { return d.bench.Relearn(ctx) },
		Tune:      d.tuned,
		Trial:     d.tried,
		Drift:     func(ctx context.Context, j work.Drift) error { return d.comparer.Run(ctx, j.Name) },
		Tick:      d.tick,
		Keep:      d.keep,
	}
}

// collected measures what is due of a dataset and sums it up for the overview.
func (d *duties) collected(ctx context.Context, dataset int64) error {
	if err := d.collector.Collect(ctx, dataset); err != nil {
		return err
	}
	return d.inspector.Refresh(ctx, dataset)
}

// backfilled goes on with a backfill and sums its dataset up.
func (d *duties) backfilled(ctx context.Context, j work.Backfill) error {
	dataset, err := d.collector.Backfill(ctx, j.TaskID)
	if err != nil || dataset == 0 {
		return err
	}
	return d.inspector.Refresh(ctx, dataset)
}

// keep packs days that are over and drops samples older than is kept.
func (d *duties) keep(ctx context.Context) error {
	if _, err := d.store.PackDays(ctx, store.RecentFrom(d.now())); err != nil {
		return err
	}
	if _, err := d.store.ForgetOld(ctx, d.now(), d.keepDays); err != nil {
		return err
	}
	if err := d.desk.Extend(ctx); err != nil {
		return err
	}
	return d.collector.ForgetPoints(ctx)
}

// evaluate judges a metric; what must be fitted again first is queued, and
// steps through what came meanwhile when it is.
func (d *duties) evaluate(ctx context.Context, j work.Evaluate) error {
	err := d.watcher.Evaluate(ctx, j.MetricID, j.From)
	if m, metricErr := d.store.MetricByID(ctx, j.MetricID); metricErr == nil && m.Pushed() && err == nil {
		return d.queue.Add(ctx, work.Summarise{DatasetID: m.DatasetID})
	}
	var outdated watch.Outdated
	if !errors.As(err, &outdated) {
		return err
	}
	asked := d.now().UTC()
	for _, id := range outdated.Monitors {
		if err := d.queue.Add(ctx, work.Learn{MonitorID: id, Asked: asked}); err != nil {
			return err
		}
	}
	return nil
}

// followed runs long work and keeps its progress under a task, if it has one.
func (d *duties) followed(ctx context.Context, task int64, do func(progress func(done, total int)) error) error {
	if task == 0 {
		return do(func(int, int) {})
	}
	err := do(func(done, total int) { d.store.TaskProgress(ctx, task, done, total) })
	if endErr := d.store.EndTask(context.WithoutCancel(ctx), task, err); endErr != nil && err == nil {
		err = endErr
	}
	return err
}

// tick queues what is due and looks after overdue loads.
func (d *duties) tick(ctx context.Context) error {
	now := d.now()
	due, err := d.store.DueDatasets(ctx, now)
	if err != nil {
		return err
	}
	for _, id := range due {
		if err := d.queue.Add(ctx, work.Collect{DatasetID: id}); err != nil {
			return err
		}
	}
	pushed, err := d.store.DuePushed(ctx, now)
	if err != nil {
		return err
	}
	for _, id := range pushed {
		if err := d.queue.Add(ctx, work.Evaluate{MetricID: id, From: now}); err != nil {
			return err
		}
	}
	if err := d.comparer.Due(ctx); err != nil {
		return err
	}
	if err := d.refit(ctx, now); err != nil {
		return err
	}
	if err := d.collector.SettlePoints(ctx); err != nil {
		return err
	}
	if err := d.collector.TakeOver(ctx); err != nil {
		return err
	}
	if err := d.store.CloseNoted(ctx, now.AddDate(0, 0, -1), now); err != nil {
		return err
	}
	if err := d.watcher.Overdue(ctx); err != nil {
		return err
	}
	if now.Sub(d.minute) < time.Minute {
		return nil
	}
	d.minute = now
	if err := d.tuneNightly(ctx, now); err != nil {
		return err
	}
	if err := d.watcher.Promises(ctx); err != nil {
		return err
	}
	return d.watcher.SilentJobs(ctx)
}

// refit queues the monitors whose baselines are due to be chosen anew; those
// with series that had too little history are tried again each day.
func (d *duties) refit(ctx context.Context, now time.Time) error {
	monitors, err := d.store.LearnedMonitors(ctx)
	if err != nil {
		return err
	}
	for _, m := range monitors {
		wait := 24 * time.Hour
		if !m.Waiting && m.From != nil {
			wait = learn.RefitAfter(m.LearnedAt.Sub(*m.From))
		}
		due := m.LearnedAt.Add(wait)
		if now.Before(due) {
			continue
		}
		// A fit that began after it was due makes a second order of it void.
		if err := d.queue.Add(ctx, work.Learn{MonitorID: m.ID, Asked: due}); err != nil {
			return err
		}
	}
	return nil
}
