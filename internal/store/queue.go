package store

import (
	"context"
	"fmt"
	"time"

	"tinbell/internal/record"
)

// Tally counts the alerts of monitors by what people said of them.
type Tally struct {
	Waiting int `db:"waiting"`
	Faults  int `db:"faults"`
	Noise   int `db:"noise"`
}

// unanswered are the alerts that nobody has said anything of and no event
// explains.
const unanswered = `a.monitor_id is not null and a.verdict = '' and not a.planned`

// unsure is how far the chance of an alert to be a fault is from a half, written as in the
// index that the queue is read by.
const unsure = `abs(coalesce(a.chance, 0.5) - 0.5)`

// TallyLabels counts answers, and of a monitor, or of all, what waits for one.
func (s *Store) TallyLabels(ctx context.Context, monitor string) (Tally, error) {
	return one[Tally](ctx, s, "labels", "", `
		select (select count(*) from alert a where `+unanswered+
		` and ($1 = '' or a.monitor_id = (select id from monitor where name = $1)))::int as waiting,
			count(*) filter (where verdict = 'fault')::int as faults, count(*) filter (where verdict = 'noise')::int as noise
		from alert where monitor_id is not null and verdict in ('fault', 'noise')`, monitor)
}

// LeastSure reads the unanswered alerts of a monitor ($1; empty: of all) that the filter is
// least sure of: $2 at most, $3 of each monitor. They are chosen before anything is joined
// to them: as a subquery they would be looked up among all alerts with all their names.
var LeastSure = withEvidence + `
	where a.id = any (array(
		select x.id from monitor m cross join lateral (
			select a.id, ` + unsure + ` as unsure from alert a where a.monitor_id = m.id and ` + unanswered + `
			order by ` + unsure + `, a.raised_at desc limit $3) x
		where $1 = '' or m.name = $1 order by x.unsure, x.id desc limit $2))
	order by a.raised_at desc, a.id desc`

// Unsure gives the unanswered alerts, with their evidence, whose chance to be a
// fault is nearest to a half, at most so many, and of each monitor at most so
// many.
func (s *Store) Unsure(ctx context.Context, monitor string, limit, each int) ([]record.Alert, error) {
	return many[record.Alert](ctx, s, "alerts", LeastSure, monitor, limit, each)
}

// SameDisturbance gives unanswered alerts of the same dataset and direction that
// were raised within a time of one, at most so many, the nearest first.
func (s *Store) SameDisturbance(ctx context.Context, of record.Alert, within time.Duration, limit int) ([]record.Alert, error) {
	return many[record.Alert](ctx, s, "alerts", alertSelect+fmt.Sprintf(`
		where `+unanswered+` and a.id <> $1 and a.direction = $2 and d.name = $3 and a.raised_at >= $4 and a.raised_at <= $5
		order by abs(extract(epoch from a.raised_at - $6::timestamptz)), a.id limit %d`, limit),
		of.ID, of.Direction, of.Dataset, of.RaisedAt.Add(-within), of.RaisedAt.Add(within), of.RaisedAt)
}

// Answered counts the answers about each monitor and each series.
func (s *Store) Answered(ctx context.Context) (byMonitor, bySeries map[int64]int, err error) {
	type row struct {
		Monitor int64 `db:"monitor_id"`
		Series  int64 `db:"series_id"`
		N       int   `db:"n"`
	}
	list, err := many[row](ctx, s, "labels", `
		select monitor_id, series_id, count(*)::int as n from alert where monitor_id is not null and verdict in ('fault', 'noise') group by 1, 2`)
	byMonitor, bySeries = map[int64]int{}, map[int64]int{}
	for _, r := range list {
		byMonitor[r.Monitor] += r.N
		bySeries[r.Series] += r.N
	}
	return byMonitor, bySeries, err
}
