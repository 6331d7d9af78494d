package chart

import (
	"context"
	"slices"
	"time"

	"tinbell/internal/record"
	"tinbell/internal/store"
)

// shownAlike is how many earlier alerts are shown beside one.
const shownAlike = 6

// Alike gives earlier alerts like one: of the same series, then of the same
// monitor; of an alert without a monitor, those about the same. Newest first.
func (r *Reader) Alike(ctx context.Context, a record.Alert) ([]record.Alert, error) {
	like := []store.AlertFilter{{Series: a.SeriesID, Limit: shownAlike}, {Monitor: a.Monitor, Limit: 2 * shownAlike}}
	if !a.Judged() {
		like = []store.AlertFilter{{About: store.AboutOf(a), Limit: shownAlike}}
	}
	found := []record.Alert{}
	for _, f := range like {
		f.To = a.RaisedAt
		list, err := r.store.Alerts(ctx, f)
		if err != nil {
			return nil, err
		}
		for _, other := range list {
			known := slices.ContainsFunc(found, func(x record.Alert) bool { return x.ID == other.ID })
			if other.ID != a.ID && !known && len(found) < shownAlike {
				found = append(found, other)
			}
		}
	}
	return found, nil
}

// Around is the stretch of a series that shows an alert: six days of it before,
// or as many periods as fit, up to a while after now or its end.
func Around(a record.Alert, now time.Time) (from, to time.Time) {
	wide := max(time.Duration(a.PeriodSeconds)*time.Second*24, 24*time.Hour)
	from, to = a.Since.Add(-6*wide), now.Add(wide/4)
	if a.ClosedAt != nil {
		to = a.ClosedAt.Add(wide)
	}
	if longest := 21 * wide; to.Sub(from) > longest {
		from = to.Add(-longest)
	}
	return from, to
}
