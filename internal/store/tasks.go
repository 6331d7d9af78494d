package store

import (
	"context"
	"fmt"
	"time"

	"tinbell/internal/record"
)

// AddTask starts a task and gives its id.
func (s *Store) AddTask(ctx context.Context, what, subject string) (int64, error) {
	return one[int64](ctx, s, "task", what, `insert into task (what, subject) values ($1, $2) returning id`, what, subject)
}

// AddBackfill starts a backfill of metrics over [from, to) and gives its id.
func (s *Store) AddBackfill(ctx context.Context, subject string, metrics record.Strings, from, to time.Time, total int) (int64, error) {
	return one[int64](ctx, s, "task", subject, `
		insert into task (what, subject, metrics, from_at, to_at, position, total) values ('backfill', $1, $2, $3, $4, $3, $5) returning id`,
		subject, metrics, from, to, total)
}

func (s *Store) Task(ctx context.Context, id int64) (record.Task, error) {
	return one[record.Task](ctx, s, "task", fmt.Sprint(id), `select * from task where id = $1`, id)
}

// Tasks gives the last tasks, those under way first, then the newest.
func (s *Store) Tasks(ctx context.Context, limit int) ([]record.Task, error) {
	return many[record.Task](ctx, s, "tasks", `select * from task order by state in ('running', 'paused') desc, id desc limit $1`, limit)
}

// TaskProgress keeps how far a task is.
func (s *Store) TaskProgress(ctx context.Context, id int64, done, total int) error {
	return s.exec(ctx, "task", `update task set done = $2, total = $3, touched_at = now() where id = $1`, id, done, total)
}

// Step keeps how far a task is and gives its state: somebody may have cancelled
// it.
func (s *Store) Step(ctx context.Context, id int64, done, total int) (state record.TaskState, err error) {
	return one[record.TaskState](ctx, s, "task", fmt.Sprint(id), `
		update task set done = $2, total = $3, touched_at = now() where id = $1 returning state`, id, done, total)
}

// Advance keeps up to where a backfill is done, and gives its state: somebody
// may have paused or cancelled it.
func (s *Store) Advance(ctx context.Context, id int64, position time.Time, done int) (state record.TaskState, err error) {
	return one[record.TaskState](ctx, s, "task", fmt.Sprint(id), `
		update task set position = greatest(position, $2), done = $3, touched_at = now() where id = $1 returning state`, id, position, done)
}

// SteerTask moves a task from one of some states to another; ok is false if it
// was in none of them.
func (s *Store) SteerTask(ctx context.Context, id int64, to record.TaskState, from ...record.TaskState) (ok bool, err error) {
	result, err := s.querier().Exec(ctx, `
		update task set state = $2, touched_at = now(), finished_at = case when $2 = 'cancelled' then now() end
		where id = $1 and state = any($3)`, id, to, from)
	if err != nil {
		return false, fmt.Errorf("write task: %w", err)
	}
	return result.RowsAffected() > 0, nil
}

// Hold takes hold of a task until release is called or the process dies; held is
// false if another has it.
func (s *Store) Hold(ctx context.Context, id int64) (release func(), held bool, err error) {
	return s.hold(ctx, lockTask, id)
}

func (s *Store) hold(ctx context.Context, class int, id int64) (release func(), held bool, err error) {
	lock, held, err := s.lock(ctx, class, int32(id))
	if err != nil || !held {
		return nil, false, err
	}
	return lock.Release, true, nil
}

// Abandoned gives the running tasks of a kind that nobody holds, though they
// have had time to be taken up: the process that worked on them is gone.
func (s *Store) Abandoned(ctx context.Context, what string, quiet time.Duration) ([]int64, error) {
	return many[int64](ctx, s, "tasks", `
		update task set touched_at = now() where what = $1 and state = 'running' and touched_at < now() - $2::bigint * interval '1 second'
			and not exists (select from pg_locks where locktype = 'advisory' and classid = $3 and objid = task.id and granted)
		returning id`, what, int64(quiet.Seconds()), lockTask)
}

// RunningTasks gives the running tasks of some kinds that nobody has touched for a
// while.
func (s *Store) RunningTasks(ctx context.Context, what []string, quiet time.Duration) ([]int64, error) {
	return many[int64](ctx, s, "tasks", `select id from task where what = any($1) and state = 'running'
		and touched_at < now() - $2::float8 * interval '1 second'`, what, quiet.Seconds())
}

// EndTask keeps how a task ended; err nil means well.
func (s *Store) EndTask(ctx context.Context, id int64, err error) error {
	state, message := record.TaskDone, ""
	if err != nil {
		state, message = record.TaskFailed, err.Error()
	}
	return s.exec(ctx, "task", `
		update task set state = $2, message = $3, finished_at = now() where id = $1 and state in ('running', 'paused')`, id, state, message)
}
