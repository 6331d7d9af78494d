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
	"tinbell/core/replay"
	"tinbell/core/timeline"
	"tinbell/internal/contain"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// Outdated names monitors whose stored baselines must be fitted again before
// they can judge.
type Outdated struct{ Monitors []int64 }

func (o Outdated) Error() string {
	return fmt.Sprintf("baselines of %d monitors are outdated", len(o.Monitors))
}

// Changed says from when on samples of a metric may be new or corrected, and of
// which series even earlier.
type Changed struct {
	From time.Time
	Late map[int64]time.Time
}

// nothing stands for no change at all: only what was not judged yet is.
var nothing = Changed{From: farFuture}

// of gives from when on each of some series may have changed.
func (c Changed) of(series []int64) []time.Time {
	from := make([]time.Time, len(series))
	for i, id := range series {
		if from[i] = c.From; !c.Late[id].IsZero() {
			from[i] = timeline.Earlier(from[i], c.Late[id])
		}
	}
	return from
}

// Evaluate judges a metric's new samples for all of its monitors. Where samples
// from before the last judged period changed, their series are judged again
// from the state right after fitting, and the alerts follow. Monitors with
// outdated baselines come back as Outdated; the others are judged all the same.
func (w *Watcher) Evaluate(ctx context.Context, metric int64, c Changed) error {
	monitors, err := w.store.MonitorsOf(ctx, metric)
	if err != nil {
		return err
	}
	var outdated Outdated
	var failed []error
	for _, m := range monitors {
		if m.Paused || m.LearnedAt == nil {
			continue
		}
		switch err := contain.Run(func() error { return w.evaluate(ctx, m, c) }); {
		case errors.Is(err, detect.ErrOutdated):
			outdated.Monitors = append(outdated.Monitors, m.ID)
		case err != nil:
			failed = append(failed, fmt.Errorf("judge %s: %w", m.Name, err))
		}
	}
	if len(outdated.Monitors) > 0 {
		failed = append(failed, outdated)
	}
	return errors.Join(failed...)
}

// evaluate judges what is new of a monitor's series, some at a time. Series that
// have no baseline yet are fitted as soon as they can be.
func (w *Watcher) evaluate(ctx context.Context, m record.Monitor, c Changed) error {
	subject, err := Load(ctx, w.store, m)
	if err != nil {
		return err
	}
	var outdated error
	for part := range slices.Chunk(subject.Series, subject.together()) {
		unfitted, err := w.judgeSome(ctx, subject, part, c)
		if errors.Is(err, detect.ErrOutdated) {
			outdated = err
			continue
		}
		if err != nil {
			return err
		}
		begun, err := w.begin(ctx, subject, unfitted, c)
		if err == nil && len(begun) > 0 {
			_, err = w.judgeSome(ctx, subject, begun, nothing)
		}
		if err != nil {
			return err
		}
	}
	return outdated
}

// judgeSome judges some series in one transaction, and gives those that have no
// baseline.
func (w *Watcher) judgeSome(ctx context.Context, v *Subject, part []record.Series, c Changed) (unfitted []record.Series, err error) {
	ids := make([]int64, len(part))
	for i, series := range part {
		ids[i] = series.ID
	}
	err = w.store.InTx(ctx, func(tx pgx.Tx) error {
		unfitted = unfitted[:0]
		if err := store.LockMonitor(ctx, tx, v.Monitor.ID); err != nil {
			return err
		}
		baselines, err := w.store.In(tx).BaselinesBehind(ctx, v.Monitor.ID, ids, c.of(ids), timeline.Later(v.SettledTo(w.now()),
			v.Grid.Floor(w.now())))
		if err != nil {
			return err
		}
		from := farFuture
		for _, b := range baselines {
			if idle(b) {
				continue
			}
			from = timeline.Earlier(from, stands(b))
		}
		samples, to, err := v.since(ctx, w.store.In(tx), ids, from, w.now())
		if err != nil {
			return err
		}
		told := 0
		var judged []store.Judged
		for _, series := range part {
			b, known := baselines[series.ID]
			switch {
			case !known:
				unfitted = append(unfitted, series)
				continue
			case idle(b):
				continue
			}
			n, j, err := w.advance(ctx, tx, v, series, b, samples[series.ID], to)
			if err != nil {
				return err
			}
			if told += n; j != nil {
				judged = append(judged, *j)
			}
		}
		if err := store.PutJudged(ctx, tx, v.Monitor.ID, judged); err != nil {
			return err
		}
		if told > 0 {
			return store.Notify(ctx, tx, store.TopicAlerts)
		}
		return nil
	})
	return unfitted, err
}

// stepped is what stepping through new samples came to.
type stepped struct {
	changed []detect.Alert
	returns []comeback
	state   []byte
	to      time.Time
	refit   *time.Time // goes with the state
}

// note keeps an evaluator's alert as it is now.
func (r *stepped) note(e *detect.Evaluator) {
	a, _ := e.OpenAlert()
	if n := len(r.changed); n > 0 && r.changed[n-1].Raised == a.Raised {
		r.changed[n-1] = a
	} else {
		r.changed = append(r.changed, a)
	}
}

// comeback is something told before that came back and went.
type comeback struct {
	since, end int64
	times      int
}

// advance steps one series through its new samples and keeps the alerts that
// follow; how far it came is for the caller to keep. A series that breaks off is
// kept as failed, and leaves the others alone.
func (w *Watcher) advance(ctx context.Context, tx pgx.Tx, v *Subject, series record.Series, b record.Baseline,
	samples []timeline.Sample, to time.Time) (int, *store.Judged, error) {
	start, told := stands(b), b.JudgedTo
	if b.Again {
		told = start
	}
	found, err := contain.Get(func() (stepped, error) { return v.step(series, b, samples, to) })
	if broke := (*contain.Panic)(nil); errors.As(err, &broke) {
		w.log.ErrorContext(ctx, "a series could not be judged", "monitor", v.Monitor.Name, "segment", series.Segment,
			"samples", len(samples), "error", err, "stack", broke.Stack)
		return 0, nil, w.failed(ctx, tx, v, series, err)
	}
	if err != nil || !found.to.After(told) {
		return 0, nil, err
	}
	rows := make([]record.Alert, len(found.changed))
	for i, a := range found.changed {
		rows[i] = v.AlertOf(series, a)
	}
	if err := w.keepAlerts(ctx, tx, v, series, rows, again{start, b.Again}); err != nil {
		return 0, nil, err
	}
	for _, c := range found.returns {
		if err := store.CountReturn(ctx, tx, v.Monitor.ID, series.ID, time.Unix(c.since, 0).UTC(), c.times,
			time.Unix(c.end, 0).UTC()); err != nil {
			return 0, nil, err
		}
	}
	return len(rows) + len(found.returns), &store.Judged{SeriesID: series.ID, State: found.state, To: found.to,
		RefitAt: found.refit}, nil
}

// idle tells whether nothing is new of a series.
func idle(b record.Baseline) bool { return len(b.Judged) == 0 && len(b.Fitted) == 0 }

// stands is up to when a stored state stands.
func stands(b record.Baseline) time.Time {
	if b.StateTo != nil {
		return *b.StateTo
	}
	return b.JudgedTo
}

// keptEvery is after how many periods the state of a series is kept at the latest.
// A state of minutes is large, and stepping it forward a few of them again is
// cheap.
func (v *Subject) keptEvery() int64 { return int64(min(max(v.Grid.PerDay()/96, 1), 15)) }

// step loads an evaluator and steps it through samples. What changed where it was
// stepped through before is known, unless that is judged again.
func (v *Subject) step(series record.Series, b record.Baseline, samples []timeline.Sample, to time.Time) (stepped, error) {
	state, start, told := b.Judged, stands(b), b.JudgedTo
	if len(b.Fitted) > 0 {
		state = b.Fitted
	}
	if b.Again {
		told = start
	}
	e, err := detect.Load(v.Config, v.Rule(series), state)
	if err != nil {
		return stepped{}, err
	}
	if timeline.TooFar(v.Grid, start, to) {
		return stepped{}, fmt.Errorf("%w: nothing was judged since %s", detect.ErrOutdated, start.Format(time.DateOnly))
	}
	r := stepped{to: start}
	for _, s := range timeline.DenseFrom(v.Grid, start, samples, to) {
		if replay.Settle(e, v.Exclusions[series.ID], s.At) && s.At >= told.Unix() {
			r.note(e)
		}
		reading := e.Step(s, replay.MarkOf(v.Exclusions[series.ID], s.At, v.Grid.End(s.At)))
		r.to = v.Grid.Next(time.Unix(s.At, 0))
		if reading.Change == detect.None || s.At < told.Unix() {
			continue
		}
		if reading.Change == detect.Recurred {
			if since, times, end, ok := e.Returned(); ok {
				r.returns = append(r.returns, comeback{since, end, times})
			}
			continue
		}
		r.note(e)
	}
	if a, open := e.OpenAlert(); b.Again && open && len(r.changed) == 0 {
		r.changed = append(r.changed, a) // it was raised before, and still follows
	}
	// Some of the series of a metric in each period, not all in one.
	step := int64(v.Grid.Period.Seconds())
	if period := r.to.Unix() / step; len(r.changed) > 0 || len(r.returns) > 0 || period-start.Unix()/step >= v.keptEvery() ||
		(period+series.ID)%v.keptEvery() == 0 {
		r.state, err = e.MarshalBinary()
		r.refit = v.refitAt(e)
	}
	return r, err
}

// again says whether a stretch was judged a second time, and from when on.
type again struct {
	since time.Time
	yes   bool
}

// keepAlerts writes the alerts of a stretch that was judged. Each updates the
// alert it continues: the one that overlaps it in time. When the stretch was
// judged again, an open alert that no longer follows from the data is closed.
func (w *Watcher) keepAlerts(ctx context.Context, tx pgx.Tx, v *Subject, series record.Series, rows []record.Alert, a again) error {
	if len(rows) == 0 && !a.yes {
		return nil
	}
	from := a.since
	for _, row := range rows {
		from = timeline.Earlier(from, row.Since)
	}
	known, err := w.store.In(tx).AlertsFrom(ctx, v.Monitor.ID, series.ID, from)
	if err != nil {
		return err
	}
	now := w.now()
	kept, raised := map[int64]bool{}, map[string]bool{}
	for _, old := range known {
		raised[string(old.Cause)+old.RaisedAt.String()] = true
	}
	for _, row := range rows {
		if old := overlapping(known, row, kept); old != nil {
			row.ID, row.RaisedAt = old.ID, old.RaisedAt
		} else {
			if !row.FromHistory {
				row.RaisedAt = timeline.Later(row.RaisedAt, now.Truncate(time.Second)).UTC()
			}
			// Several that become known at once are raised one after another.
			for raised[string(row.Cause)+row.RaisedAt.String()] {
				row.RaisedAt = row.RaisedAt.Add(time.Second)
			}
			raised[string(row.Cause)+row.RaisedAt.String()] = true
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
	if !a.yes {
		return nil
	}
	for _, old := range known {
		if old.ClosedAt == nil && !kept[old.ID] && !old.RaisedAt.Before(a.since) && old.Cause != detect.Overdue {
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
func claim(cause detect.Cause) detect.Cause {
	if cause == detect.Silence {
		return detect.Deviation
	}
	return cause
}

// overlapping finds the known alert that a row continues: the one that was raised
// at the same time, else one that overlaps it. What is open has no end yet.
func overlapping(known []record.Alert, row record.Alert, taken map[int64]bool) *record.Alert {
	var found *record.Alert
	for i := range known {
		old := &known[i]
		if taken[old.ID] || old.Direction != row.Direction || claim(old.Cause) != claim(row.Cause) {
			continue
		}
		if old.RaisedAt.Equal(row.RaisedAt) {
			return old
		}
		if found == nil && !row.Since.After(lasted(*old)) && !old.Since.After(lasted(row)) {
			found = old
		}
	}
	return found
}

// lasted is up to when an alert claims that something is wrong.
func lasted(a record.Alert) time.Time {
	switch {
	case a.ClosedAt == nil:
		return farFuture
	case a.EndedAt != nil:
		return timeline.Later(a.RaisedAt, *a.EndedAt)
	}
	return a.RaisedAt
}
