package record

import "time"

// TaskState is how long work stands.
type TaskState string

const (
	TaskRunning   TaskState = "running"
	TaskPaused    TaskState = "paused"
	TaskDone      TaskState = "done"
	TaskFailed    TaskState = "failed"
	TaskCancelled TaskState = "cancelled"
)

// Task is long work whose progress people follow.
type Task struct {
	ID         int64      `db:"id" json:"id"`
	What       string     `db:"what" json:"what"`
	Subject    string     `db:"subject" json:"subject"`
	Done       int        `db:"done" json:"done"`
	Total      int        `db:"total" json:"total"`
	State      TaskState  `db:"state" json:"state" enum:"running,paused,done,failed,cancelled"`
	Message    string     `db:"message" json:"message"`
	StartedAt  time.Time  `db:"started_at" json:"started_at"`
	FinishedAt *time.Time `db:"finished_at" json:"finished_at"`
	Metrics    Strings    `db:"metrics" json:"metrics" doc:"of a backfill: what is measured"`
	FromAt     *time.Time `db:"from_at" json:"from_at"`
	ToAt       *time.Time `db:"to_at" json:"to_at"`
	Position   *time.Time `db:"position" json:"position" doc:"up to where it is done; it goes on from there"`
	TouchedAt  time.Time  `db:"touched_at" json:"touched_at"`
	Result     *string    `db:"result" json:"-"`
}
