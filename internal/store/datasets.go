package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"tinbell/internal/record"
)

// AddSource stores a source and gives its id.
func (s *Store) AddSource(ctx context.Context, v record.Source) (int64, error) {
	return insert(ctx, s, "source "+v.Name, `
		insert into source (name, kind, login, address) values (:name, :kind, :login, :address)
		returning id`, v)
}

// EnsureSource gives the id of a source of a name, making it if there is none.
func EnsureSource(ctx context.Context, tx pgx.Tx, v record.Source) (id int64, err error) {
	err = tx.QueryRow(ctx, `
		insert into source (name, kind, login, address) values ($1, $2, $3, $4) on conflict (name) do update set name = excluded.name returning id`,
		v.Name, v.Kind, v.Login, v.Address).Scan(&id)
	if err != nil {
		return 0, clash("source "+v.Name, err)
	}
	return id, nil
}

func (s *Store) Sources(ctx context.Context) ([]record.Source, error) {
	return many[record.Source](ctx, s, "sources", `select * from source order by name`)
}

func (s *Store) Source(ctx context.Context, name string) (record.Source, error) {
	return one[record.Source](ctx, s, "source", name, `select * from source where name = $1`, name)
}

const datasetColumns = `d.*, source.name as source`

// AddDataset stores a dataset and gives its id.
func (s *Store) AddDataset(ctx context.Context, v record.Dataset) (int64, error) {
	return insert(ctx, s, "dataset "+v.Name, `
		insert into dataset (source_id, namespace, name, owner, zone, loaded_by, loaded_type, pattern, tags)
		values (:source_id, :namespace, :name, :owner, :zone, :loaded_by, :loaded_type, :pattern, :tags) returning id`, v)
}

func (s *Store) Datasets(ctx context.Context) ([]record.Dataset, error) {
	return many[record.Dataset](ctx, s, "datasets",
		`select `+datasetColumns+` from dataset d join source on source.id = d.source_id order by d.name`)
}

func (s *Store) Dataset(ctx context.Context, name string) (record.Dataset, error) {
	return one[record.Dataset](ctx, s, "dataset", name,
		`select `+datasetColumns+` from dataset d join source on source.id = d.source_id where d.name = $1`, name)
}

// DatasetByID gives a dataset by its id.
func (s *Store) DatasetByID(ctx context.Context, id int64) (record.Dataset, error) {
	return one[record.Dataset](ctx, s, "dataset", "",
		`select `+datasetColumns+` from dataset d join source on source.id = d.source_id where d.id = $1`, id)
}

// DatasetSource gives the source a dataset is read from.
func (s *Store) DatasetSource(ctx context.Context, dataset int64) (record.Source, error) {
	return one[record.Source](ctx, s, "source of dataset", "", `
		select source.* from source join dataset on dataset.source_id = source.id where dataset.id = $1`, dataset)
}

const metricColumns = `m.*, d.name as dataset, d.owner, d.tags as dataset_tags`

// AddMetric stores a metric and gives its id.
func (s *Store) AddMetric(ctx context.Context, v record.Metric) (int64, error) {
	return insert(ctx, s, "metric "+v.Name, `
		insert into metric (dataset_id, name, measure, column_name, time_column, segment_by, row_filter, kind, unit,
			period_seconds, zone, settle_seconds, lookback_seconds, every_seconds, next_at,
			quantile, matches, expression, time_type, cron, max_segments, kept_segments, message, otlp_name, comparison, starts_at, tags)
		values (:dataset_id, :name, :measure, :column_name, :time_column, :segment_by, :row_filter, :kind, :unit,
			:period_seconds, :zone, :settle_seconds, :lookback_seconds, :every_seconds, :next_at,
			:quantile, :matches, :expression, :time_type, :cron, :max_segments, :kept_segments, :message, :otlp_name, :comparison, :starts_at, :tags)
		returning id`, v)
}

// RenameMetric changes what a metric is called; a pushed one goes on taking the OTLP
// metric of its old name.
func (s *Store) RenameMetric(ctx context.Context, id int64, name string) error {
	return s.exec(ctx, "metric "+name, `
		update metric set name = $2, otlp_name = case when otlp_name = '' and every_seconds = 0
			and cron = '' then name else otlp_name end where id = $1`, id, name)
}

func (s *Store) Metrics(ctx context.Context) ([]record.Metric, error) {
	return many[record.Metric](ctx, s, "metrics",
		`select `+metricColumns+` from metric m join dataset d on d.id = m.dataset_id order by d.name, m.name`)
}

// MetricsOf gives the metrics of a dataset, by name.
func (s *Store) MetricsOf(ctx context.Context, dataset int64) ([]record.Metric, error) {
	return many[record.Metric](ctx, s, "metrics",
		`select `+metricColumns+` from metric m join dataset d on d.id = m.dataset_id where d.id = $1 order by m.name`, dataset)
}

func (s *Store) Metric(ctx context.Context, name string) (record.Metric, error) {
	return one[record.Metric](ctx, s, "metric", name,
		`select `+metricColumns+` from metric m join dataset d on d.id = m.dataset_id where m.name = $1`, name)
}

func (s *Store) MetricByID(ctx context.Context, id int64) (record.Metric, error) {
	return one[record.Metric](ctx, s, "metric", "", `
		select `+metricColumns+` from metric m join dataset d on d.id = m.dataset_id where m.id = $1`, id)
}

// DueDatasets gives the datasets with a metric whose collection is due.
func (s *Store) DueDatasets(ctx context.Context, now time.Time) ([]int64, error) {
	return many[int64](ctx, s, "due datasets", `
		select distinct dataset_id from metric where (every_seconds > 0 or cron <> '') and next_at <= $1`, now)
}

// DueMetrics gives the metrics of a dataset whose collection is due.
func (s *Store) DueMetrics(ctx context.Context, dataset int64, now time.Time) ([]record.Metric, error) {
	return many[record.Metric](ctx, s, "due metrics", `
		select `+metricColumns+` from metric m join dataset d on d.id = m.dataset_id
		where m.dataset_id = $1 and (m.every_seconds > 0 or m.cron <> '') and m.next_at <= $2 order by m.name`, dataset, now)
}

// HoldDataset lets one process at a time collect a dataset, as Hold does for
// tasks.
func (s *Store) HoldDataset(ctx context.Context, id int64) (release func(), held bool, err error) {
	return s.hold(ctx, lockDataset, id)
}

// NextCollection sets when a metric that was due by an instant is due next; one
// that failed is due sooner.
func (s *Store) NextCollection(ctx context.Context, id int64, due, at time.Time) error {
	return s.exec(ctx, "metric", `update metric set next_at = $3 where id = $1 and next_at <= $2`, id, due, at)
}

// NoteMetric keeps what to know about a metric.
func (s *Store) NoteMetric(ctx context.Context, id int64, note string) error {
	return s.exec(ctx, "metric", `update metric set message = $2 where id = $1`, id, note)
}

// Collected keeps how far a metric was read, and what its table was like then.
func (s *Store) Collected(ctx context.Context, id int64, to time.Time, fingerprint string) error {
	return s.exec(ctx, "metric", `
		update metric set state = 'ready', message = case when state = 'failed' then '' else message end,
			collected_to = greatest(collected_to, $2), fingerprint = $3 where id = $1`, id, to, fingerprint)
}

// MetricFailed keeps why a metric could not be read, and when it is tried again
// at the latest.
func (s *Store) MetricFailed(ctx context.Context, id int64, message string, retry time.Time) error {
	return s.exec(ctx, "metric", `
		update metric set state = 'failed', message = $2, next_at = $3, fingerprint = '' where id = $1`, id, message, retry)
}

// KeepSegments keeps which segments of a metric are measured one by one.
func (s *Store) KeepSegments(ctx context.Context, id int64, kept record.Strings, note string) error {
	return s.exec(ctx, "metric", `update metric set kept_segments = $2, message = $3 where id = $1`, id, kept, note)
}

// DuePushed claims the pushed metrics whose next period has passed, so that
// samples that did not come are noticed.
func (s *Store) DuePushed(ctx context.Context, now time.Time) ([]int64, error) {
	return many[int64](ctx, s, "due pushed metrics", `
		update metric set next_at = $1::timestamptz + least(period_seconds, 600) * interval '1 second'
		where every_seconds = 0 and cron = '' and (next_at is null or next_at <= $1) returning id`, now)
}

func (s *Store) SeriesOf(ctx context.Context, metric int64) ([]record.Series, error) {
	return many[record.Series](ctx, s, "series", `select id, metric_id, segment from series where metric_id = $1 order by segment`, metric)
}

// SeriesByID gives a series and its metric.
func (s *Store) SeriesByID(ctx context.Context, id int64) (record.Series, error) {
	return one[record.Series](ctx, s, "series", fmt.Sprint(id), `select id, metric_id, segment from series where id = $1`, id)
}

// EnsureSeries gives the ids of the segments' series, making missing ones.
func (s *Store) EnsureSeries(ctx context.Context, metric int64, segments []string) (map[string]int64, error) {
	if err := s.exec(ctx, "series", `
		insert into series (metric_id, segment) select $1, segment from unnest($2::text[]) as segment order by segment
		on conflict do nothing`, metric, segments); err != nil {
		return nil, err
	}
	list, err := many[record.Series](ctx, s, "series",
		`select id, metric_id, segment from series where metric_id = $1 and segment = any($2)`, metric, segments)
	if err != nil {
		return nil, err
	}
	ids := make(map[string]int64, len(list))
	for _, series := range list {
		ids[series.Segment] = series.ID
	}
	return ids, nil
}

// RenameSource changes what a source is called.
func (s *Store) RenameSource(ctx context.Context, id int64, name string) error {
	return s.exec(ctx, "source "+name, `update source set name = $2 where id = $1`, id, name)
}

// MoveSource gives a source another login and address.
func (s *Store) MoveSource(ctx context.Context, id int64, login []byte, address string) error {
	return s.exec(ctx, "source", `update source set login = $2, address = $3 where id = $1`, id, login, address)
}

// Forget removes everything that was measured, set and said; accounts stay.
func (s *Store) Forget(ctx context.Context) error {
	// Duties that run meanwhile hold some of the tables and want others: then one
	// of the two gives way.
	for tries := 1; ; tries++ {
		err := s.exec(ctx, "all records",
			`truncate source, dataset, metric, series, sample, sample_day, point, point_due, job, run, delivery, health, load, monitor, baseline, alert, label, incident, planned_event, calendar, stretch, proposal, monitor_version, task, alert_group, alert_change, channel, route, message, sla, sla_day restart identity cascade`)
		var pg *pgconn.PgError
		if !errors.As(err, &pg) || pg.Code != "40P01" || tries == 10 {
			return err
		}
	}
}

// SourceName gives what a source is called.
func (s *Store) SourceName(ctx context.Context, id int64) (string, error) {
	return one[string](ctx, s, "source", fmt.Sprint(id), `select name from source where id = $1`, id)
}

// UsualZone gives a dataset's zone; without a name that of most datasets.
func (s *Store) UsualZone(ctx context.Context, dataset string) (string, error) {
	return one[string](ctx, s, "zone", dataset, `
		select coalesce((select zone from dataset where $1 in ('', name) group by zone order by count(*) desc, zone limit 1), 'UTC')`, dataset)
}
