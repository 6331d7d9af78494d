package watch

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/arrival"
	"tinbell/core/detect"
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
	rule = rule.Normal()
	confidence := pattern.Confidence(detect.Budget(rule.Warn, rule.Series))
	last := times[len(times)-1]
	expected, deadline := pattern.Due(last, confidence)
	return Expected{
		Last: time.Unix(last, 0).UTC(), Expected: time.Unix(expected, 0).UTC(), Deadline: time.Unix(deadline, 0).UTC(),
		Confidence: confidence, Scheduled: pattern.Scheduled, Overdue: w.now().Unix() > deadline, pattern: pattern,
	}, nil
}

// Overdue opens and closes the overdue alerts of all arrival monitors.
func (w *Watcher) Overdue(ctx context.Context) error {
	monitors, err := w.store.Monitors(ctx)
	if err != nil {
		return err
	}
	for _, m := range monitors {
		if m.Settings.Method != "arrival" || m.Paused || m.LearnedAt == nil {
			continue
		}
		if err := w.overdue(ctx, m); err != nil {
			return fmt.Errorf("judge arrivals for %s: %w", m.Name, err)
		}
	}
	return nil
}

func (w *Watcher) overdue(ctx context.Context, m record.Monitor) error {
	v, err := Load(ctx, w.store, m)
	if err != nil || len(v.Series) == 0 {
		return err
	}
	rule := m.Settings.Rule(1)
	next, err := w.NextLoad(ctx, v.Metric.DatasetID, v.Grid.Zone, rule)
	var few arrival.TooFew
	if errors.As(err, &few) {
		return nil
	}
	if err != nil {
		return err
	}
	now := w.now()
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
			if open[i].Cause == string(detect.Overdue) {
				told = &open[i]
			}
		}
		a, late := next.pattern.Overdue(next.Last.Unix(), 0, now.Unix(), rule)
		switch {
		case late && told == nil && !v.Muted(now.Unix()):
			row := v.AlertOf(v.Series[0], a)
			row.RaisedAt = now.Truncate(time.Second)
			_, err = store.PutAlert(ctx, tx, row)
		case late && told != nil && string(a.Severity) != told.Severity:
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
		return store.Notify(ctx, tx, "alerts")
	})
}
