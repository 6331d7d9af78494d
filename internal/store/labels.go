package store

import (
	"context"
	"fmt"
	"time"

	"tinbell/core/score"
	"tinbell/internal/record"

	"github.com/jackc/pgx/v5"
)

// AddLabels stores one label per alert and puts it in force; alerts that are
// gone are refused as a whole. seen, where given, is the label that the person
// had before their eyes; if another is in force by now, they are told.
func AddLabels(ctx context.Context, tx pgx.Tx, ids []int64, l record.Label, seen map[int64]int64) error {
	rows, err := tx.Query(ctx, `select id, label_id from alert where id = any($1) order by id for update`, ids)
	if err != nil {
		return fmt.Errorf("read alerts: %w", err)
	}
	type current struct{ ID, Label int64 }
	list, err := pgx.CollectRows(rows, pgx.RowToStructByPos[current])
	if err != nil {
		return fmt.Errorf("read alerts: %w", err)
	}
	there := map[int64]int64{}
	for _, c := range list {
		there[c.ID] = c.Label
	}
	for _, id := range ids {
		now, known := there[id]
		if !known {
			return record.NotFound{Kind: "alert", Name: fmt.Sprint(id)}
		}
		if was, given := seen[id]; given && was != now {
			var other record.Label
			if err := tx.QueryRow(ctx, `select verdict, author, at from label where id = $1`, now).Scan(&other.Verdict,
				&other.Author, &other.At); err != nil {
				return fmt.Errorf("read label: %w", err)
			}
			said := "called it " + other.Verdict
			if other.Verdict == "" {
				said = "took the label back"
			}
			return record.Conflict{What: fmt.Sprintf("%s %s at %s UTC, after you had read alert %d: look again, then answer",
				other.Author, said, other.At.UTC().Format("15:04"), id)}
		}
	}
	_, err = tx.Exec(ctx, `
		with said as (
			insert into label (alert_id, verdict, cause, note, author, at) select unnest($1::bigint[]), $2, $3, $4, $5, $6 returning id, alert_id)
		update alert set verdict = $2, label_id = said.id from said where alert.id = said.alert_id`, ids, l.Verdict, l.Cause,
		l.Note, l.Author, l.At)
	if err != nil {
		return clash("label", err)
	}
	_, err = tx.Exec(ctx, `
		update alert set disputed = (
			select count(distinct verdict) > 1 from (
				select distinct on (author) verdict from label where alert_id = alert.id order by author, id desc) last where verdict <> '')
		where id = any($1)`, ids)
	if err != nil {
		return clash("label", err)
	}
	return nil
}

// GivenLabel is a label with what it was said of, for exports.
type GivenLabel struct {
	record.Label
	Monitor  string    `db:"monitor" json:"monitor"`
	Dataset  string    `db:"dataset" json:"dataset"`
	Segment  string    `db:"segment" json:"segment"`
	RaisedAt time.Time `db:"raised_at" json:"raised_at"`
	InForce  bool      `db:"in_force" json:"in_force"`
}

// AllLabels gives every label that was ever given to a monitor's alert, oldest
// first.
func (s *Store) AllLabels(ctx context.Context) ([]GivenLabel, error) {
	return many[GivenLabel](ctx, s, "labels", `
		select l.*, v.name as monitor, d.name as dataset, s.segment, a.raised_at, a.label_id = l.id as in_force
		from label l join alert a on a.id = l.alert_id join monitor v on v.id = a.monitor_id join series s on s.id = a.series_id
		join metric m on m.id = v.metric_id join dataset d on d.id = m.dataset_id order by l.id`)
}

// AlertAt finds a monitor's alert by its segment and the minute it was raised in; 0 if
// there is none.
func (s *Store) AlertAt(ctx context.Context, monitor, segment string, raised time.Time) (int64, error) {
	ids, err := many[int64](ctx, s, "alert", `
		select a.id from alert a join monitor v on v.id = a.monitor_id join series s on s.id = a.series_id
		where v.name = $1 and s.segment = $2 and date_trunc('minute', a.raised_at) = date_trunc('minute', $3::timestamptz) limit 1`, monitor, segment, raised)
	if err != nil || len(ids) == 0 {
		return 0, err
	}
	return ids[0], nil
}

// Labels gives every label an alert was given, newest first.
func (s *Store) Labels(ctx context.Context, alert int64) ([]record.Label, error) {
	return many[record.Label](ctx, s, "labels", `select * from label where alert_id = $1 order by id desc`, alert)
}

// LabelledSpan is an alert that people judged, with the time of the first
// label of its present verdict.
type LabelledSpan struct {
	SeriesID int64         `db:"series_id"`
	Since    time.Time     `db:"since"`
	EndedAt  *time.Time    `db:"ended_at"`
	Verdict  score.Verdict `db:"verdict"`
	KnownAt  time.Time     `db:"known_at"`
	Summary  string        `db:"summary"`
}

// LabelledSpans gives the alerts of a monitor's metric that people have labelled.
func (s *Store) LabelledSpans(ctx context.Context, metric int64) ([]LabelledSpan, error) {
	return many[LabelledSpan](ctx, s, "labelled alerts", `
		select a.series_id, a.since, a.ended_at, a.verdict, a.sentence as summary,
			(select min(l.at) from label l where l.alert_id = a.id and l.verdict = a.verdict) as known_at
		from alert a join series s on s.id = a.series_id
		where s.metric_id = $1 and a.verdict <> ''`, metric)
}
