// Package dbtest gives tests a real service on a private PostgreSQL, which
// the tests of a package share, and a clock
// that they set.
package dbtest

import (
	"bytes"
	"context"
	"fmt"
	"log/slog"
	"net/netip"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sys/unix"

	"tinbell/internal/client"
	"tinbell/internal/localpg"
	"tinbell/internal/service"
	"tinbell/internal/store"
	"tinbell/internal/work"
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

// Service is a running service with its administrator's client, on a database of
// its own.
type Service struct {
	*service.Service
	Admin    *client.Client
	Clock    *Clock
	Token    string
	Database string // its address
	server   *localpg.Server
}

// shared is the PostgreSQL that the tests of a package share, and the database of
// empty tables that each service's own is copied from: making either takes longer
// than most tests.
var shared struct {
	once      sync.Once
	server    *localpg.Server
	dir       string
	err       error
	databases atomic.Int64

	tables    sync.Once
	tablesErr error
}

// model is the name of the database of empty tables.
const model = "model"

// Main runs a package's tests and brings down what they shared.
func Main(m *testing.M) {
	code := m.Run()
	if shared.server != nil {
		shared.server.Stop()
	}
	os.RemoveAll(shared.dir)
	os.Exit(code)
}

// roomy is where the shared PostgreSQL keeps its files: in memory where that has room to
// spare, as most of a test's time goes into making files, else among temporary files.
func roomy() string {
	const memory, spare = "/dev/shm", 4 << 30
	var there unix.Statfs_t
	if unix.Statfs(memory, &there) == nil && there.Bavail*uint64(there.Bsize) > spare {
		return memory
	}
	return os.TempDir()
}

func server(t testing.TB) *localpg.Server {
	t.Helper()
	shared.once.Do(func() {
		if shared.dir, shared.err = os.MkdirTemp(roomy(), "tinbell-test-"); shared.err != nil {
			return
		}
		if shared.err = os.Chmod(shared.dir, 0o755); shared.err == nil {
			shared.server, shared.err = localpg.Start(context.Background(),
				localpg.Options{Dir: filepath.Join(shared.dir, "postgres"), NoSync: true})
		}
	})
	Must(t, shared.err)
	return shared.server
}

// NewDatabase makes a fresh database beside the service's and gives its address.
// It is dropped when the test ends.
func (s *Service) NewDatabase(t testing.TB) string {
	t.Helper()
	return newDatabase(t, s.server, "template1")
}

// Empty is the address of a database with nothing in it, dropped when the test ends.
func Empty(t testing.TB) string { return newDatabase(t, server(t), "template1") }

// newDatabase makes a copy of another and drops it when the test ends: those of a
// package would fill a small disk together.
func newDatabase(t testing.TB, on *localpg.Server, of string) string {
	t.Helper()
	name := fmt.Sprintf("test%d", shared.databases.Add(1))
	owner(t, on, fmt.Sprintf("create database %s template %s", name, of))
	t.Cleanup(func() { owner(t, on, fmt.Sprintf("drop database if exists %s with (force)", name)) })
	return on.URL(name)
}

// owner runs a statement as the server's owner. It may be asked for while a test ends.
func owner(t testing.TB, on *localpg.Server, statement string) {
	t.Helper()
	conn, err := pgx.Connect(context.Background(), on.URL("postgres"))
	Must(t, err)
	defer conn.Close(context.Background())
	_, err = conn.Exec(context.Background(), statement)
	Must(t, err)
}

// tables makes the database of empty tables, once.
func tables(t testing.TB, on *localpg.Server) string {
	t.Helper()
	shared.tables.Do(func() { shared.tablesErr = makeModel(on) })
	Must(t, shared.tablesErr)
	return model
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
	on := server(t)
	database := newDatabase(t, on, tables(t, on))
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
	return &Service{Service: s, Admin: client.New(s.Address, s.FirstToken), Clock: clock, Token: s.FirstToken, Database: database,
		server: on}
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
