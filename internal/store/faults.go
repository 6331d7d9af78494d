package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/detect"
	"tinbell/core/score"
	"tinbell/core/timeline"
	"tinbell/internal/record"
)

// GroupedAlert is what grouping and its groups need of an alert.
type GroupedAlert struct {
	ID          int64           `db:"id"`
	GroupID     int64           `db:"group_id"`
	SeriesID    int64           `db:"series_id"`
	Source      string          `db:"source"`
	Job         string          `db:"job"`
	Dataset     string          `db:"dataset"`
	Cause       detect.Cause    `db:"cause"`
	Direction   string          `db:"direction"`
	Measure     string          `db:"measure"`
	Kind        timeline.Kind   `db:"kind"`
	Column      string          `db:"column_name"`
	Metric      string          `db:"metric"`
	Comparison  string          `db:"comparison"`
	SegmentBy   record.Strings  `db:"segment_by"`
	Segment     string          `db:"segment"`
	Since       time.Time       `db:"since"`
	Spread      float64         `db:"onset_spread"`
	Effect      float64         `db:"effect"`
	EffectError float64         `db:"effect_error"`
	RaisedAt    time.Time       `db:"raised_at"`
	EndedAt     *time.Time      `db:"ended_at"`
	ClosedAt    *time.Time      `db:"closed_at"`
	Severity    detect.Severity `db:"severity"`
	Owner       string          `db:"owner"`
	Tags        record.Strings  `db:"tags"`
	MonitorID   int64           `db:"monitor_id"`
	Verdict     score.Verdict   `db:"verdict"`
	Sentence    string          `db:"sentence"`
	Fixed       bool            `db:"fixed"`
	Held        record.Held     `db:"held"`
	FromHistory bool            `db:"from_history"`
	WarnSeconds float64         `db:"warn_seconds"` // of its monitor; 0 without one
}

const groupedSelect = `
	select a.id, coalesce(a.group_id, 0) as group_id, coalesce(a.series_id, 0) as series_id,
		coalesce(source.name, '') as source, coalesce(job.name, '') as job,
		coalesce(d.name, '') as dataset, a.cause, a.direction, coalesce(m.measure, '') as measure, coalesce(m.kind, 'value') as kind,
		coalesce(m.column_name, '') as column_name, coalesce(m.name, '') as metric, coalesce(m.comparison, '') as comparison,
		coalesce(m.segment_by, '[]') as segment_by, coalesce(s.segment, '') as segment,
		a.since, a.onset_spread, a.effect, a.effect_error, a.raised_at, a.ended_at, a.closed_at, a.severity,
		coalesce(nullif(a.owner, ''), nullif(v.owner, ''), nullif(sla.owner, ''), nullif(comparison.owner, ''), d.owner, '')
			as owner, all_tags(d.tags, m.tags, v.tags) as tags, coalesce(a.monitor_id, 0) as monitor_id, a.verdict,
		a.sentence, a.fixed, a.held, a.from_history,
		coalesce((v.settings ->> 'warn_seconds')::float8, 0) as warn_seconds
	from alert a left join monitor v on v.id = a.monitor_id left join metric m on m.id = v.metric_id left join series s on s.id = a.series_id
	left join dataset d on d.id = coalesce(m.dataset_id, a.of_dataset) left join sla on sla.id = a.of_sla
	left join source on source.id = a.of_source left join job on job.id = a.of_job left join comparison on comparison.id = a.of_comparison `

// Grouped gives what grouping needs of alerts, in the order in which they were
// raised.
func (s *Store) Grouped(ctx context.Context, alerts []int64) ([]GroupedAlert, error) {
	return many[GroupedAlert](ctx, s, "alerts", groupedSelect+`where a.id = any($1) order by a.raised_at, a.id`, alerts)
}

// GroupsOfLate gives the groups that had an alert of some datasets, or of none,
// raised in [from, to], or that are among those named, in the order in which they
// were made, and their members.
func (s *Store) GroupsOfLate(ctx context.Context, from, to time.Time, datasets []string, named []int64) ([]record.Group,
	[]GroupedAlert, error) {
	groups, err := many[record.Group](ctx, s, "groups", `
		select * from alert_group where id = any($3) or merged_into is null and id in (
			select a.group_id from alert a left join monitor v on v.id = a.monitor_id left join metric m on m.id = v.metric_id
			left join dataset d on d.id = coalesce(m.dataset_id, a.of_dataset)
			where a.raised_at >= $1 and a.raised_at <= $2 and a.group_id is not null
				and (d.name is null or d.name = any($4))) order by id`, from, to, named, datasets)
	if err != nil || len(groups) == 0 {
		return nil, nil, err
	}
	known := make([]int64, len(groups))
	for i, g := range groups {
		known[i] = g.ID
	}
	members, err := many[GroupedAlert](ctx, s, "grouped alerts",
		groupedSelect+`where a.group_id = any($1) order by a.raised_at, a.id`, known)
	return groups, members, err
}

// Apart gives, by group, the groups that a person said are another fault.
func (s *Store) Apart(ctx context.Context, groups []int64) (map[int64][]int64, error) {
	type pair struct {
		One   int64 `db:"one"`
		Other int64 `db:"other"`
	}
	list, err := many[pair](ctx, s, "groups", `select one, other from group_apart where one = any($1) or other = any($1)`, groups)
	apart := map[int64][]int64{}
	for _, p := range list {
		apart[p.One] = append(apart[p.One], p.Other)
		apart[p.Other] = append(apart[p.Other], p.One)
	}
	return apart, err
}

// PutApart keeps that two groups are not one fault.
func PutApart(ctx context.Context, tx pgx.Tx, one, other int64) error {
	_, err := tx.Exec(ctx, `insert into group_apart (one, other) values ($1, $2) on conflict do nothing`, min(one, other), max(one, other))
	if err != nil {
		return fmt.Errorf("write groups: %w", err)
	}
	return nil
}

// ForgetApart takes that back.
func ForgetApart(ctx context.Context, tx pgx.Tx, one, other int64) error {
	if _, err := tx.Exec(ctx, `delete from group_apart where one = $1 and other = $2`, min(one, other), max(one, other)); err != nil {
		return fmt.Errorf("write groups: %w", err)
	}
	return nil
}

// Fix keeps that a person said which group alerts belong to.
func Fix(ctx context.Context, tx pgx.Tx, alerts []int64) error {
	if _, err := tx.Exec(ctx, `update alert set fixed = true where id = any($1)`, alerts); err != nil {
		return fmt.Errorf("write alerts: %w", err)
	}
	return nil
}

// AddGroupAnswer keeps what a person said of two groups.
func AddGroupAnswer(ctx context.Context, tx pgx.Tx, a record.GroupAnswer) error {
	_, err := tx.Exec(ctx, `insert into group_answer (at, author, says, group_id, other_id, alerts) values ($1, $2, $3, $4, $5, $6)`,
		a.At, a.Author, a.Says, a.GroupID, a.OtherID, a.Alerts)
	if err != nil {
		return fmt.Errorf("write answer about groups: %w", err)
	}
	return nil
}

// GroupAnswers gives what people said of groups, oldest first, beyond one.
func (s *Store) GroupAnswers(ctx context.Context, after int64, limit int) ([]record.GroupAnswer, error) {
	return many[record.GroupAnswer](ctx, s, "answers about groups",
		`select * from group_answer where id > $1 order by id limit $2`, after, limit)
}

// LockGroups makes the transaction the only one that groups alerts.
func LockGroups(ctx context.Context, tx pgx.Tx) error {
	_, err := tx.Exec(ctx, `select pg_advisory_xact_lock($1)`, lockGrouping)
	return err
}

// Watched is a series that a monitor judges.
type Watched struct {
	Dataset   string         `db:"dataset"`
	Measure   string         `db:"measure"`
	Kind      timeline.Kind  `db:"kind"`
	Column    string         `db:"column_name"`
	Metric    string         `db:"metric"`
	SegmentBy record.Strings `db:"segment_by"`
	Segment   string         `db:"segment"`
}

// mostWatched is how many series of a metric Watched gives.
const mostWatched = 100

// Watched gives the series of datasets that monitors judge, of each metric the
// first hundred.
func (s *Store) Watched(ctx context.Context, datasets []string) ([]Watched, error) {
	return many[Watched](ctx, s, "series", `
		select d.name as dataset, m.measure, m.kind, m.column_name, m.name as metric, m.segment_by, s.segment
		from dataset d join metric m on m.dataset_id = d.id cross join lateral (
			select segment from series where metric_id = m.id order by id limit $2) s
		where d.name = any($1) and m.comparison = ''
			and exists (select from monitor v where v.metric_id = m.id and not v.paused and v.learned_at is not null)`,
		datasets, mostWatched)
}

// MonitorRate is how often a monitor has rung, and how many series it judges.
type MonitorRate struct {
	Monitor int64 `db:"id"`
	Alerts  int   `db:"alerts"`
	Series  int   `db:"series"`
}

// MonitorRates counts the alerts of monitors since an instant, and their series.
func (s *Store) MonitorRates(ctx context.Context, monitors []int64, since time.Time) (map[int64]MonitorRate, error) {
	list, err := many[MonitorRate](ctx, s, "monitors", `
		select v.id, (select count(*)::int from alert a where a.monitor_id = v.id and a.raised_at >= $2) as alerts,
			(select count(*)::int from series s where s.metric_id = v.metric_id) as series
		from monitor v where v.id = any($1)`, monitors, since)
	rates := make(map[int64]MonitorRate, len(list))
	for _, r := range list {
		rates[r.Monitor] = r
	}
	return rates, err
}

// LineageLag is how long after its upstream a dataset shows a disturbance, and
// which share of its rows comes from there.
type LineageLag struct {
	From      string    `db:"from_name" json:"from"`
	To        string    `db:"to_name" json:"to"`
	Low       float64   `db:"low" json:"low_seconds"`
	High      float64   `db:"high" json:"high_seconds"`
	Spread    float64   `db:"spread" json:"spread_seconds"`
	Pass      float64   `db:"pass" json:"pass" doc:"share of its rows that come from there; 0 while it is not known"`
	Learned   string    `db:"learned" json:"learned" enum:"rows,faults,runs" doc:"from the wobble of their rows, from past faults, or from how often the job runs"`
	LearnedAt time.Time `db:"learned_at" json:"learned_at"`
}

// LineageLags gives what was learned of every step.
func (s *Store) LineageLags(ctx context.Context) ([]LineageLag, error) {
	return many[LineageLag](ctx, s, "lags", `select * from lineage_lag order by from_name, to_name`)
}

// PutLineageLags replaces what was learned of steps.
func PutLineageLags(ctx context.Context, tx pgx.Tx, lags []LineageLag) error {
	if _, err := tx.Exec(ctx, `delete from lineage_lag`); err != nil {
		return fmt.Errorf("write lags: %w", err)
	}
	_, err := tx.CopyFrom(ctx, pgx.Identifier{"lineage_lag"}, []string{"from_name", "to_name", "low", "high", "spread", "pass",
		"learned", "learned_at"},
		pgx.CopyFromSlice(len(lags), func(i int) ([]any, error) {
			l := lags[i]
			return []any{l.From, l.To, l.Low, l.High, l.Spread, l.Pass, l.Learned, l.LearnedAt}, nil
		}))
	if err != nil {
		return fmt.Errorf("write lags: %w", err)
	}
	return nil
}

// SegmentShare is which share of a dataset's rows a value of a column has.
type SegmentShare struct {
	Dataset string  `db:"dataset"`
	Column  string  `db:"col"`
	Value   string  `db:"value"`
	Share   float64 `db:"share"`
}

// SegmentShares gives the shares of datasets' segments.
func (s *Store) SegmentShares(ctx context.Context, datasets []string) ([]SegmentShare, error) {
	return many[SegmentShare](ctx, s, "shares", `select * from segment_share where dataset = any($1)`, datasets)
}

// PutSegmentShares replaces all shares.
func PutSegmentShares(ctx context.Context, tx pgx.Tx, shares []SegmentShare) error {
	if _, err := tx.Exec(ctx, `delete from segment_share`); err != nil {
		return fmt.Errorf("write shares: %w", err)
	}
	_, err := tx.CopyFrom(ctx, pgx.Identifier{"segment_share"}, []string{"dataset", "col", "value", "share"},
		pgx.CopyFromSlice(len(shares), func(i int) ([]any, error) {
			return []any{shares[i].Dataset, shares[i].Column, shares[i].Value, shares[i].Share}, nil
		}))
	if err != nil {
		return fmt.Errorf("write shares: %w", err)
	}
	return nil
}

// RowSeries is a series of a metric that counts a dataset's rows.
type RowSeries struct {
	Dataset   string         `db:"dataset"`
	MetricID  int64          `db:"metric_id"`
	Period    int64          `db:"period_seconds"`
	SegmentBy record.Strings `db:"segment_by"`
	SeriesID  int64          `db:"series_id"`
	Segment   string         `db:"segment"`
}

// RowSeries gives the series that count rows, of each dataset those of one metric
// for each set of columns, at most so many a metric.
func (s *Store) RowSeries(ctx context.Context, most int) ([]RowSeries, error) {
	return many[RowSeries](ctx, s, "series", `
		select d.name as dataset, m.id as metric_id, m.period_seconds, m.segment_by, s.id as series_id, s.segment
		from (select distinct on (dataset_id, segment_by) * from metric where measure = 'rows' and row_filter = ''
			order by dataset_id, segment_by, period_seconds, id) m
		join dataset d on d.id = m.dataset_id cross join lateral (select id, segment from series where metric_id = m.id order by id limit $1) s
		order by d.name, m.id, s.id`, most)
}

// Apartness of onsets: how long after an upstream dataset's alert one downstream
// began, in groups that people called a fault.
type Apartness struct {
	From    string  `db:"from_name"`
	To      string  `db:"to_name"`
	Seconds float64 `db:"seconds"`
}

// Apartnesses gives that of every step of the lineage since an instant: of each
// group the first alerts about rows at both ends.
func (s *Store) Apartnesses(ctx context.Context, since time.Time) ([]Apartness, error) {
	return many[Apartness](ctx, s, "alerts", `
		with onset as (
			select a.group_id, d.name, min(a.since) as at from alert a join series s on s.id = a.series_id
			join metric m on m.id = s.metric_id join dataset d on d.id = m.dataset_id
			where a.raised_at >= $1 and a.verdict = 'fault' and m.measure = 'rows' and a.group_id is not null group by 1, 2),
		step as (
			select distinct i.name as from_name, o.name as to_name from job_dataset i join job_dataset o on o.job_id = i.job_id
			where i.direction = 'input' and o.direction = 'output' and i.name <> o.name)
		select step.from_name, step.to_name, extract(epoch from b.at - a.at)::float8 as seconds
		from step join onset a on a.name = step.from_name join onset b on b.name = step.to_name and b.group_id = a.group_id`, since)
}

// Pace is how often the job of a step runs.
type Pace struct {
	From    string  `db:"from_name"`
	To      string  `db:"to_name"`
	Seconds float64 `db:"seconds"` // nine in ten of its complete runs end sooner after the one before
	Runs    int     `db:"runs"`
}

// Paces gives how often the jobs of all steps have run since an instant.
func (s *Store) Paces(ctx context.Context, since time.Time) ([]Pace, error) {
	return many[Pace](ctx, s, "runs", `
		with gap as (
			select job_id, extract(epoch from ended_at - lag(ended_at) over (partition by job_id order by ended_at)) as seconds
			from run where state = 'complete' and ended_at >= $1),
		pace as (select job_id, percentile_cont(0.9) within group (order by seconds) as seconds, count(*)::int as runs
			from gap where seconds is not null group by job_id)
		select i.name as from_name, o.name as to_name, min(p.seconds)::float8 as seconds, max(p.runs)::int as runs
		from job_dataset i join job_dataset o on o.job_id = i.job_id join pace p on p.job_id = i.job_id
		where i.direction = 'input' and o.direction = 'output' and i.name <> o.name group by 1, 2`, since)
}
