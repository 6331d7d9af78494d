// Package localpg runs a private PostgreSQL on loopback: its own data
// directory, a free port, a password of its own, no sockets. It works as root
// (the server then runs as the postgres user) and as an ordinary user.
package localpg

import (
	"context"
	cryptorand "crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// Options of a server. NoSync trades durability for speed; tests alone use it.
type Options struct {
	Dir    string
	NoSync bool
	Log    *slog.Logger // where it says that the server ended by itself; nil: nowhere
}

// Server is a running PostgreSQL. If it ends by itself it is started again, on
// the same port, until Stop.
type Server struct {
	port     int
	password string
	log      *slog.Logger
	restart  func() error // launches the server anew

	mu       sync.Mutex
	command  *exec.Cmd
	ended    chan error
	stopping chan struct{} // closed by Stop
	kept     chan struct{} // closed when nobody restarts it any more
}

// Start makes the data directory if there is none, stops what a killed run
// left behind, and starts the server; it is ready when Start returns.
func Start(ctx context.Context, o Options) (*Server, error) {
	dir, err := prepareDir(o.Dir)
	if err != nil {
		return nil, err
	}
	data := filepath.Join(dir, "data")
	programs, err := programsFor(data)
	if err != nil {
		return nil, err
	}
	s := &Server{ended: make(chan error, 1), stopping: make(chan struct{}), kept: make(chan struct{}), log: o.Log}
	if s.log == nil {
		s.log = slog.New(slog.DiscardHandler)
	}
	if s.password, err = keepPassword(filepath.Join(dir, "password")); err != nil {
		return nil, err
	}
	if _, err := os.Stat(filepath.Join(data, "PG_VERSION")); errors.Is(err, os.ErrNotExist) {
		if err := initialise(ctx, programs, dir, data); err != nil {
			return nil, err
		}
	}
	if err := stopLeftover(data); err != nil {
		return nil, err
	}
	if s.port, err = keepPort(filepath.Join(dir, "port")); err != nil {
		return nil, err
	}
	if err := s.launch(programs, dir, data, o.NoSync); err != nil {
		return nil, err
	}
	if err := s.await(ctx, filepath.Join(dir, "log")); err != nil {
		close(s.kept)
		s.Stop()
		return nil, err
	}
	s.restart = func() error {
		if pid := holder(data); pid != 0 {
			return fmt.Errorf("%w: process %d", errTaken, pid)
		}
		return s.launch(programs, dir, data, o.NoSync)
	}
	go s.keep()
	return s, nil
}

// stopped is how long one is waited for who stopped the server in good order, most
// likely to start it himself.
const stopped = 3 * time.Second

// errTaken ends the keeping of a server whose data another has come to hold.
var errTaken = errors.New("another server holds its data")

// keep starts the server again whenever it ends, at once the first time, then
// after twice the time before, half a minute at most: a disk that is full is full
// for a while.
func (s *Server) keep() {
	defer close(s.kept)
	wait, began := time.Duration(0), time.Now()
	for {
		var err error
		select {
		case <-s.stopping:
			return
		case err = <-s.ended:
		}
		select {
		case <-s.stopping:
			s.ended <- err
			return
		default:
		}
		if time.Since(began) > time.Minute {
			wait = 0
		}
		if err == nil {
			wait = max(wait, stopped)
		}
		s.log.Error("PostgreSQL ended by itself; it is started again", "error", err, "after", wait.String())
		select {
		case <-s.stopping:
			s.ended <- err
			return
		case <-time.After(wait):
		}
		wait, began = min(max(2*wait, time.Second), 30*time.Second), time.Now()
		if err := s.restart(); err != nil {
			s.log.Error("PostgreSQL could not be started again", "error", err)
			s.ended <- err
			if errors.Is(err, errTaken) {
				return
			}
		}
	}
}

// prepareDir makes dir; as root it moves to /var/lib where the postgres user
// could not reach dir.
func prepareDir(dir string) (string, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return "", err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return "", fmt.Errorf("make data directory: %w", err)
	}
	if os.Geteuid() != 0 {
		return dir, nil
	}
	if asPostgres("test", "-x", dir).Run() != nil {
		sum := sha256.Sum256([]byte(dir))
		dir = filepath.Join("/var/lib", "tinbell-"+hex.EncodeToString(sum[:6]))
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return "", fmt.Errorf("make data directory: %w", err)
		}
	}
	return dir, giveToPostgres(dir)
}

// giveToPostgres hands a file or folder to the server's user, as root.
func giveToPostgres(path string) error {
	if os.Geteuid() != 0 {
		return nil
	}
	owner, err := user.Lookup("postgres")
	if err != nil {
		return fmt.Errorf("running as root needs the postgres user that Debian's package makes: %w", err)
	}
	uid, _ := strconv.Atoi(owner.Uid)
	gid, _ := strconv.Atoi(owner.Gid)
	return os.Chown(path, uid, gid)
}

// asPostgres runs a program as the postgres user when this process is root, and
// as itself otherwise. The program ends when this process does.
func asPostgres(name string, args ...string) *exec.Cmd {
	var c *exec.Cmd
	if os.Geteuid() == 0 {
		args = append([]string{"--reuid=postgres", "--regid=postgres", "--init-groups", "--pdeathsig", "INT", "--", name}, args...)
		c = exec.Command("setpriv", args...)
	} else {
		c = exec.Command(name, args...)
		c.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGINT}
	}
	c.Dir = "/"
	return c
}

func keepPassword(path string) (string, error) {
	if known, err := os.ReadFile(path); err == nil && len(known) > 0 {
		return strings.TrimSpace(string(known)), nil
	}
	password := cryptorand.Text()
	return password, os.WriteFile(path, []byte(password+"\n"), 0o600)
}

func initialise(ctx context.Context, programs, dir, data string) error {
	password, err := os.ReadFile(filepath.Join(dir, "password"))
	if err != nil {
		return err
	}
	os.RemoveAll(data) // a first start that was killed halfway
	given := filepath.Join(dir, "password.initdb")
	if err := os.WriteFile(given, password, 0o600); err != nil {
		return err
	}
	defer os.Remove(given)
	if err := giveToPostgres(given); err != nil {
		return err
	}
	c := asPostgres(filepath.Join(programs, "initdb"), "-D", data, "-U", "tinbell", "--pwfile="+given,
		"--auth=scram-sha-256", "--encoding=UTF8", "--locale=C", "--no-sync", "--no-instructions")
	if out, err := c.CombinedOutput(); err != nil {
		return fmt.Errorf("initdb: %w: %s", err, out)
	}
	return ctx.Err()
}

// holder gives the process that serves a data directory, 0 if none does. What a
// server that was killed left of itself is cleared away.
func holder(data string) int {
	file := filepath.Join(data, "postmaster.pid")
	content, err := os.ReadFile(file)
	if err != nil {
		return 0
	}
	pid, err := strconv.Atoi(strings.SplitN(string(content), "\n", 2)[0])
	if err != nil {
		return 0
	}
	command, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	if err != nil || !strings.Contains(string(command), data) {
		os.Remove(file)
		return 0
	}
	return pid
}

// stopLeftover ends a server that a killed run left on the data directory.
func stopLeftover(data string) error {
	pid := holder(data)
	if pid == 0 {
		return nil
	}
	syscall.Kill(pid, syscall.SIGINT)
	for range 100 {
		if syscall.Kill(pid, 0) != nil {
			return nil
		}
		time.Sleep(100 * time.Millisecond)
	}
	return fmt.Errorf("another PostgreSQL (process %d) holds %s and does not stop", pid, data)
}

// keepPort gives the port of the last time if it is still free, so that addresses
// that others keep stay true, else a free one.
func keepPort(file string) (int, error) {
	known, _ := os.ReadFile(file)
	last, _ := strconv.Atoi(strings.TrimSpace(string(known)))
	if last != 0 && free(last) {
		return last, nil
	}
	from, to := listening()
	for range 200 {
		if port := from + rand.IntN(to-from); free(port) {
			return port, os.WriteFile(file, []byte(strconv.Itoa(port)), 0o644)
		}
	}
	return 0, fmt.Errorf("no port from %d to %d is free on loopback", from, to)
}

func free(port int) bool {
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	if err != nil {
		return false
	}
	return l.Close() == nil
}

// listening is the range that ports are chosen from: below those that the system
// gives to connections going out. One of these may reach the server's own port
// while the server is down, be connected with itself, and keep it from coming up.
func listening() (from, to int) {
	from, to = 15000, 32768
	var low int
	given, err := os.ReadFile("/proc/sys/net/ipv4/ip_local_port_range")
	if _, scanErr := fmt.Sscan(string(given), &low); err == nil && scanErr == nil && low > from+1000 {
		to = low
	}
	return from, to
}

func (s *Server) launch(programs, dir, data string, noSync bool) error {
	log, err := os.OpenFile(filepath.Join(dir, "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o640)
	if err != nil {
		return err
	}
	defer log.Close()
	settings := []string{"-D", data, "-p", strconv.Itoa(s.port),
		"-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories=", "-c", "max_connections=120",
		"-c", "shared_buffers=256MB", "-c", "max_wal_size=1GB", "-c", "timezone=UTC", "-c", "log_min_messages=warning",
		"-c", "synchronous_commit=on", "-c", "jit=off"}
	if noSync {
		settings = append(settings, "-c", "fsync=off", "-c", "full_page_writes=off", "-c", "synchronous_commit=off", "-c", "max_connections=500",
			"-c", "max_wal_size=128MB", "-c", "min_wal_size=32MB")
	}
	command := asPostgres(filepath.Join(programs, "postgres"), settings...)
	command.Stdout, command.Stderr = log, log
	if command.SysProcAttr == nil {
		command.SysProcAttr = &syscall.SysProcAttr{}
	}
	command.SysProcAttr.Setpgid = true // Ctrl-C reaches us, and we stop the server after our own work
	if err := command.Start(); err != nil {
		return fmt.Errorf("start PostgreSQL: %w", err)
	}
	s.mu.Lock()
	s.command = command
	s.mu.Unlock()
	go func() { s.ended <- command.Wait() }()
	return nil
}

func (s *Server) await(ctx context.Context, log string) error {
	deadline := time.Now().Add(60 * time.Second)
	for {
		select {
		case err := <-s.ended:
			s.ended <- err
			return fmt.Errorf("PostgreSQL ended at start (%v); its log is %s", err, log)
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(30 * time.Millisecond):
		}
		attempt, cancel := context.WithTimeout(ctx, 2*time.Second)
		conn, err := pgx.Connect(attempt, s.URL("postgres"))
		cancel()
		if err == nil {
			return conn.Close(ctx)
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("PostgreSQL does not answer after a minute: %w; its log is %s", err, log)
		}
	}
}

// URL is the address of a database on the server, as its owner.
func (s *Server) URL(database string) string { return s.URLAs("tinbell", s.password, database) }

// URLAs is the address of a database for another login.
func (s *Server) URLAs(login, password, database string) string {
	return fmt.Sprintf("postgres://%s:%s@127.0.0.1:%d/%s?sslmode=disable", login, password, s.port, database)
}

// EnsureDatabase makes a database if there is none of that name, and tells
// whether it did.
func (s *Server) EnsureDatabase(ctx context.Context, name string) (bool, error) {
	conn, err := pgx.Connect(ctx, s.URL("postgres"))
	if err != nil {
		return false, err
	}
	defer conn.Close(ctx)
	var there bool
	if err := conn.QueryRow(ctx, `select exists (select from pg_database where datname = $1)`, name).Scan(&there); err != nil || there {
		return false, err
	}
	_, err = conn.Exec(ctx, `create database `+pgx.Identifier{name}.Sanitize())
	return err == nil, err
}

// Pid is the server's process.
func (s *Server) Pid() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.command.Process.Pid
}

// Stop shuts the server down and waits for it.
func (s *Server) Stop() error {
	close(s.stopping)
	<-s.kept
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.command == nil || s.command.Process == nil {
		return nil
	}
	s.command.Process.Signal(syscall.SIGINT)
	select {
	case <-s.ended:
		return nil
	case <-time.After(20 * time.Second):
		s.command.Process.Signal(syscall.SIGQUIT)
		<-s.ended
		return errors.New("PostgreSQL did not stop in 20 s and was ended at once; it recovers at the next start")
	}
}
