package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
)

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
		on conflict (dataset_id, at) do update set rows = excluded.rows where load.rows <> excluded.rows`, dataset, after, at,
		counts, until)
	if err != nil {
		return fmt.Errorf("write loads: %w", err)
	}
	return nil
}

// LastLoad gives when a dataset was last loaded before an instant; zero if it never
// was.
func (s *Store) LastLoad(ctx context.Context, dataset int64, before time.Time) (time.Time, error) {
	at, err := one[*time.Time](ctx, s, "last load", "", `select max(at) from load where dataset_id = $1 and at < $2`, dataset, before)
	if err != nil || at == nil {
		return time.Time{}, err
	}
	return *at, nil
}

// Loads gives the loads of a dataset in [from, to), ascending.
// HasLoads tells whether any load of a dataset is known.
func (s *Store) HasLoads(ctx context.Context, dataset int64) (bool, error) {
	return one[bool](ctx, s, "loads", "", `select exists (select from load where dataset_id = $1)`, dataset)
}

func (s *Store) Loads(ctx context.Context, dataset int64, from, to time.Time) ([]record.Load, error) {
	return many[record.Load](ctx, s, "loads", `
		select at, rows from load where dataset_id = $1 and at >= $2 and at < $3 order by at`, dataset, from, to)
}
