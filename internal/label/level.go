package label

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
	"tinbell/internal/store"
)

// NewNormal takes a person's word that what a series shows since an alert began
// is its new normal: the alert closes, and the baseline goes on from the level
// seen since. The word counts for refits and backtests from now on.
func (d *Desk) NewNormal(ctx context.Context, alert int64, author string) (record.Alert, error) {
	a, err := d.store.Alert(ctx, alert)
	if err != nil {
		return a, err
	}
	if !a.Judged() {
		return a, record.Invalid{Field: "alert", Given: fmt.Sprint(alert),
			Allowed: "an alert of a monitor; this one is about a source, a table or a job, which has no level"}
	}
	if a.Cause == "overdue" || a.Cause == "missing" || a.Cause == "silence" {
		return a, record.Invalid{Field: "alert", Given: fmt.Sprintf("%d, opened by the %s rule", alert, a.Cause),
			Allowed: "an alert about a changed level; nothing arriving can be no normal"}
	}
	now := d.now().UTC().Truncate(time.Second)
	to := now
	if a.EndedAt != nil && a.EndedAt.After(a.Since) {
		to = *a.EndedAt
	}
	if !to.After(a.Since) {
		return a, record.Invalid{Field: "alert", Given: fmt.Sprint(alert), Allowed: "an alert that has lasted at least a period"}
	}
	err = d.store.InTx(ctx, func(tx pgx.Tx) error {
		if err := store.AddLevelChange(ctx, tx, record.LevelChange{SeriesID: a.SeriesID, FromAt: a.Since, ToAt: to,
			Author: author, KnownAt: now}); err != nil {
			return err
		}
		if a.ClosedAt == nil {
			a.EndedAt, a.ClosedAt, a.CloseReason = &now, &now, "level_adopted"
			if _, err := store.PutAlert(ctx, tx, a); err != nil {
				return err
			}
		}
		if err := d.setup.LearnAgain(ctx, tx, []int64{a.MonitorID}); err != nil {
			return err
		}
		return store.Notify(ctx, tx, store.TopicAlerts)
	})
	return a, err
}
