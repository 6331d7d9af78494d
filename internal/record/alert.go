package record

import (
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

// Worst is the worst of an alert and of what is known already: critical, overdue, warning or
// nothing.
func (a Alert) Worst(have string) string {
	if a.Cause == detect.Overdue && have != "critical" {
		return "overdue"
	}
	if have == "critical" || a.Severity == "critical" {
		return "critical"
	}
	if have == "overdue" {
		return have
	}
	return string(a.Severity)
}

// Judged tells whether a monitor raised the alert; one about a source, a table or
// a job has no series and no band.
func (a Alert) Judged() bool { return a.SeriesID != 0 }

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
