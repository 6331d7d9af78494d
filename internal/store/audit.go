package store

import (
	"context"
	"fmt"
	"time"

	"tinbell/internal/record"
)

// AddAudit keeps something that must be answered for.
func (s *Store) AddAudit(ctx context.Context, a record.Audit) error {
	_, err := s.querier().Exec(ctx, `insert into audit (at, who, what, about, note) values ($1, $2, $3, $4, $5)`, a.At, a.Who, a.What, a.About, a.Note)
	if err != nil {
		return fmt.Errorf("write audit: %w", err)
	}
	return nil
}

// Audits gives what was kept before an entry, newest first; 0 for the newest.
func (s *Store) Audits(ctx context.Context, before int64, limit int) ([]record.Audit, error) {
	return many[record.Audit](ctx, s, "audit", `select * from audit where $1 = 0 or id < $1 order by id desc limit $2`, before, limit)
}

// Hide keeps which columns of a dataset are never shown.
func (s *Store) Hide(ctx context.Context, dataset string, columns record.Strings) error {
	result, err := s.querier().Exec(ctx, `update dataset set hidden = $2 where name = $1`, dataset, columns)
	if err != nil {
		return fmt.Errorf("write dataset: %w", err)
	}
	if result.RowsAffected() == 0 {
		return record.NotFound{Kind: "dataset", Name: dataset}
	}
	return nil
}

// BrokenStretch is a series with what its metric needs to be compared with its past.
type BrokenStretch struct {
	ID        int64          `db:"id"`
	Metric    string         `db:"metric"`
	Dataset   string         `db:"dataset"`
	Measure   string         `db:"measure"`
	Kind      string         `db:"kind"`
	Unit      string         `db:"unit"`
	Period    int64          `db:"period_seconds"`
	SegmentBy record.Strings `db:"segment_by"`
	Segment   string         `db:"segment"`
}

// Comparables gives the series whose stretch may be compared with their past: all
// but those of drift, at most so many, those of a dataset and its neighbours first.
func (s *Store) Comparables(ctx context.Context, first []string, limit int) ([]BrokenStretch, error) {
	return many[BrokenStretch](ctx, s, "series", `
		select s.id, m.name as metric, d.name as dataset, m.measure, m.kind, m.unit, m.period_seconds, m.segment_by, s.segment
		from series s join metric m on m.id = s.metric_id join dataset d on d.id = m.dataset_id
		where m.comparison = '' and m.measure <> 'freshness' order by (d.name = any($1)) desc, s.id limit $2`, first, limit)
}

// RangIn gives, by series, the newest alert that was told of it and lasted in [from, to),
// but for those that people call noise.
func (s *Store) RangIn(ctx context.Context, from, to time.Time) (map[int64]int64, error) {
	type row struct {
		SeriesID int64 `db:"series_id"`
		ID       int64 `db:"id"`
	}
	list, err := many[row](ctx, s, "alerts", `
		select series_id, max(id) as id from alert
		where series_id is not null and since < $2 and (ended_at is null or ended_at > $1) and held <> 'held' and verdict <> 'noise' and cause <> 'overdue' group by series_id`, from, to)
	rang := map[int64]int64{}
	for _, r := range list {
		rang[r.SeriesID] = r.ID
	}
	return rang, err
}

// RunsAround gives the runs of the jobs that write a dataset that lasted in [from,
// to), newest first, with how long and how many rows they usually have.
func (s *Store) RunsAround(ctx context.Context, dataset string, from, to time.Time) ([]RunAround, error) {
	return many[RunAround](ctx, s, "runs", `
		with of as (select distinct job_id from job_dataset where name = $1 and direction = 'output'),
		recent as (
			select r.id, r.job_id, r.state, r.started_at, r.ended_at, r.heard_at, d.rows from run r join of on of.job_id = r.job_id
			left join run_dataset d on d.run_id = r.id and d.name = $1 and d.direction = 'output' where r.heard_at >= $2::timestamptz - interval '21 days' and r.heard_at < $3),
		usual as (
			select job_id, percentile_cont(0.5) within group (order by extract(epoch from ended_at - started_at))::float8 as seconds,
				percentile_cont(0.5) within group (order by rows)::float8 as rows, count(*)::int as n from recent where state = 'complete' and heard_at < $2 group by 1)
		select job.name as job, r.state, r.started_at, r.ended_at, r.rows, coalesce(u.seconds, 0) as usual_seconds, coalesce(u.rows, 0) as usual_rows, coalesce(u.n, 0) as known
		from recent r join job on job.id = r.job_id left join usual u on u.job_id = r.job_id where r.heard_at >= $2 order by r.heard_at desc limit 200`, dataset, from, to)
}

// RunAround is a run beside what its job's runs usually are.
type RunAround struct {
	Job          string     `db:"job"`
	State        string     `db:"state"`
	StartedAt    *time.Time `db:"started_at"`
	EndedAt      *time.Time `db:"ended_at"`
	Rows         *int64     `db:"rows"`
	UsualSeconds float64    `db:"usual_seconds"`
	UsualRows    float64    `db:"usual_rows"`
	Known        int        `db:"known"`
}
