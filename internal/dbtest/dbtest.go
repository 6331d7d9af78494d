// Package dbtest gives tests a real service on a database of its own and a clock that
// they set.
package dbtest

import (
	"bytes"
	"context"
	"log/slog"
	"net/netip"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"tinbell/internal/client"
	"tinbell/internal/localpg"
	"tinbell/internal/pgtest"
	"tinbell/internal/service"
	"tinbell/internal/store"
	"tinbell/internal/work"
)

// Clock is a time that tests set.
type Clock struct{ unix atomic.Int64 }

func (c *Clock) Now() time.Time  { return time.Unix(c.unix.Load(), 0).UTC() }
func (c *Clock) Set(t time.Time) { c.unix.Store(t.Unix()) }

// Service is a running service with its administrator's client, on a database of
// its own.
type Service struct {
	*service.Service
	Admin    *client.Client
	Clock    *Clock
	Token    string
	Database string // its address
}

// model is the database of empty tables that each service's own is copied from.
const model = "model"

var tables struct {
	once sync.Once
	err  error
}

// Main runs a package's tests and brings down what they shared.
func Main(m *testing.M) { pgtest.Main(m) }

// Folder is a temporary folder that the database's user can reach.
func Folder(t testing.TB) string {
	t.Helper()
	return pgtest.Folder(t)
}

// NewDatabase makes a fresh database beside the service's and gives its address.
// It is dropped when the test ends.
func (s *Service) NewDatabase(t testing.TB) string {
	t.Helper()
	return pgtest.Empty(t)
}

// newRecords makes a database with a service's tables and nothing in them.
func newRecords(t testing.TB) string {
	t.Helper()
	on := pgtest.Server(t)
	tables.once.Do(func() { tables.err = makeModel(on) })
	Must(t, tables.err)
	return pgtest.Copy(t, model)
}

func makeModel(on *localpg.Server) error {
	ctx := context.Background()
	if _, err := on.EnsureDatabase(ctx, model); err != nil {
		return err
	}
	records, err := store.Open(ctx, on.URL(model))
	if err != nil {
		return err
	}
	defer records.Close()
	return work.Prepare(ctx, records.Pool, slog.New(slog.DiscardHandler))
}

// Start runs a service whose clock stands at now, until the test ends. Webhooks
// may go to loopback.
func Start(t testing.TB, now time.Time, change ...func(*service.Options)) *Service {
	t.Helper()
	clock := &Clock{}
	clock.Set(now)
	database := newRecords(t)
	o := service.Options{Dir: Folder(t), Database: database, Listen: "127.0.0.1:0", SignIn: true, Now: clock.Now,
		AllowPrivate: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}, Log: Log(t)}
	for _, one := range change {
		one(&o)
	}
	s, err := service.Start(t.Context(), o)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Stop)
	return &Service{Service: s, Admin: client.New(s.Address, s.FirstToken), Clock: clock, Token: s.FirstToken, Database: database}
}

// said shows what a service warns of with the test that ran it, if that fails.
type said struct{ t testing.TB }

// Log is what a service says in a test: warnings and worse, with the test's own lines.
func Log(t testing.TB) *slog.Logger {
	return slog.New(slog.NewTextHandler(said{t}, &slog.HandlerOptions{Level: slog.LevelWarn}))
}

func (s said) Write(line []byte) (int, error) {
	if s.t.Context().Err() == nil {
		s.t.Logf("service: %s", bytes.TrimSpace(line))
	}
	return len(line), nil
}

// Settle waits until no work is queued, as long as pieces of it come to an end.
func (s *Service) Settle(t testing.TB) {
	t.Helper()
	var last time.Time
	for moved := time.Now(); ; time.Sleep(20 * time.Millisecond) {
		idle, err := s.Parts.Queue.Idle(t.Context())
		Must(t, err)
		if idle {
			return
		}
		var ended time.Time
		Must(t, s.Parts.Store.DB.GetContext(t.Context(), &ended, `select coalesce(max(finalized_at), 'epoch') from river_job`))
		if ended.After(last) {
			last, moved = ended, time.Now()
		} else if time.Since(moved) > time.Minute {
			t.Fatal("work is queued and none of it has ended for a minute")
		}
	}
}

// Must fails the test on an error.
func Must(t testing.TB, err error) {
	t.Helper()
	pgtest.Must(t, err)
}
