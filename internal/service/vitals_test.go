package service_test

import (
	"fmt"
	"net/http"
	"regexp"
	"strings"
	"testing"
	"time"

	"tinbell/internal/dbtest"
	"tinbell/internal/record"
	"tinbell/internal/service"
	"tinbell/internal/vitals"
)

// The service's own figures are given in an open text format to who is signed in, count
// what was answered, and are a dataset like any other where it watches itself.
func TestTheServiceSaysHowItIs(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now, func(o *service.Options) { o.WatchItself = true })
	if code, _, _ := request(t, &dbtest.Service{Service: s.Service, Token: "tb_NOBODYS"}, "GET", "/metrics", nil,
		nil); code != http.StatusUnauthorized {
		t.Errorf("to nobody: %d", code)
	}
	for range 3 {
		if err := s.Admin.Get(t.Context(), "/monitors/none", nil, nil); status(err) != 404 {
			t.Fatal(err)
		}
	}
	code, text, head := request(t, s, "GET", "/metrics", nil, nil)
	if code != 200 || !strings.HasPrefix(head.Get("Content-Type"), "application/openmetrics-text; version=1.0.0") ||
		!strings.HasSuffix(text, "# EOF\n") {
		t.Fatalf("%d %v\n%s", code, head, text)
	}
	line := regexp.MustCompile(`^(# (TYPE|HELP) tinbell_[a-z0-9_]+ .+|tinbell_[a-z0-9_]+ [-+0-9.e]+|# EOF)$`)
	for _, l := range strings.Split(strings.TrimSuffix(text, "\n"), "\n") {
		if !line.MatchString(l) {
			t.Errorf("no line of the format: %q", l)
		}
	}
	if !strings.Contains(text, "tinbell_requests_4xx_total 4\n") {
		t.Errorf("counted:\n%s", text)
	}
	await(t, func() bool { // what sums up its first figures may wait for a moment
		_, text, _ := request(t, s, "GET", "/metrics", nil, nil)
		return strings.Contains(text, "tinbell_jobs_waiting 0\n")
	}, "no job waits")
	var metrics []record.Metric
	for range 100 { // its first round is under way
		if dbtest.Must(t, s.Admin.Get(t.Context(), "/metrics", nil, &metrics)); len(metrics) >= 6 {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	if len(metrics) < 6 || metrics[0].Dataset != vitals.Dataset {
		t.Errorf("metrics of its own: %+v", metrics)
	}
	for round := range 3 { // each period once, however often it is looked at
		s.Clock.Set(now.Add(time.Duration(5*round) * time.Minute))
		for range 2 {
			dbtest.Must(t, s.Duty("own figures").Round(t.Context()))
		}
		var n int
		dbtest.Must(t, s.Parts.Store.DB.Get(&n,
			`select count(*) from sample join series on series.id = series_id join metric on metric.id = metric_id where metric.name = 'tinbell-memory_bytes'`))
		if n != round+1 {
			t.Errorf("%d samples of its memory after %d periods", n, round+1)
		}
	}
}

// The doctor finds what is wrong and says what to do about it.
func TestTheDoctorSaysWhatToDo(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now, func(o *service.Options) { o.SignIn = false })
	find := func() map[string]vitals.Check {
		t.Helper()
		var e vitals.Examination
		dbtest.Must(t, s.Admin.Get(t.Context(), "/doctor", nil, &e))
		checks := map[string]vitals.Check{}
		for _, c := range e.Checks {
			if checks[c.Name] = c; c.State != "good" && c.Do == "" {
				t.Errorf("it says nothing to do: %+v", c)
			}
		}
		return checks
	}
	before := find()
	if c := before["work"]; c.State != "good" || c.Do != "" {
		t.Errorf("an idle service: %+v", c)
	}
	if c := before["durability"]; c.State != "wrong" || !strings.Contains(c.Do, "fsync = on") {
		t.Errorf("a test's server writes nothing through: %+v", c)
	}
	if c := before["sign-in"]; c.State != "mind" {
		t.Errorf("without sign-in: %+v", c)
	}
	_, err := s.Parts.Store.DB.Exec(fmt.Sprintf(`insert into river_job (state, kind, args, max_attempts, scheduled_at, created_at, priority, queue) values ('available', 'none', '{}', 1, now() - interval '20 minutes', now(), 1, 'nobody'), ('available', 'none', '{}', 1, now() - interval '%d seconds', now(), 1, 'nobody')`, int(time.Hour.Seconds())))
	dbtest.Must(t, err)
	if c := find()["work"]; c.State != "wrong" || !strings.Contains(c.Said, "2 jobs wait") || !strings.Contains(c.Do, "another process") {
		t.Errorf("work that waits for an hour: %+v", c)
	}
}
