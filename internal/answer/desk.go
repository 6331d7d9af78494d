// Package answer takes what people say: labels on alerts and stretches,
// incidents, planned events, and decisions on what tuning proposes. Whatever
// changes what a baseline or the filter may learn from asks for them to be
// fitted again.
package answer

import (
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/store"
	"tinbell/internal/work"
)

// Desk is where answers are given.
type Desk struct {
	store *store.Store
	queue *work.Queue
	now   func() time.Time
}

// in gives the desk as a transaction sees it.
func (d *Desk) in(tx pgx.Tx) *Desk { return &Desk{d.store.In(tx), d.queue, d.now} }

func New(s *store.Store, q *work.Queue, now func() time.Time) *Desk { return &Desk{s, q, now} }
