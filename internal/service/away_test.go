package service_test

import (
	"fmt"
	"io"
	"net/http"
	"strings"
	"syscall"
	"testing"
	"time"

	"tinbell/core/timeline"
	"tinbell/internal/collect"
	"tinbell/internal/dbtest"
	"tinbell/internal/service"
	"tinbell/internal/work"
)

func readyz(s *dbtest.Service) (int, string) {
	answer, err := http.Get(s.Address + "/readyz")
	if err != nil {
		return 0, err.Error()
	}
	defer answer.Body.Close()
	text, _ := io.ReadAll(answer.Body)
	return answer.StatusCode, string(text)
}

// The private PostgreSQL is killed: the service says so, starts it again, keeps
// what it acknowledged, and goes on by itself.
func TestAPostgreSQLThatIsKilledIsStartedAgain(t *testing.T) {
	s := dbtest.Start(t, now, func(o *service.Options) { o.Database = "" })
	declared(t, s, collect.Declaration{Metric: "queue", Kind: timeline.Count, Period: "1h"}, fixed(10))
	s.Settle(t)
	line := func(segment string) string {
		return fmt.Sprintf(`{"metric":"queue","segment":%q,"at":"2026-06-18T11:00:00Z","value":3}`, segment)
	}
	pushed(t, s, line("before"))
	for round := range 3 {
		killed := 0
		await(t, func() bool {
			killed = s.Postgres.Pid()
			return syscall.Kill(killed, syscall.SIGKILL) == nil
		}, "there is a server to be killed")
		await(t, func() bool {
			status, _, _ := request(t, s, "POST", "/api/v1/samples", map[string]string{"Content-Type": ndjson},
				strings.NewReader(line(fmt.Sprint("after ", round))))
			if status != 200 && status != 503 {
				t.Fatalf("a push without a database is answered with %d", status)
			}
			ready, _ := readyz(s)
			return status == 200 && ready == 200 && s.Postgres.Pid() != killed
		}, "samples are taken again and the service is ready")
	}
	if n := count(t, s); n != 4 {
		t.Errorf("%d of 4 acknowledged samples are kept", n)
	}
	await(t, func() bool { return open(alertsOf(t, s, "queue")) == 4 }, "all four first samples ring")
}

// Jobs whose process is gone are run by another, at once and not never.
func TestOrphanedJobsAreTakenOver(t *testing.T) {
	s := dbtest.Start(t, now)
	declared(t, s, collect.Declaration{Metric: "queue", Kind: timeline.Count, Period: "1h"}, fixed(10))
	s.Settle(t)
	ctx := t.Context()
	m, err := s.Parts.Store.Metric(ctx, "queue")
	dbtest.Must(t, err)
	// As a process that was killed leaves them: running, under a number that nobody
	// lives by; one of them in the way of all that follow.
	for _, job := range []any{work.Evaluate{MetricID: m.ID}, work.Collect{DatasetID: m.DatasetID}} {
		switch j := job.(type) {
		case work.Evaluate:
			dbtest.Must(t, s.Parts.Queue.Add(ctx, j))
		case work.Collect:
			dbtest.Must(t, s.Parts.Queue.Add(ctx, j))
		}
	}
	s.Settle(t)
	_, err = s.Parts.Store.DB.Exec(`
		update river_job set state = 'running', finalized_at = null, attempted_at = now(), attempt = max_attempts, attempted_by = array['tinbell-77777']
		where id in (select max(id) from river_job where kind in ('evaluate', 'collect') group by kind)`)
	dbtest.Must(t, err)
	began := time.Now()
	pushed(t, s, `{"metric":"queue","segment":"x","at":"2026-06-18T11:00:00Z","value":3}`)
	await(t, func() bool { return open(alertsOf(t, s, "queue")) == 1 }, "the sample is judged")
	var left int
	await(t, func() bool {
		dbtest.Must(t, s.Parts.Store.DB.Get(&left,
			`select count(*) from river_job where state = 'running' and attempted_by[1] = 'tinbell-77777' and array_length(attempted_by, 1) = 1`))
		return left == 0
	}, "no job is left to the process that is gone")
	if took := time.Since(began); took > 15*time.Second {
		t.Errorf("taken over after %s", took)
	}
}

// One subject that cannot be judged leaves the others of its duty alone.
func TestOneBadZoneStopsNoOtherPromise(t *testing.T) {
	s := dbtest.Start(t, now)
	ctx := t.Context()
	for _, name := range []string{"bad", "good"} {
		declared(t, s, collect.Declaration{Metric: name, Kind: timeline.Count, Period: "1h"}, nil)
		dbtest.Must(t, s.Admin.Send(ctx, "POST", "/slas",
			map[string]any{"name": name, "dataset": "ops." + name, "counts": "loads", "at_least": 1, "to_minute": 360}, nil))
	}
	_, err := s.Parts.Store.DB.Exec(`update sla set zone = 'Nowhere/Land' where name = 'bad'`)
	dbtest.Must(t, err)
	// The duty goes its rounds meanwhile, and may have told of both before.
	_, err = s.Parts.Store.DB.Exec(`delete from alert where of_sla is not null`)
	dbtest.Must(t, err)
	promises := s.Duty("promises")
	if promises == nil {
		t.Fatal("there is no such duty")
	}
	err = promises.Round(ctx)
	if err == nil || !strings.Contains(err.Error(), "SLA bad") || strings.Contains(err.Error(), "SLA good") {
		t.Errorf("what went wrong is joined, with its subject: %v", err)
	}
	var about []string
	dbtest.Must(t, s.Parts.Store.DB.Select(&about, `select sla.name from alert a join sla on sla.id = a.of_sla where a.closed_at is null`))
	if len(about) != 1 || about[0] != "good" {
		t.Errorf("missed promises that ring: %v", about)
	}
}

// A stop lets what is under way end: a push that is being read is stored whole.
func TestAStopLetsRequestsEnd(t *testing.T) {
	s := dbtest.Start(t, now)
	declare(t, s, "queue", timeline.Count)
	read, write := io.Pipe()
	answered := make(chan int, 1)
	go func() {
		status, _, _ := request(t, s, "POST", "/api/v1/samples", map[string]string{"Content-Type": ndjson}, read)
		answered <- status
	}()
	fmt.Fprintln(write, `{"metric":"queue","at":"2026-06-18T08:00:00Z","value":4}`)
	stopped := make(chan struct{})
	go func() {
		defer close(stopped)
		time.Sleep(50 * time.Millisecond) // the request has begun by then, or is refused
		s.Service.Stop()
	}()
	await(t, func() bool {
		status, _ := readyz(s)
		return status == 0
	}, "nothing more is taken in")
	fmt.Fprintln(write, `{"metric":"queue","at":"2026-06-18T09:00:00Z","value":4}`)
	write.Close()
	if status := <-answered; status != 200 {
		t.Errorf("the push under way is answered with %d", status)
	}
	<-stopped
}
