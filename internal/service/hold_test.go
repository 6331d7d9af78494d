package service_test

import (
	"bytes"
	"encoding/gob"
	"fmt"
	"math"
	"net/http"
	"net/url"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"tinbell/core/baseline"
	"tinbell/core/timeline"
	"tinbell/internal/collect"
	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
)

// declared declares a metric of its own dataset and puts a monitor on it.
func declared(t *testing.T, s *dbtest.Service, d collect.Declaration, settings *record.Settings) {
	t.Helper()
	if d.Dataset == "" {
		d.Dataset = "ops." + d.Metric
	}
	if d.Measure == "" {
		d.Measure = "rows"
	}
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/metrics/declare", d, nil))
	if settings != nil {
		dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/monitors", httpapi.NewMonitor{Name: d.Metric, Metric: d.Metric,
			Settings: settings}, nil))
	}
}

// fixed are settings with one lower bound, which ring at the first sample under it.
func fixed(low float64) *record.Settings {
	v := record.DefaultSettings()
	v.Method, v.Low, v.Spikes = "fixed", &low, true
	return &v
}

func seasonal() *record.Settings {
	v := record.DefaultSettings()
	return &v
}

// samples writes a stretch of a metric as NDJSON.
func samples(metric, segment string, from, to time.Time, step time.Duration, value func(time.Time) float64) string {
	var b strings.Builder
	for at := from; at.Before(to); at = at.Add(step) {
		if v := value(at); !math.IsNaN(v) {
			fmt.Fprintf(&b, `{"metric":%q,"segment":%q,"at":%q,"value":%g}`+"\n", metric, segment, at.Format(time.RFC3339), v)
		}
	}
	return b.String()
}

func pushed(t *testing.T, s *dbtest.Service, body string) collect.Receipt {
	t.Helper()
	r, err := push(t, s, "", ndjson, body)
	dbtest.Must(t, err)
	if r.Refused > 0 {
		t.Fatalf("refused: %+v", r.Problems)
	}
	return r
}

func alertsOf(t *testing.T, s *dbtest.Service, monitor string) []record.Alert {
	t.Helper()
	var page httpapi.AlertPage
	dbtest.Must(t, s.Admin.Get(t.Context(), "/alerts", url.Values{"monitor": {monitor}, "limit": {"500"}}, &page))
	return page.Alerts
}

func TestDatesFromBeforeTheStartOrTheCenturyAreRefusedAtTheDoor(t *testing.T) {
	s := dbtest.Start(t, now)
	start := now.AddDate(0, -1, 0)
	declared(t, s, collect.Declaration{Metric: "minutes", Kind: timeline.Count, Period: "1m"}, nil)
	declared(t, s, collect.Declaration{Metric: "young", Kind: timeline.Count, Period: "1h", StartsAt: &start}, nil)
	r, err := push(t, s, "", ndjson, `{"metric":"minutes","at":"1970-01-01T00:00:00Z","value":1}
{"metric":"minutes","at":"0001-01-01T00:00:00Z","value":1}
{"metric":"young","at":"2026-05-01T00:00:00Z","value":1}
{"metric":"minutes","at":"2026-06-18T11:00:00Z","value":1}
{"metric":"young","at":"2026-06-18T08:00:00Z","value":1}`)
	dbtest.Must(t, err)
	if r.Accepted != 2 || r.Refused != 3 {
		t.Fatalf("%+v", r)
	}
	for i, want := range []string{"times from 2001-06-18 on", "times from 2001-06-18 on", "declared to start"} {
		if p := r.Problems[i]; p.Line != i+1 || !strings.Contains(p.Reason, want) {
			t.Errorf("line %d: %q, want %q", p.Line, p.Reason, want)
		}
	}
	wrong := time.Unix(0, 0)
	if err := s.Admin.Send(t.Context(), "POST", "/metrics/declare", collect.Declaration{Metric: "old", Dataset: "ops.old",
		Measure: "rows", Kind: timeline.Count, Period: "1h", StartsAt: &wrong}, nil); err == nil {
		t.Error("a start in 1970 was taken")
	}
}

// Samples a quarter of a century apart are all kept, and a fit of them takes
// memory by how many they are.
func TestOneSampleLongAgoCostsNoMemory(t *testing.T) {
	s := dbtest.Start(t, now)
	declared(t, s, collect.Declaration{Metric: "minutes", Kind: timeline.Count, Period: "1m"}, seasonal())
	from := now.AddDate(0, 0, -6)
	pushed(t, s, samples("minutes", "", now.AddDate(-24, 0, 0), now.AddDate(-24, 0, 0).Add(time.Minute), time.Minute,
		func(time.Time) float64 { return 7 })+
		samples("minutes", "", from, now, time.Minute, func(at time.Time) float64 { return float64(100 + at.Minute()) }))
	s.Settle(t)
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/monitors/minutes/learn?history=true", struct{}{}, nil))
	s.Settle(t)
	runtime.ReadMemStats(&after)
	if used := (after.TotalAlloc - before.TotalAlloc) >> 20; used > 400 {
		t.Errorf("the fit allocated %d MB", used)
	}
	m, err := s.Parts.Store.Monitor(t.Context(), "minutes")
	dbtest.Must(t, err)
	trained, err := s.Parts.Store.OldestTraining(t.Context(), m.ID)
	dbtest.Must(t, err)
	if !trained.Equal(from) {
		t.Errorf("it was fitted from %s on, want %s: the one sample before says nothing", trained, from)
	}
	if n := count(t, s); n == 0 {
		t.Error("nothing is kept")
	}
}

// A panic in the middle of a fit ends that series alone, is its state, and is over
// when what raised it is.
func TestASeriesThatBreaksOffLeavesTheOthersAlone(t *testing.T) {
	s := dbtest.Start(t, now.Add(-2*time.Hour))
	declared(t, s, collect.Declaration{Metric: "queue", Kind: timeline.Count, Period: "1h"}, seasonal())
	from := now.AddDate(0, 0, -40)
	for _, segment := range []string{"broken", "sound"} {
		pushed(t, s, samples("queue", segment, from, now.Add(-3*time.Hour), time.Hour,
			func(at time.Time) float64 { return float64(200 + 10*at.Hour()) }))
	}
	s.Settle(t)
	ctx := t.Context()
	spoil(t, s, "broken")
	s.Clock.Set(now)
	// A look between the clock and the push finds both missing; what is judged then is
	// not any more, and the broken one is not judged.
	pushed(t, s, samples("queue", "broken", now.Add(-3*time.Hour), now, time.Hour, func(time.Time) float64 { return 0 })+
		samples("queue", "sound", now.Add(-3*time.Hour), now, time.Hour, func(time.Time) float64 { return 0 }))
	s.Settle(t)
	var states []record.SeriesState
	dbtest.Must(t, s.Admin.Get(ctx, "/monitors/queue/states", nil, &states))
	if len(states) != 1 || states[0].Segment != "broken" || states[0].State != record.SeriesFailed ||
		!strings.Contains(states[0].Message, "tried again") {
		t.Fatalf("states: %+v", states)
	}
	list := slices.DeleteFunc(alertsOf(t, s, "queue"), func(a record.Alert) bool { return a.Segment == "broken" && a.Cause == "missing" })
	if len(list) != 1 || list[0].Segment != "sound" {
		for _, a := range list {
			t.Errorf("alert on %s: %s since %s, %s", a.Segment, a.Cause, a.Since, a.Sentence)
		}
	}
	dbtest.Must(t, s.Admin.Send(ctx, "POST", "/monitors/queue/learn", struct{}{}, nil))
	s.Settle(t)
	dbtest.Must(t, s.Admin.Get(ctx, "/monitors/queue/states", nil, &states))
	if len(states) != 0 {
		t.Errorf("after the next fit: %+v", states)
	}
}

// spoil gives a series a stored state that can be read and that judging stumbles
// over.
func spoil(t *testing.T, s *dbtest.Service, segment string) {
	t.Helper()
	// Profiles of nothing, by their length, stand before the rest.
	blob := bytes.NewBuffer([]byte{3, 0, 0, 0, 0, 0, 0})
	state := struct {
		Version int
		Model   *baseline.Model
		Band    *baseline.Band
	}{9, &baseline.Model{PerDay: 24}, &baseline.Band{}}
	dbtest.Must(t, gob.NewEncoder(blob).Encode(state))
	_, err := s.Parts.Store.DB.Exec(`update baseline b set judged = $2, fitted = $2 from series s where s.id = b.series_id and s.segment = $1`, segment, blob.Bytes())
	dbtest.Must(t, err)
}

func TestBadInputIsNeverTheServicesFailure(t *testing.T) {
	s := dbtest.Start(t, now)
	declare(t, s, "queue", timeline.Count)
	long := strings.Repeat("x", 20_000)
	r, err := push(t, s, "", ndjson, strings.Join([]string{
		`{"metric":"queue","segment":"a\u0000b","at":"2026-06-18T08:00:00Z","value":1}`,
		`{"metric":"queue","segment":"` + long + `","at":"2026-06-18T08:00:00Z","value":1}`,
		"{\"metric\":\"queue\",\"segment\":\"\xff\xfe\",\"at\":\"2026-06-18T08:00:00Z\",\"value\":1}",
		`{"metric":"que\u0000ue","at":"2026-06-18T08:00:00Z","value":1}`,
		`{"metric":"queue","segment":"(other)","at":"2026-06-18T08:00:00Z","value":1}`,
		`{"metric":"queue","segment":"n","at":"2026-06-18T08:00:00Z","value":1}{"metric":"queue","segment":"s","at":"2026-06-18T08:00:00Z","value":2}`,
		`{"metric":"queue","segment":"w","at":"2026-06-18T08:00:00Z","value":1} and more`,
		strings.Repeat("[", 5000) + strings.Repeat("]", 5000),
	}, "\n"))
	dbtest.Must(t, err)
	if r.Accepted != 3 || r.Refused != 7 {
		t.Fatalf("two objects on a line are two, and what follows one is refused alone: %+v", r)
	}
	for i, want := range []string{"control characters", "at most 1000 bytes", "not UTF-8", "control characters", "another name",
		"not a sample", "nested"} {
		if !strings.Contains(r.Problems[i].Reason, want) {
			t.Errorf("line %d: %.100q, want %q", r.Problems[i].Line, r.Problems[i].Reason, want)
		}
	}
	csv, err := push(t, s, "", "text/csv",
		"metric,at,value\nqueue,2026-06-18T09:00:00Z,4\nqueue,\"2026-06-18T10:00:00Z,4\nqueue,2026-06-18T10:00:00Z,5\n")
	dbtest.Must(t, err)
	if csv.Accepted != 1 || len(csv.Problems) != 1 || !strings.Contains(csv.Problems[0].Reason, "opened and not closed") ||
		csv.Problems[0].Line != 3 {
		t.Errorf("an unclosed quote: %+v", csv)
	}
	if _, err := push(t, s, "", "application/json",
		`[{"metric":"queue","at":"2026-06-18T09:00:00Z","value":4}] trailing`); err == nil || !strings.Contains(err.Error(),
		"nothing after the array's end") {
		t.Errorf("what follows the array: %v", err)
	}
	for _, one := range []struct{ method, path, body string }{
		{"POST", "/incidents", `{"dataset":"ops.dock_queue","title":"a\u0000b","started_at":"2026-06-01T00:00:00Z"}`},
		{"POST", "/datasets", `{"source":"pushed","name":"a\u0000b"}`},
		{"POST", "/metrics/declare", `{"metric":"` + long + `","dataset":"d","measure":"rows","kind":"count","period":"1h"}`},
	} {
		status, answer, head := post(t, s, "/api/v1"+one.path, map[string]string{"Content-Type": "application/json"},
			strings.NewReader(one.body))
		if status != 422 || head.Get("X-Request-Id") == "" {
			t.Errorf("%s: %d %.200s", one.path, status, answer)
		}
	}
}

func TestAnEmptyCalendarFileEmptiesNothingUnlessItSaysSo(t *testing.T) {
	s := dbtest.Start(t, now)
	file := "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//t//t//EN\r\n%sEND:VCALENDAR\r\n"
	event := "BEGIN:VEVENT\r\nUID:one\r\nDTSTAMP:20260101T000000Z\r\nSUMMARY:Dry dock\r\nDTSTART:20260701T000000Z\r\nDTEND:20260702T000000Z\r\nEND:VEVENT\r\n"
	put := func(query, events string) error {
		return s.Admin.Stream(t.Context(), "PUT", "/calendars/dock"+query, "text/calendar",
			strings.NewReader(fmt.Sprintf(file, events)), nil)
	}
	events := func() int {
		var list []record.PlannedEvent
		dbtest.Must(t, s.Admin.Get(t.Context(), "/planned-events", nil, &list))
		return len(list)
	}
	dbtest.Must(t, put("", event))
	if err := put("", ""); err == nil || !strings.Contains(err.Error(), "to empty it, say so") || events() != 1 {
		t.Errorf("%v, %d events", err, events())
	}
	dbtest.Must(t, put("?empty=true", ""))
	if events() != 0 {
		t.Error("it said so, and is not empty")
	}
}

func TestManyCalendarEventsAndManyOutputsTakeSeconds(t *testing.T) {
	s := dbtest.Start(t, now)
	var events, outputs strings.Builder
	for i := range 50_000 {
		at := time.Date(2026, 7, 1, 0, 0, 0, 0, time.UTC).Add(time.Duration(i) * 10 * time.Minute).Format("20060102T150405Z")
		fmt.Fprintf(&events, "BEGIN:VEVENT\r\nUID:e%d\r\nDTSTAMP:20260101T000000Z\r\nSUMMARY:Dock %d\r\nDTSTART:%s\r\nDURATION:PT5M\r\nEND:VEVENT\r\n", i, i, at)
	}
	for i := range 20_000 {
		fmt.Fprintf(&outputs, `%s{"namespace":"n","name":"t%d","outputFacets":{"outputStatistics":{"rowCount":%d}}}`,
			map[bool]string{true: ",", false: ""}[i > 0], i, i)
	}
	began := time.Now()
	dbtest.Must(t, s.Admin.Stream(t.Context(), "PUT", "/calendars/dock",
		"text/calendar", strings.NewReader("BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//t//t//EN\r\n"+events.String()+
			"END:VCALENDAR\r\n"), nil))
	t.Logf("50,000 events: %s", time.Since(began))
	began = time.Now()
	run := `{"eventType":"COMPLETE","eventTime":"2026-06-18T10:00:00Z","job":{"namespace":"n","name":"wide"},"run":{"runId":"0197a3c2-0000-7000-8000-000000000001"},"outputs":[` + outputs.String() + `]}`
	status, answer, _ := post(t, s, "/api/v1/lineage", map[string]string{"Content-Type": "application/json"}, strings.NewReader(run))
	t.Logf("20,000 outputs: %s", time.Since(began))
	if status != http.StatusCreated {
		t.Fatalf("%d %s", status, answer)
	}
	var n int
	dbtest.Must(t, s.Parts.Store.DB.Get(&n, `select (select count(*) from planned_event) + (select count(*) from run_dataset)`))
	if n != 70_000 {
		t.Errorf("%d of 70,000 are kept", n)
	}
}
