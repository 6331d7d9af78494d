package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
)

const incidentSelect = `select i.*, d.name as dataset, d.zone from incident i join dataset d on d.id = i.dataset_id `

// PutIncident adds an incident, or replaces the one with the same reference.
func PutIncident(ctx context.Context, tx pgx.Tx, v record.Incident) (id int64, added bool, err error) {
	err = tx.QueryRow(ctx, `
		insert into incident (reference, dataset_id, measure, segment, started_at, ended_at, title, cause, severity, note,
			author, known_at, impact, downstream, also)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15)
		on conflict (reference) do update set dataset_id = excluded.dataset_id, measure = excluded.measure, segment = excluded.segment,
			started_at = excluded.started_at, ended_at = excluded.ended_at, title = excluded.title, cause = excluded.cause,
			severity = excluded.severity, note = excluded.note, author = excluded.author,
			impact = excluded.impact, downstream = excluded.downstream, also = excluded.also
		returning id, xmax = 0`,
		v.Reference, v.DatasetID, v.Measure, v.Segment, v.StartedAt, v.EndedAt, v.Title, v.Cause, v.Severity, v.Note, v.Author,
		v.KnownAt, v.Impact, v.Downstream, v.Also).Scan(&id, &added)
	if err != nil {
		return 0, false, clash("incident "+v.Reference, err)
	}
	return id, added, nil
}

// Incidents gives the incidents that overlap [from, to), newest first; zero
// times do not limit. dataset is a name, empty for all.
func (s *Store) Incidents(ctx context.Context, dataset string, from, to time.Time) ([]record.Incident, error) {
	return many[record.Incident](ctx, s, "incidents", incidentSelect+`
		where ($1 = '' or d.name = $1 or i.also ? $1)
			and ($2::timestamptz is null or i.ended_at is null or i.ended_at > $2)
			and ($3::timestamptz is null or i.started_at < $3)
		order by i.started_at desc, i.id desc`, dataset, nullTime(from), nullTime(to))
}

func nullTime(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

func (s *Store) Incident(ctx context.Context, reference string) (record.Incident, error) {
	return one[record.Incident](ctx, s, "incident", reference, incidentSelect+`where i.reference = $1`, reference)
}

// AddIncident adds an incident, and gives its reference: the one it names, or one
// from a sequence if it names none. One that is there already stays as it is.
func AddIncident(ctx context.Context, tx pgx.Tx, v record.Incident) (reference string, err error) {
	for {
		reference = v.Reference
		if reference == "" {
			if err := tx.QueryRow(ctx, `select 'I-' || nextval('incident_reference')`).Scan(&reference); err != nil {
				return "", clash("incident", err)
			}
		}
		added, err := tx.Exec(ctx, `
			insert into incident (reference, dataset_id, measure, segment, started_at, ended_at, title, cause, severity,
				note, author, known_at, impact, downstream, also)
			values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15) on conflict (reference) do nothing`,
			reference, v.DatasetID, v.Measure, v.Segment, v.StartedAt, v.EndedAt, v.Title, v.Cause, v.Severity, v.Note, v.Author,
			v.KnownAt, v.Impact, v.Downstream, v.Also)
		switch {
		case err != nil:
			return "", clash("incident "+reference, err)
		case added.RowsAffected() > 0:
			return reference, nil
		case v.Reference != "":
			return "", record.Conflict{What: fmt.Sprintf("incident %s exists already", v.Reference)}
		}
		// A catalogue that was imported has taken this number: the next one.
	}
}

// DropIncident removes an incident, if it is there.
func (s *Store) DropIncident(ctx context.Context, reference string) error {
	n, err := s.affect(ctx, "incident", `delete from incident where reference = $1`, reference)
	if err == nil && n == 0 {
		err = record.NotFound{Kind: "incident", Name: reference}
	}
	return err
}

// AddLevelChange keeps a person's word that a series has a new normal.
func AddLevelChange(ctx context.Context, tx pgx.Tx, v record.LevelChange) error {
	_, err := tx.Exec(ctx, `
		insert into level_change (series_id, from_at, to_at, author, known_at) values ($1, $2, $3, $4, $5)
		on conflict (series_id, from_at) do update set to_at = excluded.to_at, author = excluded.author, known_at = excluded.known_at`,
		v.SeriesID, v.FromAt, v.ToAt, v.Author, v.KnownAt)
	if err != nil {
		return clash("change of level", err)
	}
	return nil
}

// LevelChanges gives the changes of level of a metric's series, ascending.
func (s *Store) LevelChanges(ctx context.Context, metric int64) ([]record.LevelChange, error) {
	return many[record.LevelChange](ctx, s, "changes of level", `
		select c.* from level_change c join series s on s.id = c.series_id where s.metric_id = $1 order by c.from_at`, metric)
}
