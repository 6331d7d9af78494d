// Package duty runs what is done again and again: look for what is due, close
// what is over, pack what is old. Each duty is a small service of its own with
// the same shape, so that one which fails or hangs leaves the others alone.
package duty

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"tinbell/internal/contain"
	"tinbell/internal/store"
)

// Config is what a duty does.
type Config struct {
	Name       string
	Doc        string        // what it is for, in a sentence
	Every      time.Duration // between the end of a round and the next; required
	Within     time.Duration // that a round may take; 0: ten minutes
	Everywhere bool          // every process does it; else only the one that leads
	Round      func(context.Context) error
}

// Service is a duty as it runs.
type Service struct {
	Config
	leads  func() bool
	log    *slog.Logger
	cancel context.CancelFunc
	ended  chan struct{}
	rounds chan error
	said   sometimes
}

// New makes a duty that has not begun.
func New(c Config, leads func() bool, log *slog.Logger) *Service {
	if c.Within == 0 {
		c.Within = 10 * time.Minute
	}
	return &Service{Config: c, leads: leads, log: log, rounds: make(chan error, 1)}
}

// Start begins the first round at once and goes on until Stop.
func (s *Service) Start(ctx context.Context) {
	ctx, s.cancel = context.WithCancel(ctx)
	s.ended = make(chan struct{})
	go s.run(ctx)
}

// Stop ends the round under way and waits for it.
func (s *Service) Stop() {
	if s.cancel != nil {
		s.cancel()
		<-s.ended
	}
}

// Rounds is a signal for tests: what the last round that ended came to. It holds
// one, and a round that nobody waits for replaces the one before.
func (s *Service) Rounds() <-chan error { return s.rounds }

func (s *Service) run(ctx context.Context) {
	defer close(s.ended)
	for ctx.Err() == nil {
		wait := s.Every
		if s.Everywhere || s.leads() {
			s.once(ctx)
		} else {
			wait = min(wait, glance)
		}
		select {
		case <-ctx.Done():
		case <-time.After(wait):
		}
	}
}

// glance is how soon a duty begins in a process that has come to lead.
const glance = time.Second

func (s *Service) once(ctx context.Context) {
	limited, cancel := context.WithTimeout(ctx, s.Within)
	defer cancel()
	err := contain.Run(func() error { return s.Round(limited) })
	if ctx.Err() != nil {
		return
	}
	if err != nil {
		s.tell(ctx, err)
	}
	select {
	case <-s.rounds:
	default:
	}
	s.rounds <- err
}

// tell logs what went wrong; the same is said once a minute. That the database
// is away is not this duty's to tell.
func (s *Service) tell(ctx context.Context, err error) {
	if store.Unavailable(err) || !s.said.now(err.Error()) {
		return
	}
	attributes := []any{"duty", s.Name, "error", err}
	if broke := (*contain.Panic)(nil); errors.As(err, &broke) {
		attributes = append(attributes, "stack", broke.Stack)
	}
	s.log.ErrorContext(ctx, "a duty failed; tried again", attributes...)
}

// Each does work for every subject, whatever becomes of the others, and joins
// what went wrong, each with its subject's name.
func Each[T any](ctx context.Context, subjects []T, name func(T) string, work func(T) error) error {
	var wrong []error
	for _, one := range subjects {
		if ctx.Err() != nil {
			return errors.Join(append(wrong, ctx.Err())...)
		}
		if err := contain.Run(func() error { return work(one) }); err != nil {
			wrong = append(wrong, fmt.Errorf("%s: %w", name(one), err))
		}
	}
	return errors.Join(wrong...)
}

// sometimes lets the same words through once a minute.
type sometimes struct {
	mu   sync.Mutex
	last map[string]time.Time
}

func (s *sometimes) now(words string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	for said, at := range s.last {
		if time.Since(at) > time.Minute {
			delete(s.last, said)
		}
	}
	if _, lately := s.last[words]; lately {
		return false
	}
	if s.last == nil {
		s.last = map[string]time.Time{}
	}
	s.last[words] = time.Now()
	return true
}
