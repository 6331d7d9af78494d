package localpg_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/dbtest"
	"tinbell/internal/localpg"
)

func connect(t *testing.T, s *localpg.Server) *pgx.Conn {
	t.Helper()
	conn, err := pgx.Connect(t.Context(), s.URL("postgres"))
	dbtest.Must(t, err)
	return conn
}

func TestWhatWasAcknowledgedSurvivesAKill(t *testing.T) {
	dir := dbtest.Folder(t)
	s, err := localpg.Start(t.Context(), localpg.Options{Dir: dir})
	dbtest.Must(t, err)
	conn := connect(t, s)
	_, err = conn.Exec(t.Context(), `create table kept (n int)`)
	dbtest.Must(t, err)
	for n := range 50 {
		_, err := conn.Exec(t.Context(), `insert into kept values ($1)`, n)
		dbtest.Must(t, err)
	}
	content, err := os.ReadFile(filepath.Join(dir, "data", "postmaster.pid"))
	dbtest.Must(t, err)
	pid, err := strconv.Atoi(strings.SplitN(string(content), "\n", 2)[0])
	dbtest.Must(t, err)
	children, _ := exec.Command("pgrep", "-P", strconv.Itoa(pid)).Output()
	dbtest.Must(t, syscall.Kill(pid, syscall.SIGKILL))
	for _, child := range strings.Fields(string(children)) {
		if n, err := strconv.Atoi(child); err == nil {
			syscall.Kill(n, syscall.SIGKILL)
		}
	}
	defer s.Stop()
	var n int
	for end := time.Now().Add(time.Minute); ; time.Sleep(50 * time.Millisecond) {
		again, err := pgx.Connect(t.Context(), s.URL("postgres"))
		if err == nil {
			dbtest.Must(t, again.QueryRow(t.Context(), `select count(*) from kept`).Scan(&n))
			again.Close(t.Context())
			break
		}
		if time.Now().After(end) {
			t.Fatalf("it is not started again: %v", err)
		}
	}
	if n != 50 {
		t.Errorf("%d of 50 acknowledged rows survived", n)
	}
}

func TestASecondStartStopsWhatTheFirstLeftRunning(t *testing.T) {
	dir := dbtest.Folder(t)
	first, err := localpg.Start(t.Context(), localpg.Options{Dir: dir, NoSync: true})
	dbtest.Must(t, err)
	made, err := first.EnsureDatabase(t.Context(), "mine")
	if err != nil || !made {
		t.Fatalf("database not made: %v", err)
	}
	second, err := localpg.Start(t.Context(), localpg.Options{Dir: dir, NoSync: true})
	dbtest.Must(t, err)
	defer second.Stop()
	if made, err := second.EnsureDatabase(t.Context(), "mine"); err != nil || made {
		t.Errorf("the database should be there already: %t, %v", made, err)
	}
	if was, is := first.URL("mine"), second.URL("mine"); was != is {
		t.Errorf("the address that others know has changed: %s, %s", was, is)
	}
}
