package store

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/detect"
	"tinbell/core/score"
	"tinbell/internal/record"
)

const alertSelect = `
	select a.id, coalesce(a.monitor_id, 0) as monitor_id, coalesce(a.series_id, 0) as series_id, a.of_source, a.of_dataset,
		a.of_job, a.of_sla, a.of_comparison, a.group_id,
		a.cause, a.direction, a.severity, a.since, a.raised_at, a.ended_at, a.closed_at, a.close_reason, a.peak, a.peak_at,
		a.rang_to, a.observed, a.expected, a.worst_from, a.worst_to, a.worst_observed, a.worst_expected, a.figures,
		a.onset_spread, a.effect, a.effect_error, a.return_period_seconds, a.sentence, a.strength, a.returns, a.returned_at,
		a.planned, a.from_history, a.verdict,
		a.label_id, a.disputed, a.recent, a.company, a.chance, a.held, a.held_why,
		coalesce(v.name, '') as monitor,
		coalesce(nullif(a.owner, ''), nullif(v.owner, ''), nullif(sla.owner, ''), nullif(comparison.owner, ''), d.owner, '')
			as owner, coalesce(m.name, '') as metric, coalesce(m.measure, '') as measure,
		coalesce(m.comparison, comparison.name, '') as comparison,
		coalesce(m.period_seconds, 0) as period_seconds, coalesce(m.unit, '') as unit, coalesce(m.zone, d.zone, 'UTC') as zone,
		coalesce(d.name, '') as dataset, coalesce(d.id, 0) as dataset_id, coalesce(s.segment, '') as segment,
		all_tags(d.tags, m.tags, v.tags) as tags, coalesce(source.name, '') as source,
		coalesce(job.name, '') as job, coalesce(sla.name, '') as sla
	from alert a left join monitor v on v.id = a.monitor_id left join series s on s.id = a.series_id
	left join metric m on m.id = v.metric_id left join dataset d on d.id = coalesce(m.dataset_id, a.of_dataset)
	left join source on source.id = a.of_source left join job on job.id = a.of_job left join sla on sla.id = a.of_sla
	left join comparison on comparison.id = a.of_comparison `

var withEvidence = strings.Replace(alertSelect, "a.recent,", "a.looks, a.recent,", 1)

// AlertFilter narrows a list of alerts; zero values do not filter. Cursor is
// the id of the last alert of the page before.
type AlertFilter struct {
	State    string        // open, closed
	Verdict  score.Verdict // fault, noise, planned, none
	Dataset  string
	Monitor  string
	Series   int64
	Judged   bool   // of monitors alone: not of sources and tables
	Evidence bool   // with the looks at each, which nobody but the filter reads
	Held     string // told: without what is held back; held: only that; shadow: only what would be
	Segment  string
	Owner    string
	Measure  string
	Tag      string
	Rule     string
	Channel  string // told on it
	Disputed bool
	Group    int64
	About    *About    // alerts without a monitor about the same
	From, To time.Time // raised in [From, To)
	Sort     string    // a column of AlertOrders, with a - before it the largest first; empty: newest first
	Cursor   int64
	Limit    int
}

// AlertOrders are the columns that a list of alerts can be sorted by.
var AlertOrders = []string{"raised_at", "since", "strength", "return_period_seconds", "effect", "peak", "severity"}

// order gives the column that a filter sorts by, and which way.
func (f AlertFilter) order() (column string, down bool) {
	column, down = strings.CutPrefix(f.Sort, "-")
	if f.Sort == "" || !slices.Contains(AlertOrders, column) {
		column, down = "raised_at", true
	}
	return "a." + column, down
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
	switch f.Held {
	case "told":
		terms = append(terms, "a.held <> 'held'")
	case "held", "shadow":
		add("a.held = ?", f.Held)
	}
	if f.Segment != "" {
		add("s.segment = ?", f.Segment)
	}
	if f.Owner != "" {
		add("coalesce(nullif(a.owner, ''), nullif(v.owner, ''), nullif(sla.owner, ''), nullif(comparison.owner, ''), d.owner, '') = ?", f.Owner)
	}
	if f.Measure != "" {
		add("m.measure = ?", f.Measure)
	}
	if f.Rule != "" {
		add("a.cause = ?", f.Rule)
	}
	if f.Channel != "" {
		add("a.group_id in (select m.group_id from message m join channel c on c.id = m.channel_id where c.name = ? and m.state in ('sent', 'summed'))", f.Channel)
	}
	if f.Tag != "" {
		add("(d.tags @> to_jsonb(?::text) or m.tags @> to_jsonb(?::text) or v.tags @> to_jsonb(?::text))", f.Tag)
	}
	if f.Disputed {
		terms = append(terms, "a.disputed")
	}
	if f.Judged {
		terms = append(terms, "a.monitor_id is not null")
	}
	if f.About != nil {
		k := f.About.keys()
		add("a.of_source is not distinct from ?", k[0])
		add("a.of_dataset is not distinct from ?", k[1])
		add("a.of_job is not distinct from ?", k[2])
		add("a.of_sla is not distinct from ?", k[3])
		add("a.of_comparison is not distinct from ?", k[4])
		terms = append(terms, "a.monitor_id is null")
	}
	if f.Group != 0 {
		add("a.group_id = ?", f.Group)
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
		column, down := f.order()
		add("("+column+", a.id) "+map[bool]string{true: "<", false: ">"}[down]+" (select "+column+
			", a.id from alert a where id = ?)", f.Cursor)
	}
	if len(terms) == 0 {
		return "", nil
	}
	return "where " + strings.Join(terms, " and "), args
}

// Alerts gives a page of alerts, newest first.
func (s *Store) Alerts(ctx context.Context, f AlertFilter) ([]record.Alert, error) {
	where, args := f.where()
	from := alertSelect
	if f.Evidence {
		from = withEvidence
	}
	column, down := f.order()
	way := map[bool]string{true: " desc", false: ""}[down]
	query := from + where + ` order by ` + column + way + `, a.id` + way
	if f.Limit > 0 {
		query += fmt.Sprintf(" limit %d", f.Limit)
	}
	return many[record.Alert](ctx, s, "alerts", query, args...)
}

func (s *Store) Alert(ctx context.Context, id int64) (record.Alert, error) {
	return one[record.Alert](ctx, s, "alert", fmt.Sprint(id), withEvidence+`where a.id = $1`, id)
}

// AlertsFrom gives a monitor's alerts on a series that are open or lasted beyond an
// instant, newest first.
func (s *Store) AlertsFrom(ctx context.Context, monitor, series int64, from time.Time) ([]record.Alert, error) {
	return many[record.Alert](ctx, s, "alerts", alertSelect+`
		where a.monitor_id = $1 and a.series_id = $2 and (a.closed_at is null or a.closed_at >= $3 or a.ended_at >= $3)
		order by a.raised_at desc, a.id desc`, monitor, series, from)
}

// OpenSince gives, of some series that a monitor has open alerts on, since when
// the first of them deviates; overdue loads aside.
func (s *Store) OpenSince(ctx context.Context, monitor int64, series []int64) (map[int64]time.Time, error) {
	type row struct {
		SeriesID int64     `db:"series_id"`
		Since    time.Time `db:"since"`
	}
	list, err := many[row](ctx, s, "alerts", `
		select series_id, min(since) as since from alert
		where monitor_id = $1 and series_id = any($2) and closed_at is null and cause <> 'overdue' group by series_id`, monitor, series)
	since := make(map[int64]time.Time, len(list))
	for _, r := range list {
		since[r.SeriesID] = r.Since
	}
	return since, err
}

// HasOpen tells whether a monitor has an open alert of a cause.
func (s *Store) HasOpen(ctx context.Context, monitor int64, cause detect.Cause) (bool, error) {
	return one[bool](ctx, s, "alerts", string(cause),
		`select exists (select from alert where monitor_id = $1 and cause = $2 and closed_at is null)`, monitor, cause)
}

// CloseOverdue closes a monitor's overdue alerts: it does not watch arrivals any
// more.
func CloseOverdue(ctx context.Context, tx pgx.Tx, monitor int64, now time.Time) error {
	closed, err := ids(ctx, tx, `
		update alert set ended_at = $2, closed_at = $2, close_reason = 'settings_changed'
		where monitor_id = $1 and cause = 'overdue' and closed_at is null returning id`, monitor, now)
	if err != nil {
		return fmt.Errorf("close alerts: %w", err)
	}
	return changed(ctx, tx, closed)
}

// ClosePaused closes all of a monitor's alerts: it judges nothing any more.
func ClosePaused(ctx context.Context, tx pgx.Tx, monitor int64, now time.Time) error {
	closed, err := ids(ctx, tx, `
		update alert set ended_at = coalesce(ended_at, $2), closed_at = $2, close_reason = 'paused'
		where monitor_id = $1 and closed_at is null returning id`, monitor, now)
	if err != nil {
		return fmt.Errorf("close alerts: %w", err)
	}
	return changed(ctx, tx, closed)
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
				observed = $9, expected = $10, return_period_seconds = $11, sentence = $12, direction = $13, cause = $14,
				looks = case when $15::jsonb = '[]' then looks else $15::jsonb end, strength = $16, returns = greatest(returns, $17),
				returned_at = coalesce($18, returned_at), rang_to = $19, worst_from = $20, worst_to = $21, worst_observed = $22, worst_expected = $23,
				figures = $24, onset_spread = $25, effect = $26, effect_error = $27, owner = $28 where id = $1`,
			a.ID, a.Severity, a.Since, a.EndedAt, a.ClosedAt, a.CloseReason, a.Peak, a.PeakAt,
			a.Observed, a.Expected, a.ReturnPeriod, a.Sentence, a.Direction, a.Cause, a.Looks, a.Strength, a.Returns, a.ReturnedAt,
			a.RangTo, a.WorstFrom, a.WorstTo, a.WorstObserved, a.WorstExpected, a.Figures, a.OnsetSpread, a.Effect, a.EffectError, a.Owner)
	} else {
		err = tx.QueryRow(ctx, `
			insert into alert (monitor_id, series_id, cause, direction, severity, since, raised_at, ended_at, closed_at, close_reason,
				peak, peak_at, observed, expected, return_period_seconds, sentence, planned, from_history, looks, strength, returns, returned_at,
				rang_to, worst_from, worst_to, worst_observed, worst_expected, figures, onset_spread, effect, effect_error, owner)
			values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17, $18, $19, $20, $21, $22,
				$23, $24, $25, $26, $27, $28, $29, $30, $31, $32)
			on conflict (monitor_id, series_id, raised_at, cause) do update set severity = excluded.severity returning id`,
			a.MonitorID, a.SeriesID, a.Cause, a.Direction, a.Severity, a.Since, a.RaisedAt, a.EndedAt, a.ClosedAt, a.CloseReason,
			a.Peak, a.PeakAt, a.Observed, a.Expected, a.ReturnPeriod, a.Sentence, a.Planned, a.FromHistory, a.Looks, a.Strength,
			a.Returns, a.ReturnedAt,
			a.RangTo, a.WorstFrom, a.WorstTo, a.WorstObserved, a.WorstExpected, a.Figures, a.OnsetSpread, a.Effect, a.EffectError,
			a.Owner).Scan(&id)
	}
	if err != nil {
		return 0, fmt.Errorf("write alert: %w", err)
	}
	return id, changed(ctx, tx, []int64{id})
}

// CountReturn keeps that what an alert told of, since an instant, has come back so
// many times by now, without being told again.
func CountReturn(ctx context.Context, tx pgx.Tx, monitor, series int64, since time.Time, times int, at time.Time) error {
	_, err := tx.Exec(ctx, `update alert set returns = $4, returned_at = $5 where monitor_id = $1 and series_id = $2 and since = $3 and returns < $4`,
		monitor, series, since, times, at)
	if err != nil {
		return fmt.Errorf("count a return: %w", err)
	}
	return nil
}

// changed keeps, in the transaction that changes alerts, that they are to be
// grouped and told of.
func changed(ctx context.Context, tx pgx.Tx, alerts []int64) error {
	if len(alerts) == 0 {
		return nil
	}
	_, err := tx.Exec(ctx, `insert into alert_change (alert_id) select unnest($1::bigint[])`, alerts)
	if err != nil {
		return fmt.Errorf("keep that an alert changed: %w", err)
	}
	return Notify(ctx, tx, TopicTell)
}
