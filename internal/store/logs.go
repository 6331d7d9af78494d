package store

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
)

const logColumns = `l.*, d.name as dataset, d.zone, 'log-' || l.name as metric, coalesce((select name from source where source.id = l.source_id), '') as source,
	(select count(*)::int from log_template t where t.log_id = l.id and t.merged_into = 0) as templates`

// AddLog adds a stream of lines, if it is not there.
func AddLog(ctx context.Context, tx pgx.Tx, name string, dataset int64, job, service string) error {
	_, err := tx.Exec(ctx, `insert into log (name, dataset_id, job, service) values ($1, $2, $3, $4) on conflict (name) do nothing`, name, dataset, job, service)
	if err != nil {
		return fmt.Errorf("log: %w", err)
	}
	return nil
}

// Logs gives all logs, by name.
func (s *Store) Logs(ctx context.Context) ([]record.Log, error) {
	return many[record.Log](ctx, s, "logs", `select `+logColumns+` from log l join dataset d on d.id = l.dataset_id order by l.name`)
}

// Log gives a log by its name.
func (s *Store) Log(ctx context.Context, name string) (record.Log, error) {
	return one[record.Log](ctx, s, "log", name,
		`select `+logColumns+` from log l join dataset d on d.id = l.dataset_id where l.name = $1`, name)
}

// HoldLog gives a log and keeps others from writing to it until the transaction ends.
func (s *Store) HoldLog(ctx context.Context, name string) (record.Log, error) {
	return one[record.Log](ctx, s, "log", name,
		`select `+logColumns+` from log l join dataset d on d.id = l.dataset_id where l.name = $1 for update of l`, name)
}

// DropLog removes a log with all that was counted of it.
func (s *Store) DropLog(ctx context.Context, name string) error {
	n, err := s.affect(ctx, "log", `delete from log where name = $1`, name)
	if err == nil && n == 0 {
		err = record.NotFound{Kind: "log", Name: name}
	}
	return err
}

// SetKeptSamples says how many lines are kept of each template; those beyond go.
func (s *Store) SetKeptSamples(ctx context.Context, name string, keep int) error {
	return s.exec(ctx, "log", `
		with l as (update log set keep_samples = $2 where name = $1 returning id)
		delete from log_sample s using l where s.log_id = l.id
			and $2 <= (select count(*) from log_sample o where o.log_id = s.log_id and o.number = s.number and o.id < s.id)`, name, keep)
}

// logSettings are the columns that people set, and how they are given.
const (
	logSettings = `keep_samples, watched, rare_seconds, normal_seconds, kinds, job, service, source_id, pattern, by_attributes, masked`
	logGiven    = `$3, $4, $5, $6, $7, $8, $9, (select id from source where name = nullif($10, '')), $11, $12, $13`
)

func given(v record.Log) []any {
	return []any{v.Name, v.Dataset, v.KeepSamples, v.Watched, v.RareSeconds, v.Normal, v.Kinds, v.Job, v.Service, v.Source,
		v.Pattern, v.By, v.Masked}
}

// PutLogSettings makes a log, or has one that is there set so.
func PutLogSettings(ctx context.Context, tx pgx.Tx, v record.Log) error {
	_, err := tx.Exec(ctx, `insert into log (name, dataset_id, `+logSettings+`) select $1, d.id, `+logGiven+
		` from dataset d where d.name = $2
		on conflict (name) do update set (`+logSettings+`) = row(`+excluded(logSettings)+`)`, given(v)...)
	if err != nil {
		return fmt.Errorf("log: %w", err)
	}
	return nil
}

// excluded writes columns as those of the row that was to be inserted.
func excluded(columns string) string {
	return "excluded." + strings.ReplaceAll(columns, ", ", ", excluded.")
}

// SetLog keeps what people set of a log.
func (s *Store) SetLog(ctx context.Context, v record.Log) error {
	return s.exec(ctx, "log", `update log set (`+logSettings+`) = row(`+logGiven+`) where name = $1 and $2 <> ''`, given(v)...)
}

// SetLogTemplate keeps what a person says of a sentence; nil stays.
func (s *Store) SetLogTemplate(ctx context.Context, log int64, number int, usual, followed *bool) (bool, error) {
	n, err := s.affect(ctx, "template", `update log_template set usual = coalesce($3, usual),
		followed = coalesce($4, followed) where log_id = $1 and number = $2`, log, number, usual, followed)
	return n > 0, err
}

// CountAgain has the samples of a log written anew from an instant on.
func (s *Store) CountAgain(ctx context.Context, log int64, from time.Time) error {
	return s.exec(ctx, "log", `update log set touched_from = least(touched_from, $2) where id = $1`, log, from)
}

// LogPeriodsOf sums up what was counted of some templates in [from, to) by period.
func (s *Store) LogPeriodsOf(ctx context.Context, log int64, numbers []int, from, to time.Time) ([]record.LogCount, error) {
	return many[record.LogCount](ctx, s, "log counts", `
		select number, at, '' as severity, sum(n)::bigint as n from log_count
		where log_id = $1 and number = any($2) and at >= $3 and at < $4 group by number, at`, log, numbers, from, to)
}

// ForgetLogSamples drops lines from before an instant.
func (s *Store) ForgetLogSamples(ctx context.Context, before time.Time) error {
	return s.exec(ctx, "lines", `delete from log_sample where at < $1`, before)
}

// LogTemplates gives a log's templates, also those that became part of others.
func (s *Store) LogTemplates(ctx context.Context, log int64) ([]record.LogTemplate, error) {
	return many[record.LogTemplate](ctx, s, "templates", `select * from log_template where log_id = $1 order by number`, log)
}

// PutLogTemplates keeps templates as they are now.
func PutLogTemplates(ctx context.Context, tx pgx.Tx, list []record.LogTemplate) error {
	b := &pgx.Batch{}
	for _, t := range list {
		places, err := json.Marshal(t.Places)
		if err != nil {
			return err
		}
		b.Queue(`insert into log_template (log_id, number, places, text, severity, lines, first_at, last_at, merged_into,
			kept, shape) values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11)
			on conflict (log_id, number) do update set places = excluded.places, text = excluded.text,
				severity = excluded.severity, lines = excluded.lines,
				first_at = least(log_template.first_at, excluded.first_at),
				last_at = greatest(log_template.last_at, excluded.last_at), merged_into = excluded.merged_into,
				kept = excluded.kept, shape = excluded.shape`,
			t.LogID, t.Number, places, t.Text, t.Severity, t.Lines, t.FirstAt, t.LastAt, t.MergedInto, t.Kept, t.Shape)
	}
	if err := tx.SendBatch(ctx, b).Close(); err != nil {
		return fmt.Errorf("templates: %w", err)
	}
	return nil
}

// MergeLogTemplates moves what was counted of one template to another.
func MergeLogTemplates(ctx context.Context, tx pgx.Tx, log int64, from, into int) error {
	b := &pgx.Batch{}
	b.Queue(`insert into log_count (log_id, number, at, severity, n) select log_id, $3, at, severity, n from log_count
		where log_id = $1 and number = $2
		on conflict (log_id, at, number, severity) do update set n = log_count.n + excluded.n`, log, from, into)
	b.Queue(`delete from log_count where log_id = $1 and number = $2`, log, from)
	b.Queue(`insert into log_part (log_id, number, at, attribute, value, n) select log_id, $3, at, attribute, value, n
		from log_part where log_id = $1 and number = $2
		on conflict (log_id, at, number, attribute, value) do update set n = log_part.n + excluded.n`, log, from, into)
	b.Queue(`delete from log_part where log_id = $1 and number = $2`, log, from)
	b.Queue(`update log_template o set first_at = least(o.first_at, m.first_at) from log_template m
		where o.log_id = $1 and o.number = $3 and m.log_id = $1 and m.number = $2`, log, from, into)
	b.Queue(`delete from log_sample where log_id = $1 and number = $2`, log, from)
	if err := tx.SendBatch(ctx, b).Close(); err != nil {
		return fmt.Errorf("templates: %w", err)
	}
	return nil
}

// AddLogCounts adds to what was counted.
func AddLogCounts(ctx context.Context, tx pgx.Tx, log int64, list []record.LogCount) error {
	numbers, ats, severities, ns := make([]int, len(list)), make([]time.Time, len(list)), make([]string, len(list)), make([]int64,
		len(list))
	for i, c := range list {
		numbers[i], ats[i], severities[i], ns[i] = c.Number, c.At, c.Severity, c.N
	}
	_, err := tx.Exec(ctx, `insert into log_count (log_id, number, at, severity, n) select $1, *
		from unnest($2::int[], $3::timestamptz[], $4::text[], $5::bigint[])
		on conflict (log_id, at, number, severity) do update set n = log_count.n + excluded.n`, log, numbers, ats, severities, ns)
	if err != nil {
		return fmt.Errorf("log counts: %w", err)
	}
	return nil
}

// AddLogSamples keeps lines.
func AddLogSamples(ctx context.Context, tx pgx.Tx, log int64, list []record.LogSample) error {
	b := &pgx.Batch{}
	for _, v := range list {
		b.Queue(`insert into log_sample (log_id, number, at, line) values ($1, $2, $3, $4)`, log, v.Number, v.At, v.Line)
	}
	if err := tx.SendBatch(ctx, b).Close(); err != nil {
		return fmt.Errorf("lines: %w", err)
	}
	return nil
}

// LogSamples gives the lines that are kept, of one template or (0) of all.
func (s *Store) LogSamples(ctx context.Context, log int64, number int) ([]record.LogSample, error) {
	return many[record.LogSample](ctx, s, "lines",
		`select number, at, line from log_sample where log_id = $1 and ($2 = 0 or number = $2) order by at`, log, number)
}

// PutLog keeps what a push has changed of a log, lines that came from an instant on.
func PutLog(ctx context.Context, tx pgx.Tx, v record.Log, from, to time.Time) error {
	_, err := tx.Exec(ctx, `
		update log set lines = $2, overflow = $3, version = version + 1, next = $4, first_at = least(first_at, $5), last_at = greatest(last_at, $6),
			touched_from = least(touched_from, $5) where id = $1`, v.ID, v.Lines, v.Overflow, v.Next, from, to)
	if err != nil {
		return fmt.Errorf("log: %w", err)
	}
	return nil
}

// LogSeen is how many lines of a file were counted.
func (s *Store) LogSeen(ctx context.Context, log int64, source string) (int64, error) {
	list, err := many[int64](ctx, s, "log", `select position from log_seen where log_id = $1 and source = $2`, log, source)
	if err != nil || len(list) == 0 {
		return 0, err
	}
	return list[0], nil
}

// SeeLog keeps how many lines of a file were counted.
func SeeLog(ctx context.Context, tx pgx.Tx, log int64, source string, position int64) error {
	_, err := tx.Exec(ctx, `insert into log_seen (log_id, source, position) values ($1, $2, $3)
		on conflict (log_id, source) do update set position = greatest(log_seen.position, excluded.position), at = now()`, log, source, position)
	if err != nil {
		return fmt.Errorf("log: %w", err)
	}
	return nil
}

// LogTally is what was counted of a template in a stretch.
type LogTally struct {
	Number   int    `db:"number"`
	Severity string `db:"severity"`
	N        int64  `db:"n"`
}

// LogTallies sums up what was counted in [from, to) by template and severity.
func (s *Store) LogTallies(ctx context.Context, log int64, from, to time.Time) ([]LogTally, error) {
	return many[LogTally](ctx, s, "log counts",
		`select number, severity, sum(n)::bigint as n from log_count where log_id = $1 and at >= $2 and at < $3 group by 1, 2`,
		log, from, to)
}

// LogBins sums up what was counted of templates in [from, to) by bins of so many seconds;
// of one template, or (0) of each.
func (s *Store) LogBins(ctx context.Context, log int64, number int, from, to time.Time, seconds int64) ([]record.LogCount, error) {
	return many[record.LogCount](ctx, s, "log counts", `
		select number, to_timestamp($3::bigint + floor((extract(epoch
			from at) - $3::bigint) / $5::bigint) * $5::bigint) as at, '' as severity, sum(n)::bigint as n
		from log_count where log_id = $1 and ($2 = 0 or number = $2) and at >= to_timestamp($3::bigint)
			and at < to_timestamp($4::bigint) group by 1, 2 order by 1, 2`, log, number, from.Unix(), to.Unix(), seconds)
}

// LogPeriods sums up what was counted in [from, to) by period and severity.
func (s *Store) LogPeriods(ctx context.Context, log int64, from, to time.Time) ([]record.LogCount, error) {
	return many[record.LogCount](ctx, s, "log counts",
		`select 0 as number, at, severity, sum(n)::bigint as n from log_count where log_id = $1 and at >= $2 and at < $3
			group by at, severity order by at, severity`, log, from, to)
}

// CountedLog keeps up to where a log's counts are samples; what was touched before the
// round is told then.
func (s *Store) CountedLog(ctx context.Context, log int64, touched *time.Time, to time.Time) error {
	return s.exec(ctx, "log", `update log set counted_to = $3, touched_from = case when touched_from is not distinct
		from $2 then null else touched_from end where id = $1`, log, touched, to)
}

// ForgetLogCounts drops counts of before an instant.
func (s *Store) ForgetLogCounts(ctx context.Context, before time.Time) error {
	if err := s.exec(ctx, "log counts", `delete from log_part where at < $1`, before); err != nil {
		return err
	}
	return s.exec(ctx, "log counts", `delete from log_count where at < $1`, before)
}

// ForgetExports drops what is known of exports that came before an instant: they are not
// sent again.
func (s *Store) ForgetExports(ctx context.Context, before time.Time) error {
	return s.exec(ctx, "log", `delete from log_seen where source like 'export %' and at < $1`, before)
}

// SetLogNext keeps the number of the next template after a correction.
func SetLogNext(ctx context.Context, tx pgx.Tx, log int64, next int) error {
	if _, err := tx.Exec(ctx, `update log set next = $2, version = version + 1 where id = $1`, log, next); err != nil {
		return fmt.Errorf("log: %w", err)
	}
	return nil
}
