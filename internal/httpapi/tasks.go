package httpapi

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"tinbell/internal/people"
	"tinbell/internal/record"
)

// Started is long work that was begun.
type Started struct {
	TaskID int64 `json:"task_id"`
}

func (s *server) addTasks(api huma.API) {
	add(api, "GET", "/tasks", "tasks", "Long pieces of work: those under way first, then the newest", people.Reader,
		func(ctx context.Context, _ *none) (*body[[]record.Task], error) {
			return ok(s.Store.Tasks(ctx, 50))
		})
	add(api, "GET", "/tasks/{id}", "task", "How far a long piece of work is", people.Reader, func(ctx context.Context, in *struct {
		ID int64 `path:"id"`
	}) (*body[record.Task], error) {
		return ok(s.Store.Task(ctx, in.ID))
	})
	add(api, "POST", "/tasks/{id}/{verb}", "steer-task", "Pause, resume or cancel a backfill; what it has read stays",
		people.Editor, func(ctx context.Context, in *struct {
			ID   int64  `path:"id"`
			Verb string `path:"verb" enum:"pause,resume,cancel"`
		}) (*body[record.Task], error) {
			return ok(s.Collector.Steer(ctx, in.ID, in.Verb))
		})
}
