// Package answer takes what people say: labels on alerts, incidents, and
// planned events. Whatever changes what a baseline may learn from asks for the
// affected monitors to be fitted again.
package answer

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
	"tinbell/internal/store"
	"tinbell/internal/work"
)

// Desk is where answers are given.
type Desk struct {
	store *store.Store
	queue *work.Queue
	now   func() time.Time
}

func New(s *store.Store, q *work.Queue, now func() time.Time) *Desk { return &Desk{s, q, now} }

// Label gives one verdict on one or many alerts; an empty verdict takes the
// label back. At is when it was given: now if zero, never in the future.
func (d *Desk) Label(ctx context.Context, alerts []int64, l record.Label) error {
	if len(alerts) == 0 {
		return record.Invalid{Field: "alerts", Given: "", Allowed: "at least one alert"}
	}
	switch l.Verdict {
	case record.Fault, record.Noise, record.Planned, "":
	default:
		return record.Invalid{Field: "verdict", Given: l.Verdict, Allowed: "fault, noise or planned; empty takes the label back"}
	}
	now := d.now().UTC()
	if l.At.IsZero() {
		l.At = now
	}
	if l.At.After(now.Add(time.Minute)) {
		return record.Invalid{Field: "at", Given: l.At.Format(time.RFC3339), Allowed: "the time the label was given, not in the future"}
	}
	return d.store.InTx(ctx, func(tx pgx.Tx) error {
		if err := store.AddLabels(ctx, tx, alerts, l); err != nil {
			return err
		}
		monitors, err := store.MonitorsOfAlerts(ctx, tx, alerts)
		if err != nil {
			return err
		}
		if err := d.learnAgain(ctx, tx, monitors); err != nil {
			return err
		}
		return store.Notify(ctx, tx, "alerts")
	})
}

func (d *Desk) learnAgain(ctx context.Context, tx pgx.Tx, monitors []int64) error {
	for _, id := range monitors {
		if err := d.queue.Put(ctx, tx, work.Learn{MonitorID: id, Asked: d.now().UTC()}); err != nil {
			return err
		}
	}
	return nil
}
