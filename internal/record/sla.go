package record

import "time"

// SLA is a promise of at least so much within a window.
type SLA struct {
	ID          int64     `db:"id" json:"id"`
	DatasetID   int64     `db:"dataset_id" json:"-"`
	Dataset     string    `db:"dataset" json:"dataset"`
	Name        string    `db:"name" json:"name"`
	Owner       string    `db:"owner" json:"owner"`
	Counts      string    `db:"counts" json:"counts" enum:"rows,loads,files"`
	AtLeast     float64   `db:"at_least" json:"at_least"`
	Days        string    `db:"days" json:"days" doc:"as mon-fri or sat,sun"`
	FromMinute  int       `db:"from_minute" json:"from_minute" doc:"of the local day"`
	ToMinute    int       `db:"to_minute" json:"to_minute" doc:"after from_minute; beyond 1440 it ends on the next day"`
	Zone        string    `db:"zone" json:"zone"`
	Segment     string    `db:"segment" json:"segment" doc:"of files: the value in their path; empty: all"`
	LeadSeconds int64     `db:"lead_seconds" json:"lead_seconds" doc:"how long before the window's end it may be told to be behind"`
	Calendars   Strings   `db:"calendars" json:"calendars" doc:"whose holidays and events are exceptions; none: all"`
	Paused      bool      `db:"paused" json:"paused"`
	CreatedAt   time.Time `db:"created_at" json:"created_at"`
}

// SLADay is how a window ended.
type SLADay struct {
	SLAID    int64      `db:"sla_id" json:"-"`
	Day      time.Time  `db:"day" json:"day"`
	Standing string     `db:"standing" json:"standing" enum:"met,missed"`
	Have     float64    `db:"have" json:"have"`
	AtLeast  float64    `db:"at_least" json:"at_least"`
	MetAt    *time.Time `db:"met_at" json:"met_at"`
	DueAt    time.Time  `db:"due_at" json:"due_at"`
}
