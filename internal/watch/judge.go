package watch

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/detect"
	"tinbell/core/learn"
	"tinbell/core/timeline"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// Outdated names monitors whose stored baselines must be fitted again before
// they can judge.
type Outdated struct{ Monitors []int64 }

func (o Outdated) Error() string {
	return fmt.Sprintf("baselines of %d monitors are outdated", len(o.Monitors))
}

// Evaluate judges a metric's new samples for all of its monitors. Where samples
// from before the last judged period changed, their series are judged again
// from the state right after fitting, and the alerts follow. Monitors with
// outdated baselines come back as Outdated; the others are judged all the same.
func (w *Watcher) Evaluate(ctx context.Context, metric int64, changedFrom time.Time) error {
	monitors, err := w.store.MonitorsOf(ctx, metric)
	if err != nil {
		return err
	}
	var outdated Outdated
	for _, m := range monitors {
		if m.Paused || m.LearnedAt == nil {
			continue
		}
		switch err := w.evaluate(ctx, m, changedFrom); {
		case errors.Is(err, detect.ErrOutdated):
			outdated.Monitors = append(outdated.Monitors, m.ID)
		case err != nil:
			return fmt.Errorf("judge %s: %w", m.Name, err)
		}
	}
	if len(outdated.Monitors) > 0 {
		return outdated
	}
	return nil
}

func (w *Watcher) evaluate(ctx context.Context, m record.Monitor, changedFrom time.Time) error {
	subject, err := Load(ctx, w.store, m)
	if err != nil {
		return err
	}
	return w.store.InTx(ctx, func(tx pgx.Tx) error {
		if err := store.LockMonitor(ctx, tx, m.ID); err != nil {
			return err
		}
		baselines, err := w.store.In(tx).Baselines(ctx, m.ID)
		if err != nil {
			return err
		}
		told := 0
		var judged []store.Judged
		from := farFuture
		for _, b := range baselines {
			start := b.JudgedTo
			if changedFrom.Before(start) {
				start = b.TrainedTo
			}
			if start.Before(from) {
				from = start
			}
		}
		samples, to, err := subject.since(ctx, w.store.In(tx), from, w.now())
		if err != nil {
			return err
		}
		for _, series := range subject.Series {
			b, fitted := baselines[series.ID]
			if !fitted {
				continue
			}
			n, j, err := w.advance(ctx, tx, subject, series, b, samples[series.ID], to, changedFrom)
			if err != nil {
				return err
			}
			if told += n; j != nil {
				judged = append(judged, *j)
			}
		}
		if err := store.PutJudged(ctx, tx, m.ID, judged); err != nil {
			return err
		}
		if told > 0 {
			return store.Notify(ctx, tx, "alerts")
		}
		return nil
	})
}

// advance steps one series through its new samples and keeps the alerts that
// follow; how far it came is for the caller to keep.
func (w *Watcher) advance(ctx context.Context, tx pgx.Tx, v *Subject, series record.Series, b record.Baseline, samples []timeline.Sample, to, changedFrom time.Time) (int, *store.Judged, error) {
	state, start := b.Judged, b.JudgedTo
	again := changedFrom.Before(b.JudgedTo)
	if again {
		state, start = b.Fitted, b.TrainedTo
	}
	e, err := detect.Load(v.Config, v.Monitor.Settings.Rule(len(v.Series)), state)
	if err != nil {
		return 0, nil, err
	}
	var changed []detect.Alert
	judgedTo := start
	step := int64(v.Grid.Period.Seconds())
	for _, s := range timeline.DenseFrom(v.Grid, start, samples, to) {
		r := e.Step(s, learn.MarkOf(v.Exclusions[series.ID], s.At, s.At+step))
		judgedTo = v.Grid.Next(time.Unix(s.At, 0))
		if r.Change == detect.None {
			continue
		}
		a, _ := e.OpenAlert()
		if n := len(changed); n > 0 && changed[n-1].Raised == a.Raised {
			changed[n-1] = a
		} else {
			changed = append(changed, a)
		}
	}
	if !judgedTo.After(start) {
		return 0, nil, nil
	}
	if err := w.keepAlerts(ctx, tx, v, series, changed, again, b.TrainedTo); err != nil {
		return 0, nil, err
	}
	blob, err := e.MarshalBinary()
	if err != nil {
		return 0, nil, err
	}
	return len(changed), &store.Judged{SeriesID: series.ID, State: blob, To: judgedTo}, nil
}

// keepAlerts writes the alerts of a stretch that was judged. Each updates the
// alert it continues: the one that overlaps it in time. When a stretch was
// judged again after a correction, an open alert that no longer follows from
// the data is closed.
func (w *Watcher) keepAlerts(ctx context.Context, tx pgx.Tx, v *Subject, series record.Series, alerts []detect.Alert, again bool, since time.Time) error {
	if len(alerts) == 0 && !again {
		return nil
	}
	known, err := w.store.In(tx).Alerts(ctx, store.AlertFilter{Series: series.ID, Monitor: v.Monitor.Name, Limit: 40})
	if err != nil {
		return err
	}
	now := w.now()
	kept := map[int64]bool{}
	for _, a := range alerts {
		row := v.AlertOf(series, a)
		if old := overlapping(known, row, kept); old != nil {
			row.ID, row.RaisedAt = old.ID, old.RaisedAt
		} else {
			row.RaisedAt = later(row.RaisedAt, now.Truncate(time.Second))
		}
		if row.ClosedAt != nil && row.ClosedAt.Before(row.RaisedAt) {
			row.ClosedAt = &row.RaisedAt
		}
		id, err := store.PutAlert(ctx, tx, row)
		if err != nil {
			return err
		}
		kept[id] = true
	}
	if err := w.filter(ctx, tx, v, slices.Collect(maps.Keys(kept))); err != nil {
		return err
	}
	if !again {
		return nil
	}
	for _, old := range known {
		if old.ClosedAt == nil && !kept[old.ID] && old.RaisedAt.After(since) && old.Cause != string(detect.Overdue) {
			old.ClosedAt, old.EndedAt, old.CloseReason = &now, &now, "corrected"
			if _, err := store.PutAlert(ctx, tx, old); err != nil {
				return err
			}
		}
	}
	return nil
}

// claim is what a cause says is wrong: that rows deviate from the band, and
// that none came, are the same claim.
func claim(cause string) string {
	if cause == string(detect.Silence) {
		return string(detect.Deviation)
	}
	return cause
}

// overlapping finds the known alert that a row continues.
func overlapping(known []record.Alert, row record.Alert, taken map[int64]bool) *record.Alert {
	for i := range known {
		old := &known[i]
		if taken[old.ID] || old.Direction != row.Direction || claim(old.Cause) != claim(row.Cause) {
			continue
		}
		if old.RaisedAt.Equal(row.RaisedAt) || old.ClosedAt == nil {
			return old
		}
		oldEnd, rowEnd := old.RaisedAt, row.RaisedAt
		if old.EndedAt != nil {
			oldEnd = later(oldEnd, *old.EndedAt)
		}
		if row.EndedAt != nil {
			rowEnd = later(rowEnd, *row.EndedAt)
		}
		if !row.Since.After(oldEnd) && !old.Since.After(rowEnd) {
			return old
		}
	}
	return nil
}
