package record

import "time"

// Reconciliation compares two stages by the same aggregate. The share of the larger
// that the other lacks is a metric, with a monitor of its own.
type Reconciliation struct {
	ID         int64      `db:"id" json:"-"`
	Name       string     `db:"name" json:"name"`
	UpID       int64      `db:"up_metric" json:"-"`
	DownID     int64      `db:"down_metric" json:"-"`
	MetricID   int64      `db:"metric_id" json:"-"`
	Up         string     `db:"up" json:"up" doc:"metric of the first stage"`
	Down       string     `db:"down" json:"down" doc:"metric of the second"`
	UpSet      string     `db:"up_dataset" json:"up_dataset"`
	DownSet    string     `db:"down_dataset" json:"down_dataset"`
	Metric     string     `db:"metric" json:"metric" doc:"that holds the difference"`
	LagSeconds int64      `db:"lag_seconds" json:"lag_seconds" doc:"how long after the first the second has the same"`
	Tolerance  float64    `db:"tolerance" json:"tolerance" doc:"share that never rings"`
	UpKey      string     `db:"up_key" json:"up_key" doc:"column of the first that names a row"`
	DownKey    string     `db:"down_key" json:"down_key" doc:"column of the second that names the same row"`
	CreatedAt  time.Time  `db:"created_at" json:"created_at"`
	ComparedTo *time.Time `db:"compared_to" json:"compared_to"`
	Message    string     `db:"message" json:"message" doc:"why the last comparison failed"`
}

// MeasureApart is the share of the larger of two stages that the other lacks.
const MeasureApart = "apart"
