// Package dbtest gives tests a real service on a private PostgreSQL and a clock
// that they set.
package dbtest

import (
	"io"
	"log/slog"
	"os"
	"sync/atomic"
	"testing"
	"time"

	"tinbell/internal/client"
	"tinbell/internal/service"
)

// Folder is a temporary folder that the database's user can reach.
func Folder(t testing.TB) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "tinbell-test-")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

// Clock is a time that tests set.
type Clock struct{ unix atomic.Int64 }

func (c *Clock) Now() time.Time  { return time.Unix(c.unix.Load(), 0).UTC() }
func (c *Clock) Set(t time.Time) { c.unix.Store(t.Unix()) }

// Service is a running service with its administrator's client.
type Service struct {
	*service.Service
	Admin *client.Client
	Clock *Clock
	Token string
}

// Start runs a service whose clock stands at now, until the test ends.
func Start(t testing.TB, now time.Time) *Service {
	t.Helper()
	clock := &Clock{}
	clock.Set(now)
	s, err := service.Start(t.Context(), service.Options{Dir: Folder(t), Listen: "127.0.0.1:0", SignIn: true, NoSync: true, Now: clock.Now,
		Log: slog.New(slog.NewTextHandler(io.Discard, nil))})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Stop)
	return &Service{Service: s, Admin: client.New(s.Address, s.FirstToken), Clock: clock, Token: s.FirstToken}
}

// Settle waits until no work is queued.
func (s *Service) Settle(t testing.TB) {
	t.Helper()
	deadline := time.Now().Add(60 * time.Second)
	for {
		idle, err := s.Parts.Queue.Idle(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		if idle {
			return
		}
		if time.Now().After(deadline) {
			t.Fatal("work is still queued after a minute")
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// Must fails the test on an error.
func Must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}
