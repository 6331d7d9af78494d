package duty

import (
	"context"
	"sync"
	"sync/atomic"
	"time"

	"tinbell/internal/store"
)

// Leader is this process's claim to be the one that does what is done once: an
// advisory lock on a connection of its own, which ends with the process.
type Leader struct {
	store  *store.Store
	leads  atomic.Bool
	cancel context.CancelFunc
	ended  chan struct{}
}

// NewLeader makes a claim that is not made yet.
func NewLeader(s *store.Store) *Leader { return &Leader{store: s} }

// Leads tells whether this process leads.
func (l *Leader) Leads() bool { return l.leads.Load() }

const (
	claimEvery = time.Second     // while another leads
	checkEvery = 2 * time.Second // that the connection still stands
)

// Start begins to claim, and returns after the first try.
func (l *Leader) Start(ctx context.Context) {
	ctx, l.cancel = context.WithCancel(ctx)
	l.ended = make(chan struct{})
	first := make(chan struct{})
	go l.run(ctx, first)
	<-first
}

// Stop gives the claim up.
func (l *Leader) Stop() {
	if l.cancel != nil {
		l.cancel()
		<-l.ended
	}
}

func (l *Leader) run(ctx context.Context, first chan struct{}) {
	defer close(l.ended)
	tried := sync.OnceFunc(func() { close(first) })
	defer tried()
	for ctx.Err() == nil {
		lock, held, err := l.store.Lead(ctx)
		if err == nil && held {
			l.leads.Store(true)
			tried()
			l.keep(ctx, lock)
			l.leads.Store(false)
			lock.Release()
		}
		tried()
		select {
		case <-ctx.Done():
		case <-time.After(claimEvery):
		}
	}
}

// keep returns when the connection is gone or the claim is given up.
func (l *Leader) keep(ctx context.Context, lock *store.Lock) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(checkEvery):
		}
		if lock.Check(ctx) != nil {
			return
		}
	}
}
