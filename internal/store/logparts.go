package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
)

// LogFiles gives the files of a log that are followed.
func (s *Store) LogFiles(ctx context.Context, log int64) ([]record.LogFile, error) {
	return many[record.LogFile](ctx, s, "files", `select * from log_file where log_id = $1 order by path, id`, log)
}

// AddLogFile keeps a file that is followed from now on.
func (s *Store) AddLogFile(ctx context.Context, v record.LogFile) (int64, error) {
	return one[int64](ctx, s, "file", v.Path,
		`insert into log_file (log_id, path, head, tail, counted, lines, size, changed, message)
			values ($1, $2, $3, $4, $5, $6, $7, $8, $9) returning id`,
		v.LogID, v.Path, v.Head, v.Tail, v.Counted, v.Lines, v.Size, v.Changed, v.Message)
}

// SetLogFile keeps how far a file was counted, and where it is now.
func (s *Store) SetLogFile(ctx context.Context, v record.LogFile) error {
	return s.exec(ctx, "file", `update log_file set path = $2, tail = $3, counted = $4, lines = $5, size = $6, changed = $7,
		message = $8, at = now() where id = $1`,
		v.ID, v.Path, v.Tail, v.Counted, v.Lines, v.Size, v.Changed, v.Message)
}

// ForgetLogFiles drops files that were not seen since an instant.
func (s *Store) ForgetLogFiles(ctx context.Context, before time.Time) error {
	return s.exec(ctx, "files", `
		with gone as (delete from log_file where at < $1 returning id, log_id)
		delete from log_seen s using gone g where s.log_id = g.log_id and s.source = 'file ' || g.id`, before)
}

// SeeLogFiles keeps that files are still there.
func (s *Store) SeeLogFiles(ctx context.Context, ids []int64) error {
	return s.exec(ctx, "files", `update log_file set at = now() where id = any($1) and at < now() - interval '1 hour'`, ids)
}

// AddLogParts adds to what was counted by values of attributes.
func AddLogParts(ctx context.Context, tx pgx.Tx, log int64, list []record.LogPart) error {
	numbers, ats, names, values, ns := make([]int, len(list)), make([]time.Time, len(list)), make([]string, len(list)),
		make([]string, len(list)), make([]int64, len(list))
	for i, c := range list {
		numbers[i], ats[i], names[i], values[i], ns[i] = c.Number, c.At, c.Attribute, c.Value, c.N
	}
	b := &pgx.Batch{}
	b.Queue(`insert into log_attribute (log_id, attribute, value) select distinct $1::bigint, *
		from unnest($2::text[], $3::text[]) on conflict do nothing`, log, names, values)
	b.Queue(`insert into log_part (log_id, number, at, attribute, value, n) select $1, *
		from unnest($2::int[], $3::timestamptz[], $4::text[], $5::text[], $6::bigint[])
		on conflict (log_id, at, number, attribute, value) do update set n = log_part.n + excluded.n`, log, numbers, ats, names, values, ns)
	if err := tx.SendBatch(ctx, b).Close(); err != nil {
		return fmt.Errorf("log counts: %w", err)
	}
	return nil
}

// LogAttributes gives the values of attributes that are told apart.
func (s *Store) LogAttributes(ctx context.Context, log int64) ([]record.LogPart, error) {
	return many[record.LogPart](ctx, s, "attributes", `select attribute, value from log_attribute where log_id = $1 order by 1, 2`, log)
}

// LogParts sums up what was counted in [from, to) by values of attributes: of one
// template, or (0) of each; by period if asked for.
func (s *Store) LogParts(ctx context.Context, log int64, number int, from, to time.Time) ([]record.LogPart, error) {
	return many[record.LogPart](ctx, s, "log counts", `
		select number, attribute, value, sum(n)::bigint as n, min(at) as at from log_part
		where log_id = $1 and ($2 = 0 or number = $2) and at >= $3 and at < $4 group by 1, 2, 3 order by n desc, 1, 2, 3`, log, number, from, to)
}

// LogPartPeriods sums up what was counted in [from, to) by period, attribute and value.
func (s *Store) LogPartPeriods(ctx context.Context, log int64, from, to time.Time) ([]record.LogPart, error) {
	return many[record.LogPart](ctx, s, "log counts", `
		select 0 as number, at, attribute, value, sum(n)::bigint as n from log_part
		where log_id = $1 and at >= $2 and at < $3 group by at, attribute, value`, log, from, to)
}

// LogValues gives what stood in the parts of a template, by part and day from a day on.
func (s *Store) LogValues(ctx context.Context, log int64, numbers []int, from time.Time) ([]record.LogValue, error) {
	list, err := many[record.LogValue](ctx, s, "values",
		`select number, place, day, summary from log_value where log_id = $1 and number = any($2) and day >= $3
			order by number, place, day`, log, numbers, from)
	for i := range list {
		if err := json.Unmarshal(list[i].Stored, &list[i].Summary); err != nil {
			return nil, fmt.Errorf("values: %w", err)
		}
	}
	return list, err
}

// PutLogValues keeps what stood in the parts of templates.
func PutLogValues(ctx context.Context, tx pgx.Tx, log int64, list []record.LogValue) error {
	b := &pgx.Batch{}
	for _, v := range list {
		stored, err := json.Marshal(v.Summary)
		if err != nil {
			return fmt.Errorf("values: %w", err)
		}
		b.Queue(`insert into log_value (log_id, number, place, day, summary) values ($1, $2, $3, $4, $5)
			on conflict (log_id, number, place, day) do update set summary = excluded.summary`, log, v.Number, v.Place, v.Day, stored)
	}
	if err := tx.SendBatch(ctx, b).Close(); err != nil {
		return fmt.Errorf("values: %w", err)
	}
	return nil
}

// DropLogValues forgets what stood in the parts of a log's templates: of those of some
// numbers, or (nil) of all.
func DropLogValues(ctx context.Context, tx pgx.Tx, log int64, numbers []int) error {
	if _, err := tx.Exec(ctx, `delete from log_value where log_id = $1 and ($2::int[] is null or number = any($2))`, log,
		numbers); err != nil {
		return fmt.Errorf("values: %w", err)
	}
	return nil
}

// ForgetLogValues drops values of days before one.
func (s *Store) ForgetLogValues(ctx context.Context, before time.Time) error {
	return s.exec(ctx, "values", `delete from log_value where day < $1`, before)
}

// AddLogChanges keeps corrections, and what became part of what.
func AddLogChanges(ctx context.Context, tx pgx.Tx, log int64, list []record.LogChange) error {
	b := &pgx.Batch{}
	for _, v := range list {
		b.Queue(`insert into log_change (log_id, what, number, other, place, word, author) values ($1, $2, $3, $4, $5, $6, $7)`,
			log, v.What, v.Number, v.Other, v.Place, v.Word, v.Author)
	}
	if err := tx.SendBatch(ctx, b).Close(); err != nil {
		return fmt.Errorf("changes: %w", err)
	}
	return nil
}

// LogChanges gives what was changed of a template, newest first.
func (s *Store) LogChanges(ctx context.Context, log int64, number int) ([]record.LogChange, error) {
	return many[record.LogChange](ctx, s, "changes",
		`select at, what, number, other, place, word, author from log_change
			where log_id = $1 and (number = $2 or other = $2) order by id desc limit 100`, log, number)
}

// LogCells gives what was counted of some templates in [from, to) by period, in order.
func (s *Store) LogCells(ctx context.Context, log int64, numbers []int, from, to time.Time) ([]record.LogCount, error) {
	return many[record.LogCount](ctx, s, "log counts", `
		select number, at, '' as severity, sum(n)::bigint as n from log_count
		where log_id = $1 and number = any($2) and at >= $3 and at < $4 group by number, at order by number, at`, log, numbers, from, to)
}

// FaultSpans gives when people say that a dataset had faults, since an instant.
func (s *Store) FaultSpans(ctx context.Context, dataset int64, since time.Time) ([]record.Span, error) {
	type span struct {
		From time.Time `db:"since"`
		To   time.Time `db:"until"`
	}
	list, err := many[span](ctx, s, "faults", `
		select a.since, coalesce(a.ended_at, a.closed_at, now()) as until from alert a
		left join series s on s.id = a.series_id left join metric m on m.id = s.metric_id
		where a.verdict = 'fault' and coalesce(m.dataset_id, a.of_dataset) = $1
			and coalesce(a.ended_at, a.closed_at, now()) > $2 order by 1`, dataset, since)
	spans := make([]record.Span, len(list))
	for i, v := range list {
		spans[i] = record.Span{From: v.From, To: v.To}
	}
	return spans, err
}

// Overlap is an alert that lay over a stretch.
type Overlap struct {
	Dataset string    `db:"dataset"`
	From    time.Time `db:"since"`
	To      time.Time `db:"until"`
}

// AlertSpans gives when alerts of datasets were open, since an instant.
func (s *Store) AlertSpans(ctx context.Context, since time.Time) ([]Overlap, error) {
	return many[Overlap](ctx, s, "alerts", `
		select d.name as dataset, a.since, coalesce(a.ended_at, a.closed_at, now()) as until from alert a
		left join series s on s.id = a.series_id left join metric m on m.id = s.metric_id
			join dataset d on d.id = coalesce(m.dataset_id, a.of_dataset)
		where a.cause <> 'sentence' and coalesce(a.ended_at, a.closed_at, now()) > $1 order by 2 limit 20000`, since)
}

// MaskLogSamples writes lines that are kept anew.
func MaskLogSamples(ctx context.Context, tx pgx.Tx, log int64, mask func(string) string) error {
	rows, err := tx.Query(ctx, `select id, line from log_sample where log_id = $1`, log)
	if err != nil {
		return fmt.Errorf("lines: %w", err)
	}
	type line struct {
		ID   int64
		Line string
	}
	list, err := pgx.CollectRows(rows, pgx.RowToStructByPos[line])
	if err != nil {
		return fmt.Errorf("lines: %w", err)
	}
	b := &pgx.Batch{}
	for _, v := range list {
		if masked := mask(v.Line); masked != v.Line {
			b.Queue(`update log_sample set line = $2 where id = $1`, v.ID, masked)
		}
	}
	if err := tx.SendBatch(ctx, b).Close(); err != nil {
		return fmt.Errorf("lines: %w", err)
	}
	return nil
}

// RunsInto gives the runs of a stretch that wrote a dataset, or of a job of a name, newest
// first.
func (s *Store) RunsInto(ctx context.Context, dataset int64, job string, from, to time.Time, limit int) ([]record.Run, error) {
	return many[record.Run](ctx, s, "runs", `
		select r.*, job.name as job, null::bigint as rows, null::bigint as bytes from run r join job on job.id = r.job_id
		where r.heard_at >= $3 and r.started_at < $4 and ($2 <> '' and job.name = $2
			or exists (select from run_dataset o join dataset d on d.id = $1 and d.name = o.name where o.run_id = r.id and o.direction = 'output'))
		order by r.heard_at desc limit $5`, dataset, job, from, to, limit)
}
