package store

import (
	"context"
	"fmt"

	"tinbell/internal/record"
)

// AddTask starts a task and gives its id.
func (s *Store) AddTask(ctx context.Context, what, subject string) (int64, error) {
	return one[int64](ctx, s, "task", what, `insert into task (what, subject) values ($1, $2) returning id`, what, subject)
}

func (s *Store) Task(ctx context.Context, id int64) (record.Task, error) {
	return one[record.Task](ctx, s, "task", fmt.Sprint(id), `select * from task where id = $1`, id)
}

// TaskProgress keeps how far a task is.
func (s *Store) TaskProgress(ctx context.Context, id int64, done, total int) error {
	return s.exec(ctx, "task", `update task set done = $2, total = $3 where id = $1`, id, done, total)
}

// EndTask keeps how a task ended; err nil means well.
func (s *Store) EndTask(ctx context.Context, id int64, err error) error {
	state, message := "done", ""
	if err != nil {
		state, message = "failed", err.Error()
	}
	return s.exec(ctx, "task", `update task set state = $2, message = $3, finished_at = now() where id = $1`, id, state, message)
}
