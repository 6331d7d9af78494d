// Package work says which duty runs when: a job queue on the same PostgreSQL,
// so that what must happen after a commit is queued in the same transaction,
// and several processes share the load. It holds the jobs' arguments and the
// queue; what a duty does is passed in.
package work

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"
	"github.com/riverqueue/river/rivertype"

	"tinbell/internal/contain"
)

// Evaluate judges the new and corrected samples of a metric. Samples from a time
// on may be new or corrected; of the series in Late, from an earlier time on. One
// order waits for each metric, and takes in what is asked for meanwhile.
type Evaluate struct {
	MetricID int64               `json:"metric_id" river:"unique"`
	From     time.Time           `json:"from"`
	Late     map[int64]time.Time `json:"late,omitempty"` // by series
	Turn     int                 `json:"turn,omitempty" river:"unique"`
}

// named is how many series are named one by one.
const named = 500

// With takes in what another order asks for.
func (j Evaluate) With(other Evaluate) Evaluate {
	if other.From.Before(j.From) {
		j.From = other.From
	}
	late := maps.Clone(j.Late)
	for id, at := range other.Late {
		if known, there := late[id]; !there || at.Before(known) {
			if late == nil {
				late = map[int64]time.Time{}
			}
			late[id] = at
		}
	}
	if j.Late = late; len(late) <= named {
		return j
	}
	for _, at := range late {
		if at.Before(j.From) {
			j.From = at
		}
	}
	j.Late = nil
	return j
}

func (Evaluate) Kind() string { return "evaluate" }

// Rejudge judges again the series of a metric whose samples changed further back
// than samples are stepped through again.
type Rejudge struct {
	MetricID int64 `json:"metric_id"`
	Turn     int   `json:"turn,omitempty"`
}

func (Rejudge) Kind() string { return "rejudge" }

// Learn fits a monitor's baselines anew. History asks for the alerts of the
// past as well. Asked, where given, is when answers changed: a fit that began
// later has taken them in already.
type Learn struct {
	MonitorID int64     `json:"monitor_id"`
	History   bool      `json:"history"`
	TaskID    int64     `json:"task_id"`
	Asked     time.Time `json:"asked,omitzero"`
	Changed   bool      `json:"changed,omitempty"` // settings are others: open alerts are judged again
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

// Summarise sums up a dataset that is pushed to, once a burst is over.
type Summarise struct {
	DatasetID int64 `json:"dataset_id"`
	Turn      int   `json:"turn,omitempty"`
}

func (Summarise) Kind() string { return "summarise" }

// burst is how long pushes are waited for before their dataset is summed up.
const burst = 5 * time.Second

// Relearn fits the filter of false alarms to the labels there are, once a burst
// of answers is over.
type Relearn struct {
	Turn int `json:"turn,omitempty"`
}

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
	Tried    json.RawMessage `json:"tried"` // as the API takes it
}

func (Trial) Kind() string { return "trial" }

// Drift runs a comparison, if it is due.
type Drift struct {
	Name string `json:"name"`
}

func (Drift) Kind() string { return "drift" }

// Duties are what the jobs do.
type Duties struct {
	Evaluate  func(context.Context, Evaluate) error
	Rejudge   func(context.Context, Rejudge) error
	Learn     func(context.Context, Learn) error
	Collect   func(context.Context, Collect) error
	Backfill  func(context.Context, Backfill) error
	Summarise func(context.Context, Summarise) error
	Relearn   func(context.Context) error
	Tune      func(context.Context, Tune) error
	Trial     func(context.Context, Trial) error
	Drift     func(context.Context, Drift) error
}

// Queue takes jobs and, once started, runs them.
type Queue struct {
	client *river.Client[pgx.Tx]
	pool   *pgxpool.Pool
	log    *slog.Logger
	worker string // what this process is called in the jobs it takes
	doing  *doing
	runs   atomic.Bool // whether it takes up jobs

	// Watched is told of each job: how long it had waited, and how long it took; nil: nobody is.
	Watched func(kind string, waited, took time.Duration, err error)
}

// unfinished are the states in which a second job of the kind is not needed.
var unfinished = []rivertype.JobState{rivertype.JobStateAvailable, rivertype.JobStatePending, rivertype.JobStateRunning,
	rivertype.JobStateRetryable, rivertype.JobStateScheduled}

// Prepare makes the queue's tables, or brings them up to date.
func Prepare(ctx context.Context, pool *pgxpool.Pool, log *slog.Logger) error {
	migrator, err := rivermigrate.New(riverpgxv5.New(pool), &rivermigrate.Config{Logger: quiet(log)})
	if err != nil {
		return fmt.Errorf("prepare queue: %w", err)
	}
	if _, err := migrator.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
		return fmt.Errorf("prepare queue: %w", err)
	}
	return nil
}

// New prepares the queue's tables and workers. process is the number under which
// this process is known to live.
func New(ctx context.Context, pool *pgxpool.Pool, process int32, duties Duties, log *slog.Logger) (*Queue, error) {
	if err := Prepare(ctx, pool, log); err != nil {
		return nil, err
	}
	var err error
	q := &Queue{pool: pool, log: log, worker: workerName(process), doing: &doing{jobs: map[int64]bool{}}}
	workers := river.NewWorkers()
	register(q, workers, duties.Evaluate)
	register(q, workers, duties.Rejudge)
	register(q, workers, duties.Learn)
	register(q, workers, duties.Collect)
	register(q, workers, duties.Backfill)
	register(q, workers, duties.Summarise)
	register(q, workers, func(ctx context.Context, _ Relearn) error { return duties.Relearn(ctx) })
	register(q, workers, duties.Tune)
	register(q, workers, duties.Trial)
	register(q, workers, duties.Drift)
	q.client, err = river.NewClient(riverpgxv5.New(pool), &river.Config{
		ID:      q.worker,
		Logger:  quiet(log),
		Workers: workers,
		Queues: map[string]river.QueueConfig{
			river.QueueDefault: {MaxWorkers: 4},
			"long":             {MaxWorkers: 2},
		},
		FetchPollInterval: 500 * time.Millisecond,
		JobTimeout:        jobWithin,
		// Jobs of a process that died are taken over by Adopt, long before.
		RescueStuckJobsAfter: 24 * time.Hour,
	})
	if err != nil {
		return nil, fmt.Errorf("prepare queue: %w", err)
	}
	return q, nil
}

// jobWithin is how long a job may take; what takes longer goes on in the next.
const jobWithin = 10 * time.Minute

// quiet keeps the queue's own chatter out of the log: warnings and worse stay, and
// the same words are said once a minute. While the database is away it has many.
func quiet(log *slog.Logger) *slog.Logger {
	return slog.New(&levelled{Handler: log.Handler(), said: &said{last: map[string]time.Time{}}})
}

type levelled struct {
	slog.Handler
	said *said
}

type said struct {
	mu   sync.Mutex
	last map[string]time.Time
}

func (l *levelled) Enabled(ctx context.Context, level slog.Level) bool {
	return level >= slog.LevelWarn && l.Handler.Enabled(ctx, level)
}

func (l *levelled) Handle(ctx context.Context, r slog.Record) error {
	l.said.mu.Lock()
	lately := r.Time.Sub(l.said.last[r.Message]) < time.Minute
	if !lately {
		l.said.last[r.Message] = r.Time
	}
	l.said.mu.Unlock()
	if lately {
		return nil
	}
	return l.Handler.Handle(ctx, r)
}

func (l *levelled) WithAttrs(attrs []slog.Attr) slog.Handler {
	return &levelled{l.Handler.WithAttrs(attrs), l.said}
}

func (l *levelled) WithGroup(name string) slog.Handler {
	return &levelled{l.Handler.WithGroup(name), l.said}
}

type worker[T river.JobArgs] struct {
	river.WorkerDefaults[T]
	queue *Queue
	do    func(context.Context, T) error
}

// Work does a job. A panic ends this job alone, and is told with what it worked
// on.
func (w *worker[T]) Work(ctx context.Context, job *river.Job[T]) error {
	defer w.queue.doing.begin(job.ID)()
	began := time.Now()
	ctx, end := traced(ctx, job.Kind)
	var later Later
	err := contain.Run(func() error { return w.do(ctx, job.Args) })
	if errors.As(err, &later) {
		end(nil)
		return river.JobSnooze(later.In)
	}
	end(err)
	if w.queue.Watched != nil {
		w.queue.Watched(job.Kind, began.Sub(job.ScheduledAt), time.Since(began), err)
	}
	if broke := (*contain.Panic)(nil); errors.As(err, &broke) {
		w.queue.log.ErrorContext(ctx, "a job broke off", "job", job.Kind, "arguments", string(job.EncodedArgs), "attempt", job.Attempt,
			"error", err, "stack", broke.Stack)
	}
	return err
}

func register[T river.JobArgs](q *Queue, workers *river.Workers, do func(context.Context, T) error) {
	river.AddWorker(workers, &worker[T]{queue: q, do: do})
}

// Start begins running jobs until ctx ends or Stop is called.
func (q *Queue) Start(ctx context.Context) error {
	err := q.client.Start(ctx)
	q.runs.Store(err == nil)
	return err
}

// Started tells whether it takes up jobs: a process that only answers requests does not.
func (q *Queue) Started() bool { return q.runs.Load() }

// Stop takes up no more jobs and lets those that run finish.
func (q *Queue) Stop(ctx context.Context) error { return q.client.Stop(ctx) }

// Cancel ends the jobs that run.
func (q *Queue) Cancel(ctx context.Context) error { return q.client.StopAndCancel(ctx) }

// Put queues a job in the caller's transaction: at its end, where it can do things
// there, for many transactions order the same jobs.
func (q *Queue) Put(ctx context.Context, tx pgx.Tx, job river.JobArgs) error {
	ends, ok := tx.(interface {
		AtEnd(key string, do func(context.Context, pgx.Tx) error)
	})
	if !ok {
		return q.put(ctx, tx, job)
	}
	args, err := json.Marshal(job)
	if err != nil {
		return fmt.Errorf("queue %s: %w", job.Kind(), err)
	}
	ends.AtEnd(job.Kind()+" "+string(args), func(ctx context.Context, tx pgx.Tx) error { return q.put(ctx, tx, job) })
	return nil
}

func (q *Queue) put(ctx context.Context, tx pgx.Tx, job river.JobArgs) error {
	result, err := q.client.InsertTx(ctx, tx, job, optionsOf(job))
	if err != nil {
		return fmt.Errorf("queue %s: %w", job.Kind(), err)
	}
	// One that runs already may not take in what happens now: one more follows it.
	again, ok := job.(followed)
	switch {
	case !ok || !result.UniqueSkippedAsDuplicate:
		return nil
	case result.Job.State != rivertype.JobStateRunning:
		if order, ok := job.(Evaluate); ok {
			return q.merge(ctx, tx, result.Job, order)
		}
		return nil
	}
	if next, turn := again.next(); turn < turns {
		return q.put(ctx, tx, next)
	}
	return nil
}

// merge has an order that waits take in another. Its row is locked by the try to
// insert beside it.
func (q *Queue) merge(ctx context.Context, tx pgx.Tx, waiting *rivertype.JobRow, order Evaluate) error {
	var known Evaluate
	if err := json.Unmarshal(waiting.EncodedArgs, &known); err != nil {
		return fmt.Errorf("queue %s: %w", order.Kind(), err)
	}
	args, err := json.Marshal(known.With(order))
	if err == nil && !bytes.Equal(args, waiting.EncodedArgs) {
		_, err = tx.Exec(ctx, `update river_job set args = $2 where id = $1`, waiting.ID, args)
	}
	if err != nil {
		return fmt.Errorf("queue %s: %w", order.Kind(), err)
	}
	return nil
}

// followed is a job of which some may run and one more wait. Each has its turn.
type followed interface {
	next() (job river.JobArgs, turn int)
}

// turns is more than can run at once.
const turns = 8

func (j Evaluate) next() (river.JobArgs, int) {
	j.Turn++
	return j, j.Turn
}

func (j Summarise) next() (river.JobArgs, int) { return Summarise{j.DatasetID, j.Turn + 1}, j.Turn + 1 }
func (j Relearn) next() (river.JobArgs, int)   { return Relearn{j.Turn + 1}, j.Turn + 1 }
func (j Rejudge) next() (river.JobArgs, int)   { return Rejudge{j.MetricID, j.Turn + 1}, j.Turn + 1 }

// Add queues a job by itself.
func (q *Queue) Add(ctx context.Context, job river.JobArgs) error {
	return pgx.BeginFunc(ctx, q.pool, func(tx pgx.Tx) error { return q.Put(ctx, tx, job) })
}

// Idle tells whether no job is waiting or running, but for those that sum up.
func (q *Queue) Idle(ctx context.Context) (bool, error) {
	var n int
	err := q.pool.QueryRow(ctx, `
		select count(*) from river_job
		where state in ('available', 'pending', 'running', 'retryable') and kind not in ('collect', 'summarise')`).Scan(&n)
	return n == 0, err
}
