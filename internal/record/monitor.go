package record

import "time"

// Monitor is a baseline choice and an alert rule on a metric, for all its
// segments.
type Monitor struct {
	ID        int64      `db:"id" json:"id"`
	MetricID  int64      `db:"metric_id" json:"-"`
	Metric    string     `db:"metric" json:"metric"`
	Dataset   string     `db:"dataset" json:"dataset"`
	Name      string     `db:"name" json:"name"`
	Owner     string     `db:"owner" json:"owner"`
	Tags      Strings    `db:"tags" json:"tags"`
	Inherited Strings    `db:"inherited" json:"inherited" doc:"tags it has by its metric and its dataset"`
	Settings  Settings   `db:"settings" json:"settings"`
	Version   int        `db:"version" json:"version"`
	Paused    bool       `db:"paused" json:"paused"`
	RetiredAt *time.Time `db:"retired_at" json:"retired_at" doc:"since when it is no longer needed: it judges nothing and keeps its past"`
	LearnedAt *time.Time `db:"learned_at" json:"learned_at" doc:"when its baselines were last fitted"`

	SnoozedUntil *time.Time `db:"snoozed_until" json:"snoozed_until" doc:"its alerts are kept and nobody is told until then"`
	SnoozedBy    string     `db:"snoozed_by" json:"snoozed_by"`

	AlwaysTell bool      `db:"always_tell" json:"always_tell" doc:"the filter holds none of its alerts back"`
	Budget     *Budget   `db:"budget" json:"budget,omitempty" doc:"false alarms stated and found on a part of its past that its limits were not fitted to, and since; none before its first fit"`
	CreatedAt  time.Time `db:"created_at" json:"created_at"`
}

// Note says what happened when, on the charts of a dataset or of all: a release, a
// migration.
type Note struct {
	ID        int64     `db:"id" json:"id"`
	Dataset   string    `db:"dataset" json:"dataset" doc:"empty: all"`
	At        time.Time `db:"at" json:"at"`
	Text      string    `db:"text" json:"text"`
	Link      string    `db:"link" json:"link"`
	Author    string    `db:"author" json:"author"`
	CreatedAt time.Time `db:"created_at" json:"created_at"`
}

// Baseline is one fitted series of a monitor.
type Baseline struct {
	MonitorID   int64      `db:"monitor_id"`
	SeriesID    int64      `db:"series_id"`
	FittedAt    time.Time  `db:"fitted_at"`
	TrainedFrom time.Time  `db:"trained_from"`
	TrainedTo   time.Time  `db:"trained_to"`
	Excluded    Spans      `db:"excluded"`
	Fitted      []byte     `db:"fitted"`
	Judged      []byte     `db:"judged"`
	JudgedTo    time.Time  `db:"judged_to"`
	Message     string     `db:"message"`
	StateTo     *time.Time `db:"state_to"` // up to when Judged stands; nil: up to JudgedTo
	RefitAt     *time.Time `db:"refit_at"` // from when on it can be fitted by what it became; nil: it is as it was
	Again       bool       `db:"again"`    // what was judged from there on is to be judged again
}

// Unjudged is why a monitor cannot judge a series.
type Unjudged string

const (
	SeriesWaiting Unjudged = "waiting" // for history
	SeriesFailed  Unjudged = "failed"  // it broke off
)

// SeriesState says why a monitor cannot judge a series, and since when.
type SeriesState struct {
	MonitorID int64      `db:"monitor_id" json:"-"`
	SeriesID  int64      `db:"series_id" json:"series_id"`
	Segment   string     `db:"segment" json:"segment"`
	State     Unjudged   `db:"state" json:"state" enum:"waiting,failed"`
	Since     time.Time  `db:"since" json:"since"`
	Message   string     `db:"message" json:"message" doc:"why, in a sentence"`
	TriedAt   time.Time  `db:"tried_at" json:"tried_at"`
	FirstAt   *time.Time `db:"first_at" json:"first_at" doc:"its first sample"`
	ReadyAt   *time.Time `db:"ready_at" json:"ready_at" doc:"about when it can be judged, where samples come as they should"`
}

// Span is a stretch of time with what it is.
type Span struct {
	From time.Time `json:"from"`
	To   time.Time `json:"to"`
	Why  string    `json:"why"`
}
