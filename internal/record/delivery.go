package record

import "time"

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
