package store

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
)

// RemoveMetric removes a metric with its samples, monitors and alerts.
func (s *Store) RemoveMetric(ctx context.Context, name string) error {
	return s.remove(ctx, "metric", name, `select dataset_id from metric where name = $1`, `select id from metric where name = $1`,
		`delete from metric where name = $1`)
}

// RemoveDataset removes a dataset with all that was measured of it.
func (s *Store) RemoveDataset(ctx context.Context, name string) error {
	return s.remove(ctx, "dataset", name, `select id from dataset where name = $1`, `
		select m.id from metric m join dataset d on d.id = m.dataset_id where d.name = $1`, `delete from dataset where name = $1`)
}

// RemoveSource removes a source with its datasets.
func (s *Store) RemoveSource(ctx context.Context, name string) error {
	return s.remove(ctx, "source", name, `select d.id from dataset d join source on source.id = d.source_id where source.name = $1`, `
		select m.id from metric m join dataset d on d.id = m.dataset_id join source on source.id = d.source_id where source.name = $1`, `delete from source where name = $1`)
}

// remove deletes a thing of datasets and, first, the samples of its metrics, which no
// key holds to their series. It waits for who writes to them, and they for it.
func (s *Store) remove(ctx context.Context, kind, name, datasets, metrics, statement string) error {
	return s.InTx(ctx, func(tx pgx.Tx) error {
		of, err := ids(ctx, tx, datasets, name)
		if err != nil {
			return fmt.Errorf("remove %s %s: %w", kind, name, err)
		}
		if err := aloneOn(ctx, tx, of); err != nil {
			return err
		}
		for _, layer := range []string{"sample", "sample_day"} {
			if _, err := tx.Exec(ctx, `delete from `+layer+` where series_id in (select id from series where metric_id in (`+
				metrics+`))`, name); err != nil {
				return fmt.Errorf("remove samples of %s %s: %w", kind, name, err)
			}
		}
		result, err := tx.Exec(ctx, statement, name)
		if err != nil {
			return fmt.Errorf("remove %s %s: %w", kind, name, err)
		}
		if result.RowsAffected() == 0 {
			return record.NotFound{Kind: kind, Name: name}
		}
		return Notify(ctx, tx, TopicAlerts)
	})
}

// KeepDataset says how long a dataset's samples are kept.
func (s *Store) KeepDataset(ctx context.Context, name string, days int) error {
	result, err := s.querier().Exec(ctx, `update dataset set keep_days = $2 where name = $1`, name, days)
	if err == nil && result.RowsAffected() == 0 {
		return record.NotFound{Kind: "dataset", Name: name}
	}
	return err
}
