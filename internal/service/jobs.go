package service

import (
	"context"
	"errors"
	"time"

	"tinbell/internal/calendar"
	"tinbell/internal/collect"
	"tinbell/internal/compare"
	"tinbell/internal/contain"
	"tinbell/internal/health"
	"tinbell/internal/lessons"
	"tinbell/internal/record"
	"tinbell/internal/replays"
	"tinbell/internal/store"
	"tinbell/internal/watch"
	"tinbell/internal/work"
)

// jobs say what each job of the queue does.
type jobs struct {
	watchItself bool
	store       *store.Store
	watcher     *watch.Watcher
	collector   *collect.Collector
	queue       *work.Queue
	health      *health.Reader
	bench       *replays.Bench
	lessons     *lessons.Desk
	calendars   *calendar.Desk
	comparer    *compare.Comparer
	now         func() time.Time
}

func (d *jobs) all() work.Duties {
	return work.Duties{
		Evaluate: stillThere(d.evaluate),
		Collect:  stillThere(func(ctx context.Context, j work.Collect) error { return d.collected(ctx, j.DatasetID) }),
		Rejudge:  stillThere(func(ctx context.Context, j work.Rejudge) error { return d.watcher.Rejudge(ctx, j.MetricID) }),
		Learn: stillThere(func(ctx context.Context, j work.Learn) error {
			if !j.Asked.IsZero() {
				m, err := d.store.MonitorByID(ctx, j.MonitorID)
				if err != nil || m.LearnedAt != nil && m.LearnedAt.After(j.Asked) {
					return err
				}
			}
			return d.followed(ctx, j.TaskID, func(progress func(int, int)) error {
				came, err := d.watcher.Learn(ctx, watch.Order{Monitor: j.MonitorID, History: j.History, Changed: j.Changed}, progress)
				if err != nil || came.IsZero() {
					return err
				}
				m, err := d.store.MonitorByID(ctx, j.MonitorID)
				if err != nil {
					return err
				}
				return d.queue.Add(ctx, work.Evaluate{MetricID: m.MetricID, From: came})
			})
		}),
		Backfill: d.backfilled,
		Summarise: stillThere(func(ctx context.Context, j work.Summarise) error {
			if rests := d.health.Rests(j.DatasetID); rests > 0 {
				return work.Later{In: rests}
			}
			return d.health.Refresh(ctx, j.DatasetID)
		}),
		Relearn: func(ctx context.Context) error { return d.lessons.Relearn(ctx) },
		Tune:    d.tuned,
		Trial:   d.tried,
		Drift:   func(ctx context.Context, j work.Drift) error { return d.comparer.Run(ctx, j.Name) },
	}
}

// stillThere ends work whose subject was removed since it was queued: there is nothing to
// do any more, and trying again would not help.
func stillThere[J any](do func(context.Context, J) error) func(context.Context, J) error {
	return func(ctx context.Context, j J) error {
		err := do(ctx, j)
		if errors.As(err, new(record.NotFound)) {
			return nil
		}
		return err
	}
}

// collected measures what is due of a dataset and sums it up for the overview.
func (d *jobs) collected(ctx context.Context, dataset int64) error {
	if err := d.collector.Collect(ctx, dataset); err != nil {
		return err
	}
	return d.health.Refresh(ctx, dataset)
}

// backfilled goes on with a backfill and sums its dataset up.
func (d *jobs) backfilled(ctx context.Context, j work.Backfill) error {
	dataset, err := d.collector.Backfill(ctx, j.TaskID)
	if err != nil || dataset == 0 {
		return err
	}
	return d.health.Refresh(ctx, dataset)
}

// evaluate judges a metric; what must be fitted again first is queued, and
// steps through what came meanwhile when it is.
func (d *jobs) evaluate(ctx context.Context, j work.Evaluate) error {
	err := d.watcher.Evaluate(ctx, j.MetricID, watch.Changed{From: j.From, Late: j.Late})
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
func (d *jobs) followed(ctx context.Context, task int64, do func(progress func(done, total int)) error) error {
	if task == 0 {
		return do(func(int, int) {})
	}
	err := contain.Run(func() error { return do(func(done, total int) { d.store.TaskProgress(ctx, task, done, total) }) })
	if ctx.Err() != nil {
		return ctx.Err() // stopping: whoever takes the job over goes on
	}
	if endErr := d.store.EndTask(context.WithoutCancel(ctx), task, err); endErr != nil && err == nil {
		err = endErr
	}
	return err
}
