// Package record holds what is stored and passed between packages: values
// without behaviour beyond naming and checking themselves. Times are UTC,
// durations whole seconds, shares 0..1.
package record

import (
	"database/sql/driver"
	"encoding/json"
	"fmt"
	"time"

	"tinbell/core/detect"
	"tinbell/core/timeline"
)

// Strings is a list of text stored as JSON.
type Strings []string

func (s Strings) Value() (driver.Value, error) {
	if s == nil {
		return "[]", nil
	}
	b, err := json.Marshal([]string(s))
	return string(b), err
}

func (s *Strings) Scan(v any) error { return scanJSON(v, (*[]string)(s)) }

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

// Source is where measurements come from.
type Source struct {
	ID        int64     `db:"id" json:"id"`
	Name      string    `db:"name" json:"name"`
	Kind      string    `db:"kind" json:"kind" enum:"postgresql,push"`
	Login     []byte    `db:"login" json:"-"`
	Address   string    `db:"address" json:"address" doc:"where it is reached, without the password"`
	State     string    `db:"state" json:"state" enum:"ready,failed"`
	Message   string    `db:"message" json:"message"`
	CreatedAt time.Time `db:"created_at" json:"created_at"`
}

// Dataset is a table, stream or set of files.
type Dataset struct {
	ID        int64     `db:"id" json:"id"`
	SourceID  int64     `db:"source_id" json:"-"`
	Source    string    `db:"source" json:"source"`
	Namespace string    `db:"namespace" json:"namespace"`
	Name      string    `db:"name" json:"name"`
	Owner     string    `db:"owner" json:"owner"`
	Zone      string    `db:"zone" json:"zone"`
	LoadedBy  string    `db:"loaded_by" json:"loaded_by" doc:"column that holds the time of loading"`
	CreatedAt time.Time `db:"created_at" json:"created_at"`
}

// Measures that a probe can take.
const (
	MeasureRows      = "rows"
	MeasureFreshness = "freshness"
	MeasureNullShare = "null_share"
)

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
	Kind            timeline.Kind `db:"kind" json:"kind" enum:"count,share,value,duration"`
	Unit            string        `db:"unit" json:"unit"`
	PeriodSeconds   int64         `db:"period_seconds" json:"period_seconds"`
	Zone            string        `db:"zone" json:"zone"`
	SettleSeconds   int64         `db:"settle_seconds" json:"settle_seconds" doc:"wait after a period's end before it is read"`
	LookbackSeconds int64         `db:"lookback_seconds" json:"lookback_seconds" doc:"how far back each collection reads again"`
	EverySeconds    int64         `db:"every_seconds" json:"every_seconds" doc:"collection interval; 0 for pushed metrics"`
	NextAt          *time.Time    `db:"next_at" json:"next_at"`
	CollectedTo     *time.Time    `db:"collected_to" json:"collected_to"`
	State           string        `db:"state" json:"state" enum:"ready,failed"`
	Message         string        `db:"message" json:"message"`
	CreatedAt       time.Time     `db:"created_at" json:"created_at"`
}

// Pushed tells whether samples are sent rather than collected.
func (m Metric) Pushed() bool { return m.EverySeconds == 0 }

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

// Settings of a monitor: its baseline and its alert rule.
type Settings struct {
	Method            string  `json:"method" enum:"seasonal,arrival" default:"seasonal" doc:"seasonal: a band from history; arrival: learned load times"`
	Coverage          float64 `json:"coverage" default:"0.99" doc:"share of clean values inside the drawn band"`
	Direction         string  `json:"direction" enum:"low,high,both" default:"both"`
	WarnSeconds       int64   `json:"warn_seconds" default:"31536000" doc:"return period: by chance the monitor as a whole raises one alert in this time"`
	CriticalSeconds   int64   `json:"critical_seconds" default:"315360000"`
	Persist           int     `json:"persist" default:"1" doc:"m of n periods must alarm"`
	Of                int     `json:"of" default:"1"`
	MinEffect         float64 `json:"min_effect" default:"0" doc:"smallest absolute effect worth an alert, in units of the metric"`
	AdoptAfterSeconds int64   `json:"adopt_after_seconds" default:"0" doc:"when an unanswered change becomes the new normal; 0: after three days, -1: never"`
}

// DefaultSettings are those of a monitor nobody has touched.
func DefaultSettings() Settings {
	return Settings{Method: "seasonal", Coverage: 0.99, Direction: "both", Persist: 1, Of: 1,
		WarnSeconds: int64(detect.DefaultWarn / time.Second), CriticalSeconds: int64(detect.DefaultCritical / time.Second)}
}

func (s Settings) Value() (driver.Value, error) {
	b, err := json.Marshal(s)
	return string(b), err
}

func (s *Settings) Scan(v any) error { return scanJSON(v, s) }

// Rule is the alert rule of the settings for a monitor of that many series.
func (s Settings) Rule(series int) detect.Rule {
	direction := detect.Both
	switch s.Direction {
	case "low":
		direction = detect.Low
	case "high":
		direction = detect.High
	}
	return detect.Rule{
		Direction: direction, Series: series, Persist: s.Persist, Of: s.Of, MinEffect: s.MinEffect,
		Warn: time.Duration(s.WarnSeconds) * time.Second, Critical: time.Duration(s.CriticalSeconds) * time.Second,
		AdoptAfter: time.Duration(s.AdoptAfterSeconds) * time.Second,
		BandOnly:   s.Method == "arrival",
	}
}

// Check refuses settings that cannot be followed.
func (s Settings) Check() error {
	if s.Method != "seasonal" && s.Method != "arrival" {
		return fmt.Errorf("method %q: allowed are seasonal and arrival", s.Method)
	}
	if s.Direction != "low" && s.Direction != "high" && s.Direction != "both" {
		return fmt.Errorf("direction %q: allowed are low, high and both", s.Direction)
	}
	if s.Coverage < 0.5 || s.Coverage > 0.9999 {
		return fmt.Errorf("coverage %g: allowed are 0.5 to 0.9999", s.Coverage)
	}
	if s.Persist < 1 || s.Of < s.Persist {
		return fmt.Errorf("persist %d of %d: m must be at least 1 and at most n", s.Persist, s.Of)
	}
	return s.Rule(1).Check()
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
	Settings  Settings   `db:"settings" json:"settings"`
	Version   int        `db:"version" json:"version"`
	Paused    bool       `db:"paused" json:"paused"`
	LearnedAt *time.Time `db:"learned_at" json:"learned_at" doc:"when its baselines were last fitted"`
	CreatedAt time.Time  `db:"created_at" json:"created_at"`
}

// Baseline is one fitted series of a monitor.
type Baseline struct {
	MonitorID   int64     `db:"monitor_id"`
	SeriesID    int64     `db:"series_id"`
	FittedAt    time.Time `db:"fitted_at"`
	TrainedFrom time.Time `db:"trained_from"`
	TrainedTo   time.Time `db:"trained_to"`
	Excluded    Spans     `db:"excluded"`
	Fitted      []byte    `db:"fitted"`
	Judged      []byte    `db:"judged"`
	JudgedTo    time.Time `db:"judged_to"`
	Message     string    `db:"message"`
}

// Span is a stretch of time with what it is.
type Span struct {
	From time.Time `json:"from"`
	To   time.Time `json:"to"`
	Why  string    `json:"why"`
}

// Spans are stored as JSON.
type Spans []Span

func (s Spans) Value() (driver.Value, error) {
	if s == nil {
		return "[]", nil
	}
	b, err := json.Marshal([]Span(s))
	return string(b), err
}

func (s *Spans) Scan(v any) error { return scanJSON(v, (*[]Span)(s)) }

// Verdicts a label may give.
const (
	Fault   = "fault"
	Noise   = "noise"
	Planned = "planned"
)

// Alert is one unbroken claim by a monitor that a series is wrong.
type Alert struct {
	ID            int64      `db:"id" json:"id"`
	MonitorID     int64      `db:"monitor_id" json:"-"`
	SeriesID      int64      `db:"series_id" json:"series_id"`
	Monitor       string     `db:"monitor" json:"monitor"`
	Metric        string     `db:"metric" json:"metric"`
	Measure       string     `db:"measure" json:"measure"`
	Dataset       string     `db:"dataset" json:"dataset"`
	DatasetID     int64      `db:"dataset_id" json:"-"`
	Owner         string     `db:"owner" json:"owner"`
	Segment       string     `db:"segment" json:"segment"`
	PeriodSeconds int64      `db:"period_seconds" json:"period_seconds"`
	Unit          string     `db:"unit" json:"unit"`
	Zone          string     `db:"zone" json:"zone"`
	Cause         string     `db:"cause" json:"cause" enum:"deviation,silence,stuck,missing,step,overdue" doc:"the rule that opened it"`
	Direction     string     `db:"direction" json:"direction" enum:"low,high,both"`
	Severity      string     `db:"severity" json:"severity" enum:"warning,critical"`
	Since         time.Time  `db:"since" json:"since" doc:"start of the first deviating period"`
	RaisedAt      time.Time  `db:"raised_at" json:"raised_at"`
	EndedAt       *time.Time `db:"ended_at" json:"ended_at"`
	ClosedAt      *time.Time `db:"closed_at" json:"closed_at"`
	CloseReason   string     `db:"close_reason" json:"close_reason"`
	Peak          float64    `db:"peak" json:"peak" doc:"largest deviation, in half-widths of the band"`
	PeakAt        *time.Time `db:"peak_at" json:"peak_at"`
	Observed      float64    `db:"observed" json:"observed" doc:"sum (counts) or mean while open"`
	Expected      float64    `db:"expected" json:"expected"`
	ReturnPeriod  float64    `db:"return_period_seconds" json:"return_period_seconds"`
	Sentence      string     `db:"sentence" json:"sentence"`
	Planned       bool       `db:"planned" json:"planned" doc:"raised under a planned event"`
	FromHistory   bool       `db:"from_history" json:"from_history" doc:"found when the monitor was first fitted to the past"`
	Verdict       string     `db:"verdict" json:"verdict" enum:"fault,noise,planned," doc:"the label in force; empty while unlabelled"`
}

// Label is a person's verdict on an alert.
type Label struct {
	ID      int64     `db:"id" json:"id"`
	AlertID int64     `db:"alert_id" json:"alert_id"`
	Verdict string    `db:"verdict" json:"verdict" enum:"fault,noise,planned," doc:"empty: taken back"`
	Cause   string    `db:"cause" json:"cause"`
	Note    string    `db:"note" json:"note"`
	Author  string    `db:"author" json:"author"`
	At      time.Time `db:"at" json:"at"`
}

// Incident is a fault that did happen, alerted on or not.
type Incident struct {
	ID        int64      `db:"id" json:"id"`
	Reference string     `db:"reference" json:"reference"`
	DatasetID int64      `db:"dataset_id" json:"-"`
	Dataset   string     `db:"dataset" json:"dataset"`
	Zone      string     `db:"zone" json:"zone" doc:"the dataset's time zone"`
	Measure   string     `db:"measure" json:"measure" doc:"empty: any measure"`
	Segment   string     `db:"segment" json:"segment" doc:"empty: any segment"`
	StartedAt time.Time  `db:"started_at" json:"started_at"`
	EndedAt   *time.Time `db:"ended_at" json:"ended_at"`
	Title     string     `db:"title" json:"title"`
	Cause     string     `db:"cause" json:"cause"`
	Severity  string     `db:"severity" json:"severity" enum:"warning,critical"`
	Note      string     `db:"note" json:"note"`
	Author    string     `db:"author" json:"author"`
	KnownAt   time.Time  `db:"known_at" json:"known_at"`
}

// PlannedEvent is a known happening that explains unusual values.
type PlannedEvent struct {
	ID        int64     `db:"id" json:"id"`
	Calendar  string    `db:"calendar" json:"calendar"`
	UID       string    `db:"uid" json:"uid"`
	Summary   string    `db:"summary" json:"summary"`
	Dataset   string    `db:"dataset" json:"dataset" doc:"empty: all datasets"`
	Holiday   bool      `db:"holiday" json:"holiday"`
	StartedAt time.Time `db:"started_at" json:"started_at"`
	EndedAt   time.Time `db:"ended_at" json:"ended_at"`
	KnownAt   time.Time `db:"known_at" json:"known_at"`
}

// Account is a person or program that may sign in.
type Account struct {
	ID   int64  `db:"id" json:"id"`
	Name string `db:"name" json:"name"`
	Role string `db:"role" json:"role" enum:"admin,editor,reader"`
}

// Task is long work whose progress people follow.
type Task struct {
	ID         int64      `db:"id" json:"id"`
	What       string     `db:"what" json:"what"`
	Subject    string     `db:"subject" json:"subject"`
	Done       int        `db:"done" json:"done"`
	Total      int        `db:"total" json:"total"`
	State      string     `db:"state" json:"state" enum:"running,done,failed"`
	Message    string     `db:"message" json:"message"`
	StartedAt  time.Time  `db:"started_at" json:"started_at"`
	FinishedAt *time.Time `db:"finished_at" json:"finished_at"`
}
