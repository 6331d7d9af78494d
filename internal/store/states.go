package store

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
)

// SeriesStates gives why a monitor cannot judge some of its series, by series;
// those it can judge have none.
func (s *Store) SeriesStates(ctx context.Context, monitor int64, series []int64) (map[int64]record.SeriesState, error) {
	list, err := many[record.SeriesState](ctx, s, "states",
		`select * from series_state where monitor_id = $1 and series_id = any($2)`, monitor, series)
	states := make(map[int64]record.SeriesState, len(list))
	for _, v := range list {
		states[v.SeriesID] = v
	}
	return states, err
}

// StatesOf gives the series that a monitor cannot judge, with their segments.
func (s *Store) StatesOf(ctx context.Context, monitor int64, limit int) ([]record.SeriesState, error) {
	return many[record.SeriesState](ctx, s, "states", `
		select w.*, s.segment from series_state w join series s on s.id = w.series_id where w.monitor_id = $1
		order by w.state, w.since, s.segment limit $2`, monitor, limit)
}

// PutSeriesState keeps that a series cannot be judged; since when stays while it
// is for the same kind of reason.
func PutSeriesState(ctx context.Context, tx pgx.Tx, v record.SeriesState) error {
	_, err := tx.Exec(ctx, `
		insert into series_state (monitor_id, series_id, state, since, message, tried_at, first_at, ready_at) values ($1, $2, $3, $4, $5, $6, $7, $8)
		on conflict (monitor_id, series_id) do update set state = excluded.state, message = excluded.message, tried_at = excluded.tried_at,
			first_at = excluded.first_at, ready_at = excluded.ready_at,
			since = case when series_state.state = excluded.state then series_state.since else excluded.since end`,
		v.MonitorID, v.SeriesID, v.State, v.Since, v.Message, v.TriedAt, v.FirstAt, v.ReadyAt)
	if err != nil {
		return fmt.Errorf("write state of series: %w", err)
	}
	return nil
}

// ClearSeriesState keeps that a series can be judged.
func ClearSeriesState(ctx context.Context, tx pgx.Tx, monitor, series int64) error {
	_, err := tx.Exec(ctx, `delete from series_state where monitor_id = $1 and series_id = $2`, monitor, series)
	return err
}

// ReadyToFit gives those of some series without a baseline that may have enough
// samples by now: that were never tried, have one from when on they may be
// ready, got one before their first, or broke off long enough ago.
func (s *Store) ReadyToFit(ctx context.Context, monitor int64, series []int64, changedFrom []time.Time,
	failedBefore time.Time) (map[int64]bool, error) {
	list, err := many[int64](ctx, s, "series", `
		select s.id from unnest($2::bigint[], $3::timestamptz[]) as s(id, changed)
		left join series_state w on w.monitor_id = $1 and w.series_id = s.id
		where case w.state
			when 'failed' then w.tried_at < $4
			when 'waiting' then s.changed < w.first_at or exists (select from sample where series_id = s.id and at >= w.ready_at)
			else exists (select from sample where series_id = s.id) or exists (select from sample_day where series_id = s.id) end`,
		monitor, series, changedFrom, failedBefore)
	ready := make(map[int64]bool, len(list))
	for _, id := range list {
		ready[id] = true
	}
	return ready, err
}

// LateChange is from when on a series' samples changed, before what a monitor's
// baseline was fitted to.
type LateChange struct {
	SeriesID int64     `db:"series_id"`
	From     time.Time `db:"from_at"`
}

// PutLate keeps that series changed far back, for the monitors whose baselines were
// fitted to that, and tells how many such there are.
func PutLate(ctx context.Context, tx pgx.Tx, first map[int64]time.Time) (int64, error) {
	if len(first) == 0 {
		return 0, nil
	}
	ids := slices.Sorted(maps.Keys(first))
	from := make([]time.Time, len(ids))
	for i, id := range ids {
		from[i] = first[id]
	}
	if err := lockSeries(ctx, tx, ids); err != nil {
		return 0, err
	}
	if _, err := tx.Exec(ctx, `update series set late = late + 1 where id = any($1)`, ids); err != nil {
		return 0, fmt.Errorf("write late changes: %w", err)
	}
	result, err := tx.Exec(ctx, `
		insert into late_change (monitor_id, series_id, from_at)
		select b.monitor_id, b.series_id, c.at from unnest($1::bigint[], $2::timestamptz[]) as c(id, at) join baseline b on b.series_id = c.id
		where c.at < b.trained_to order by 1, 2
		on conflict (monitor_id, series_id) do update set from_at = least(late_change.from_at, excluded.from_at)`, ids, from)
	if err != nil {
		return 0, fmt.Errorf("write late changes: %w", err)
	}
	return result.RowsAffected(), nil
}

// LateCounts tells how often some series changed far back.
func (s *Store) LateCounts(ctx context.Context, series []int64) (map[int64]int, error) {
	type row struct {
		ID   int64 `db:"id"`
		Late int   `db:"late"`
	}
	list, err := many[row](ctx, s, "series", `select id, late from series where id = any($1)`, series)
	counts := make(map[int64]int, len(list))
	for _, r := range list {
		counts[r.ID] = r.Late
	}
	return counts, err
}

// LateSince keeps, for series that changed far back since they were counted, that
// all of what a monitor's baseline was fitted to may have changed.
func LateSince(ctx context.Context, tx pgx.Tx, monitor int64, counts map[int64]int) error {
	ids, were := make([]int64, 0, len(counts)), make([]int, 0, len(counts))
	for id, n := range counts {
		ids, were = append(ids, id), append(were, n)
	}
	_, err := tx.Exec(ctx, `
		insert into late_change (monitor_id, series_id, from_at)
		select b.monitor_id, b.series_id, b.trained_from from unnest($2::bigint[], $3::int[]) as c(id, late)
		join series s on s.id = c.id and s.late > c.late join baseline b on b.series_id = c.id and b.monitor_id = $1
		on conflict (monitor_id, series_id) do update set from_at = least(late_change.from_at, excluded.from_at)`, monitor, ids, were)
	if err != nil {
		return fmt.Errorf("write late changes: %w", err)
	}
	return nil
}

// LateChanges gives some series that changed before what a monitor's baselines were
// fitted to.
func (s *Store) LateChanges(ctx context.Context, monitor int64, limit int) ([]LateChange, error) {
	return many[LateChange](ctx, s, "late changes", `
		select series_id, from_at from late_change where monitor_id = $1 order by series_id limit $2`, monitor, limit)
}

// ForgetLate drops late changes that were judged, unless the series changed even
// further back meanwhile.
func (s *Store) ForgetLate(ctx context.Context, monitor int64, done []LateChange) error {
	ids, from := make([]int64, len(done)), make([]time.Time, len(done))
	for i, c := range done {
		ids[i], from[i] = c.SeriesID, c.From
	}
	return s.exec(ctx, "late changes", `
		delete from late_change using unnest($2::bigint[], $3::timestamptz[]) as d(id, at)
		where monitor_id = $1 and series_id = d.id and from_at >= d.at`, monitor, ids, from)
}

// LateMetrics gives the metrics with series that are to be judged again.
func (s *Store) LateMetrics(ctx context.Context) ([]int64, error) {
	return many[int64](ctx, s, "late changes",
		`select distinct v.metric_id from late_change c join monitor v on v.id = c.monitor_id where not v.paused`)
}
