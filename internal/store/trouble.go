package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/detect"
	"tinbell/internal/record"
)

// About is what an alert without a monitor is about: a source, one of its
// datasets, a job, what was promised of a dataset, or a comparison of its rows.
type About struct{ Source, Dataset, Job, SLA, Comparison int64 }

// AboutOf gives what an alert without a monitor is about.
func AboutOf(a record.Alert) *About {
	var v About
	for into, id := range map[*int64]*int64{&v.Source: a.OfSource, &v.Dataset: a.OfDataset, &v.Job: a.OfJob, &v.SLA: a.OfSLA,
		&v.Comparison: a.OfComparison} {
		if id != nil {
			*into = *id
		}
	}
	return &v
}

// keys are its parts as they are stored: null where there is none.
func (a About) keys() [5]*int64 {
	var keys [5]*int64
	for i, id := range []int64{a.Source, a.Dataset, a.Job, a.SLA, a.Comparison} {
		if id != 0 {
			keys[i] = &id
		}
	}
	return keys
}

const sameAbout = `of_source is not distinct from $1 and of_dataset is not distinct from $2 and of_job is not distinct from $3 and of_sla is not distinct from $4
	and of_comparison is not distinct from $5 and cause = $6 and closed_at is null`

// Failing keeps that a source or dataset cannot be read, and gives since when.
func (s *Store) Failing(ctx context.Context, about About, message string, now time.Time) (since time.Time, err error) {
	statement, id := `update source set state = 'failed', message = $2, failing_since = coalesce(failing_since, $3)
		where id = $1 returning failing_since`, about.Source
	if about.Dataset != 0 {
		statement, id = `update dataset set state = 'failed', message = $2, failing_since = coalesce(failing_since, $3)
			where id = $1 returning failing_since`, about.Dataset
	}
	return one[time.Time](ctx, s, "state", message, statement, id, message, now)
}

// Recovered keeps that a source or dataset is read again, and closes the alert
// about it.
func (s *Store) Recovered(ctx context.Context, about About, now time.Time) error {
	return s.InTx(ctx, func(tx pgx.Tx) error {
		statement, id := `update source set state = 'ready', message = '', failing_since = null where id = $1`, about.Source
		if about.Dataset != 0 {
			statement, id = `update dataset set state = 'ready', message = '', failing_since = null where id = $1`, about.Dataset
		}
		if _, err := tx.Exec(ctx, statement, id); err != nil {
			return fmt.Errorf("write state: %w", err)
		}
		return Mended(ctx, tx, about, record.CauseUnreadable, now)
	})
}

// Trouble opens an alert about a source or dataset, or renews what the open one
// of the same cause says.
func Trouble(ctx context.Context, tx pgx.Tx, about About, a record.Alert) error {
	k := about.keys()
	open, err := ids(ctx, tx, `update alert set sentence = $7, severity = $8 where `+sameAbout+` returning id`, k[0], k[1], k[2],
		k[3], k[4], a.Cause, a.Sentence, a.Severity)
	if err == nil && len(open) == 0 {
		open, err = ids(ctx, tx, `
			insert into alert (of_source, of_dataset, of_job, of_sla, of_comparison, cause, direction, severity, since, raised_at, sentence)
			values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11) returning id`,
			k[0], k[1], k[2], k[3], k[4], a.Cause, a.Direction, a.Severity, a.Since, a.RaisedAt, a.Sentence)
	}
	if err != nil {
		return fmt.Errorf("write alert: %w", err)
	}
	if err := changed(ctx, tx, open); err != nil {
		return err
	}
	return Notify(ctx, tx, TopicAlerts)
}

// Mended closes the open alert of a cause about a source or dataset, if there is
// one.
func Mended(ctx context.Context, tx pgx.Tx, about About, cause detect.Cause, now time.Time) error {
	k := about.keys()
	closed, err := ids(ctx, tx, `update alert set ended_at = $7, closed_at = $7, close_reason = 'recovered' where `+sameAbout+
		` returning id`, k[0], k[1], k[2], k[3], k[4], cause, now)
	if err != nil {
		return fmt.Errorf("close alert: %w", err)
	}
	if len(closed) == 0 {
		return nil
	}
	if err := changed(ctx, tx, closed); err != nil {
		return err
	}
	return Notify(ctx, tx, TopicAlerts)
}

// CloseNoted closes alerts about changed columns and bad files that were raised before an
// instant: people have had their time to see them.
func (s *Store) CloseNoted(ctx context.Context, before, now time.Time) error {
	return s.InTx(ctx, func(tx pgx.Tx) error {
		closed, err := ids(ctx, tx, `
			update alert set ended_at = since, closed_at = $3, close_reason = 'noted'
			where cause = any($1) and closed_at is null and raised_at < $2 returning id`,
			[]detect.Cause{record.CauseColumns, record.CauseFile}, before, now)
		if err != nil {
			return fmt.Errorf("close alerts: %w", err)
		}
		return changed(ctx, tx, closed)
	})
}

// AddColumns keeps a table's columns from a time on.
func AddColumns(ctx context.Context, tx pgx.Tx, v record.ColumnVersion) error {
	if _, err := tx.Exec(ctx, `insert into column_version (dataset_id, seen_at, columns, changes) values ($1, $2, $3, $4)`,
		v.DatasetID, v.SeenAt, v.Columns, v.Changes); err != nil {
		return fmt.Errorf("write columns: %w", err)
	}
	return nil
}

// Columns gives the last versions of a table's columns, newest first.
func (s *Store) Columns(ctx context.Context, dataset int64, limit int) ([]record.ColumnVersion, error) {
	return many[record.ColumnVersion](ctx, s, "columns",
		`select * from column_version where dataset_id = $1 order by id desc limit $2`, dataset, limit)
}
