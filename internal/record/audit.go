package record

import (
	"encoding/json"
	"time"
)

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
