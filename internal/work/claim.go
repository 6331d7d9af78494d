package work

import (
	"context"
	"fmt"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
)

// A job that runs is claimed by its process: by the process's own number, which
// is known to live or not, and, within the process, by being worked on. A job
// that neither is true of has lost its worker, and is taken up again.

// doing is what this process works on.
type doing struct {
	mu   sync.Mutex
	jobs map[int64]bool
}

func (d *doing) begin(job int64) (end func()) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.jobs[job] = true
	return func() {
		d.mu.Lock()
		defer d.mu.Unlock()
		delete(d.jobs, job)
	}
}

func (d *doing) list() []int64 {
	d.mu.Lock()
	defer d.mu.Unlock()
	list := make([]int64, 0, len(d.jobs))
	for id := range d.jobs {
		list = append(list, id)
	}
	return list
}

func workerName(process int32) string { return fmt.Sprintf("tinbell-%d", process) }

// unkept is after what time a job that this process took, and does not work on,
// is one whose end could not be kept.
const unkept = 15 * time.Second

// Adopt takes over the jobs of processes that do not live, and those of this one
// that it does not work on any more: they are run again. It tells how many.
// Whoever led the queue's upkeep and is gone leads no longer.
func (q *Queue) Adopt(ctx context.Context, living []int32) (int64, error) {
	alive := make([]string, len(living))
	for i, number := range living {
		alive[i] = workerName(number)
	}
	result, err := q.pool.Exec(ctx, `
		with led as (delete from river_leader where not leader_id = any($1))
		update river_job set state = 'available', scheduled_at = now(), attempt = greatest(attempt - 1, 0)
		where state = 'running' and (not attempted_by[array_upper(attempted_by, 1)] = any($1)
			or attempted_by[array_upper(attempted_by, 1)] = $2 and not id = any($3) and attempted_at < now() - $4::float8 * interval '1 second')`,
		alive, q.worker, q.doing.list(), unkept.Seconds())
	if err != nil {
		return 0, fmt.Errorf("take over jobs: %w", err)
	}
	return result.RowsAffected(), nil
}

// Orphaned gives those of some tasks that no unfinished job works on.
func (q *Queue) Orphaned(ctx context.Context, tasks []int64) ([]int64, error) {
	return q.without(ctx, "task_id", "", tasks)
}

// Unordered gives those of some monitors that no unfinished job will fit.
func (q *Queue) Unordered(ctx context.Context, monitors []int64) ([]int64, error) {
	return q.without(ctx, "monitor_id", Learn{}.Kind(), monitors)
}

// without gives the ids that no unfinished job of a kind, or of any, has as an
// argument.
func (q *Queue) without(ctx context.Context, argument, kind string, all []int64) ([]int64, error) {
	if len(all) == 0 {
		return nil, nil
	}
	rows, err := q.pool.Query(ctx, `
		select wanted.id from unnest($1::bigint[]) as wanted(id) where not exists (
			select from river_job j where j.finalized_at is null and $3 in ('', j.kind) and (j.args->>$2)::bigint = wanted.id)`,
		all, argument, kind)
	if err != nil {
		return nil, fmt.Errorf("look for jobs: %w", err)
	}
	return pgx.CollectRows(rows, pgx.RowTo[int64])
}
