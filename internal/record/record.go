// Package record holds what is stored and passed between packages: values
// without behaviour beyond naming and checking themselves. Times are UTC,
// durations whole seconds, shares 0..1.
package record

import (
	"database/sql/driver"
	"encoding/json"
	"fmt"
	"time"

	"tinbell/core/timeline"
)

// List is a list stored as JSON.
type List[T any] []T

func (l List[T]) Value() (driver.Value, error) {
	if l == nil {
		return "[]", nil
	}
	b, err := json.Marshal([]T(l))
	return string(b), err
}

func (l *List[T]) Scan(v any) error { return scanJSON(v, (*[]T)(l)) }

// Lists that records hold.
type (
	Strings       = List[string]
	Spans         = List[Span]
	Columns       = List[Column]
	ColumnChanges = List[ColumnChange]
)

func scanJSON(v, into any) error {
	switch b := v.(type) {
	case []byte:
		return json.Unmarshal(b, into)
	case string:
		return json.Unmarshal([]byte(b), into)
	case nil:
		return nil
	}
	return fmt.Errorf("cannot read %T as JSON", v)
}

// SourcePostgreSQL is the kind of a source that is asked with SQL.
const SourcePostgreSQL = "postgresql"

// Source is where measurements come from.
type Source struct {
	ID           int64      `db:"id" json:"id"`
	Name         string     `db:"name" json:"name"`
	Kind         string     `db:"kind" json:"kind" enum:"postgresql,folder,push"`
	Login        []byte     `db:"login" json:"-"`
	Address      string     `db:"address" json:"address" doc:"where it is reached, without the password"`
	State        string     `db:"state" json:"state" enum:"ready,failed"`
	Message      string     `db:"message" json:"message"`
	FailingSince *time.Time `db:"failing_since" json:"failing_since"`
	CreatedAt    time.Time  `db:"created_at" json:"created_at"`
	Warnings     Strings    `db:"-" json:"warnings,omitempty" doc:"when it is added: what its login may do beyond reading"`
}

// Dataset is a table, stream or set of files.
type Dataset struct {
	ID           int64      `db:"id" json:"id"`
	SourceID     int64      `db:"source_id" json:"-"`
	Source       string     `db:"source" json:"source"`
	Namespace    string     `db:"namespace" json:"namespace"`
	Name         string     `db:"name" json:"name"`
	Owner        string     `db:"owner" json:"owner"`
	Zone         string     `db:"zone" json:"zone"`
	LoadedBy     string     `db:"loaded_by" json:"loaded_by" doc:"column that holds the time of loading"`
	LoadedType   string     `db:"loaded_type" json:"loaded_type" enum:"timestamptz,timestamp,date," doc:"of that column; without a zone its values are local to the dataset"`
	Pattern      string     `db:"pattern" json:"pattern" doc:"of a folder: which of its files are this dataset's"`
	KeepDays     int        `db:"keep_days" json:"keep_days" doc:"days that samples are kept; 0: as the service says"`
	Hidden       Strings    `db:"hidden" json:"hidden" doc:"columns whose values are never shown"`
	Tags         Strings    `db:"tags" json:"tags"`
	State        string     `db:"state" json:"state" enum:"ready,failed"`
	Message      string     `db:"message" json:"message" doc:"why it cannot be read, in the database's words"`
	FailingSince *time.Time `db:"failing_since" json:"failing_since"`
	CreatedAt    time.Time  `db:"created_at" json:"created_at"`
}

// Metric is what is measured of a dataset.
type Metric struct {
	ID              int64         `db:"id" json:"id"`
	DatasetID       int64         `db:"dataset_id" json:"-"`
	Dataset         string        `db:"dataset" json:"dataset"`
	Name            string        `db:"name" json:"name"`
	Measure         string        `db:"measure" json:"measure"`
	Column          string        `db:"column_name" json:"column"`
	TimeColumn      string        `db:"time_column" json:"time_column"`
	SegmentBy       Strings       `db:"segment_by" json:"segment_by"`
	RowFilter       string        `db:"row_filter" json:"row_filter"`
	Quantile        float64       `db:"quantile" json:"quantile" doc:"of the measure quantile, 0 to 1"`
	Matches         string        `db:"matches" json:"matches" doc:"of the measure value_share: the value whose share is taken"`
	Expression      string        `db:"expression" json:"expression" doc:"of the measure expression: an SQL aggregate"`
	TimeType        string        `db:"time_type" json:"time_type" enum:"timestamptz,timestamp,date" doc:"of the time column"`
	MaxSegments     int           `db:"max_segments" json:"max_segments" doc:"the largest ones are measured one by one, all others together as (other)"`
	KeptSegments    Strings       `db:"kept_segments" json:"kept_segments" doc:"those measured one by one; empty: all"`
	Fingerprint     string        `db:"fingerprint" json:"-"`
	OTLPName        string        `db:"otlp_name" json:"otlp_name" doc:"of a pushed metric: the OTLP metric that it takes, its own name if empty"`
	Comparison      string        `db:"comparison" json:"comparison" doc:"the drift comparison that writes its samples; empty if none does"`
	Kind            timeline.Kind `db:"kind" json:"kind" enum:"count,share,value,duration"`
	Unit            string        `db:"unit" json:"unit"`
	PeriodSeconds   int64         `db:"period_seconds" json:"period_seconds"`
	Zone            string        `db:"zone" json:"zone"`
	SettleSeconds   int64         `db:"settle_seconds" json:"settle_seconds" doc:"wait after a period's end before it is read"`
	LookbackSeconds int64         `db:"lookback_seconds" json:"lookback_seconds" doc:"how far back each collection reads again"`
	EverySeconds    int64         `db:"every_seconds" json:"every_seconds" doc:"collection interval; 0 for pushed metrics"`
	Cron            string        `db:"cron" json:"cron" doc:"five fields, in the metric's zone: when it is collected, instead of an interval"`
	NextAt          *time.Time    `db:"next_at" json:"next_at"`
	CollectedTo     *time.Time    `db:"collected_to" json:"collected_to"`
	Tags            Strings       `db:"tags" json:"tags"`
	DatasetTags     Strings       `db:"dataset_tags" json:"dataset_tags" doc:"tags it has by its dataset"`
	Owner           string        `db:"owner" json:"owner" doc:"of its dataset"`
	StartsAt        *time.Time    `db:"starts_at" json:"starts_at" doc:"of a pushed metric: samples from before are refused"`
	State           string        `db:"state" json:"state" enum:"ready,failed"`
	Message         string        `db:"message" json:"message"`
	CreatedAt       time.Time     `db:"created_at" json:"created_at"`
}

// Pushed tells whether samples are sent rather than collected.
func (m Metric) Pushed() bool { return m.EverySeconds == 0 && m.Cron == "" }

// Snapshot tells whether the table is measured as it stands, not by the time of
// its rows: it has no past to be read.
func (m Metric) Snapshot() bool { return m.TimeColumn == "" || m.Measure == MeasureTableBytes }

// OtherSegment holds the rows of all segments beyond the largest.
const OtherSegment = "(other)"

// Grid is the metric's ladder of periods.
func (m Metric) Grid() (timeline.Grid, error) {
	zone, err := time.LoadLocation(m.Zone)
	if err != nil {
		return timeline.Grid{}, fmt.Errorf("time zone %q is not known: give a name of the tz database, such as America/Halifax", m.Zone)
	}
	return timeline.NewGrid(time.Duration(m.PeriodSeconds)*time.Second, zone)
}

// Series is one metric of one segment.
type Series struct {
	ID       int64  `db:"id" json:"id"`
	MetricID int64  `db:"metric_id" json:"-"`
	Segment  string `db:"segment" json:"segment" doc:"values of the dimension columns, joined by ' / '; empty without dimensions"`
}

// Sample of a series; a nil Value is a period without rows to measure.
type Sample struct {
	SeriesID int64
	At       time.Time
	Value    *float64
	Rows     *float64
}

// Load is one arrival of rows at a dataset.
type Load struct {
	At   time.Time `db:"at" json:"at"`
	Rows int64     `db:"rows" json:"rows"`
}

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

// Column of a table.
type Column struct {
	Name     string `json:"name"`
	Type     string `json:"type"`
	Nullable bool   `json:"nullable"`
}

// ColumnChange is what became of a column.
type ColumnChange struct {
	Column string `json:"column"`
	What   string `json:"what" enum:"added,removed,retyped"`
	Was    string `json:"was" doc:"its type before"`
	Is     string `json:"is" doc:"its type now"`
}

// ColumnVersion is a table's columns from a time on.
type ColumnVersion struct {
	ID        int64         `db:"id" json:"-"`
	DatasetID int64         `db:"dataset_id" json:"-"`
	SeenAt    time.Time     `db:"seen_at" json:"seen_at"`
	Columns   Columns       `db:"columns" json:"columns"`
	Changes   ColumnChanges `db:"changes" json:"changes" doc:"since the version before"`
}

// Audit is something that must be answered for.
type Audit struct {
	ID    int64     `db:"id" json:"id"`
	At    time.Time `db:"at" json:"at"`
	Who   string    `db:"who" json:"who"`
	What  string    `db:"what" json:"what" doc:"what was done"`
	About string    `db:"about" json:"about" doc:"to what"`
	Note  string    `db:"note" json:"note"`

	Role    string          `db:"role" json:"role" doc:"of who did it"`
	Origin  string          `db:"origin" json:"origin" doc:"address that the request came from"`
	Request string          `db:"request" json:"request" doc:"its id, which the log has too"`
	Before  json.RawMessage `db:"before" json:"before,omitempty" doc:"what was there; secrets masked"`
	After   json.RawMessage `db:"after" json:"after,omitempty" doc:"what is there since; secrets masked"`
	Seal    []byte          `db:"seal" json:"-"`
}

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

// DeliveryState is what became of a file that landed.
type DeliveryState string

const (
	DeliveryGrowing DeliveryState = "growing" // it is still written
	DeliveryTaken   DeliveryState = "taken"
	DeliveryDoubled DeliveryState = "doubled" // it came before
	DeliveryBroken  DeliveryState = "broken"
)

// Delivery is a file that landed.
type Delivery struct {
	ID        int64         `db:"id" json:"id"`
	DatasetID int64         `db:"dataset_id" json:"-"`
	Path      string        `db:"path" json:"path" doc:"below the folder"`
	Segment   string        `db:"segment" json:"segment"`
	Bytes     int64         `db:"bytes" json:"bytes"`
	Rows      *int64        `db:"rows" json:"rows" doc:"null where the format is not known"`
	Columns   Columns       `db:"columns" json:"columns"`
	Digest    []byte        `db:"digest" json:"-"`
	LandedAt  time.Time     `db:"landed_at" json:"landed_at" doc:"when it was last written"`
	SeenAt    time.Time     `db:"seen_at" json:"seen_at"`
	State     DeliveryState `db:"state" json:"state" enum:"growing,taken,doubled,broken"`
	Message   string        `db:"message" json:"message"`
}
