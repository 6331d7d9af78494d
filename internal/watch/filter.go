package watch

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
	"tinbell/internal/store"
)

// filter looks at alerts that opened or went on: what surrounded them, the
// chance that they are faults, and whether they are held back. One that was held
// back is told as soon as its evidence suffices; one that was told stays told.
func (w *Watcher) filter(ctx context.Context, tx pgx.Tx, v *Subject, ids []int64) error {
	if len(ids) == 0 {
		return nil
	}
	if err := store.Surround(ctx, tx, v.Monitor.ID, ids); err != nil {
		return err
	}
	how, err := w.store.In(tx).Learning(ctx)
	if err != nil || how.Model == nil || how.State == record.FilterOff {
		return err
	}
	alerts, err := store.AlertsIn(ctx, tx, ids)
	if err != nil {
		return err
	}
	for _, a := range alerts {
		chance, holds := how.Model.Chance(a.Case(v.Metric.Kind, v.Monitor.Settings, len(v.Series)), a.SeriesID, a.MonitorID)
		toldBefore := a.Chance != nil && a.Held != record.HeldBack
		held, why := record.Held(""), ""
		if holds && !v.Monitor.AlwaysTell && a.Verdict == "" && (a.Held != "" || !toldBefore) {
			held = record.HeldShadow
			if how.State == record.FilterActive && a.Held != record.HeldShadow {
				held = record.HeldBack
			}
			why = fmt.Sprintf("%.0f %% sure that it is a fault; alerts under %.0f %% are held back", 100*chance, 100*how.Model.Cut)
		}
		if err := store.PutHeld(ctx, tx, a.ID, chance, held, why); err != nil {
			return err
		}
	}
	return nil
}
