// Package work says which duty runs when: a job queue on the same PostgreSQL,
// so that what must happen after a commit is queued in the same transaction,
// and several processes share the load. It holds the jobs' arguments and the
// queue; what a duty does is passed in.
package work

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"
	"github.com/riverqueue/river/rivertype"
)

// Evaluate judges the new or corrected samples of a metric. From is the start
// of the earliest changed period.
type Evaluate struct {
	MetricID int64     `json:"metric_id"`
	From     time.Time `json:"from"`
}

func (Evaluate) Kind() string { return "evaluate" }

// Learn fits a monitor's baselines anew. History asks for the alerts of the
// past as well. Asked, where given, is when answers changed: a fit that began
// later has taken them in already.
type Learn struct {
	MonitorID int64     `json:"monitor_id"`
	History   bool      `json:"history"`
	TaskID    int64     `json:"task_id"`
	Asked     time.Time `json:"asked,omitzero"`
}

func (Learn) Kind() string { return "learn" }

// Collect measures what is due of a dataset.
type Collect struct {
	DatasetID int64 `json:"dataset_id"`
}

func (Collect) Kind() string { return "collect" }

// Backfill goes on with measuring the past.
type Backfill struct {
	TaskID int64 `json:"task_id"`
}

func (Backfill) Kind() string { return "backfill" }

// Tick starts whatever is due.
type Tick struct{}

func (Tick) Kind() string { return "tick" }

// Summarise sums up a dataset that is pushed to, once a burst is over.
type Summarise struct {
	DatasetID int64 `json:"dataset_id"`
}

func (Summarise) Kind() string { return "summarise" }

// burst is how long pushes are waited for before their dataset is summed up.
const burst = 5 * time.Second

// Relearn fits the filter of false alarms to the labels there are, once a burst
// of answers is over.
type Relearn struct{}

func (Relearn) Kind() string { return "relearn" }

// Tune searches for better settings; no monitors stand for all.
type Tune struct {
	TaskID   int64     `json:"task_id"`
	Monitors []string  `json:"monitors"`
	From     time.Time `json:"from,omitzero"`
}

func (Tune) Kind() string { return "tune" }

// Trial replays monitors under other settings beside their own.
type Trial struct {
	TaskID   int64           `json:"task_id"`
	Monitors []string        `json:"monitors"`
	From     time.Time       `json:"from"`
	To       time.Time       `json:"to"`
	Settings json.RawMessage `json:"settings"` // as the API takes them
}

func (Trial) Kind() string { return "trial" }

// Drift runs a comparison, if it is due.
type Drift struct {
	Name string `json:"name"`
}

func (Drift) Kind() string { return "drift" }

// Keep packs days that are over and drops what is older than is kept.
type Keep struct{}

func (Keep) Kind() string { return "keep" }

// Duties are what the jobs do.
type Duties struct {
	Evaluate  func(context.Context, Evaluate) error
	Learn     func(context.Context, Learn) error
	Collect   func(context.Context, Collect) error
	Backfill  func(context.Context, Backfill) error
	Summarise func(context.Context, Summarise) error
	Tick      func(context.Context) error
	Keep      func(context.Context) error
	Relearn   func(context.Context) error
	Tune      func(context.Context, Tune) error
	Trial     func(context.Context, Trial) error
	Drift     func(context.Context, Drift) error
}

// Queue takes jobs and, once started, runs them.
type Queue struct {
	client *river.Client[pgx.Tx]
	pool   *pgxpool.Pool
}

// unfinished are the states in which a second job of the kind is not needed.
var unfinished = []rivertype.JobState{rivertype.JobStateAvailable, rivertype.JobStatePending, rivertype.JobStateRunning,
	rivertype.JobStateRetryable, rivertype.JobStateScheduled}

// notBegun are the states in which a job still takes in what happens now.
var notBegun = []rivertype.JobState{rivertype.JobStateAvailable, rivertype.JobStatePending, rivertype.JobStateRetryable, rivertype.JobStateScheduled, rivertype.JobStateRunning}

const (
	// TickEvery is how often due work is looked for.
	TickEvery = 5 * time.Second
	// KeepEvery is how often samples are packed and dropped.
	KeepEvery = time.Hour
)

// New prepares the queue's tables and workers.
func New(ctx context.Context, pool *pgxpool.Pool, duties Duties, log *slog.Logger) (*Queue, error) {
	migrator, err := rivermigrate.New(riverpgxv5.New(pool), &rivermigrate.Config{Logger: quiet(log)})
	if err != nil {
		return nil, fmt.Errorf("prepare queue: %w", err)
	}
	if _, err := migrator.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
		return nil, fmt.Errorf("prepare queue: %w", err)
	}
	workers := river.NewWorkers()
	register(workers, duties.Evaluate)
	register(workers, duties.Learn)
	register(workers, duties.Collect)
	register(workers, duties.Backfill)
	register(workers, duties.Summarise)
	register(workers, func(ctx context.Context, _ Relearn) error { return duties.Relearn(ctx) })
	register(workers, duties.Tune)
	register(workers, duties.Trial)
	register(workers, duties.Drift)
	register(workers, func(ctx context.Context, _ Tick) error { return duties.Tick(ctx) })
	register(workers, func(ctx context.Context, _ Keep) error { return duties.Keep(ctx) })
	client, err := river.NewClient(riverpgxv5.New(pool), &river.Config{
		Logger:  quiet(log),
		Workers: workers,
		Queues: map[string]river.QueueConfig{
			river.QueueDefault: {MaxWorkers: 4},
			"long":             {MaxWorkers: 2},
		},
		FetchPollInterval: 500 * time.Millisecond,
		JobTimeout:        10 * time.Minute,
		// The jobs of a process that died are run again.
		RescueStuckJobsAfter: 11 * time.Minute,
		PeriodicJobs:         []*river.PeriodicJob{periodic(TickEvery, Tick{}), periodic(KeepEvery, Keep{})},
	})
	if err != nil {
		return nil, fmt.Errorf("prepare queue: %w", err)
	}
	return &Queue{client: client, pool: pool}, nil
}

func periodic(every time.Duration, job river.JobArgs) *river.PeriodicJob {
	return river.NewPeriodicJob(river.PeriodicInterval(every),
		func() (river.JobArgs, *river.InsertOpts) { return job, optionsOf(job) }, &river.PeriodicJobOpts{RunOnStart: true})
}

// quiet keeps the queue's own chatter out of the log: warnings and worse stay.
func quiet(log *slog.Logger) *slog.Logger {
	return slog.New(levelled{log.Handler()})
}

type levelled struct{ slog.Handler }

func (l levelled) Enabled(ctx context.Context, level slog.Level) bool {
	return level >= slog.LevelWarn && l.Handler.Enabled(ctx, level)
}

type worker[T river.JobArgs] struct {
	river.WorkerDefaults[T]
	do func(context.Context, T) error
}

func (w *worker[T]) Work(ctx context.Context, job *river.Job[T]) error { return w.do(ctx, job.Args) }

func register[T river.JobArgs](workers *river.Workers, do func(context.Context, T) error) {
	river.AddWorker(workers, &worker[T]{do: do})
}

// Start begins running jobs until ctx ends or Stop is called.
func (q *Queue) Start(ctx context.Context) error { return q.client.Start(ctx) }

// Stop lets running jobs finish.
func (q *Queue) Stop(ctx context.Context) error { return q.client.Stop(ctx) }

// Put queues a job in the caller's transaction.
func (q *Queue) Put(ctx context.Context, tx pgx.Tx, job river.JobArgs) error {
	if _, err := q.client.InsertTx(ctx, tx, job, optionsOf(job)); err != nil {
		return fmt.Errorf("queue %s: %w", job.Kind(), err)
	}
	return nil
}

// Add queues a job by itself.
func (q *Queue) Add(ctx context.Context, job river.JobArgs) error {
	return pgx.BeginFunc(ctx, q.pool, func(tx pgx.Tx) error { return q.Put(ctx, tx, job) })
}

func optionsOf(job river.JobArgs) *river.InsertOpts {
	switch job.(type) {
	case Collect:
		return &river.InsertOpts{MaxAttempts: 1, UniqueOpts: river.UniqueOpts{ByArgs: true, ByState: unfinished}}
	case Summarise:
		return &river.InsertOpts{MaxAttempts: 1, ScheduledAt: time.Now().Add(burst), UniqueOpts: river.UniqueOpts{ByArgs: true, ByState: unfinished}}
	case Tick:
		return &river.InsertOpts{MaxAttempts: 1}
	case Relearn:
		return &river.InsertOpts{MaxAttempts: 2, ScheduledAt: time.Now().Add(time.Second), UniqueOpts: river.UniqueOpts{ByState: notBegun}}
	case Tune, Trial, Drift:
		return &river.InsertOpts{Queue: "long", MaxAttempts: 1}
	case Keep:
		return &river.InsertOpts{Queue: "long", MaxAttempts: 1}
	case Backfill, Learn:
		return &river.InsertOpts{Queue: "long", MaxAttempts: 3}
	}
	return nil
}

// Idle tells whether no job is waiting or running, ticks aside.
func (q *Queue) Idle(ctx context.Context) (bool, error) {
	var n int
	err := q.pool.QueryRow(ctx, `
		select count(*) from river_job
		where state in ('available', 'pending', 'running', 'retryable') and kind not in ('tick', 'collect', 'keep', 'summarise')`).Scan(&n)
	return n == 0, err
}
