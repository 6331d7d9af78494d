// Package faults puts alerts into groups, one for each fault, and keeps what people say
// of them.
//
// What changed about alerts is kept in the transaction that changes them. From there
// Gather makes groups of it, and hands those that changed to who tells of them, in one
// transaction: a process can end at any point, and nothing is lost or done twice. One
// process at a time gathers.
package faults

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/contain"
	"tinbell/internal/store"
)

// Hear is called with the groups that a transaction changed, in that transaction.
type Hear func(ctx context.Context, tx pgx.Tx, changed []*Group) error

// Desk gathers.
type Desk struct {
	store *store.Store
	hear  Hear
	now   func() time.Time
	log   *slog.Logger

	learned learned
	wake    chan struct{}
	running sync.WaitGroup
}

func New(s *store.Store, hear Hear, now func() time.Time, log *slog.Logger) *Desk {
	return &Desk{store: s, hear: hear, now: func() time.Time { return now().UTC() }, log: log, wake: make(chan struct{}, 1)}
}

const (
	glance = 2 * time.Second       // between looks where nothing woke it
	settle = 50 * time.Millisecond // for the other alerts of the same burst
	batch  = 2000                  // changed alerts gathered in one transaction
)

// Wake has the desk look at once whether there is something to gather.
func (d *Desk) Wake() {
	select {
	case d.wake <- struct{}{}:
	default:
	}
}

// Start gathers until ctx ends; Stop waits for what is being done.
func (d *Desk) Start(ctx context.Context) {
	d.running.Go(func() { d.gathering(ctx) })
}

func (d *Desk) Stop() { d.running.Wait() }

func (d *Desk) gathering(ctx context.Context) {
	for {
		if err := contain.Run(func() error { return d.Gather(ctx) }); err != nil && ctx.Err() == nil && !store.Unavailable(err) {
			d.log.Error("alerts could not be grouped; tried again", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-d.wake:
			select {
			case <-ctx.Done():
			case <-time.After(settle):
			}
		case <-time.After(glance):
		}
	}
}
