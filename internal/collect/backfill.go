package collect

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"tinbell/core/timeline"
	"tinbell/internal/collect/warehouse"
	"tinbell/internal/record"
	"tinbell/internal/work"
)

const (
	// stride is how much of the past one step of a backfill reads.
	stride = 7 * 24 * time.Hour
	// takenUp is how long a backfill that nobody works on is left to the queue.
	takenUp = 15 * time.Second
)

// StartBackfill orders the past of some metrics of one dataset to be measured,
// and gives the task to follow.
func (c *Collector) StartBackfill(ctx context.Context, names []string, since time.Time) (task int64, err error) {
	if len(names) == 0 {
		return 0, record.Invalid{Field: "metrics", Given: "", Allowed: "the name of at least one metric"}
	}
	metrics, err := c.metricsNamed(ctx, names)
	if err != nil {
		return 0, err
	}
	for _, m := range metrics {
		switch {
		case m.DatasetID != metrics[0].DatasetID:
			return 0, record.Invalid{Field: "metrics", Given: strings.Join(names, ", "), Allowed: "metrics of one dataset at a time"}
		case m.Pushed():
			return 0, record.Invalid{Field: "metric", Given: m.Name,
				Allowed: "a metric collected from a warehouse; the past of a pushed metric is pushed like the rest"}
		case m.Snapshot():
			return 0, record.Invalid{Field: "metric", Given: m.Name,
				Allowed: "a metric with a time column; what is measured as it stands has no past to be read"}
		}
	}
	from, to := since.UTC(), c.now().UTC()
	if furthest := record.Furthest(to); from.Before(furthest) {
		return 0, record.Invalid{Field: "since", Given: since.Format(time.RFC3339),
			Allowed: "a time from " + furthest.Format(time.DateOnly) + " on"}
	}
	if !from.Before(to) {
		return 0, record.Invalid{Field: "since", Given: since.Format(time.RFC3339), Allowed: "a time in the past"}
	}
	task, err = c.store.AddBackfill(ctx, strings.Join(names, ", "), names, from, to, int(to.Sub(from)/stride)+1)
	if err != nil {
		return 0, err
	}
	return task, c.queue.Add(ctx, work.Backfill{TaskID: task})
}

func (c *Collector) metricsNamed(ctx context.Context, names []string) ([]record.Metric, error) {
	var metrics []record.Metric
	for _, name := range names {
		m, err := c.store.Metric(ctx, name)
		if err != nil {
			return nil, err
		}
		metrics = append(metrics, m)
	}
	return metrics, nil
}

// Backfill goes on with a backfill where it was, step by step, until it is done,
// paused or cancelled, and gives the dataset it read. What it has read stays,
// whatever happens.
func (c *Collector) Backfill(ctx context.Context, taskID int64) (dataset int64, err error) {
	task, err := c.store.Task(ctx, taskID)
	if err != nil || task.State != "running" {
		return 0, err
	}
	release, held, err := c.store.Hold(ctx, taskID)
	if err != nil || !held {
		return 0, err // another process has it
	}
	defer release()
	metrics, err := c.metricsNamed(ctx, task.Metrics)
	if err == nil {
		dataset = metrics[0].DatasetID
		err = c.backfill(ctx, task, metrics)
	}
	if err != nil {
		if ctx.Err() != nil {
			return dataset, ctx.Err() // taken up again by whoever runs next
		}
		return dataset, c.store.EndTask(ctx, taskID, errors.New(warehouse.Words(err)))
	}
	return dataset, nil
}

func (c *Collector) backfill(ctx context.Context, task record.Task, metrics []record.Metric) error {
	p, err := c.probeOf(ctx, metrics[0])
	if err != nil {
		return err
	}
	if p.source.Kind == "folder" {
		if err := c.scan(ctx, p); err != nil {
			return err
		}
	}
	for at := *task.Position; at.Before(*task.ToAt); {
		next := timeline.Earlier(at.Add(stride), *task.ToAt)
		for _, batch := range warehouse.Batches(metrics) {
			if err := c.backfillStep(ctx, p, batch, at, next); err != nil {
				return fmt.Errorf("from %s: %w", at.Format(time.DateOnly), err)
			}
		}
		state, err := c.store.Advance(ctx, task.ID, next, int(next.Sub(*task.FromAt)/stride))
		if err != nil || state != "running" {
			return err
		}
		at = next
	}
	if err := c.store.TaskProgress(ctx, task.ID, task.Total, task.Total); err != nil {
		return err
	}
	return c.store.EndTask(ctx, task.ID, nil)
}

func (c *Collector) backfillStep(ctx context.Context, p probe, batch []record.Metric, from, to time.Time) error {
	grid, err := batch[0].Grid()
	if err != nil {
		return err
	}
	start, end := grid.Floor(from), timeline.Earlier(grid.Floor(to), c.settledEnd(batch[0], grid))
	if !start.Before(end) {
		return nil
	}
	if p.source.Kind == "folder" {
		for _, m := range batch {
			if err := c.gatherFiles(ctx, p, m, grid, start, end); err != nil {
				return err
			}
		}
	} else if err := c.gather(ctx, p, slices.Clone(batch), grid, start, end); err != nil {
		return err
	}
	// What was read to the end of the past need not be collected again.
	if end.Equal(c.settledEnd(batch[0], grid)) {
		for _, m := range batch {
			if err := c.store.Collected(ctx, m.ID, end, ""); err != nil {
				return err
			}
		}
	}
	return nil
}

// Steer pauses, resumes or cancels a backfill.
func (c *Collector) Steer(ctx context.Context, taskID int64, verb string) (record.Task, error) {
	turns := map[string]struct {
		to   record.TaskState
		from []record.TaskState
	}{
		"pause":  {record.TaskPaused, []record.TaskState{record.TaskRunning}},
		"resume": {record.TaskRunning, []record.TaskState{record.TaskPaused, record.TaskFailed, record.TaskCancelled}},
		"cancel": {record.TaskCancelled, []record.TaskState{record.TaskRunning, record.TaskPaused}},
	}
	task, err := c.store.Task(ctx, taskID)
	if err != nil {
		return task, err
	}
	turn, known := turns[verb]
	if searches := task.What == "tune" || task.What == "trial"; !known || task.What != "backfill" && !(searches && verb == "cancel") {
		return task, record.Invalid{Field: "task", Given: fmt.Sprintf("%s %s", verb, task.What),
			Allowed: "a backfill can be paused, resumed or cancelled, a tuning or a trial cancelled"}
	}
	ok, err := c.store.SteerTask(ctx, taskID, turn.to, turn.from...)
	if err != nil {
		return task, err
	}
	if !ok {
		return task, record.Conflict{What: fmt.Sprintf("%s %d is %s: it cannot be made %s", task.What, taskID, task.State, turn.to)}
	}
	if verb == "resume" {
		if err := c.queue.Add(ctx, work.Backfill{TaskID: taskID}); err != nil {
			return task, err
		}
	}
	return c.store.Task(ctx, taskID)
}

// TakeOver queues the backfills that lost their process.
func (c *Collector) TakeOver(ctx context.Context) error {
	tasks, err := c.store.Abandoned(ctx, "backfill", takenUp)
	if err != nil {
		return err
	}
	for _, id := range tasks {
		if err := c.queue.Add(ctx, work.Backfill{TaskID: id}); err != nil {
			return err
		}
	}
	return nil
}
