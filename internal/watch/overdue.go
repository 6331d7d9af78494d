package watch

import (
	"context"
	"errors"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/arrival"
	"tinbell/core/detect"
	"tinbell/internal/duty"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// Expected is when the next load of a dataset is due.
type Expected struct {
	Last       time.Time `json:"last" doc:"the newest load"`
	Expected   time.Time `json:"expected" doc:"half of all loads are there by then"`
	Deadline   time.Time `json:"deadline" doc:"overdue after this"`
	Confidence float64   `json:"confidence"`
	Scheduled  bool      `json:"scheduled" doc:"true if loads follow a timetable"`
	Overdue    bool      `json:"overdue"`
	pattern    *arrival.Pattern
}

// arrivalMemory is how far back loads are learned from.
const arrivalMemory = 8 * 7 * 24 * time.Hour

// NextLoad says when a dataset's next load is due under a monitor's rule.
func (w *Watcher) NextLoad(ctx context.Context, dataset int64, zone *time.Location, rule detect.Rule) (Expected, error) {
	now := w.now()
	loads, err := w.store.Loads(ctx, dataset, now.Add(-arrivalMemory), now.Add(time.Second))
	if err != nil {
		return Expected{}, err
	}
	return w.next(unixTimes(loads), zone, rule)
}

// next learns the pattern of ascending times and says when the next is due.
func (w *Watcher) next(times []int64, zone *time.Location, rule detect.Rule) (Expected, error) {
	pattern, err := arrival.Learn(times, zone)
	if err != nil {
		return Expected{}, err
	}
	return expect(pattern, times[len(times)-1], rule, w.now()), nil
}

// expect says when the arrival after the last one is due.
func expect(pattern *arrival.Pattern, last int64, rule detect.Rule, now time.Time) Expected {
	rule = rule.Normal()
	confidence := pattern.Confidence(detect.Budget(rule.Warn, rule.Series))
	expected, deadline := pattern.Wait(last, rule)
	return Expected{
		Last: time.Unix(last, 0).UTC(), Expected: time.Unix(expected, 0).UTC(), Deadline: time.Unix(deadline, 0).UTC(),
		Confidence: confidence, Scheduled: pattern.Scheduled, Overdue: now.Unix() > deadline, pattern: pattern,
	}
}

// patternsLast is how long a pattern of arrivals is kept that no fit renews.
const patternsLast = 6 * time.Hour

// Overdue opens and closes the overdue alerts of all arrival monitors.
func (w *Watcher) Overdue(ctx context.Context) error {
	monitors, err := w.store.Monitors(ctx)
	if err != nil {
		return err
	}
	monitors = slices.DeleteFunc(monitors, func(m record.Monitor) bool {
		return m.Settings.Method != record.MethodArrival || m.Paused || m.LearnedAt == nil
	})
	named := func(m record.Monitor) string { return "monitor " + m.Name }
	return duty.Each(ctx, monitors, named, func(m record.Monitor) error { return w.overdue(ctx, m) })
}

// overdue judges one monitor's arrivals by the pattern that was learned when it
// was fitted; most of the time the newest load is all there is to read.
func (w *Watcher) overdue(ctx context.Context, m record.Monitor) error {
	now := w.now()
	metric, err := w.store.MetricByID(ctx, m.MetricID)
	if err != nil {
		return err
	}
	grid, err := metric.Grid()
	if err != nil {
		return err
	}
	pattern, err := w.patterns.of(patternKey{"monitor", m.ID}, *m.LearnedAt, patternsLast, func() (*arrival.Pattern, error) {
		loads, err := w.store.Loads(ctx, metric.DatasetID, now.Add(-arrivalMemory), now.Add(time.Second))
		if err != nil {
			return nil, err
		}
		return arrival.Learn(unixTimes(loads), grid.Zone)
	})
	if few := (arrival.TooFew{}); errors.As(err, &few) {
		return nil
	}
	if err != nil {
		return err
	}
	last, err := w.store.LastLoad(ctx, metric.DatasetID, now.Add(time.Second))
	if err != nil || last.IsZero() {
		return err
	}
	rule := m.ArrivalRule()
	next := expect(pattern, last.Unix(), rule, now)
	if told, err := w.store.HasOpen(ctx, m.ID, detect.Overdue); err != nil || !next.Overdue && !told {
		return err
	}
	v, err := Load(ctx, w.store, m)
	if err != nil || len(v.Series) == 0 {
		return err
	}
	return w.store.InTx(ctx, func(tx pgx.Tx) error {
		if err := store.LockMonitor(ctx, tx, m.ID); err != nil {
			return err
		}
		open, err := w.store.In(tx).Alerts(ctx, store.AlertFilter{State: "open", Monitor: m.Name})
		if err != nil {
			return err
		}
		var told *record.Alert
		for i := range open {
			if open[i].Cause == detect.Overdue {
				told = &open[i]
			}
		}
		a, late := next.pattern.Overdue(next.Last.Unix(), 0, now.Unix(), rule)
		switch {
		case late && told == nil && !v.Muted(now.Unix()):
			row := v.AlertOf(v.Series[0], a)
			row.RaisedAt = now.Truncate(time.Second)
			_, err = store.PutAlert(ctx, tx, row)
		case late && told != nil && a.Severity != told.Severity:
			row := v.AlertOf(v.Series[0], a)
			row.ID, row.RaisedAt = told.ID, told.RaisedAt
			_, err = store.PutAlert(ctx, tx, row)
		case told != nil && next.Last.After(told.Since):
			told.EndedAt, told.ClosedAt, told.CloseReason = &next.Last, &now, "recovered"
			told.Observed = next.Last.Sub(told.Since).Seconds() + told.Expected
			told.Sentence = v.overdueSentence(*told)
			_, err = store.PutAlert(ctx, tx, *told)
		default:
			return nil
		}
		if err != nil {
			return err
		}
		return store.Notify(ctx, tx, store.TopicAlerts)
	})
}
