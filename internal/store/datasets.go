package store

import (
	"context"
	"time"

	"tinbell/internal/record"
)

// AddSource stores a source and gives its id.
func (s *Store) AddSource(ctx context.Context, v record.Source) (int64, error) {
	return insert(ctx, s, "source "+v.Name, `
		insert into source (name, kind, login, address) values (:name, :kind, :login, :address)
		returning id`, v)
}

func (s *Store) Sources(ctx context.Context) ([]record.Source, error) {
	return many[record.Source](ctx, s, "sources", `select * from source order by name`)
}

func (s *Store) Source(ctx context.Context, name string) (record.Source, error) {
	return one[record.Source](ctx, s, "source", name, `select * from source where name = $1`, name)
}

// SourceState keeps whether a source could be reached, with its own message.
func (s *Store) SourceState(ctx context.Context, id int64, state, message string) error {
	return s.exec(ctx, "source state",
		`update source set state = $2, message = $3 where id = $1 and (state, message) is distinct from ($2, $3)`, id, state, message)
}

const datasetColumns = `d.*, source.name as source`

// AddDataset stores a dataset and gives its id.
func (s *Store) AddDataset(ctx context.Context, v record.Dataset) (int64, error) {
	return insert(ctx, s, "dataset "+v.Name, `
		insert into dataset (source_id, namespace, name, owner, zone, loaded_by)
		values (:source_id, :namespace, :name, :owner, :zone, :loaded_by) returning id`, v)
}

func (s *Store) Datasets(ctx context.Context) ([]record.Dataset, error) {
	return many[record.Dataset](ctx, s, "datasets",
		`select `+datasetColumns+` from dataset d join source on source.id = d.source_id order by d.name`)
}

func (s *Store) Dataset(ctx context.Context, name string) (record.Dataset, error) {
	return one[record.Dataset](ctx, s, "dataset", name,
		`select `+datasetColumns+` from dataset d join source on source.id = d.source_id where d.name = $1`, name)
}

// DatasetSource gives the source a dataset is read from.
func (s *Store) DatasetSource(ctx context.Context, dataset int64) (record.Source, error) {
	return one[record.Source](ctx, s, "source of dataset", "", `
		select source.* from source join dataset on dataset.source_id = source.id where dataset.id = $1`, dataset)
}

const metricColumns = `m.*, d.name as dataset`

// AddMetric stores a metric and gives its id.
func (s *Store) AddMetric(ctx context.Context, v record.Metric) (int64, error) {
	return insert(ctx, s, "metric "+v.Name, `
		insert into metric (dataset_id, name, measure, column_name, time_column, segment_by, row_filter, kind, unit,
			period_seconds, zone, settle_seconds, lookback_seconds, every_seconds, next_at)
		values (:dataset_id, :name, :measure, :column_name, :time_column, :segment_by, :row_filter, :kind, :unit,
			:period_seconds, :zone, :settle_seconds, :lookback_seconds, :every_seconds, :next_at)
		returning id`, v)
}

func (s *Store) Metrics(ctx context.Context) ([]record.Metric, error) {
	return many[record.Metric](ctx, s, "metrics",
		`select `+metricColumns+` from metric m join dataset d on d.id = m.dataset_id order by d.name, m.name`)
}

func (s *Store) Metric(ctx context.Context, name string) (record.Metric, error) {
	return one[record.Metric](ctx, s, "metric", name,
		`select `+metricColumns+` from metric m join dataset d on d.id = m.dataset_id where m.name = $1`, name)
}

func (s *Store) MetricByID(ctx context.Context, id int64) (record.Metric, error) {
	return one[record.Metric](ctx, s, "metric", "", `
		select `+metricColumns+` from metric m join dataset d on d.id = m.dataset_id where m.id = $1`, id)
}

// DueMetrics claims the metrics whose collection is due and sets when each is
// due next, so that no other process takes them for the same turn.
func (s *Store) DueMetrics(ctx context.Context, now time.Time) ([]int64, error) {
	return many[int64](ctx, s, "due metrics", `
		update metric set next_at = $1::timestamptz + every_seconds * interval '1 second'
		where every_seconds > 0 and next_at <= $1 returning id`, now)
}

// DuePushed claims the pushed metrics whose next period has passed, so that
// samples that did not come are noticed.
func (s *Store) DuePushed(ctx context.Context, now time.Time) ([]int64, error) {
	return many[int64](ctx, s, "due pushed metrics", `
		update metric set next_at = $1::timestamptz + least(period_seconds, 600) * interval '1 second'
		where every_seconds = 0 and (next_at is null or next_at <= $1) returning id`, now)
}

// MetricState keeps how the last collection went and how far it got.
func (s *Store) MetricState(ctx context.Context, id int64, state, message string, collectedTo *time.Time) error {
	return s.exec(ctx, "metric state", `
		update metric set state = $2, message = $3, collected_to = greatest(collected_to, $4) where id = $1`,
		id, state, message, collectedTo)
}

func (s *Store) SeriesOf(ctx context.Context, metric int64) ([]record.Series, error) {
	return many[record.Series](ctx, s, "series", `select * from series where metric_id = $1 order by segment`, metric)
}

// SeriesByID gives a series and its metric.
func (s *Store) SeriesByID(ctx context.Context, id int64) (record.Series, error) {
	return one[record.Series](ctx, s, "series", "", `select * from series where id = $1`, id)
}

// EnsureSeries gives the ids of the segments' series, making missing ones.
func (s *Store) EnsureSeries(ctx context.Context, metric int64, segments []string) (map[string]int64, error) {
	if err := s.exec(ctx, "series", `
		insert into series (metric_id, segment) select $1, unnest($2::text[]) on conflict do nothing`, metric, segments); err != nil {
		return nil, err
	}
	list, err := s.SeriesOf(ctx, metric)
	if err != nil {
		return nil, err
	}
	ids := make(map[string]int64, len(list))
	for _, series := range list {
		ids[series.Segment] = series.ID
	}
	return ids, nil
}

// MoveSource gives a source another login and address.
func (s *Store) MoveSource(ctx context.Context, id int64, login []byte, address string) error {
	return s.exec(ctx, "source", `update source set login = $2, address = $3 where id = $1`, id, login, address)
}

// Forget removes everything that was measured, set and said; accounts stay.
func (s *Store) Forget(ctx context.Context) error {
	return s.exec(ctx, "all records", `truncate source, dataset, metric, series, sample, sample_day, load, monitor, baseline, alert, label, incident, planned_event, task restart identity cascade`)
}
