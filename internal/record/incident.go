package record

import (
	"slices"
	"time"

	"tinbell/core/detect"
)

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
