package watch

import (
	"context"
	"time"

	"tinbell/core/arrival"
	"tinbell/core/replay"
	"tinbell/core/timeline"
	"tinbell/internal/record"
	"tinbell/internal/store"

	"github.com/jackc/pgx/v5"
)

// walkArrivals keeps the overdue alerts of the past.
func (w *Watcher) walkArrivals(ctx context.Context, tx pgx.Tx, v *Subject, now time.Time) error {
	loads, err := w.store.In(tx).Loads(ctx, v.Metric.DatasetID, time.Time{}, now)
	if err != nil || len(loads) == 0 || len(v.Series) == 0 {
		return err
	}
	rule := v.Monitor.ArrivalRule()
	from := loads[0].At.Add(v.WarmUp())
	alerts := arrival.Walk(unixTimes(loads), v.Grid.Zone, rule, from.Unix(), now.Unix(), replay.RefitEvery, v.Muted)
	for _, a := range alerts {
		row := v.AlertOf(v.Series[0], a)
		row.FromHistory = true
		if _, err := store.PutAlert(ctx, tx, row); err != nil {
			return err
		}
	}
	return nil
}

// Muted tells whether an instant is on a holiday or under a planned event that
// was known: a load that does not come then is not overdue.
func (v *Subject) Muted(at int64) bool {
	y, m, d := time.Unix(at, 0).In(v.Grid.Zone).Date()
	if v.Config.Holidays[y*10000+int(m)*100+d] {
		return true
	}
	return len(v.Series) > 0 && replay.MarkOf(v.Exclusions[v.Series[0].ID], at, at+1) != timeline.Judged
}

func unixTimes(loads []record.Load) []int64 {
	times := make([]int64, len(loads))
	for i, l := range loads {
		times[i] = l.At.Unix()
	}
	return times
}
