package store

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"time"

	"tinbell/core/timeline"
	"tinbell/internal/record"
)

// PutHealth keeps what the overview shows of a dataset.
func (s *Store) PutHealth(ctx context.Context, dataset int64, summary any, now time.Time) error {
	encoded, err := json.Marshal(summary)
	if err != nil {
		return fmt.Errorf("write health: %w", err)
	}
	return s.exec(ctx, "health", `
		insert into health (dataset_id, summary, computed_at) values ($1, $2, $3)
		on conflict (dataset_id) do update set summary = excluded.summary, computed_at = excluded.computed_at
		where health.computed_at <= excluded.computed_at`,
		dataset, string(encoded), now)
}

// Summary is the stored overview of a dataset.
type Summary struct {
	DatasetID  int64     `db:"dataset_id"`
	Summary    []byte    `db:"summary"`
	ComputedAt time.Time `db:"computed_at"`
}

// Healths gives the stored overviews of all datasets, by dataset.
func (s *Store) Healths(ctx context.Context) (map[int64]Summary, error) {
	list, err := many[Summary](ctx, s, "health", `select * from health`)
	byDataset := make(map[int64]Summary, len(list))
	for _, one := range list {
		byDataset[one.DatasetID] = one
	}
	return byDataset, err
}

// NewestSample gives the time of a dataset's newest sample that says that something came,
// of the last two years; nil if there is none. A period in which nothing came has a sample
// too, of nothing or of no rows.
func (s *Store) NewestSample(ctx context.Context, dataset int64, now time.Time) (*time.Time, error) {
	newest, err := one[*time.Time](ctx, s, "newest sample", "", `
		select max(newest.at) from metric m join series on series.metric_id = m.id
		cross join lateral (select at from sample
			where series_id = series.id and value is not null and (m.kind <> 'count' or value <> 0) order by at desc
			limit 1) newest
		where m.dataset_id = $1`, dataset)
	if err != nil || newest != nil {
		return newest, err
	}
	type measured struct {
		ID    int64 `db:"id"`
		Count bool  `db:"counts"`
	}
	list, err := many[measured](ctx, s, "series",
		`select s.id, m.kind = 'count' as counts from series s join metric m on m.id = s.metric_id where m.dataset_id = $1`, dataset)
	if err != nil {
		return nil, err
	}
	ids, counts := make([]int64, len(list)), map[int64]bool{}
	for i, v := range list {
		ids[i], counts[v.ID] = v.ID, v.Count
	}
	for _, days := range []int{60, 730} {
		last := int64(0)
		err := s.EachSeries(ctx, ids, now.AddDate(0, 0, -days), now, func(id int64, list []timeline.Sample) error {
			for _, v := range slices.Backward(list) {
				if !math.IsNaN(v.Value) && (v.Value != 0 || !counts[id]) {
					last = max(last, v.At)
					break
				}
			}
			return nil
		})
		if err != nil || last > 0 {
			at := time.Unix(last, 0).UTC()
			return &at, err
		}
	}
	return nil, nil
}

// Bytes is what arrived at a dataset by size; nil where nobody says.
type Bytes struct {
	Day    *float64 `db:"day"`
	Week   *float64 `db:"week"`
	Month  *float64 `db:"month"`
	PerRow *float64 `db:"per_row"`
}

// BytesOf sums up what files that landed, or runs that wrote a dataset, say of
// its size.
func (s *Store) BytesOf(ctx context.Context, d record.Dataset, now time.Time) (Bytes, error) {
	return one[Bytes](ctx, s, "bytes", d.Name, `
		with arrived as (
			select landed_at as at, bytes, rows from delivery
			where dataset_id = $1 and state = 'taken' and landed_at > $4::timestamptz - interval '30 days'
			union all
			select r.ended_at, o.bytes, o.rows from run_dataset o join run r on r.id = o.run_id
			where o.name = $3 and o.namespace = $2 and o.direction = 'output' and r.state = 'complete'
				and r.ended_at > $4::timestamptz - interval '30 days')
		select sum(bytes) filter (where at > $4::timestamptz - interval '1 day')::float8 as day,
			sum(bytes) filter (where at > $4::timestamptz - interval '7 days')::float8 as week,
			sum(bytes)::float8 as month, sum(bytes) filter (where rows > 0)::float8 / nullif(sum(rows), 0)::float8 as per_row from arrived`,
		d.ID, d.Namespace, d.Name, now)
}
