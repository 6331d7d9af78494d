package store

import (
	"context"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
)

// SetSource makes a source be as given: moved if it is there, else added.
func SetSource(ctx context.Context, tx pgx.Tx, v record.Source) (id int64, err error) {
	err = tx.QueryRow(ctx, `
		insert into source (name, kind, login, address) values ($1, $2, $3, $4)
		on conflict (name) do update set login = excluded.login, address = excluded.address returning id`, v.Name, v.Kind,
		v.Login, v.Address).Scan(&id)
	if err != nil {
		return 0, clash("source "+v.Name, err)
	}
	return id, nil
}

// SetDataset makes a dataset be as given: changed if it is there, else added.
func SetDataset(ctx context.Context, tx pgx.Tx, v record.Dataset) error {
	result, err := tx.Exec(ctx, `
		update dataset set source_id = $2, namespace = $3, owner = $4, zone = $5, loaded_by = $6, pattern = $7,
			keep_days = $8, hidden = $9, tags = $10, loaded_type = $11 where name = $1`,
		v.Name, v.SourceID, v.Namespace, v.Owner, v.Zone, v.LoadedBy, v.Pattern, v.KeepDays, v.Hidden, v.Tags, v.LoadedType)
	if err == nil && result.RowsAffected() == 0 {
		_, err = tx.Exec(ctx, `
			insert into dataset (name, source_id, namespace, owner, zone, loaded_by, pattern, keep_days, hidden, tags,
				loaded_type) values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11)`,
			v.Name, v.SourceID, v.Namespace, v.Owner, v.Zone, v.LoadedBy, v.Pattern, v.KeepDays, v.Hidden, v.Tags, v.LoadedType)
	}
	if err != nil {
		return clash("dataset "+v.Name, err)
	}
	return nil
}

// SetMetric makes a metric be as given. Of one that is there, only what leaves
// the meaning of its samples alone is changed.
func SetMetric(ctx context.Context, tx pgx.Tx, v record.Metric) error {
	result, err := tx.Exec(ctx, `
		update metric set unit = $2, settle_seconds = $3, lookback_seconds = $4, every_seconds = $5, cron = $6,
			max_segments = $7, otlp_name = $8, next_at = least(next_at, $9),
			comparison = case when $10 = '' then comparison else $10 end, tags = $11
		where name = $1`, v.Name, v.Unit, v.SettleSeconds, v.LookbackSeconds, v.EverySeconds, v.Cron, v.MaxSegments, v.OTLPName,
		v.NextAt, v.Comparison, v.Tags)
	if err == nil && result.RowsAffected() == 0 {
		_, err = tx.Exec(ctx, `
			insert into metric (dataset_id, name, measure, column_name, time_column, segment_by, row_filter, kind, unit,
				period_seconds, zone, settle_seconds,
				lookback_seconds, every_seconds, next_at, quantile, matches, expression, time_type, cron, max_segments,
				kept_segments, message, otlp_name, comparison, tags)
			values ((select id from dataset where name = $1), $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15,
				$16, $17, $18, $19, $20, $21, $22, $23, $24, $25, $26)`,
			v.Dataset, v.Name, v.Measure, v.Column, v.TimeColumn, v.SegmentBy, v.RowFilter, v.Kind, v.Unit, v.PeriodSeconds,
			v.Zone, v.SettleSeconds,
			v.LookbackSeconds, v.EverySeconds, v.NextAt, v.Quantile, v.Matches, v.Expression, v.TimeType, v.Cron, v.MaxSegments,
			v.KeptSegments, v.Message, v.OTLPName, v.Comparison, v.Tags)
	}
	if err != nil {
		return clash("metric "+v.Name, err)
	}
	return nil
}

// SetMonitor makes a monitor be as given, with its version counted up, and gives
// its id.
func SetMonitor(ctx context.Context, tx pgx.Tx, v record.Monitor) (id int64, err error) {
	err = tx.QueryRow(ctx, `
		update monitor set owner = $2, paused = $3, settings = $4, version = version + 1, tags = $6,
			metric_id = (select id from metric where name = $5) where name = $1 returning id`, v.Name, v.Owner, v.Paused,
		v.Settings, v.Metric, v.Tags).Scan(&id)
	if errors.Is(err, pgx.ErrNoRows) {
		err = tx.QueryRow(ctx, `
			insert into monitor (name, owner, paused, settings, metric_id, tags)
			values ($1, $2, $3, $4, (select id from metric where name = $5), $6) returning id`,
			v.Name, v.Owner, v.Paused, v.Settings, v.Metric, v.Tags).Scan(&id)
	}
	if err == nil {
		_, err = tx.Exec(ctx, `
			insert into monitor_version (monitor_id, version, settings, paused, reason)
			select id, version, settings, paused, 'from files' from monitor where id = $1
			on conflict do nothing`, id)
	}
	if err != nil {
		return 0, fmt.Errorf("monitor %s: %w", v.Name, err)
	}
	return id, nil
}
