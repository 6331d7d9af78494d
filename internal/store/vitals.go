package store

import (
	"context"
	"time"
)

// Vitals are figures about the service as its database has them.
type Vitals struct {
	JobsWaiting     float64 `db:"jobs_waiting"`
	OldestJob       float64 `db:"oldest_job"` // seconds
	JobsGivenUp     float64 `db:"jobs_given_up"`
	MessagesWaiting float64 `db:"messages_waiting"`
	OldestMessage   float64 `db:"oldest_message"` // seconds
	ToldAfter       float64 `db:"told_after"`     // seconds
	MetricsFailed   float64 `db:"metrics_failed"`
	SourcesFailed   float64 `db:"sources_failed"`
	ChannelsFailed  float64 `db:"channels_failed"`
	AlertsOpen      float64 `db:"alerts_open"`
	Series          float64 `db:"series"`
	Bytes           float64 `db:"bytes"`
	Connections     float64 `db:"connections"`
	Allowed         float64 `db:"allowed"`
	ClockAhead      float64 `db:"clock_ahead"` // seconds by which the database's clock is ahead
	Version         int     `db:"version"`     // of PostgreSQL, as 150018
	Fsync           bool    `db:"fsync"`
	Synchronous     bool    `db:"synchronous"` // whether a commit waits until it is written
}

// Vitals reads them.
func (s *Store) Vitals(ctx context.Context, now time.Time) (Vitals, error) {
	return one[Vitals](ctx, s, "figures", "", `
		select
			(select count(*) from river_job where state in ('available', 'retryable')) as jobs_waiting,
			(select coalesce(extract(epoch from now() - min(scheduled_at)), 0)::float8 from river_job
			where state = 'available' and scheduled_at < now()) as oldest_job,
			(select count(*) from river_job where state = 'discarded' and finalized_at > now() - interval '1 hour') as jobs_given_up,
			(select count(*) from message where state = 'waiting') as messages_waiting,
			(select coalesce(greatest(extract(epoch from $1::timestamptz - min(due_at)), 0), 0)::float8 from message
			where state = 'waiting') as oldest_message,
			(select coalesce(avg(extract(epoch from sent_at - due_at)), 0)::float8 from message
			where sent_at > $1::timestamptz - interval '1 hour') as told_after,
			(select count(*) from metric where state = 'failed') as metrics_failed,
			(select count(*) from source where state = 'failed') as sources_failed,
			(select count(*) from channel where failing_since is not null) as channels_failed,
			(select count(*) from alert where closed_at is null) as alerts_open,
			(select count(*) from series) as series,
			pg_database_size(current_database()) as bytes,
			(select count(*) from pg_stat_activity where backend_type = 'client backend') as connections,
			current_setting('max_connections')::float8 as allowed,
			extract(epoch from clock_timestamp() - $2::timestamptz)::float8 as clock_ahead,
			current_setting('server_version_num')::int as version,
			current_setting('fsync')::bool as fsync,
			current_setting('synchronous_commit') <> 'off' as synchronous`, now, time.Now())
}
