package service_test

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"tinbell/core/timeline"
	"tinbell/internal/collect"
	"tinbell/internal/dbtest"
)

// post sends a body as it is and gives status and answer.
func post(t *testing.T, s *dbtest.Service, path string, headers map[string]string, body io.Reader) (int, string, http.Header) {
	t.Helper()
	request, err := http.NewRequestWithContext(t.Context(), "POST", s.Address+path, body)
	dbtest.Must(t, err)
	request.Header.Set("Authorization", "Bearer "+s.Token)
	for k, v := range headers {
		request.Header.Set(k, v)
	}
	response, err := http.DefaultClient.Do(request)
	dbtest.Must(t, err)
	defer response.Body.Close()
	answer, err := io.ReadAll(response.Body)
	dbtest.Must(t, err)
	return response.StatusCode, string(answer), response.Header
}

func TestOTLPBecomesSamplesOncePeriodsAreOver(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	for _, d := range []collect.Declaration{
		{Metric: "gate-queue", Dataset: "ops.gates", Measure: "queue", Kind: timeline.Value, Period: "1h", OTLP: "gate.queue",
			SegmentBy: []string{"port"}},
		{Metric: "gate.rows", Dataset: "ops.gates", Measure: "rows", Kind: timeline.Count, Period: "1h"},
		{Metric: "gate.months", Dataset: "ops.gates", Measure: "rows", Kind: timeline.Count, Period: "1mo"},
	} {
		dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/metrics/declare", d, nil))
	}
	nanos := func(minute int) string {
		return fmt.Sprint(now.Add(time.Duration(minute) * time.Minute).UnixNano())
	}
	export := fmt.Sprintf(`{"resourceMetrics":[{"scopeMetrics":[{"metrics":[
		{"name":"gate.queue","gauge":{"dataPoints":[{"timeUnixNano":"%s","asDouble":4,"attributes":[{"key":"port","value":{"stringValue":"Ansby"}}]},{"timeUnixNano":"%s","asDouble":8,"attributes":[{"key":"port","value":{"stringValue":"Ansby"}}]}]}},
		{"name":"gate.rows","sum":{"aggregationTemporality":1,"dataPoints":[{"timeUnixNano":"%s","asInt":"10"},{"timeUnixNano":"%s","asInt":"5"}]}},
		{"name":"gate.months","gauge":{"dataPoints":[{"timeUnixNano":"%s","asDouble":1}]}},
		{"name":"unheard.of","gauge":{"dataPoints":[{"timeUnixNano":"%s","asDouble":1}]}},
		{"name":"gate.rows","sum":{"aggregationTemporality":1,"dataPoints":[{"timeUnixNano":"%s","asInt":"1"},{"timeUnixNano":"%s","asInt":"-4"}]}}
		]}]}]}`, nanos(5), nanos(15), nanos(10), nanos(70), nanos(5), nanos(5), nanos(-5*24*60), nanos(12))
	for range 2 { // sent twice it counts once
		var zipped bytes.Buffer
		z := gzip.NewWriter(&zipped)
		fmt.Fprint(z, export)
		z.Close()
		s.Clock.Set(now.Add(75 * time.Minute))
		status, answer, _ := post(t, s, "/v1/metrics", map[string]string{"Content-Type": "application/json",
			"Content-Encoding": "gzip"}, &zipped)
		if status != 200 || !strings.Contains(answer, `"rejectedDataPoints":"4"`) || !strings.Contains(answer,
			"--otlp unheard.of") || !strings.Contains(answer, "too late") || !strings.Contains(answer, "a day at most") {
			t.Fatalf("%d %s", status, answer)
		}
		dbtest.Must(t, s.Parts.Collector.SettlePoints(t.Context()))
	}
	if v := measured(t, s, "gate-queue")["Ansby"]["18T12"]; v.Value != 6 {
		t.Errorf("mean of the gauge: %+v", v)
	}
	rows := measured(t, s, "gate.rows")[""]
	if rows["18T12"].Value != 10 || len(rows) != 1 {
		t.Errorf("sums by period, of those that are over: %+v", rows)
	}
	s.Clock.Set(now.Add(3 * time.Hour))
	dbtest.Must(t, s.Parts.Collector.SettlePoints(t.Context()))
	if rows := measured(t, s, "gate.rows")[""]; rows["18T13"].Value != 5 {
		t.Errorf("a period is made when it is over: %+v", rows)
	}
	for what, c := range map[string]struct {
		headers map[string]string
		body    string
		status  int
	}{
		"another type": {map[string]string{"Content-Type": "text/plain"}, "", 415},
		"cut-off gzip": {map[string]string{"Content-Type": "application/json", "Content-Encoding": "gzip"},
			"\x1f\x8b\x08\x00\x00\x00\x00\x00\x00\x03abc", 400},
		"not gzip":       {map[string]string{"Content-Type": "application/json", "Content-Encoding": "gzip"}, "plain", 422},
		"not protobuf":   {map[string]string{"Content-Type": "application/x-protobuf"}, "\xff\xff\xff", 422},
		"empty protobuf": {map[string]string{"Content-Type": "application/x-protobuf"}, "", 200},
	} {
		if status, answer, _ := post(t, s, "/v1/metrics", c.headers, strings.NewReader(c.body)); status != c.status {
			t.Errorf("%s: %d %s, want %d", what, status, answer, c.status)
		}
	}
}

func TestAJSONArrayIsTakenElementByElement(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	declare(t, s, "queue", timeline.Count)
	r, err := push(t, s, "", "application/json",
		`[{"metric":"queue","at":"2026-06-18T08:00:00Z","value":4}, {"metric":"queue","at":"2026-06-18T09:00:00Z","value":-1}]`)
	dbtest.Must(t, err)
	if r.Accepted != 1 || r.Refused != 1 || r.Problems[0].Line != 2 {
		t.Errorf("%+v", r)
	}
	for body, want := range map[string]string{`{"metric":"queue"}`: "a JSON array",
		`[{"metric":"queue","at":"2026-06-18T10:00:00Z","value":4}`: "ends too early", `[{"metric" 4}]`: "element 1"} {
		if _, err := push(t, s, "", "application/json", body); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", body, err, want)
		}
	}
}

// slow is a body that does not end until it is told to.
type slow struct{ until chan struct{} }

func (s slow) Read([]byte) (int, error) {
	<-s.until
	return 0, io.EOF
}

// pushesAtOnce is how many pushes are let in at the same time.
const pushesAtOnce = 48

func TestTooManyPushesAtOnceAreAskedToComeAgain(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	declare(t, s, "queue", timeline.Count)
	until := make(chan struct{})
	done := make(chan int, pushesAtOnce)
	headers := map[string]string{"Content-Type": ndjson}
	for range pushesAtOnce {
		go func() {
			status, _, _ := post(t, s, "/api/v1/samples", headers, slow{until})
			done <- status
		}()
	}
	line := `{"metric":"queue","at":"2026-06-18T08:00:00Z","value":4}`
	await(t, func() bool {
		status, _, answered := post(t, s, "/api/v1/samples", headers, strings.NewReader(line))
		return status == http.StatusTooManyRequests && answered.Get("Retry-After") != ""
	}, "one more is turned away with Retry-After")
	close(until)
	for range pushesAtOnce {
		if status := <-done; status != 200 {
			t.Errorf("one that was let in ended with %d", status)
		}
	}
	if status, _, _ := post(t, s, "/api/v1/samples", headers, strings.NewReader(line)); status != 200 {
		t.Errorf("afterwards: %d", status)
	}
}
