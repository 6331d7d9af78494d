package watch

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/arrival"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// SilentJobs opens and closes the alerts about jobs of which no complete run was
// heard when one was due, by the pattern of their runs.
func (w *Watcher) SilentJobs(ctx context.Context) error {
	now := w.now()
	jobs, err := w.store.Jobs(ctx, now)
	if err != nil {
		return err
	}
	for _, job := range jobs {
		if err := w.silentJob(ctx, job, now); err != nil {
			return fmt.Errorf("judge runs of %s: %w", job.Name, err)
		}
	}
	return nil
}

// NextRun says when a job's next complete run is due.
func (w *Watcher) NextRun(ctx context.Context, job int64) (Expected, error) {
	ends, err := w.store.RunEnds(ctx, job, w.now().Add(-arrivalMemory))
	if err != nil {
		return Expected{}, err
	}
	times := make([]int64, len(ends))
	for i, at := range ends {
		times[i] = at.Unix()
	}
	return w.next(times, time.UTC, record.DefaultSettings().Rule(1))
}

func (w *Watcher) silentJob(ctx context.Context, job store.JobState, now time.Time) error {
	next, err := w.NextRun(ctx, job.ID)
	var few arrival.TooFew
	if errors.As(err, &few) {
		return nil
	}
	if err != nil || next.Overdue == (job.SilentSince != nil) {
		return err
	}
	about := store.About{Job: job.ID}
	return w.store.InTx(ctx, func(tx pgx.Tx) error {
		if !next.Overdue {
			if err := store.Silence(ctx, tx, job.ID, nil); err != nil {
				return err
			}
			return store.Mended(ctx, tx, about, record.CauseSilentJob, next.Last)
		}
		if err := store.Silence(ctx, tx, job.ID, &next.Expected); err != nil || job.Judged {
			return err // the monitor of what it writes rings, once
		}
		return store.Trouble(ctx, tx, about, record.Alert{Cause: record.CauseSilentJob, Direction: "high", Severity: "warning", Since: next.Expected,
			RaisedAt: now.UTC().Truncate(time.Second), Sentence: fmt.Sprintf("%s has had no complete run since %s; one was due at %s UTC",
				job.Name, next.Last.Format("Mon 2 Jan 15:04"), next.Expected.Format("Mon 2 Jan 15:04"))})
	})
}
