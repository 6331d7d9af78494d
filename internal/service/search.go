package service

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"tinbell/internal/contain"
	"tinbell/internal/record"
	"tinbell/internal/work"
)

// errCancelled ends long work that somebody cancelled.
var errCancelled = errors.New("cancelled")

// searched runs long work that can be cancelled, keeps its progress and, if it
// comes to an end, what it came to.
func (d *jobs) searched(ctx context.Context, task int64, do func(proceed func(done, total int) error) (any, error)) error {
	release, held, err := d.store.Hold(ctx, task)
	if err != nil || !held {
		return err
	}
	defer release()
	t, err := d.store.Task(ctx, task)
	if err != nil || t.State != "running" {
		return err
	}
	result, err := contain.Get(func() (any, error) {
		return do(func(done, total int) error {
			state, err := d.store.Step(ctx, task, done, total)
			if err == nil && state != "running" {
				err = errCancelled
			}
			return err
		})
	})
	switch {
	case errors.Is(err, errCancelled):
		return nil
	case ctx.Err() != nil:
		return ctx.Err() // stopping: whoever takes the job over begins anew
	case err != nil:
		return d.store.EndTask(context.WithoutCancel(ctx), task, err)
	}
	return d.store.EndTaskWith(ctx, task, result)
}

func (d *jobs) tuned(ctx context.Context, j work.Tune) error {
	return d.searched(ctx, j.TaskID, func(proceed func(int, int) error) (any, error) {
		return d.bench.Tune(ctx, j.Monitors, j.From, proceed)
	})
}

func (d *jobs) tried(ctx context.Context, j work.Trial) error {
	return d.searched(ctx, j.TaskID, func(proceed func(int, int) error) (any, error) {
		var tried record.Tried
		if err := json.Unmarshal(j.Tried, &tried); err != nil {
			return nil, err
		}
		monitors, err := d.store.Monitors(ctx)
		if err != nil {
			return nil, err
		}
		kept := monitors[:0]
		for _, m := range monitors {
			for _, name := range j.Monitors {
				if m.Name == name {
					kept = append(kept, m)
				}
			}
		}
		return d.bench.Try(ctx, kept, j.From, j.To, tried, proceed)
	})
}

// night is the hour of the day (UTC) in which tuning runs by itself.
const night = 3

// tuneNightly orders a tuning of all monitors once a night, where people have
// switched that on.
func (d *jobs) tuneNightly(ctx context.Context, now time.Time) error {
	how, err := d.store.Learning(ctx)
	if err != nil || !how.Nightly || now.UTC().Hour() != night || how.TunedAt != nil && now.Sub(*how.TunedAt) < 12*time.Hour {
		return err
	}
	tasks, err := d.store.Tasks(ctx, 50)
	if err != nil {
		return err
	}
	for _, t := range tasks {
		if t.What == "tune" && (t.State == "running" || now.Sub(t.StartedAt) < 12*time.Hour) {
			return nil
		}
	}
	return d.order(ctx, "tune", "all monitors, by night", func(id int64) error { return d.queue.Add(ctx, work.Tune{TaskID: id}) })
}

func (d *jobs) order(ctx context.Context, what, subject string, queue func(id int64) error) error {
	id, err := d.store.AddTask(ctx, what, subject)
	if err != nil {
		return err
	}
	return queue(id)
}
