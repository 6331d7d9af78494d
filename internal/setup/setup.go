// Package setup owns what people set up: it checks what they ask for, and puts it
// in force together with the work that follows from it, in one transaction. The
// API, configuration files and comparisons only call it, so that the same thing
// set by request and by file is the same.
package setup

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/store"
	"tinbell/internal/work"
)

// Desk is where things are set up.
type Desk struct {
	store *store.Store
	queue *work.Queue
	now   func() time.Time
}

// New makes a desk.
func New(s *store.Store, q *work.Queue, now func() time.Time) *Desk { return &Desk{s, q, now} }

// inTx runs work in a transaction, with the store as it sees it.
func (d *Desk) inTx(ctx context.Context, work func(tx pgx.Tx, in *store.Store) error) error {
	return d.store.InTx(ctx, func(tx pgx.Tx) error { return work(tx, d.store.In(tx)) })
}
