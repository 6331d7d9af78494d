package record

import (
	"fmt"
	"time"

	"tinbell/core/timeline"
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
	PeriodSeconds   int64         `db:"period_seconds" json:"period_seconds" doc:"a part of a day, a day, or 604800, 2592000, 31536000: a week, month or year of the calendar"`
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

// Long tells whether periods are longer than a day.
func (m Metric) Long() bool { return m.PeriodSeconds > 86400 }

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
