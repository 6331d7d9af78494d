package record

import (
	"slices"
	"time"

	"tinbell/core/detect"
	"tinbell/core/score"
)

// Alert is one unbroken claim by a monitor that a series is wrong.
type Alert struct {
	ID            int64           `db:"id" json:"id"`
	MonitorID     int64           `db:"monitor_id" json:"-"`
	SeriesID      int64           `db:"series_id" json:"series_id"`
	OfSource      *int64          `db:"of_source" json:"-"`
	OfDataset     *int64          `db:"of_dataset" json:"-"`
	OfJob         *int64          `db:"of_job" json:"-"`
	OfSLA         *int64          `db:"of_sla" json:"-"`
	OfComparison  *int64          `db:"of_comparison" json:"-"`
	GroupID       *int64          `db:"group_id" json:"group_id" doc:"the alerts it is told with"`
	Source        string          `db:"source" json:"source" doc:"of an alert about a source or its tables, which has no monitor and no series"`
	Job           string          `db:"job" json:"job" doc:"of an alert about a job"`
	SLA           string          `db:"sla" json:"sla" doc:"of an alert about a promise"`
	Monitor       string          `db:"monitor" json:"monitor"`
	Metric        string          `db:"metric" json:"metric"`
	Measure       string          `db:"measure" json:"measure"`
	Comparison    string          `db:"comparison" json:"comparison" doc:"the drift comparison that it is about, or whose figure; empty if it is about none"`
	Dataset       string          `db:"dataset" json:"dataset"`
	DatasetID     int64           `db:"dataset_id" json:"-"`
	Owner         string          `db:"owner" json:"owner"`
	Tags          Strings         `db:"tags" json:"tags" doc:"of its monitor, metric and dataset"`
	Segment       string          `db:"segment" json:"segment"`
	PeriodSeconds int64           `db:"period_seconds" json:"period_seconds"`
	Unit          string          `db:"unit" json:"unit"`
	Zone          string          `db:"zone" json:"zone"`
	Cause         detect.Cause    `db:"cause" json:"cause" enum:"deviation,silence,stuck,missing,step,overdue,bound,unreadable,columns,runs,file,promise,sentence,comparison" doc:"the rule that opened it"`
	Direction     string          `db:"direction" json:"direction" enum:"low,high,both"`
	Severity      detect.Severity `db:"severity" json:"severity" enum:"warning,critical"`
	Since         time.Time       `db:"since" json:"since" doc:"start of the first deviating period"`
	RaisedAt      time.Time       `db:"raised_at" json:"raised_at"`
	EndedAt       *time.Time      `db:"ended_at" json:"ended_at"`
	ClosedAt      *time.Time      `db:"closed_at" json:"closed_at"`
	CloseReason   string          `db:"close_reason" json:"close_reason"`
	Peak          float64         `db:"peak" json:"peak" doc:"largest deviation, in half-widths of the band"`
	PeakAt        *time.Time      `db:"peak_at" json:"peak_at"`
	RangTo        *time.Time      `db:"rang_to" json:"rang_to" doc:"end of the stretch that rang; it begins with since"`
	Observed      float64         `db:"observed" json:"observed" doc:"sum (counts) or mean over the stretch that rang"`
	Expected      float64         `db:"expected" json:"expected"`
	WorstFrom     *time.Time      `db:"worst_from" json:"worst_from" doc:"the worst stretch so far, about as long as the one that rang"`
	WorstTo       *time.Time      `db:"worst_to" json:"worst_to"`
	WorstObserved float64         `db:"worst_observed" json:"worst_observed"`
	WorstExpected float64         `db:"worst_expected" json:"worst_expected"`
	Figures       string          `db:"figures" json:"figures" doc:"what came and what was expected in the stretch that rang, and the worst since, in words"`
	OnsetSpread   float64         `db:"onset_spread" json:"onset_spread" doc:"standard deviation of since, seconds"`
	Effect        float64         `db:"effect" json:"effect" doc:"how large the change is, as a share of what was expected"`
	EffectError   float64         `db:"effect_error" json:"effect_error" doc:"its standard deviation"`
	ReturnPeriod  float64         `db:"return_period_seconds" json:"return_period_seconds"`
	Sentence      string          `db:"sentence" json:"sentence"`
	Planned       bool            `db:"planned" json:"planned" doc:"raised under a planned event"`
	FromHistory   bool            `db:"from_history" json:"from_history" doc:"found when the monitor was first fitted to the past"`
	Verdict       score.Verdict   `db:"verdict" json:"verdict" enum:"fault,noise,planned," doc:"the label in force; empty while unlabelled"`
	LabelID       int64           `db:"label_id" json:"label_id" doc:"of the label in force; 0 while there is none"`
	Disputed      bool            `db:"disputed" json:"disputed" doc:"people do not agree on it"`
	Strength      float64         `db:"strength" json:"strength" doc:"largest statistic of its rule, in multiples of the limit"`
	Returns       int             `db:"returns" json:"returns" doc:"how often what it told of has come back since, without being told again"`
	ReturnedAt    *time.Time      `db:"returned_at" json:"returned_at" doc:"when it last had come back"`
	Looks         Looks           `db:"looks" json:"-"`
	Recent        int             `db:"recent" json:"-"`
	Company       int             `db:"company" json:"-"`
	Chance        *float64        `db:"chance" json:"chance" doc:"that it is a fault, as the filter sees it"`
	Held          Held            `db:"held" json:"held" enum:"shadow,held," doc:"held: the filter holds it back; shadow: it would"`
	HeldWhy       string          `db:"held_why" json:"held_why"`
}

// Judged tells whether a monitor raised the alert; one about a source, a table or
// a job has no series and no band.
func (a Alert) Judged() bool { return a.SeriesID != 0 }

// Label is a person's verdict on an alert.
type Label struct {
	ID      int64         `db:"id" json:"id"`
	AlertID int64         `db:"alert_id" json:"alert_id"`
	Verdict score.Verdict `db:"verdict" json:"verdict" enum:"fault,noise,planned," doc:"empty: taken back"`
	Cause   string        `db:"cause" json:"cause"`
	Note    string        `db:"note" json:"note"`
	Author  string        `db:"author" json:"author"`
	At      time.Time     `db:"at" json:"at"`
}

// Incident is a fault that did happen, alerted on or not.
type Incident struct {
	ID        int64           `db:"id" json:"id"`
	Reference string          `db:"reference" json:"reference"`
	DatasetID int64           `db:"dataset_id" json:"-"`
	Dataset   string          `db:"dataset" json:"dataset"`
	Zone      string          `db:"zone" json:"zone" doc:"the dataset's time zone"`
	Measure   string          `db:"measure" json:"measure" doc:"empty: any measure"`
	Segment   string          `db:"segment" json:"segment" doc:"empty: any segment"`
	StartedAt time.Time       `db:"started_at" json:"started_at"`
	EndedAt   *time.Time      `db:"ended_at" json:"ended_at"`
	Title     string          `db:"title" json:"title"`
	Cause     string          `db:"cause" json:"cause"`
	Severity  detect.Severity `db:"severity" json:"severity" enum:"warning,critical"`
	Note      string          `db:"note" json:"note"`
	Author    string          `db:"author" json:"author"`
	KnownAt   time.Time       `db:"known_at" json:"known_at"`

	Impact     string `db:"impact" json:"impact" doc:"what it did to whom"`
	Downstream bool   `db:"downstream" json:"downstream" doc:"what reads the dataset is hit too, two steps along the lineage"`

	Also Strings `db:"also" json:"also" doc:"other datasets that it hit; measure and segment are of all of them"`
}

// On tells whether an incident hit a dataset.
func (i Incident) On(dataset string) bool {
	return i.Dataset == dataset || slices.Contains(i.Also, dataset)
}

// Datasets lists what an incident hit, where it began first.
func (i Incident) Datasets() []string { return append([]string{i.Dataset}, i.Also...) }

// Calendar is a set of planned events as the iCalendar file they came in, or the
// holidays of a country.
type Calendar struct {
	Name    string `db:"name" json:"name"`
	ICal    string `db:"ical" json:"ical"`
	Country string `db:"country" json:"country" doc:"whose holidays it holds, as CA or DE-BY; empty: events of a file or by hand"`
	Dataset string `db:"dataset" json:"dataset" doc:"that it is for; empty: all"`
	Zone    string `db:"zone" json:"zone" doc:"by whose clocks holidays begin"`
	Effect  Effect `db:"effect" json:"effect" enum:"mute,widen,leave out" doc:"of events that say nothing themselves"`
}

// Feed is a calendar that is fetched by address.
type Feed struct {
	Calendar     string     `db:"calendar" json:"calendar"`
	Host         string     `db:"host" json:"host" doc:"of its address, which is a secret"`
	Address      []byte     `db:"address" json:"-"`
	Dataset      string     `db:"dataset" json:"dataset" doc:"that events are for which name none; empty: all"`
	Effect       Effect     `db:"effect" json:"effect" enum:"mute,widen,leave out"`
	EverySeconds int64      `db:"every_seconds" json:"every_seconds"`
	ETag         string     `db:"etag" json:"-"`
	FetchedAt    *time.Time `db:"fetched_at" json:"fetched_at" doc:"when it was last read whole, or found unchanged"`
	NextAt       time.Time  `db:"next_at" json:"next_at"`
	FailingSince *time.Time `db:"failing_since" json:"failing_since" doc:"the last good copy stays in force"`
	Message      string     `db:"message" json:"message" doc:"why it cannot be fetched"`
}

// PlannedEvent is a known happening that explains unusual values.
type PlannedEvent struct {
	ID        int64     `db:"id" json:"id"`
	Calendar  string    `db:"calendar" json:"calendar"`
	UID       string    `db:"uid" json:"uid"`
	Summary   string    `db:"summary" json:"summary"`
	Dataset   string    `db:"dataset" json:"dataset" doc:"empty: all datasets"`
	Holiday   bool      `db:"holiday" json:"holiday"`
	Lasting   bool      `db:"lasting" json:"lasting" doc:"things do not go back afterwards: the level goes on from there"`
	Effect    Effect    `db:"effect" json:"effect" enum:"mute,widen,leave out" doc:"mute: neither judged nor learned from; widen: judged by a wider band; leave out: judged as ever, not learned from"`
	StartedAt time.Time `db:"started_at" json:"started_at"`
	EndedAt   time.Time `db:"ended_at" json:"ended_at"`
	KnownAt   time.Time `db:"known_at" json:"known_at"`
}

// LevelChange is a person's word that what a series shows since a time is its
// new normal.
type LevelChange struct {
	ID       int64     `db:"id" json:"id"`
	SeriesID int64     `db:"series_id" json:"series_id"`
	FromAt   time.Time `db:"from_at" json:"from"`
	ToAt     time.Time `db:"to_at" json:"to"`
	Author   string    `db:"author" json:"author"`
	KnownAt  time.Time `db:"known_at" json:"known_at"`
}

// Verdicts a label may give.
const (
	Fault   = score.Fault
	Noise   = score.Noise
	Planned = score.Planned
)

// Causes of alerts that have no monitor.
const (
	CauseUnreadable detect.Cause = "unreadable" // a source or table cannot be read
	CauseColumns    detect.Cause = "columns"    // a table lost columns or changed their types
	CauseSilentJob  detect.Cause = "runs"       // no complete run of a job when one was due
	CauseFile       detect.Cause = "file"       // a file that landed is broken, or came before
	CausePromise    detect.Cause = "promise"    // an SLA is behind or missed
	CauseSentence   detect.Cause = "sentence"   // a log says what it never said
	CauseComparison detect.Cause = "comparison" // rows cannot be compared with their reference
)
