package record

import (
	"strings"
	"time"

	"tinbell/core/detect"
)

// Group is alerts told as one, because they share time and origin.
type Group struct {
	ID           int64           `db:"id" json:"id"`
	BeganAt      time.Time       `db:"began_at" json:"began_at" doc:"start of the first deviating period"`
	OpenedAt     time.Time       `db:"opened_at" json:"opened_at" doc:"when its first alert was raised"`
	ClosedAt     *time.Time      `db:"closed_at" json:"closed_at"`
	Severity     detect.Severity `db:"severity" json:"severity" enum:"warning,critical" doc:"the worst of its alerts"`
	Origin       string          `db:"origin" json:"origin" doc:"where it likely began: the name of a dataset, a job or a source"`
	OriginKind   OriginKind      `db:"origin_kind" json:"origin_kind" enum:"dataset,job,source"`
	OriginIn     SegmentValues   `db:"origin_segment" json:"origin_segment" doc:"the segment of it; none: the whole"`
	OriginAlert  *int64          `db:"origin_alert" json:"origin_alert" doc:"none where the origin itself has no alert, but what is made from it"`
	FromHistory  bool            `db:"from_history" json:"from_history"`
	MergedInto   *int64          `db:"merged_into" json:"merged_into" doc:"the group that it turned out to be part of"`
	TakenBy      string          `db:"taken_by" json:"taken_by" doc:"who said that they look after it"`
	TakenAt      *time.Time      `db:"taken_at" json:"taken_at"`
	SnoozedUntil *time.Time      `db:"snoozed_until" json:"snoozed_until" doc:"nothing is told of it until then"`
}

// SegmentValue is a column and its value.
type SegmentValue struct {
	Column string `json:"column" doc:"empty where it has no name"`
	Value  string `json:"value"`
}

// SegmentValues say a segment: a value for each of some columns.
type SegmentValues = List[SegmentValue]

// OriginKind is what a group began at.
type OriginKind string

const (
	OriginDataset OriginKind = "dataset"
	OriginJob     OriginKind = "job"
	OriginSource  OriginKind = "source"
)

// Whence says where a group likely began, as people know it.
func (g Group) Whence() string {
	switch {
	case g.Origin == "":
		return ""
	case g.OriginKind != OriginDataset && g.OriginKind != "":
		return "the " + string(g.OriginKind) + " " + g.Origin
	case len(g.OriginIn) > 0:
		values := make([]string, len(g.OriginIn))
		for i, one := range g.OriginIn {
			values[i] = one.Value
		}
		return strings.Join(values, " / ") + " in " + g.Origin
	}
	return g.Origin
}

// GroupAnswer is what a person said of two groups: whether they are one fault.
type GroupAnswer struct {
	ID      int64     `db:"id" json:"id"`
	At      time.Time `db:"at" json:"at"`
	Author  string    `db:"author" json:"author"`
	Says    string    `db:"says" json:"says" enum:"same,not the same"`
	GroupID int64     `db:"group_id" json:"group_id" doc:"the group that it was said of"`
	OtherID int64     `db:"other_id" json:"other_id" doc:"the other: that became part of it, or that was made of a part of it"`
	Alerts  Numbers   `db:"alerts" json:"alerts" doc:"those that changed their group by it"`
}

// Numbers is a list kept as JSON.
type Numbers = List[int64]
