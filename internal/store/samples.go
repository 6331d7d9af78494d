package store

import (
	"context"
	"fmt"
	"math"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/timeline"
	"tinbell/internal/record"
)

// PutSamples writes samples in the caller's transaction: a sample sent twice
// counts once, a corrected value replaces the old one. It gives how many were
// new or changed and the start of the earliest changed period.
func PutSamples(ctx context.Context, tx pgx.Tx, samples []record.Sample) (changed int64, earliest time.Time, err error) {
	if len(samples) == 0 {
		return 0, time.Time{}, nil
	}
	if _, err := tx.Exec(ctx, `
		create temp table if not exists incoming
			(n bigint, series_id bigint, at timestamptz, value double precision, rows double precision) on commit drop;
		truncate incoming`); err != nil {
		return 0, earliest, fmt.Errorf("prepare samples: %w", err)
	}
	rows := pgx.CopyFromSlice(len(samples), func(i int) ([]any, error) {
		v := &samples[i]
		return []any{int64(i), v.SeriesID, v.At, v.Value, v.Rows}, nil
	})
	if _, err := tx.CopyFrom(ctx, pgx.Identifier{"incoming"}, []string{"n", "series_id", "at", "value", "rows"}, rows); err != nil {
		return 0, earliest, fmt.Errorf("copy samples: %w", err)
	}
	// Of several samples for one period in a batch, the last one sent counts.
	var first *time.Time
	err = tx.QueryRow(ctx, `
		with written as (
			insert into sample (series_id, at, value, rows)
			select distinct on (series_id, at) series_id, at, value, rows from incoming order by series_id, at, n desc
			on conflict (series_id, at) do update set value = excluded.value, rows = excluded.rows
				where (sample.value, sample.rows) is distinct from (excluded.value, excluded.rows)
			returning at)
		select count(*), min(at) from written`).Scan(&changed, &first)
	if err != nil {
		return 0, earliest, fmt.Errorf("write samples: %w", err)
	}
	if first != nil {
		earliest = *first
	}
	return changed, earliest, nil
}

// Samples gives the samples of some series in [from, to), by series, ascending.
func (s *Store) Samples(ctx context.Context, series []int64, from, to time.Time) (map[int64][]timeline.Sample, error) {
	rows, err := s.Pool.Query(ctx, `
		select series_id, extract(epoch from at)::bigint, value, rows from sample
		where series_id = any($1) and at >= $2 and at < $3 order by series_id, at`, series, from, to)
	if err != nil {
		return nil, fmt.Errorf("read samples: %w", err)
	}
	defer rows.Close()
	samples := make(map[int64][]timeline.Sample, len(series))
	var (
		id, at       int64
		value, count *float64
	)
	for rows.Next() {
		if err := rows.Scan(&id, &at, &value, &count); err != nil {
			return nil, fmt.Errorf("read samples: %w", err)
		}
		v := timeline.Sample{At: at, Value: math.NaN()}
		if value != nil {
			v.Value = *value
		}
		if count != nil {
			if v.Rows = *count; value == nil && *count == 0 {
				v.Rows = timeline.NoRows
			}
		}
		samples[id] = append(samples[id], v)
	}
	return samples, rows.Err()
}

// PutLoads replaces a dataset's loads in (after, until] by what the warehouse
// holds now: rows that were taken back were never loaded.
func PutLoads(ctx context.Context, tx pgx.Tx, dataset int64, after, until time.Time, loads []record.Load) error {
	at, counts := make([]time.Time, len(loads)), make([]int64, len(loads))
	for i, l := range loads {
		at[i], counts[i] = l.At, l.Rows
	}
	_, err := tx.Exec(ctx, `
		with found as (select unnest($3::timestamptz[]) as at, unnest($4::bigint[]) as rows),
			gone as (delete from load where dataset_id = $1 and at > $2 and at <= $5 and at not in (select at from found))
		insert into load (dataset_id, at, rows) select $1, at, rows from found
		on conflict (dataset_id, at) do update set rows = excluded.rows where load.rows <> excluded.rows`, dataset, after, at, counts, until)
	if err != nil {
		return fmt.Errorf("write loads: %w", err)
	}
	return nil
}

// Loads gives the loads of a dataset in [from, to), ascending.
func (s *Store) Loads(ctx context.Context, dataset int64, from, to time.Time) ([]record.Load, error) {
	return many[record.Load](ctx, s, "loads", `
		select at, rows from load where dataset_id = $1 and at >= $2 and at < $3 order by at`, dataset, from, to)
}
