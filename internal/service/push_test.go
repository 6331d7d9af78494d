package service_test

import (
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"tinbell/core/timeline"
	"tinbell/internal/chart"
	"tinbell/internal/client"
	"tinbell/internal/collect"
	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/replays"
	"tinbell/internal/scorecard"
)

var now = time.Date(2026, 6, 18, 12, 0, 0, 0, time.UTC)

func declare(t *testing.T, s *dbtest.Service, name string, kind timeline.Kind) {
	t.Helper()
	d := collect.Declaration{Metric: name, Dataset: "ops.dock_queue", Measure: "queue_length", Kind: kind, Period: "1h",
		Zone: "America/Halifax", Unit: "lorries"}
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/metrics/declare", d, nil))
}

func push(t *testing.T, s *dbtest.Service, query, media, body string) (collect.Receipt, error) {
	t.Helper()
	var r collect.Receipt
	err := s.Admin.Stream(t.Context(), "POST", "/samples"+query, media, strings.NewReader(body), &r)
	return r, err
}

const ndjson = "application/x-ndjson"

func count(t *testing.T, s *dbtest.Service) int {
	t.Helper()
	var n int
	dbtest.Must(t, s.Parts.Store.DB.Get(&n, `select count(*) from sample`))
	return n
}

func TestPushedSamplesAreIdempotentAndBadLinesNamed(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	declare(t, s, "queue", timeline.Count)
	good := `{"metric":"queue","segment":"north","at":"2026-06-18T08:00:00Z","value":4}
{"metric":"queue","segment":"north","at":"2026-06-18T09:00:00Z","value":5}
`
	for round, changed := range []int64{2, 0} {
		r, err := push(t, s, "", ndjson, good)
		dbtest.Must(t, err)
		if r.Accepted != 2 || r.Changed != changed || r.Refused != 0 {
			t.Errorf("round %d: %+v", round, r)
		}
	}
	r, err := push(t, s, "", ndjson, strings.Replace(good, `"value":5`, `"value":7`, 1))
	dbtest.Must(t, err)
	if r.Changed != 1 || count(t, s) != 2 {
		t.Errorf("a corrected value replaces the old one: %+v, %d samples", r, count(t, s))
	}
	bad := []struct{ line, reason string }{
		{`{"metric":"queue","at":"2026-06-18T08:30:00Z","value":1}`, "a period of this metric starts at 2026-06-18T08:00:00Z"},
		{`{"metric":"queue","at":"2026-06-18T12:00:00Z","value":1}`, "known at its end, never before"},
		{`{"metric":"queue","at":"2026-06-18T08:00:00Z","value":1.5}`, "whole number"},
		{`{"metric":"queue","at":"2026-06-18T08:00:00Z","value":-1}`, "whole number"},
		{`{"metric":"queue","at":"2026-06-18T08:00:00Z"}`, "leave the line out"},
		{`{"metric":"nobody","at":"2026-06-18T08:00:00Z","value":1}`, "declare it first"},
		{`{"metric":"queue","at":"yesterday","value":1}`, "RFC 3339"},
		{`{"metric":"queue","colour":"red"}`, "unknown field"},
		{`not json`, "not a sample"},
	}
	var lines []string
	for _, b := range bad {
		lines = append(lines, b.line)
	}
	mixed := strings.Join(lines, "\n") + "\n" + `{"metric":"queue","segment":"south","at":"2026-06-18T08:00:00Z","value":9}`
	if _, err := push(t, s, "?strict=true", ndjson, mixed); err == nil || count(t, s) != 2 {
		t.Errorf("strict must store nothing: %v, %d samples", err, count(t, s))
	}
	r, err = push(t, s, "", ndjson, mixed)
	dbtest.Must(t, err)
	if r.Accepted != 1 || int(r.Refused) != len(bad) || count(t, s) != 3 {
		t.Fatalf("the good line is kept and each bad one named: %+v", r)
	}
	for i, b := range bad {
		if p := r.Problems[i]; p.Line != i+1 || !strings.Contains(p.Reason, b.reason) {
			t.Errorf("line %d: %q, want %q", p.Line, p.Reason, b.reason)
		}
	}
}

func TestWhatCameBeforeABreakIsKept(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	declare(t, s, "queue", timeline.Count)
	var whole bytes.Buffer
	z := gzip.NewWriter(&whole)
	for i := range 20_000 {
		fmt.Fprintf(z, `{"metric":"queue","segment":"gate %d","at":"2026-06-%02dT%02d:00:00Z","value":%d}`+"\n", i%97, 1+i%17,
			i%24, i*i%977)
	}
	dbtest.Must(t, z.Close())
	status, answer, _ := post(t, s, "/api/v1/samples", map[string]string{"Content-Type": ndjson, "Content-Encoding": "gzip"},
		bytes.NewReader(whole.Bytes()[:whole.Len()/2]))
	if status != 422 || !strings.Contains(answer, "what came before was stored") || !strings.Contains(answer, "unexpected EOF") {
		t.Errorf("%d %s", status, answer)
	}
	var n int
	dbtest.Must(t, s.Parts.Store.DB.Get(&n, `select (select count(*) from sample) + (select count(*) from sample_day)`))
	if n == 0 {
		t.Error("nothing of the half that came was stored")
	}
	if status, answer, _ := post(t, s, "/api/v1/samples", map[string]string{"Content-Type": ndjson},
		strings.NewReader(strings.Repeat("x", 2<<20))); status != 422 || !strings.Contains(answer, "lines of at most") {
		t.Errorf("a line of two megabytes: %d %.200s", status, answer)
	}
}

func TestCSVAndGzipAreTaken(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	declare(t, s, "queue", timeline.Count)
	r, err := push(t, s, "", "text/csv",
		"at,metric,segment,value\n2026-06-18T08:00:00Z,queue,north,4\n2026-06-18T09:00:00Z,queue,north,many\n")
	dbtest.Must(t, err)
	if r.Accepted != 1 || r.Refused != 1 || r.Problems[0].Line != 3 {
		t.Errorf("%+v", r)
	}
	if _, err := push(t, s, "", "text/csv", "metric,when\n"); err == nil || !strings.Contains(err.Error(), "when") {
		t.Errorf("an unknown column is named: %v", err)
	}
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	z.Write([]byte(`{"metric":"queue","at":"2026-06-18T07:00:00Z","value":3}`))
	z.Close()
	for _, c := range []struct {
		body   []byte
		status int
	}{{b.Bytes(), 200}, {b.Bytes()[:12], 422}, {[]byte("plain"), 422}} {
		request, err := http.NewRequestWithContext(t.Context(), "POST", s.Address+"/api/v1/samples", bytes.NewReader(c.body))
		dbtest.Must(t, err)
		request.Header = http.Header{"Content-Type": {ndjson}, "Content-Encoding": {"gzip"}, "Authorization": {"Bearer " + s.Token}}
		response, err := http.DefaultClient.Do(request)
		dbtest.Must(t, err)
		response.Body.Close()
		if (response.StatusCode == 200) != (c.status == 200) {
			t.Errorf("gzip of %d bytes: status %d, want %d", len(c.body), response.StatusCode, c.status)
		}
	}
}

// queue is weeks of hourly lorries with a local daily shape.
func queue(weeks int, fault func(at time.Time) float64) string {
	rng := rand.New(rand.NewPCG(3, 4))
	zone, _ := time.LoadLocation("America/Halifax")
	var b strings.Builder
	for at := now.AddDate(0, 0, -7*weeks); at.Add(time.Hour).Compare(now) <= 0; at = at.Add(time.Hour) {
		h := float64(at.In(zone).Hour())
		mu := (20 + 180*math.Exp(-(h-13)*(h-13)/20)) * fault(at)
		fmt.Fprintf(&b, "{\"metric\":\"queue\",\"at\":%q,\"value\":%.0f}\n", at.Format(time.RFC3339),
			math.Max(0, mu+math.Sqrt(mu)*rng.NormFloat64()))
	}
	return b.String()
}

func TestTheWholeJobFromSampleToPrecision(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	ctx := t.Context()
	declare(t, s, "queue", timeline.Count)
	past := now.Add(-20 * 24 * time.Hour)
	wrong := func(at time.Time) float64 {
		if !at.Before(past) && at.Before(past.Add(10*time.Hour)) {
			return 0.3
		}
		return 1
	}
	_, err := push(t, s, "", ndjson, queue(9, wrong))
	dbtest.Must(t, err)
	dbtest.Must(t, s.Admin.Send(ctx, "POST", "/monitors", httpapi.NewMonitor{Name: "queue", Metric: "queue"}, nil))
	s.Settle(t)
	alerts := func(state string) []record.Alert {
		var page httpapi.AlertPage
		dbtest.Must(t, s.Admin.Get(ctx, "/alerts", url.Values{"state": {state}}, &page))
		return page.Alerts
	}
	told := alerts("closed")
	if len(told) != 1 || !told[0].FromHistory || told[0].Direction != "low" {
		t.Fatalf("the past holds one fault, told: %+v", told)
	}

	// A live fault: two thirds of the lorries missing since noon.
	later := now.Add(4 * time.Hour)
	s.Clock.Set(later)
	for h := range 4 {
		_, err := push(t, s, "", ndjson, fmt.Sprintf(`{"metric":"queue","at":%q,"value":12}`,
			now.Add(time.Duration(h)*time.Hour).Format(time.RFC3339)))
		dbtest.Must(t, err)
		s.Settle(t)
	}
	open := alerts("open")
	if len(open) != 1 || open[0].Since.Before(now.Add(-time.Hour)) || !strings.Contains(open[0].Sentence, "fewer lorries") {
		t.Fatalf("want one open alert about fewer lorries, got %+v", open)
	}

	// A correction takes the fault back: the alert closes by itself.
	for h := range 4 {
		at := now.Add(time.Duration(h) * time.Hour)
		_, err := push(t, s, "", ndjson, fmt.Sprintf(`{"metric":"queue","at":%q,"value":%d}`, at.Format(time.RFC3339),
			[]int{88, 120, 165, 190}[h]))
		dbtest.Must(t, err)
		s.Settle(t)
	}
	if still := alerts("open"); len(still) != 0 {
		t.Errorf("corrected samples must close the alert: %+v", still)
	}

	// Samples that stop coming are an alert of their own, and end it when they do.
	silent := later.Add(6 * time.Hour)
	s.Clock.Set(silent)
	await(t, func() bool { missing := alerts("open"); return len(missing) == 1 && missing[0].Cause == "missing" },
		"missing samples are told")
	_, err = push(t, s, "", ndjson, fmt.Sprintf(`{"metric":"queue","at":%q,"value":60}`, silent.Add(-time.Hour).Format(time.RFC3339)))
	dbtest.Must(t, err)
	await(t, func() bool { return len(alerts("open")) == 0 }, "the missing-data alert closes with the next sample")

	// Answers change the score at once.
	score := func() scorecard.Card {
		var c scorecard.Scorecard
		dbtest.Must(t, s.Admin.Get(ctx, "/scorecard", url.Values{"from": {now.AddDate(0, 0, -28).Format(time.RFC3339)}}, &c))
		return c.Overall
	}
	if c := score(); c.Precision.Estimate != nil || c.Unlabelled != 3 {
		t.Errorf("nothing is labelled yet: %+v", c)
	}
	dbtest.Must(t, s.Admin.Send(ctx, "POST", "/labels", httpapi.NewLabel{Alerts: []int64{told[0].ID}, Verdict: "fault",
		Note: "lorries turned away"}, nil))
	dbtest.Must(t, s.Admin.Send(ctx, "POST", "/labels", httpapi.NewLabel{Alerts: []int64{open[0].ID}, Verdict: "noise"}, nil))
	if c := score(); c.Precision.Estimate == nil || *c.Precision.Estimate != 0.5 || c.Faults != 1 || c.Noise != 1 {
		t.Errorf("one fault of two labelled: %+v", c)
	}
	end := past.Add(10 * time.Hour)
	dbtest.Must(t, s.Admin.Send(ctx, "POST", "/incidents", httpapi.NewIncident{Dataset: "ops.dock_queue",
		Title: "Weighbridge closed", StartedAt: past, EndedAt: &end}, nil))
	if c := score(); c.Recall.K != 1 || c.Recall.N != 1 || c.DelaySeconds.Estimate == nil || *c.DelaySeconds.Estimate > 5*3600 {
		t.Errorf("the incident was found: %+v", c)
	}

	// A chart and an explanation of the same series.
	var drawn chart.Chart
	dbtest.Must(t, s.Admin.Get(ctx, fmt.Sprintf("/series/%d/chart", told[0].SeriesID),
		url.Values{"from": {past.AddDate(0, 0, -2).Format(time.RFC3339)}, "to": {past.AddDate(0, 0, 2).Format(time.RFC3339)}}, &drawn))
	if len(drawn.At) < 90 || drawn.Expected[10] == nil || len(drawn.Alerts) != 1 || len(drawn.Incidents) != 1 {
		t.Errorf("chart: %d periods, %d alerts, %d incidents, %q", len(drawn.At), len(drawn.Alerts), len(drawn.Incidents), drawn.Message)
	}
	var why chart.Explanation
	dbtest.Must(t, s.Admin.Get(ctx, fmt.Sprintf("/series/%d/explain", told[0].SeriesID),
		url.Values{"at": {now.Add(-time.Hour).Format(time.RFC3339)}}, &why))
	sum := 0.0
	for _, p := range why.Parts {
		sum += p.Amount
	}
	if math.Abs(sum-why.Expected) > 1e-6 || len(why.Excluded) == 0 {
		t.Errorf("parts add to %g of %g, %d stretches left out", sum, why.Expected, len(why.Excluded))
	}

	// The backtest over the same past agrees with what was told.
	var b replays.Backtest
	dbtest.Must(t, s.Admin.Send(ctx, "POST", "/backtests", httpapi.BacktestOrder{From: now.AddDate(0, 0, -28), To: now}, &b))
	if len(b.Alerts) != 1 || b.Alerts[0].Outcome != "hit" || b.Overall.Recall.K != 1 {
		t.Errorf("backtest: %+v", b.Alerts)
	}
}

func TestBadRequestsSayWhatIsAllowed(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	declare(t, s, "queue", timeline.Count)
	strange := httpapi.NewMonitor{Name: "m", Metric: "queue", Settings: &record.Settings{Method: "seasonal", Coverage: 0.99,
		Direction: "both", Persist: 3, Of: 2, WarnSeconds: 1e7, CriticalSeconds: 1e8}}
	for _, c := range []struct {
		method, path string
		in           any
		status       int
		says         string
	}{
		{"POST", "/metrics/declare", collect.Declaration{Metric: "x", Dataset: "d", Measure: "m", Kind: "count", Period: "7h"},
			422, "divide a day"},
		{"POST", "/metrics/declare", collect.Declaration{Metric: "x", Dataset: "d", Measure: "m", Kind: "count", Period: "1h",
			Zone: "Mars/Base"}, 422, "tz database"},
		{"POST", "/metrics/declare", collect.Declaration{Metric: "x", Dataset: "d", Measure: "m", Kind: "mood", Period: "1h"}, 422, "kind"},
		{"POST", "/metrics/declare", collect.Declaration{Metric: "queue", Dataset: "d", Measure: "m", Kind: "count",
			Period: "1h"}, 409, "exists already"},
		{"POST", "/monitors", httpapi.NewMonitor{Name: "m", Metric: "nothing"}, 404, `no metric named "nothing"`},
		{"POST", "/monitors", strange, 422, "m must be at least 1 and at most n"},
		{"POST", "/monitors", map[string]any{"name": "m", "metric": "queue", "colour": "red"}, 422, "unexpected property"},
		{"POST", "/labels", httpapi.NewLabel{Alerts: []int64{404}, Verdict: "fault"}, 404, "no alert"},
		{"POST", "/labels", map[string]any{"alerts": []int64{1}, "verdict": "odd"}, 422, "verdict"},
		{"POST", "/incidents", httpapi.NewIncident{Dataset: "ops.dock_queue", Title: "t", StartedAt: now,
			EndedAt: ptr(now.Add(-time.Hour))}, 422, "after started_at"},
		{"POST", "/incidents", httpapi.NewIncident{Dataset: "nowhere", Title: "t", StartedAt: now}, 404, "no dataset"},
		{"POST", "/sources", httpapi.NewSource{Name: "w", Address: "http://elsewhere"}, 422, "postgres://"},
		{"POST", "/backtests", httpapi.BacktestOrder{From: now.Add(time.Hour)}, 422, "before the end"},
		{"GET", "/nothing/here", nil, 404, "no such address"},
	} {
		err := s.Admin.Send(t.Context(), c.method, c.path, c.in, nil)
		var refused *client.Refused
		if !errors.As(err, &refused) || refused.Status != c.status || !strings.Contains(refused.Error(), c.says) {
			t.Errorf("%s %s: %v; want %d with %q", c.method, c.path, err, c.status, c.says)
		}
	}
}

func ptr[T any](v T) *T { return &v }

// A strict push that PostgreSQL ends because another transaction and it wait for each
// other is run again, though what was sent has been read; the sender hears nothing of it.
func TestAStrictPushThatIsEndedForAnotherIsRunAgain(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	declared(t, s, collect.Declaration{Metric: "queue", Kind: timeline.Count, Period: "1h"}, seasonal())
	pushed(t, s, samples("queue", "a", now.Add(-5*time.Hour), now.Add(-3*time.Hour), time.Hour, func(time.Time) float64 { return 7 }))
	s.Settle(t)
	ctx := t.Context()
	conn, err := s.Parts.Store.Pool.Acquire(ctx)
	dbtest.Must(t, err)
	defer conn.Release()
	waiting := func() (n int) {
		dbtest.Must(t, s.Parts.Store.Pool.QueryRow(ctx,
			`select count(*) from pg_locks where not granted and relation = 'river_job'::regclass`).Scan(&n))
		return n
	}
	// collide has a push and another transaction wait for each other, and tells whether the push
	// was ended for it: PostgreSQL looks once, a second after somebody began to wait, and on a
	// busy machine the other may come too late for that.
	collide := func(at time.Time) (ended bool) {
		other, err := conn.Begin(ctx)
		dbtest.Must(t, err)
		defer other.Rollback(ctx)
		_, err = other.Exec(ctx, `lock table river_job in share row exclusive mode`)
		dbtest.Must(t, err)
		done := make(chan error, 1)
		go func() {
			_, err := push(t, s, "?strict=true", ndjson, fmt.Sprintf(`{"metric":"queue","segment":"a","at":%q,"value":9}`,
				at.Format(time.RFC3339)))
			done <- err
		}()
		for deadline := time.Now().Add(time.Minute); waiting() == 0; time.Sleep(20 * time.Millisecond) {
			if time.Now().After(deadline) {
				t.Fatal("the push does not wait")
			}
		}
		_, err = other.Exec(ctx, `insert into sample (series_id, at, value) select id, $1, 1 from series where segment = 'a'`, at)
		var refused *pgconn.PgError
		if late := errors.As(err, &refused) && refused.Code == "40P01"; !late {
			dbtest.Must(t, err)
			ended = true
		}
		dbtest.Must(t, other.Rollback(ctx))
		dbtest.Must(t, <-done)
		return ended
	}
	at := now.Add(-2 * time.Hour)
	for tries := 0; !collide(at); tries++ {
		if at = at.Add(-24 * time.Hour); tries == 10 {
			t.Fatal("the push was never the one that was ended")
		}
	}
	var value float64
	dbtest.Must(t, s.Parts.Store.Pool.QueryRow(ctx, `select value from sample where at = $1`, at).Scan(&value))
	if value != 9 {
		t.Errorf("stored is %g", value)
	}
}
