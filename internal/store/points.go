package store

import (
	"context"
	"fmt"
	"math"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
)

// PeriodDue is a period of a series whose sample is to be made from points.
type PeriodDue struct {
	SeriesID int64     `db:"series_id"`
	MetricID int64     `db:"metric_id"`
	At       time.Time `db:"at"`
	EndsAt   time.Time `db:"ends_at"`
}

// PutPoints writes points by series and the periods that are to be made of them.
// A point sent twice counts once.
func PutPoints(ctx context.Context, tx pgx.Tx, points map[int64][]record.Point, due []PeriodDue) error {
	var ids, streams []int64
	var at []time.Time
	var shapes []int16
	var values []float64
	var weights []*float64
	for id, list := range points {
		for _, p := range list {
			ids, at, streams, shapes, values = append(ids, id), append(at, p.At), append(streams, p.Stream), append(shapes,
				int16(p.Shape)), append(values, p.Value)
			var weight *float64
			if !math.IsNaN(p.Weight) {
				weight = &p.Weight
			}
			weights = append(weights, weight)
		}
	}
	if _, err := tx.Exec(ctx, `
		insert into point (series_id, at, stream, shape, value, weight)
		select distinct on (1, 2, 3) * from unnest($1::bigint[], $2::timestamptz[], $3::bigint[], $4::smallint[], $5::float8[], $6::float8[])
		on conflict (series_id, at, stream) do update set value = excluded.value, weight = excluded.weight`, ids, at, streams,
		shapes, values, weights); err != nil {
		return fmt.Errorf("write points: %w", err)
	}
	ids, at = nil, nil
	var ends []time.Time
	for _, d := range due {
		ids, at, ends = append(ids, d.SeriesID), append(at, d.At), append(ends, d.EndsAt)
	}
	if _, err := tx.Exec(ctx, `
		insert into point_due (series_id, at, ends_at) select * from unnest($1::bigint[], $2::timestamptz[], $3::timestamptz[])
		on conflict do nothing`, ids, at, ends); err != nil {
		return fmt.Errorf("write due periods: %w", err)
	}
	return nil
}

// TakeDue takes periods that ended before an instant, in the caller's
// transaction; other processes leave them alone meanwhile.
func TakeDue(ctx context.Context, tx pgx.Tx, before time.Time, limit int) ([]PeriodDue, error) {
	rows, err := tx.Query(ctx, `
		with taken as (
			delete from point_due where (series_id, at) in (
				select series_id, at from point_due where ends_at <= $1 order by series_id, at limit $2 for update skip locked)
			returning series_id, at, ends_at)
		select taken.series_id, s.metric_id, taken.at, taken.ends_at from taken join series s on s.id = taken.series_id order by 1, 3`, before, limit)
	if err != nil {
		return nil, fmt.Errorf("take due periods: %w", err)
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[PeriodDue])
}

// Points gives the points of a series in [from, to], ascending.
func Points(ctx context.Context, tx pgx.Tx, series int64, from, to time.Time) ([]record.Point, error) {
	rows, err := tx.Query(ctx, `
		select at, stream, shape, value, coalesce(weight, 'NaN') from point
		where series_id = $1 and at >= $2 and at <= $3 order by at`, series, from, to)
	if err != nil {
		return nil, fmt.Errorf("read points: %w", err)
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[record.Point])
}

// ForgetPoints drops points older than an instant.
func (s *Store) ForgetPoints(ctx context.Context, before time.Time) error {
	return s.exec(ctx, "points", `delete from point where at < $1`, before)
}

// MetricByOTLP gives the pushed metric that takes an OTLP metric: the one that
// says so, else the one of that name.
func (s *Store) MetricByOTLP(ctx context.Context, name string) (record.Metric, error) {
	return one[record.Metric](ctx, s, "metric", name, `
		select `+metricColumns+` from metric m join dataset d on d.id = m.dataset_id
		where (m.otlp_name = $1 or m.otlp_name = '' and m.name = $1) and m.every_seconds = 0 and m.cron = '' order by m.otlp_name desc limit 1`, name)
}
