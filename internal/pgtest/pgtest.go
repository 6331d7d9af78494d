// Package pgtest gives tests a private PostgreSQL, which those of a package share, with a
// database of its own for each.
package pgtest

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sys/unix"

	"tinbell/internal/localpg"
)

// shared is the PostgreSQL of a package: making one takes longer than most tests.
var shared struct {
	once      sync.Once
	server    *localpg.Server
	dir       string
	err       error
	databases atomic.Int64
}

// Main runs a package's tests and brings down what they shared.
func Main(m *testing.M) {
	code := m.Run()
	if shared.server != nil {
		shared.server.Stop()
	}
	os.RemoveAll(shared.dir)
	os.Exit(code)
}

// Server is the PostgreSQL that a package's tests share.
func Server(t testing.TB) *localpg.Server {
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

// Empty is the address of a database with nothing in it, dropped when the test ends.
func Empty(t testing.TB) string {
	t.Helper()
	return Copy(t, "template1")
}

// Copy makes a copy of a database and gives its address. It is dropped when the test ends:
// those of a package would fill a small disk together.
func Copy(t testing.TB, of string) string {
	t.Helper()
	on, name := Server(t), fmt.Sprintf("test%d", shared.databases.Add(1))
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

// Folder is a temporary folder that the database's user can reach.
func Folder(t testing.TB) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "tinbell-test-")
	Must(t, err)
	Must(t, os.Chmod(dir, 0o755))
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

// Must fails the test on an error.
func Must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}
