package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
)

// PutRunEvent keeps what an event says. Events may come in any order and more
// than once: what ends a run stands above what says that it goes on, and the
// later of two ends counts.
func PutRunEvent(ctx context.Context, tx pgx.Tx, e record.RunEvent) (job int64, err error) {
	err = tx.QueryRow(ctx, `select id from job where namespace = $1 and name = $2`, e.Job.Namespace, e.Job.Name).Scan(&job)
	if errors.Is(err, pgx.ErrNoRows) {
		err = tx.QueryRow(ctx, `
			insert into job (namespace, name) values ($1, $2) on conflict (namespace, name) do update set name = excluded.name returning id`,
			e.Job.Namespace, e.Job.Name).Scan(&job)
	}
	if err != nil {
		return 0, fmt.Errorf("write job: %w", err)
	}
	if e.Run != "" {
		var started, ended *time.Time
		if e.Begins {
			started = &e.Time
		}
		if e.State != "running" {
			ended = &e.Time
		}
		var parent *string
		if e.Parent != "" {
			parent = &e.Parent
		}
		if _, err = tx.Exec(ctx, `
			insert into run (id, job_id, state, started_at, ended_at, heard_at, message, parent) values ($1, $2, $3, $4, $5, $6, $7, $8)
			on conflict (id) do update set
				state = case when excluded.ended_at is null or excluded.ended_at < run.ended_at then run.state else excluded.state end,
				started_at = least(run.started_at, excluded.started_at), ended_at = greatest(run.ended_at, excluded.ended_at),
				heard_at = greatest(run.heard_at, excluded.heard_at),
				message = case when excluded.message <> '' then excluded.message else run.message end,
				parent = coalesce(excluded.parent, run.parent)`,
			e.Run, job, e.State, started, ended, e.Time, e.Message, parent); err != nil {
			return job, fmt.Errorf("write run: %w", err)
		}
	}
	return job, putRunDatasets(ctx, tx, job, e)
}

// putRunDatasets keeps what a run read and wrote, however many they are.
func putRunDatasets(ctx context.Context, tx pgx.Tx, job int64, e record.RunEvent) error {
	n := len(e.Datasets)
	if n == 0 {
		return nil
	}
	namespaces, names, directions, rows, bytes := make([]string, n), make([]string, n), make([]string, n), make([]*int64, n),
		make([]*int64, n)
	for i, d := range e.Datasets {
		namespaces[i], names[i], directions[i], rows[i], bytes[i] = d.Namespace, d.Name, "input", d.Rows, d.Bytes
		if d.Output {
			directions[i] = "output"
		}
	}
	_, err := tx.Exec(ctx, `
		insert into job_dataset (job_id, namespace, name, direction, heard_at)
		select distinct $1::bigint, namespace, name, direction, $5::timestamptz
		from unnest($2::text[], $3::text[], $4::text[]) as d(namespace, name, direction) order by 2, 3, 4
		on conflict (job_id, direction, namespace, name) do update set heard_at = greatest(job_dataset.heard_at, excluded.heard_at)`,
		job, namespaces, names, directions, e.Time)
	if err == nil && e.Run != "" {
		_, err = tx.Exec(ctx, `
			insert into run_dataset (run_id, namespace, name, direction, rows, bytes)
			select distinct on (namespace, name, direction) $1::uuid, namespace, name, direction, rows, bytes
			from unnest($2::text[], $3::text[], $4::text[], $5::bigint[], $6::bigint[]) with ordinality as d(namespace,
				name, direction, rows, bytes, place)
			order by namespace, name, direction, place desc
			on conflict (run_id, direction, namespace, name) do update set rows = coalesce(excluded.rows, run_dataset.rows),
				bytes = coalesce(excluded.bytes, run_dataset.bytes)`,
			e.Run, namespaces, names, directions, rows, bytes)
	}
	if err != nil {
		return fmt.Errorf("write lineage: %w", err)
	}
	return nil
}

// AddLoad keeps one arrival of rows that was told of.
func AddLoad(ctx context.Context, tx pgx.Tx, dataset int64, at time.Time, rows int64) error {
	if _, err := tx.Exec(ctx, `
		insert into load (dataset_id, at, rows) values ($1, $2, $3)
		on conflict (dataset_id, at) do update set rows = excluded.rows`, dataset, at, rows); err != nil {
		return fmt.Errorf("write load: %w", err)
	}
	return nil
}

// DatasetsAt gives those of some places that are measured here, by place, with
// their sources.
func (s *Store) DatasetsAt(ctx context.Context, places []record.Place) (map[record.Place]record.Dataset, error) {
	namespaces, names := make([]string, len(places)), make([]string, len(places))
	for i, p := range places {
		namespaces[i], names[i] = p.Namespace, p.Name
	}
	list, err := many[record.Dataset](ctx, s, "datasets", `
		select `+datasetColumns+` from dataset d join source on source.id = d.source_id
		where (d.namespace, d.name) in (select * from unnest($1::text[], $2::text[]))`, namespaces, names)
	found := make(map[record.Place]record.Dataset, len(list))
	for _, d := range list {
		found[record.Place{Namespace: d.Namespace, Name: d.Name}] = d
	}
	return found, err
}

// DatasetByName gives a dataset by namespace and name.
func (s *Store) DatasetByName(ctx context.Context, namespace, name string) (record.Dataset, error) {
	return one[record.Dataset](ctx, s, "dataset", name,
		`select `+datasetColumns+` from dataset d join source on source.id = d.source_id where d.namespace = $1 and d.name = $2`,
		namespace, name)
}

// JobState is a job with its last runs summed up.
type JobState struct {
	record.Job
	Runs    int        `db:"runs" json:"runs" doc:"of the last 30 days"`
	Failed  int        `db:"failed" json:"failed" doc:"of these"`
	State   *string    `db:"state" json:"state" doc:"of the last run"`
	LastAt  *time.Time `db:"last_at" json:"last_at" doc:"newest event"`
	Seconds *float64   `db:"seconds" json:"seconds" doc:"median duration of the complete ones"`
	Writes  string     `db:"writes" json:"writes" doc:"datasets, joined by commas"`
	Judged  bool       `db:"judged" json:"judged" doc:"a monitor judges the arrivals of what it writes"`
}

const jobStates = `
	select job.*, count(run.id)::int as runs, count(run.id) filter (where run.state in ('failed', 'aborted'))::int as failed,
		(array_agg(run.state order by run.heard_at desc) filter (where run.id is not null))[1] as state, max(run.heard_at) as last_at,
		percentile_cont(0.5) within group (order by extract(epoch
		from run.ended_at - run.started_at)) filter (where run.state = 'complete') as seconds,
		coalesce((select string_agg(name, ', ' order by name) from job_dataset where job_id = job.id and direction = 'output'), '') as writes,
		exists (select from job_dataset o join dataset d on (d.namespace, d.name) = (o.namespace, o.name) join metric m on m.dataset_id = d.id
			join monitor v on v.metric_id = m.id where o.job_id = job.id and o.direction = 'output' and v.settings->>'method' = 'arrival') as judged
	from job left join run on run.job_id = job.id and run.heard_at > $1::timestamptz - interval '30 days' `

// Jobs gives all jobs, by name.
func (s *Store) Jobs(ctx context.Context, now time.Time) ([]JobState, error) {
	return many[JobState](ctx, s, "jobs", jobStates+`group by job.id order by job.namespace, job.name`, now)
}

const runColumns = `
	select r.*, job.name as job, sum(d.rows)::bigint as rows, sum(d.bytes)::bigint as bytes
	from run r join job on job.id = r.job_id left join run_dataset d on d.run_id = r.id and d.direction = 'output' `

// Runs gives the last runs of a job, newest first.
func (s *Store) Runs(ctx context.Context, job int64, limit int) ([]record.Run, error) {
	return many[record.Run](ctx, s, "runs",
		runColumns+`where r.job_id = $1 group by r.id, job.name order by r.heard_at desc limit $2`, job, limit)
}

// RunsOf gives the last runs that wrote a dataset, newest first; rows and bytes
// are those of this dataset.
func (s *Store) RunsOf(ctx context.Context, namespace, name string, limit int) ([]record.Run, error) {
	return many[record.Run](ctx, s, "runs", `
		select r.*, job.name as job, d.rows, d.bytes from run_dataset d join run r on r.id = d.run_id join job on job.id = r.job_id
		where d.namespace = $1 and d.name = $2 and d.direction = 'output' order by r.heard_at desc limit $3`, namespace, name, limit)
}

// LastRunEnd gives when a job's last complete run ended; zero if none did.
func (s *Store) LastRunEnd(ctx context.Context, job int64) (time.Time, error) {
	at, err := one[*time.Time](ctx, s, "last run", "", `select max(ended_at) from run where job_id = $1 and state = 'complete'`, job)
	if err != nil || at == nil {
		return time.Time{}, err
	}
	return *at, nil
}

// RunEnds gives when the complete runs of a job ended, from an instant on.
func (s *Store) RunEnds(ctx context.Context, job int64, from time.Time) ([]time.Time, error) {
	return many[time.Time](ctx, s, "runs",
		`select ended_at from run where job_id = $1 and state = 'complete' and ended_at >= $2 order by ended_at`, job, from)
}

// Edges gives the whole lineage graph, as far as it was heard of since an
// instant.
func (s *Store) Edges(ctx context.Context, since time.Time) ([]record.Edge, error) {
	return many[record.Edge](ctx, s, "lineage", `
		select e.job_id, job.namespace as job_namespace, job.name as job, e.namespace, e.name, e.direction, e.heard_at
		from job_dataset e join job on job.id = e.job_id where e.heard_at >= $1 order by job.name, e.direction, e.name limit 20000`, since)
}

// Silence keeps since when a job's run is overdue; nil: it is not.
func Silence(ctx context.Context, tx pgx.Tx, job int64, since *time.Time) error {
	if _, err := tx.Exec(ctx, `update job set silent_since = $2 where id = $1`, job, since); err != nil {
		return fmt.Errorf("write job: %w", err)
	}
	return nil
}

// Step leads from a dataset to one that a job writes from it.
type Step struct {
	From string `db:"from_name"`
	To   string `db:"to_name"`
}

// Steps gives every step of the lineage graph.
func (s *Store) Steps(ctx context.Context) ([]Step, error) {
	return many[Step](ctx, s, "lineage", `
		select distinct i.name as from_name, o.name as to_name from job_dataset i join job_dataset o on o.job_id = i.job_id
		where i.direction = 'input' and o.direction = 'output' and i.name <> o.name`)
}

// Write says that a job writes a dataset.
type Write struct {
	Job     string `db:"job"`
	Dataset string `db:"name"`
}

// Writes gives what every job writes.
func (s *Store) Writes(ctx context.Context) ([]Write, error) {
	return many[Write](ctx, s, "lineage",
		`select distinct job.name as job, o.name from job_dataset o join job on job.id = o.job_id where o.direction = 'output'`)
}
