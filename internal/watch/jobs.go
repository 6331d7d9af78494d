package watch

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/arrival"
	"tinbell/internal/duty"
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
	named := func(job store.JobState) string { return "job " + job.Name }
	return duty.Each(ctx, jobs, named, func(job store.JobState) error { return w.silentJob(ctx, job, now) })
}

// NextRun says when a job's next complete run is due.
func (w *Watcher) NextRun(ctx context.Context, job int64) (Expected, error) {
	ends, err := w.store.RunEnds(ctx, job, w.now().Add(-arrivalMemory))
	if err != nil {
		return Expected{}, err
	}
	return w.next(unixOf(ends), time.UTC, record.DefaultSettings().Rule(1))
}

func (w *Watcher) silentJob(ctx context.Context, job store.JobState, now time.Time) error {
	rule := record.DefaultSettings().Rule(1)
	pattern, err := w.patterns.of(patternKey{"job", job.ID}, now, patternsLast, func() (*arrival.Pattern, error) {
		ends, err := w.store.RunEnds(ctx, job.ID, now.Add(-arrivalMemory))
		if err != nil {
			return nil, err
		}
		return arrival.Learn(unixOf(ends), time.UTC)
	})
	if few := (arrival.TooFew{}); errors.As(err, &few) {
		return nil
	}
	if err != nil {
		return err
	}
	last, err := w.store.LastRunEnd(ctx, job.ID)
	if err != nil || last.IsZero() {
		return err
	}
	next := expect(pattern, last.Unix(), rule, now)
	if next.Overdue == (job.SilentSince != nil) {
		return nil
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
		return store.Trouble(ctx, tx, about, record.Alert{Cause: record.CauseSilentJob, Direction: "high", Severity: "warning",
			Since:    next.Expected,
			RaisedAt: now.UTC().Truncate(time.Second), Sentence: fmt.Sprintf("%s has had no complete run since %s; one was due at %s UTC",
				job.Name, next.Last.Format("Mon 2 Jan 15:04"), next.Expected.Format("Mon 2 Jan 15:04"))})
	})
}

func unixOf(times []time.Time) []int64 {
	list := make([]int64, len(times))
	for i, at := range times {
		list[i] = at.Unix()
	}
	return list
}
