package store

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
)

// Pulse tells whether the database answers, from a connection of its own: a pool
// that is busy is no database that is gone.
type Pulse struct {
	store  *Store
	log    *slog.Logger
	cancel context.CancelFunc
	ended  chan struct{}

	mu    sync.Mutex
	err   error     // why it does not answer
	since time.Time // since when
	said  time.Time // when that was logged last
}

const (
	pulseEvery  = time.Second
	pulseWithin = 3 * time.Second
	sayAgain    = time.Minute
)

// NewPulse makes a pulse that is not felt yet.
func NewPulse(s *Store, log *slog.Logger) *Pulse { return &Pulse{store: s, log: log} }

// Start begins to feel it.
func (p *Pulse) Start(ctx context.Context) {
	ctx, p.cancel = context.WithCancel(ctx)
	p.ended = make(chan struct{})
	go p.run(ctx)
}

// Stop ends it.
func (p *Pulse) Stop() {
	if p.cancel != nil {
		p.cancel()
		<-p.ended
	}
}

// Gone gives since when the database does not answer and why; a nil error while
// it does.
func (p *Pulse) Gone() (since time.Time, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.since, p.err
}

func (p *Pulse) run(ctx context.Context) {
	defer close(p.ended)
	var conn *pgx.Conn
	for ctx.Err() == nil {
		var err error
		conn, err = p.beat(ctx, conn)
		if ctx.Err() == nil {
			p.keep(ctx, err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(pulseEvery):
		}
	}
	if conn != nil {
		conn.Close(context.Background())
	}
}

// beat asks for an answer, on a new connection if there is none.
func (p *Pulse) beat(ctx context.Context, conn *pgx.Conn) (*pgx.Conn, error) {
	limited, cancel := context.WithTimeout(ctx, pulseWithin)
	defer cancel()
	if conn == nil {
		var err error
		if conn, err = pgx.ConnectConfig(limited, p.store.Pool.Config().ConnConfig); err != nil {
			return nil, err
		}
	}
	if err := conn.Ping(limited); err != nil {
		conn.Close(limited)
		return nil, err
	}
	return conn, nil
}

// keep notes how it went, and logs that the database is gone once a minute.
func (p *Pulse) keep(ctx context.Context, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	now := time.Now()
	switch {
	case err == nil && p.err != nil:
		p.log.WarnContext(ctx, "the database answers again", "away", now.Sub(p.since).Round(time.Second).String())
		p.since, p.said = time.Time{}, time.Time{}
	case err != nil:
		if p.err == nil {
			p.since = now
		}
		if now.Sub(p.said) >= sayAgain {
			p.log.ErrorContext(ctx, "the database does not answer; asked again each second", "since",
				p.since.UTC().Format(time.RFC3339), "error", err)
			p.said = now
		}
	}
	p.err = err
}
