package service_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"tinbell/core/timeline"
	"tinbell/internal/collect"
	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
)

// pool is how many connections the service has at least.
const pool = 20

// Twice as many writes of every kind at once as the pool has connections: all come
// to an end, and the service says meanwhile that it is ready.
func TestABurstOfWritesEndsAndTheServiceStaysReady(t *testing.T) {
	s := dbtest.Start(t, now)
	declared(t, s, collect.Declaration{Metric: "queue", Kind: timeline.Count, Period: "1h"}, fixed(10))
	for i := range 5 {
		pushed(t, s, samples("queue", fmt.Sprint("s", i), now.AddDate(0, 0, -3), now, time.Hour,
			func(time.Time) float64 { return float64(i) }))
	}
	s.Settle(t)
	alerts := alertsOf(t, s, "queue")
	if len(alerts) < 2 {
		t.Fatalf("%d alerts", len(alerts))
	}
	type write struct {
		method, path, media string
		body                func(i int) any
	}
	stamp := now.Format(time.RFC3339)
	writes := []write{
		{"POST", "/channels", "", func(i int) any {
			return httpapi.NewChannel{Name: fmt.Sprint("c", i), Kind: record.ChannelWebhook,
				Settings: record.ChannelSettings{URL: "http://127.0.0.1:9/x"}}
		}},
		{"POST", "/channels", "", func(i int) any {
			return httpapi.NewChannel{Name: fmt.Sprint("d", i%7), Kind: record.ChannelWebhook,
				Settings: record.ChannelSettings{URL: "http://127.0.0.1:9/x"}}
		}},
		{"POST", "/incidents", "", func(i int) any {
			return httpapi.NewIncident{Dataset: "ops.queue", Title: fmt.Sprint("fault ", i), StartedAt: now.Add(-time.Hour)}
		}},
		{"POST", "/metrics/declare", "", func(i int) any {
			return collect.Declaration{Metric: fmt.Sprint("m", i), Dataset: fmt.Sprint("ops.d", i%5), Measure: "rows",
				Kind: timeline.Count, Period: "1h"}
		}},
		{"POST", "/monitors", "", func(i int) any {
			return httpapi.NewMonitor{Name: fmt.Sprint("v", i), Metric: "queue", Settings: fixed(float64(i + 1))}
		}},
		{"POST", "/planned-events", "", func(i int) any {
			return map[string]any{"summary": fmt.Sprint("event ", i), "from": stamp,
				"to": now.Add(time.Hour).Format(time.RFC3339), "dataset": "ops.queue"}
		}},
		{"POST", "/labels", "", func(i int) any {
			return map[string]any{"alerts": []int64{alerts[i%len(alerts)].ID, alerts[(i+1)%len(alerts)].ID},
				"verdict": []string{"fault", "noise"}[i%2]}
		}},
		{"POST", "/samples", ndjson, func(i int) any {
			return fmt.Sprintf(`{"metric":"queue","segment":"s%d","at":"2026-06-18T08:00:00Z","value":%d}`, i%9, i)
		}},
		{"POST", "/samples?strict=true", ndjson, func(i int) any {
			return fmt.Sprintf(`{"declare":{"metric":"strict%d","dataset":"ops.strict","measure":"rows","kind":"count","period":"1h"}}
{"metric":"strict%d","segment":"s%d","at":"2026-06-18T08:00:00Z","value":%d}`, i%3, i%3, i%9, i)
		}},
		{"POST", "/lineage", "application/json", func(i int) any {
			return fmt.Sprintf(`{"eventType":"COMPLETE","eventTime":"%s","job":{"namespace":"n","name":"j%d"},"run":{"runId":"0197a3c2-0000-7000-8000-%012d"},"outputs":[{"namespace":"pushed","name":"ops.queue"}]}`, stamp, i%4, i)
		}},
	}
	var wait sync.WaitGroup
	var slowest atomic.Int64
	over := make(chan struct{})
	ready := make(chan struct{})
	go func() {
		defer close(ready)
		for {
			began := time.Now()
			answer, err := http.Get(s.Address + "/readyz")
			if err == nil {
				answer.Body.Close()
			}
			if err != nil || answer.StatusCode != 200 {
				t.Errorf("/readyz after %s: %v", time.Since(began), err)
			}
			slowest.Store(max(slowest.Load(), int64(time.Since(began))))
			select {
			case <-over:
				return
			case <-time.After(20 * time.Millisecond):
			}
		}
	}()
	var first sync.Mutex
	secrets := map[string]int{}
	began := time.Now()
	for _, w := range writes {
		for i := range 2 * pool {
			wait.Go(func() {
				path := "/api/v1" + strings.Replace(w.path, "%d", fmt.Sprint(i), 1)
				media, body := w.media, w.body(i)
				text, isText := body.(string)
				if !isText {
					media = "application/json"
					raw, _ := json.Marshal(body)
					text = string(raw)
				}
				status, answer, _ := request(t, s, w.method, path, map[string]string{"Content-Type": media}, strings.NewReader(text))
				if status >= 500 || status == 0 {
					t.Errorf("%s %s: %d %.300s", w.method, path, status, answer)
				} else if status >= 400 && status != http.StatusTooManyRequests {
					t.Errorf("%s %s: %d %.300s", w.method, path, status, answer)
				}
				var set httpapi.SetChannel
				if w.path == "/channels" && json.Unmarshal([]byte(answer), &set) == nil && set.Secret != "" {
					first.Lock()
					secrets[set.Name]++
					first.Unlock()
				}
			})
		}
	}
	wait.Wait()
	took := time.Since(began)
	close(over)
	<-ready
	// A second, or on a machine that itself is slow a fifth of what the burst took: who waits
	// for the pool waits for all of it.
	if longest := time.Duration(slowest.Load()); longest > max(time.Second, took/5) {
		t.Errorf("/readyz took %s in a burst of %s", longest, took)
	}
	var ended int
	dbtest.Must(t, s.Parts.Store.DB.GetContext(t.Context(), &ended,
		`select deadlocks from pg_stat_database where datname = current_database()`))
	t.Logf("%d writes in %s, %d of their transactions were begun again, /readyz within %s", len(writes)*2*pool, took, ended,
		time.Duration(slowest.Load()))
	if ended > 8 { // what many take hold of is taken in one order
		t.Errorf("%d transactions blocked each other", ended)
	}
	s.Settle(t)
	if len(secrets) != 2*pool+7 {
		t.Errorf("%d channels got a secret, want %d", len(secrets), 2*pool+7)
	}
	for name, n := range secrets {
		if n != 1 {
			t.Errorf("channel %s was set at once by several and got %d secrets: all but the first are lost to who was shown them", name, n)
		}
	}
	var n int
	dbtest.Must(t, s.Parts.Store.DB.Get(&n, `select count(distinct reference) from incident`))
	if n != 2*pool {
		t.Errorf("%d incidents added by hand are %d", 2*pool, n)
	}
}

func request(t *testing.T, s *dbtest.Service, method, path string, headers map[string]string, body io.Reader) (int, string, http.Header) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, method, s.Address+path, body)
	if err != nil {
		return 0, err.Error(), nil
	}
	r.Header.Set("Authorization", "Bearer "+s.Token)
	for k, v := range headers {
		r.Header.Set(k, v)
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return 0, err.Error(), nil
	}
	defer answer.Body.Close()
	text, _ := io.ReadAll(answer.Body)
	return answer.StatusCode, string(text), answer.Header
}

func TestIncidentsByHandNeverTakeAnImportedNumber(t *testing.T) {
	s := dbtest.Start(t, now)
	declare(t, s, "queue", timeline.Count)
	catalogue := "reference,dataset,title,started_at,ended_at\n"
	for i := range 8 {
		catalogue += fmt.Sprintf("I-%d,ops.dock_queue,imported %d,2026-05-0%dT00:00:00Z,2026-05-0%dT06:00:00Z\n", i+1, i, i+1, i+1)
	}
	dbtest.Must(t, s.Admin.Stream(t.Context(), "POST", "/incidents/import", "text/csv", strings.NewReader(catalogue), nil))
	var wait sync.WaitGroup
	for i := range 6 {
		wait.Go(func() {
			var v record.Incident
			if err := s.Admin.Send(t.Context(), "POST", "/incidents", httpapi.NewIncident{Dataset: "ops.dock_queue",
				Title: fmt.Sprint("by hand ", i), StartedAt: now}, &v); err != nil {
				t.Error(err)
			}
		})
	}
	wait.Wait()
	var list []record.Incident
	dbtest.Must(t, s.Admin.Get(t.Context(), "/incidents", nil, &list))
	imported := 0
	for _, v := range list {
		if strings.HasPrefix(v.Title, "imported") {
			imported++
		}
	}
	if len(list) != 14 || imported != 8 {
		t.Errorf("%d incidents, %d of the 8 imported", len(list), imported)
	}
	if err := s.Admin.Send(t.Context(), "POST", "/incidents", httpapi.NewIncident{Reference: "I-3", Dataset: "ops.dock_queue",
		Title: "again", StartedAt: now}, nil); err == nil || !strings.Contains(err.Error(), "exists already") {
		t.Errorf("a reference that is taken: %v", err)
	}
}

func TestATablesNameUnderAnotherSourceIsAConflict(t *testing.T) {
	s := dbtest.Start(t, now)
	warehouse(t, s)
	declared(t, s, collect.Declaration{Metric: "queue", Dataset: "ops.shared", Kind: timeline.Count, Period: "1h"}, nil)
	var sources []record.Source
	dbtest.Must(t, s.Admin.Get(t.Context(), "/sources", nil, &sources))
	for _, one := range sources {
		if one.Name == "pushed" {
			continue
		}
		err := s.Admin.Send(t.Context(), "POST", "/datasets", httpapi.NewDataset{Source: one.Name, Name: "ops.shared"}, nil)
		if err == nil || !strings.Contains(err.Error(), "pushed") {
			t.Errorf("under %s: %v", one.Name, err)
		}
	}
}

func TestRacingDeclarationsAgree(t *testing.T) {
	s := dbtest.Start(t, now)
	var wait sync.WaitGroup
	for i := range 30 {
		wait.Go(func() {
			r, err := push(t, s, "", ndjson,
				fmt.Sprintf(`{"declare":{"metric":"m%d","dataset":"ops.race","measure":"rows","kind":"count","period":"1h"}}
{"metric":"m%d","segment":"s%d","at":"2026-06-18T08:00:00Z","value":%d}`, i%3, i%3, i, i))
			if err != nil || r.Accepted != 1 || r.Refused != 0 {
				t.Errorf("%d: %+v, %v", i, r, err)
			}
		})
	}
	wait.Wait()
	if n := count(t, s); n != 30 {
		t.Errorf("%d of 30 samples", n)
	}
}

// Bodies that are small on the way and huge in memory are refused, and six of them
// side by side leave the service as it was.
func TestBombsAreRefusedWithinBounds(t *testing.T) {
	s := dbtest.Start(t, now)
	declare(t, s, "queue", timeline.Count)
	gz := func(prefix, repeat string, n int) []byte {
		var b bytes.Buffer
		z := gzip.NewWriter(&b)
		io.WriteString(z, prefix)
		block := strings.Repeat(repeat, 1<<20/len(repeat))
		for range n {
			io.WriteString(z, block)
		}
		z.Close()
		return b.Bytes()
	}
	bombs := []struct {
		path, media string
		body        []byte
	}{
		{"/v1/metrics", "application/x-protobuf", gz("", "\x0a\x00", 64)},            // sixty million empty resources
		{"/v1/metrics", "application/json", gz(`{"resourceMetrics":[`, `{},`, 64)},   // the same in JSON
		{"/api/v1/samples", "text/csv", gz("metric,at,value\n\"", "x", 400)},         // one value of 400 MB
		{"/api/v1/samples", "application/json", gz(`[{"metric":"`, "x", 400)},        // the same in JSON
		{"/api/v1/samples", ndjson, gz("", "[", 64)},                                 // nested for ever
		{"/api/v1/lineage", "application/json", gz(`{"outputs":[`, `{"a":{}},`, 14)}, // millions of values
	}
	runtime.GC()
	var base runtime.MemStats
	runtime.ReadMemStats(&base)
	var peak atomic.Uint64
	over := make(chan struct{})
	sampled := make(chan struct{})
	go func() {
		defer close(sampled)
		for {
			var m runtime.MemStats
			runtime.ReadMemStats(&m)
			peak.Store(max(peak.Load(), m.HeapInuse+m.StackInuse))
			select {
			case <-over:
				return
			case <-time.After(10 * time.Millisecond):
			}
		}
	}()
	var wait sync.WaitGroup
	for range 2 {
		for _, b := range bombs {
			wait.Go(func() {
				status, answer, _ := request(t, s, "POST", b.path, map[string]string{"Content-Type": b.media,
					"Content-Encoding": "gzip"}, bytes.NewReader(b.body))
				if status < 400 || status >= 500 {
					t.Errorf("%s as %s, %d kB: %d %.200s", b.path, b.media, len(b.body)>>10, status, answer)
				}
			})
		}
	}
	wait.Wait()
	close(over)
	<-sampled
	if used := (int64(peak.Load()) - int64(base.HeapInuse)) >> 20; used > 400 {
		t.Errorf("the bombs took %d MB", used)
	} else {
		t.Logf("the bombs took %d MB at most", used)
	}
	pushed(t, s, `{"metric":"queue","at":"2026-06-18T08:00:00Z","value":4}`)
}

func TestSendersWhoSendNothingKeepNobodyOut(t *testing.T) {
	s := dbtest.Start(t, now)
	declare(t, s, "queue", timeline.Count)
	address := strings.TrimPrefix(s.Address, "http://")
	open := func(token string) net.Conn {
		conn, err := net.Dial("tcp", address)
		dbtest.Must(t, err)
		t.Cleanup(func() { conn.Close() })
		fmt.Fprintf(conn, "POST /api/v1/samples HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\nContent-Type: %s\r\nTransfer-Encoding: chunked\r\n\r\n", token, ndjson)
		return conn
	}
	push := func() time.Duration {
		began := time.Now()
		pushed(t, s, `{"metric":"queue","at":"2026-06-18T08:00:00Z","value":4}`)
		return time.Since(began)
	}
	alone := push()
	for range 10 {
		open(s.Token)
	}
	if took := push(); took > max(2*time.Second, 10*alone) {
		t.Errorf("a push beside ten that stand still took %s, alone %s", took, alone)
	}
	// Who may not push is told before anything of the body came.
	stranger := open("nobody")
	stranger.SetReadDeadline(time.Now().Add(time.Minute))
	head := make([]byte, 12)
	if _, err := io.ReadFull(stranger, head); err != nil || string(head) != "HTTP/1.1 401" {
		t.Errorf("a stranger is answered %q, %v", head, err)
	}
}

func TestAFileThatCannotBeKeptIsRefusedAlone(t *testing.T) {
	s := dbtest.Start(t, time.Now().UTC())
	folder := dbtest.Folder(t)
	old := time.Now().Add(-time.Hour)
	for name, content := range map[string]string{
		"north\xff.csv": "a,b\n1,2\n", "south.csv": "a,b\n1,2\n2,3\n", "nul.ndjson": `{"a\u0000b":1}` + "\n",
		"quote.csv": "a,b\n\"1,2\n", "long.csv": "a,b\n\"" + strings.Repeat("x", 5<<20) + "\",2\n",
		"foot.parquet": "PAR1" + strings.Repeat("\xff", 40) + "PAR1",
		"east.ndjson":  `{"a":1}` + "\n",
	} {
		path := filepath.Join(folder, name)
		dbtest.Must(t, os.WriteFile(path, []byte(content), 0o644))
		dbtest.Must(t, os.Chtimes(path, old, old))
	}
	ctx := t.Context()
	dbtest.Must(t, s.Admin.Send(ctx, "POST", "/sources", map[string]any{"name": "drop", "address": folder}, nil))
	dbtest.Must(t, s.Admin.Send(ctx, "POST", "/datasets", httpapi.NewDataset{Source: "drop", Name: "files", Pattern: "{port}"}, nil))
	dbtest.Must(t, s.Admin.Send(ctx, "POST", "/metrics",
		httpapi.NewMetric{Dataset: "files", Name: "file-rows", Measure: "rows", PeriodSeconds: 3600, EverySeconds: 5}, nil))
	var list []record.Delivery
	await(t, func() bool {
		dbtest.Must(t, s.Admin.Get(ctx, "/datasets/files/deliveries", nil, &list))
		return len(list) == 7
	}, "all seven files are looked at")
	states := map[string]string{}
	for _, d := range list {
		states[d.Path] = string(d.State)
		if d.State == "broken" && d.Message == "" {
			t.Errorf("%s is broken and does not say why", d.Path)
		}
	}
	for name, want := range map[string]string{"north\ufffd.csv": "broken", "nul.ndjson": "broken", "quote.csv": "broken",
		"long.csv": "broken", "foot.parquet": "broken", "south.csv": "taken", "east.ndjson": "taken"} {
		if states[name] != want {
			t.Errorf("%s is %q, want %q: %v", name, states[name], want, states)
		}
	}
}
