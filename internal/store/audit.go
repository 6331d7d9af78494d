package store

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
)

// auditLock is held by who adds to the audit trail: entries are sealed one after another.
const auditLock = 0x7b0a0d17

// AddAudit keeps something that must be answered for, sealed with the entry before it.
func (s *Store) AddAudit(ctx context.Context, a record.Audit) error {
	return s.InTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `select pg_advisory_xact_lock($1)`, auditLock); err != nil {
			return fmt.Errorf("write audit: %w", err)
		}
		var last []byte
		err := tx.QueryRow(ctx, `select coalesce((select seal from audit order by id desc limit 1), ''::bytea)`).Scan(&last)
		if err != nil {
			return fmt.Errorf("write audit: %w", err)
		}
		a.At = a.At.UTC().Truncate(time.Microsecond)
		seal, err := sealed(last, a)
		if err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `insert into audit (at, who, what, about, note, role, origin, request, before, after, seal)
			values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11)`,
			a.At, a.Who, a.What, a.About, a.Note, a.Role, a.Origin, a.Request, text(a.Before), text(a.After), seal)
		if err != nil {
			return fmt.Errorf("write audit: %w", err)
		}
		return nil
	})
}

// text gives JSON as it is kept; null where there is none.
func text(v json.RawMessage) any {
	if len(v) == 0 {
		return nil
	}
	return string(v)
}

// sealed is the seal of an entry that follows another.
func sealed(before []byte, a record.Audit) ([]byte, error) {
	said, err := json.Marshal([]string{a.At.UTC().Format(time.RFC3339Nano), a.Who, a.What, a.About, a.Note, a.Role, a.Origin,
		a.Request, string(a.Before), string(a.After)})
	if err != nil {
		return nil, fmt.Errorf("seal audit: %w", err)
	}
	sum := sha256.New()
	sum.Write(before)
	sum.Write(said)
	return sum.Sum(nil), nil
}

// Sought says which entries of the audit trail are wanted; what is empty is any.
type Sought struct {
	Who, What, About string // About and What: part of it
	From, To         time.Time
	Before           int64 // id of the last entry of the page before; 0 for the newest
	Limit            int
}

// Audits gives entries of the audit trail, newest first.
func (s *Store) Audits(ctx context.Context, v Sought) ([]record.Audit, error) {
	return many[record.Audit](ctx, s, "audit", `
		select id, at, who, what, about, note, role, origin, request, coalesce(before, 'null') as before,
			coalesce(after, 'null') as after, seal from audit
		where ($1 = 0 or id < $1) and ($3 = '' or who = $3) and ($4 = '' or strpos(what, $4) > 0) and ($5 = '' or strpos(about, $5) > 0)
			and ($6::timestamptz is null or at >= $6) and ($7::timestamptz is null or at < $7) order by id desc limit $2`,
		v.Before, v.Limit, v.Who, v.What, v.About, instant(v.From), instant(v.To))
}

func instant(at time.Time) any {
	if at.IsZero() {
		return nil
	}
	return at
}

// Proof says whether the audit trail is as it was written.
type Proof struct {
	Entries int64  `json:"entries" doc:"that are sealed"`
	Broken  int64  `json:"broken" doc:"id of the first that does not follow from the one before it, or after which one is missing; 0: none"`
	Begins  int64  `json:"begins" doc:"after this entry: those before were older than is kept; 0: it is whole"`
	Last    int64  `json:"last" doc:"id of the newest"`
	Seal    []byte `json:"seal" doc:"of the newest: kept elsewhere, it proves later that nothing was cut off since"`
}

// VerifyAudit computes all seals anew.
func (s *Store) VerifyAudit(ctx context.Context) (p Proof, err error) {
	const page = 2000
	upto, last, err := s.begins(ctx)
	if err != nil {
		return p, err
	}
	first := forgotten(upto, last)
	told := upto == 0 // that the beginning is what the trail itself says
	p.Begins = upto
	for after := int64(0); ; {
		list, err := many[record.Audit](ctx, s, "audit", `
			select id, at, who, what, about, note, role, origin, request,
				convert_to(coalesce(before::text, ''), 'UTF8') as before,
				convert_to(coalesce(after::text, ''), 'UTF8') as after, seal
			from audit where id > $1 order by id limit $2`, after, page)
		if err != nil {
			return p, err
		}
		for _, a := range list {
			after = a.ID
			if a.Seal == nil && p.Entries == 0 {
				continue // from before there were seals
			}
			seal, err := sealed(last, a)
			if err != nil {
				return p, err
			}
			if !bytes.Equal(seal, a.Seal) && p.Broken == 0 {
				p.Broken = a.ID
			}
			if a.What == "forget audit" {
				told = a.Note == first
			}
			last = a.Seal
			p.Entries, p.Last, p.Seal = p.Entries+1, a.ID, a.Seal
		}
		if len(list) < page {
			if !told && p.Broken == 0 {
				p.Broken = upto + 1
			}
			return p, nil
		}
	}
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
		where series_id is not null and since < $2 and (ended_at is null or ended_at > $1) and held <> 'held'
			and verdict <> 'noise' and cause <> 'overdue' group by series_id`, from, to)
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
			left join run_dataset d on d.run_id = r.id and d.name = $1 and d.direction = 'output'
			where r.heard_at >= $2::timestamptz - interval '21 days' and r.heard_at < $3),
		usual as (
			select job_id, percentile_cont(0.5) within group (order by extract(epoch from ended_at - started_at))::float8 as seconds,
				percentile_cont(0.5) within group (order by rows)::float8 as rows, count(*)::int as n from recent
				where state = 'complete' and heard_at < $2 group by 1)
		select job.name as job, r.state, r.started_at, r.ended_at, r.rows, coalesce(u.seconds, 0) as usual_seconds,
			coalesce(u.rows, 0) as usual_rows, coalesce(u.n, 0) as known
		from recent r join job on job.id = r.job_id left join usual u on u.job_id = r.job_id where r.heard_at >= $2
		order by r.heard_at desc limit 200`, dataset, from, to)
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
