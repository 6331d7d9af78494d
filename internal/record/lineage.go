package record

import "time"

// Job is a process that writes datasets.
type Job struct {
	ID          int64      `db:"id" json:"id"`
	Namespace   string     `db:"namespace" json:"namespace"`
	Name        string     `db:"name" json:"name"`
	SilentSince *time.Time `db:"silent_since" json:"silent_since" doc:"since when a run of it is overdue"`
}

// RunState is how a run of a job stands.
type RunState string

const (
	RunGoing    RunState = "running"
	RunComplete RunState = "complete"
	RunFailed   RunState = "failed"
	RunAborted  RunState = "aborted"
)

// Run is one execution of a job.
type Run struct {
	ID        string     `db:"id" json:"id"`
	JobID     int64      `db:"job_id" json:"-"`
	Job       string     `db:"job" json:"job"`
	State     RunState   `db:"state" json:"state" enum:"running,complete,failed,aborted"`
	StartedAt *time.Time `db:"started_at" json:"started_at"`
	EndedAt   *time.Time `db:"ended_at" json:"ended_at"`
	HeardAt   time.Time  `db:"heard_at" json:"heard_at" doc:"time of its newest event"`
	Message   string     `db:"message" json:"message" doc:"why it failed"`
	Parent    *string    `db:"parent" json:"parent"`
	Rows      *int64     `db:"rows" json:"rows" doc:"written, as the job says"`
	Bytes     *int64     `db:"bytes" json:"bytes"`
}

// Edge of the lineage graph: a job reads or writes a dataset.
type Edge struct {
	JobID     int64     `db:"job_id" json:"job_id"`
	JobSpace  string    `db:"job_namespace" json:"job_namespace"`
	Job       string    `db:"job" json:"job"`
	Namespace string    `db:"namespace" json:"namespace"`
	Name      string    `db:"name" json:"name"`
	Direction string    `db:"direction" json:"direction" enum:"input,output"`
	HeardAt   time.Time `db:"heard_at" json:"heard_at"`
}
