package record

import (
	"time"

	"tinbell/core/score"
)

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
