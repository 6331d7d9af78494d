package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
)

const alertSelect = `
	select a.id, coalesce(a.monitor_id, 0) as monitor_id, coalesce(a.series_id, 0) as series_id, a.of_source, a.of_dataset, a.of_job,
		a.cause, a.direction, a.severity, a.since, a.raised_at, a.ended_at, a.closed_at, a.close_reason, a.peak, a.peak_at,
		a.observed, a.expected, a.return_period_seconds, a.sentence, a.planned, a.from_history, a.verdict,
		coalesce(v.name, '') as monitor, coalesce(v.owner, d.owner, '') as owner, coalesce(m.name, '') as metric, coalesce(m.measure, '') as measure,
		coalesce(m.period_seconds, 0) as period_seconds, coalesce(m.unit, '') as unit, coalesce(m.zone, d.zone, 'UTC') as zone,
		coalesce(d.name, '') as dataset, coalesce(d.id, 0) as dataset_id, coalesce(s.segment, '') as segment, coalesce(source.name, '') as source,
		coalesce(job.name, '') as job
	from alert a left join monitor v on v.id = a.monitor_id left join series s on s.id = a.series_id
	left join metric m on m.id = v.metric_id left join dataset d on d.id = coalesce(m.dataset_id, a.of_dataset)
	left join source on source.id = a.of_source left join job on job.id = a.of_job `

// AlertFilter narrows a list of alerts; zero values do not filter. Cursor is
// the id of the last alert of the page before.
type AlertFilter struct {
	State    string // open, closed
	Verdict  string // fault, noise, planned, none
	Dataset  string
	Monitor  string
	Series   int64
	Judged   bool      // of monitors alone: not of sources and tables
	About    *About    // alerts without a monitor about the same
	From, To time.Time // raised in [From, To)
	Cursor   int64
	Limit    int
}

func (f AlertFilter) where() (string, []any) {
	var terms []string
	var args []any
	add := func(term string, arg any) {
		args = append(args, arg)
		terms = append(terms, strings.ReplaceAll(term, "?", fmt.Sprintf("$%d", len(args))))
	}
	switch f.State {
	case "open":
		terms = append(terms, "a.closed_at is null")
	case "closed":
		terms = append(terms, "a.closed_at is not null")
	}
	switch f.Verdict {
	case "":
	case "none":
		terms = append(terms, "a.verdict = ''")
	default:
		add("a.verdict = ?", f.Verdict)
	}
	if f.Dataset != "" {
		add("d.name = ?", f.Dataset)
	}
	if f.Monitor != "" {
		add("v.name = ?", f.Monitor)
	}
	if f.Judged {
		terms = append(terms, "a.monitor_id is not null")
	}
	if f.About != nil {
		k := f.About.keys()
		add("a.of_source is not distinct from ?", k[0])
		add("a.of_dataset is not distinct from ?", k[1])
		add("a.of_job is not distinct from ?", k[2])
		terms = append(terms, "a.monitor_id is null")
	}
	if f.Series != 0 {
		add("a.series_id = ?", f.Series)
	}
	if !f.From.IsZero() {
		add("a.raised_at >= ?", f.From)
	}
	if !f.To.IsZero() {
		add("a.raised_at < ?", f.To)
	}
	if f.Cursor != 0 {
		add("(a.raised_at, a.id) < (select raised_at, id from alert where id = ?)", f.Cursor)
	}
	if len(terms) == 0 {
		return "", nil
	}
	return "where " + strings.Join(terms, " and "), args
}

// Alerts gives a page of alerts, newest first.
func (s *Store) Alerts(ctx context.Context, f AlertFilter) ([]record.Alert, error) {
	where, args := f.where()
	query := alertSelect + where + ` order by a.raised_at desc, a.id desc`
	if f.Limit > 0 {
		query += fmt.Sprintf(" limit %d", f.Limit)
	}
	return many[record.Alert](ctx, s, "alerts", query, args...)
}

func (s *Store) Alert(ctx context.Context, id int64) (record.Alert, error) {
	return one[record.Alert](ctx, s, "alert", fmt.Sprint(id), alertSelect+`where a.id = $1`, id)
}

// PutAlert writes an alert; one with an id replaces that row, keeping when it
// was raised and what was said of it.
func PutAlert(ctx context.Context, tx pgx.Tx, a record.Alert) (int64, error) {
	var id int64
	var err error
	if a.ID != 0 {
		id = a.ID
		_, err = tx.Exec(ctx, `
			update alert set severity = $2, since = $3, ended_at = $4, closed_at = $5, close_reason = $6, peak = $7, peak_at = $8,
				observed = $9, expected = $10, return_period_seconds = $11, sentence = $12, direction = $13, cause = $14 where id = $1`,
			a.ID, a.Severity, a.Since, a.EndedAt, a.ClosedAt, a.CloseReason, a.Peak, a.PeakAt,
			a.Observed, a.Expected, a.ReturnPeriod, a.Sentence, a.Direction, a.Cause)
	} else {
		err = tx.QueryRow(ctx, `
			insert into alert (monitor_id, series_id, cause, direction, severity, since, raised_at, ended_at, closed_at, close_reason,
				peak, peak_at, observed, expected, return_period_seconds, sentence, planned, from_history)
			values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17, $18)
			on conflict (monitor_id, series_id, raised_at, cause) do update set severity = excluded.severity returning id`,
			a.MonitorID, a.SeriesID, a.Cause, a.Direction, a.Severity, a.Since, a.RaisedAt, a.EndedAt, a.ClosedAt, a.CloseReason,
			a.Peak, a.PeakAt, a.Observed, a.Expected, a.ReturnPeriod, a.Sentence, a.Planned, a.FromHistory).Scan(&id)
	}
	if err != nil {
		return 0, fmt.Errorf("write alert: %w", err)
	}
	return id, nil
}

// AddLabels stores one label per alert and puts it in force; alerts that are
// gone are refused as a whole.
func AddLabels(ctx context.Context, tx pgx.Tx, ids []int64, l record.Label) error {
	result, err := tx.Exec(ctx, `
		insert into label (alert_id, verdict, cause, note, author, at)
		select id, $2, $3, $4, $5, $6 from alert where id = any($1)`, ids, l.Verdict, l.Cause, l.Note, l.Author, l.At)
	if err != nil {
		return clash("label", err)
	}
	if int(result.RowsAffected()) != len(ids) {
		return record.NotFound{Kind: "alert", Name: fmt.Sprint(ids)}
	}
	_, err = tx.Exec(ctx, `update alert set verdict = $2 where id = any($1)`, ids, l.Verdict)
	return err
}

// Labels gives every label an alert was given, newest first.
func (s *Store) Labels(ctx context.Context, alert int64) ([]record.Label, error) {
	return many[record.Label](ctx, s, "labels", `select * from label where alert_id = $1 order by id desc`, alert)
}

// LabelledSpan is an alert that people judged, with the time of the first
// label of its present verdict.
type LabelledSpan struct {
	SeriesID int64      `db:"series_id"`
	Since    time.Time  `db:"since"`
	EndedAt  *time.Time `db:"ended_at"`
	Verdict  string     `db:"verdict"`
	KnownAt  time.Time  `db:"known_at"`
	Summary  string     `db:"summary"`
}

// LabelledSpans gives the alerts of a monitor's metric that people called a
// fault or planned.
func (s *Store) LabelledSpans(ctx context.Context, metric int64) ([]LabelledSpan, error) {
	return many[LabelledSpan](ctx, s, "labelled alerts", `
		select a.series_id, a.since, a.ended_at, a.verdict, a.sentence as summary,
			(select min(l.at) from label l where l.alert_id = a.id and l.verdict = a.verdict) as known_at
		from alert a join series s on s.id = a.series_id
		where s.metric_id = $1 and a.verdict in ('fault', 'planned')`, metric)
}
