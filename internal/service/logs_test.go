package service_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"tinbell/internal/config"
	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/logs"
	"tinbell/internal/record"
)

// told pushes lines and gives the receipt.
func told(t *testing.T, s *dbtest.Service, query, media, lines string) logs.LogReceipt {
	t.Helper()
	status, answer, _ := request(t, s, "POST", "/api/v1/logs?"+query, map[string]string{"Content-Type": media}, strings.NewReader(lines))
	if status != http.StatusOK {
		t.Fatalf("push: %d %s", status, answer)
	}
	var r logs.LogReceipt
	dbtest.Must(t, json.Unmarshal([]byte(answer), &r))
	return r
}

func sentences(t *testing.T, s *dbtest.Service, log string, from, to time.Time) logs.Sayings {
	t.Helper()
	var found logs.Sayings
	dbtest.Must(t, s.Admin.Get(t.Context(), "/logs/"+log+"/templates", url.Values{"from": {from.Format(time.RFC3339)},
		"to": {to.Format(time.RFC3339)}}, &found))
	return found
}

// loader writes an hour of a loader's lines, n of each kind.
func loader(from time.Time, n int) string {
	var b strings.Builder
	for i := range n {
		at := from.Add(time.Duration(i) * time.Hour / time.Duration(n))
		fmt.Fprintf(&b, "%s INFO loaded %d rows from /landing/gates-%d.csv in %d ms\n", at.Format(time.RFC3339), 100+i*7, i, 20+i%9)
		fmt.Fprintf(&b, "%s INFO connection to 10.0.0.%d:5432 opened\n", at.Format(time.RFC3339), i%200)
		fmt.Fprintf(&b, "%s WARN slow answer of %d ms\n", at.Format(time.RFC3339), 900+i)
	}
	return b.String()
}

func TestAFileThatGrowsIsCountedOnceAndItsSentencesKeepTheirNumbers(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	early, late := loader(now.Add(-2*time.Hour), 60), loader(now.Add(-time.Hour), 60)
	if r := told(t, s, "log=gates&dataset=raw.gates&source=gates.log", "text/plain", early); r.Lines != 180 || r.New != 3 || r.Again != 0 {
		t.Fatalf("first: %+v", r)
	}
	before := sentences(t, s, "gates", now.Add(-2*time.Hour), now)
	// The file is sent whole again, longer, to a process that knows nothing of it yet.
	other := logs.New(s.Parts.Store, s.Parts.Collector, func() time.Time { return now })
	r, err := other.Push(t.Context(), logs.Order{Log: "gates", Source: "gates.log"}, strings.NewReader(early+late))
	if err != nil || r.Lines != 180 || r.Again != 180 || r.New != 0 {
		t.Errorf("grown: %+v %v", r, err)
	}
	// And its end alone, by the number of its first line.
	if r := told(t, s, "log=gates&source=gates.log&first_line=359", "text/plain",
		"x INFO connection to 10.0.0.9:5432 opened\ny WARN slow answer of 5 ms\nz WARN slow answer of 7 ms\n"); r.Lines != 1 ||
		r.Again != 2 {
		t.Errorf("its end: %+v", r)
	}
	after := sentences(t, s, "gates", now.Add(-2*time.Hour), now)
	if len(after.Templates) != len(before.Templates) || after.Lines < 360 {
		t.Fatalf("%d sentences of %d lines, before %d", len(after.Templates), after.Lines, len(before.Templates))
	}
	number := map[string]int{}
	for _, v := range before.Templates {
		number[v.Text] = v.Number
	}
	for _, v := range after.Templates {
		if number[v.Text] != v.Number {
			t.Errorf("%q had the number %d, now %d", v.Text, number[v.Text], v.Number)
		}
	}
	if after.Templates[0].Severity != "INFO" || !strings.Contains(after.Templates[0].Text, "<") {
		t.Errorf("most frequent: %+v", after.Templates[0])
	}
}

func TestSeveralProcessesCountOneLogTogether(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	told(t, s, "log=gates&dataset=raw.gates", "text/plain", "start\n")
	var wait sync.WaitGroup
	for p := range 4 {
		keeper := logs.New(s.Parts.Store, s.Parts.Collector, func() time.Time { return now })
		for i := range 5 {
			wait.Go(func() {
				text := loader(now.Add(-time.Hour), 20) + fmt.Sprintf("INFO worker of process %s began turn %d\n",
					[]string{"one", "two", "three", "four"}[p], i)
				if _, err := keeper.Push(t.Context(), logs.Order{Log: "gates"}, strings.NewReader(text)); err != nil {
					t.Error(err)
				}
			})
		}
	}
	wait.Wait()
	found := sentences(t, s, "gates", now.Add(-2*time.Hour), now.Add(time.Hour))
	if found.Lines != 1+20*61 || found.Log.Lines != found.Lines {
		t.Errorf("%d lines, and %d by its own count; 1,221 were sent", found.Lines, found.Log.Lines)
	}
	if len(found.Templates) != 8 { // start, three of the loader, four workers
		for _, v := range found.Templates {
			t.Log(v.Number, v.Count, v.Text)
		}
		t.Errorf("%d sentences, want 8", len(found.Templates))
	}
}

func TestLinesOfALogBecomeSamplesBySeverityAndALateOneCorrectsThem(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	told(t, s, "log=gates&dataset=raw.gates", "text/plain", loader(now.Add(-time.Hour), 60))
	count := func() map[string]float64 {
		t.Helper()
		dbtest.Must(t, s.Parts.Logs.Due(t.Context()))
		var series []record.Series
		dbtest.Must(t, s.Admin.Get(t.Context(), "/metrics/log-gates/series", nil, &series))
		sums := map[string]float64{}
		for _, v := range series {
			samples, err := s.Parts.Store.Samples(t.Context(), []int64{v.ID}, now.Add(-2*time.Hour), now)
			dbtest.Must(t, err)
			for _, x := range samples[v.ID] {
				sums[v.Segment] += x.Value
			}
			if n := len(samples[v.ID]); n < 11 {
				t.Errorf("%s has %d samples: a period without a line is a zero", v.Segment, n)
			}
		}
		return sums
	}
	s.Clock.Set(now.Add(2 * time.Minute))
	if sums := count(); sums["INFO"] != 120 || sums["WARN"] != 60 {
		t.Errorf("samples: %v", sums)
	}
	told(t, s, "log=gates", "application/x-ndjson", fmt.Sprintf(`{"body":"disk full","severity":"error","at":%q}`,
		now.Add(-30*time.Minute).Format(time.RFC3339)))
	if sums := count(); sums["INFO"] != 120 || sums["ERROR"] != 1 {
		t.Errorf("after a late line: %v", sums)
	}
}

func TestBadLinesAreNamedAndTheRestIsCounted(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	r := told(t, s, "log=gates&dataset=raw.gates", "application/x-ndjson", `{"body":"all is well","level":"info"}
not json
{"level":"info"}
{"msg":"nested","context":{"a":[1,{"b":2}]},"ts":`+fmt.Sprint(now.Unix())+`}
{"message":{"event":"nested","n":3}}
{"body":"from the future","at":"2031-01-01T00:00:00Z"}
`)
	if r.Lines != 3 || r.Refused != 3 || len(r.Problems) != 3 || r.Problems[0].Line != 2 ||
		!strings.Contains(r.Problems[2].Reason, "ahead") {
		t.Errorf("receipt: %+v", r)
	}
	long := append(bytes.Repeat([]byte("word "), 2<<20), '\n')
	binary := append([]byte{0, 0xff, 0xfe, 1, 2, 0, '\n'},
		"Traceback (most recent call last):\n  File \"x.py\", line 1\n\tat y(Z.java:1)\n"...)
	if r := told(t, s, "log=gates", "text/plain", "ordinary\n"+string(long)+string(binary)); r.Cut != 1 || r.Lines != 3 || r.Traces != 3 {
		t.Errorf("long and binary lines: %+v", r)
	}
	for _, c := range []struct{ query, media, says string }{
		{"log=new", "text/plain", "say which dataset"},
		{"log=gates&dataset=other", "text/plain", "is of raw.gates already"},
		{"log=Gates+!&dataset=raw.gates", "text/plain", "small letters"},
		{"log=gates", "text/html", "text/plain or application/x-ndjson"},
	} {
		status, answer, _ := request(t, s, "POST", "/api/v1/logs?"+c.query, map[string]string{"Content-Type": c.media},
			strings.NewReader("a line\n"))
		if status < 400 || status >= 500 || !strings.Contains(answer, c.says) {
			t.Errorf("%s: %d %s", c.query, status, answer)
		}
	}
}

func TestSecretsAreMaskedAndKeptLinesGoWhenNoneAreWanted(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	told(t, s, "log=gates&dataset=raw.gates", "text/plain",
		"INFO mail to anna.berg@harbour.example failed, password=hunter22 card 4111 1111 1111 1111\n")
	one := func() logs.One {
		t.Helper()
		var one logs.One
		dbtest.Must(t, s.Admin.Get(t.Context(), "/logs/gates/templates/1", nil, &one))
		return one
	}
	first := one()
	if len(first.Samples) != 1 {
		t.Fatalf("kept: %+v", first.Samples)
	}
	for _, secret := range []string{"anna", "hunter22", "4111"} {
		if strings.Contains(first.Samples[0].Line+first.Text, secret) {
			t.Errorf("%s was kept: %s / %s", secret, first.Samples[0].Line, first.Text)
		}
	}
	dbtest.Must(t, s.Admin.Send(t.Context(), "PATCH", "/logs/gates", map[string]int{"keep_samples": 0}, nil))
	told(t, s, "log=gates", "text/plain", "INFO another sentence altogether\n")
	if left := one(); len(left.Samples) != 0 {
		t.Errorf("still kept: %+v", left.Samples)
	}
	dbtest.Must(t, s.Admin.Send(t.Context(), "DELETE", "/logs/gates", nil, nil))
	if err := s.Admin.Get(t.Context(), "/logs/gates/templates/1", nil, nil); status(err) != 404 {
		t.Errorf("after it is removed: %v", err)
	}
}

func TestANewSentenceStandsFirstInAComparison(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	told(t, s, "log=gates&dataset=raw.gates", "text/plain", loader(now.Add(-25*time.Hour), 60))
	today := strings.ReplaceAll(loader(now.Add(-time.Hour), 61), "slow answer", "quick answer")
	told(t, s, "log=gates", "text/plain", today+strings.Repeat(now.Add(-time.Minute).Format(time.RFC3339)+
		" ERROR disk of /landing is full\n", 9))
	var c logs.LogComparison
	dbtest.Must(t, s.Admin.Get(t.Context(), "/logs/gates/compare", url.Values{"from": {now.Add(-time.Hour).Format(time.RFC3339)},
		"to": {now.Format(time.RFC3339)}}, &c))
	ways := map[string]string{}
	for _, d := range c.Differ {
		ways[d.Way] += d.Text + "; "
	}
	if !strings.Contains(ways["new"], "disk of") || !strings.Contains(ways["new"], "quick") || !strings.Contains(ways["vanished"],
		"slow") || c.Same != 2 {
		t.Errorf("%d the same, and %v; %s", c.Same, ways, c.Sentence)
	}
}

// openNews has logs looked through, and gives the alerts that are open then.
func openNews(t *testing.T, s *dbtest.Service) []record.Alert {
	t.Helper()
	dbtest.Must(t, s.Parts.Logs.News(t.Context()))
	var page httpapi.AlertPage
	dbtest.Must(t, s.Admin.Get(t.Context(), "/alerts", url.Values{"state": {"open"}}, &page))
	return page.Alerts
}

// A watched log tells of an error it never had, once, with the line's words; not of one
// that is much like a known one, nor while it is young, nor again once somebody calls it
// usual; and the alert ends when the sentence does.
func TestAWatchedLogTellsOfAnErrorItNeverHad(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	line := func(at time.Time, text string) string { return at.Format(time.RFC3339) + " " + text + "\n" }
	// In its first hours everything is new, and nobody is told.
	began := now.AddDate(0, 0, -30)
	s.Clock.Set(now)
	first := loader(began, 60) + line(began.Add(time.Hour), "ERROR giving up on partner Norrland after 3 tries: no answer from gateway")
	for day := range 29 {
		first += loader(began.AddDate(0, 0, day+1), 12)
	}
	told(t, s, "log=gates&dataset=raw.gates", "text/plain", first)
	dbtest.Must(t, s.Admin.Send(t.Context(), "PATCH", "/logs/gates", map[string]any{"watched": []string{"error", "FATAL"}}, nil))
	open := func() []record.Alert { t.Helper(); return openNews(t, s) }
	if list := open(); len(list) != 0 {
		t.Fatalf("of the past: %s", list[0].Sentence)
	}
	s.Clock.Set(now.Add(time.Minute))
	told(t, s, "log=gates", "text/plain", line(now, "ERROR giving up on partner Sundby after 5 tries: no answer from gateway")+
		line(now, "INFO a sentence that is new but no error"))
	if list := open(); len(list) != 0 {
		t.Fatalf("much like a known one: %s", list[0].Sentence)
	}
	told(t, s, "log=gates", "text/plain", strings.Repeat(line(now, "ERROR disk of /landing is full, 0 bytes left"), 4))
	list := open()
	if len(list) != 1 || list[0].Cause != record.CauseSentence || list[0].Dataset != "raw.gates" ||
		!strings.Contains(list[0].Sentence, "disk of") || !strings.Contains(list[0].Sentence, "4 lines") {
		t.Fatalf("told: %+v", list)
	}
	if again := open(); len(again) != 1 || again[0].ID != list[0].ID {
		t.Errorf("told again: %+v", again)
	}
	number := 0
	for _, v := range sentences(t, s, "gates", now.Add(-time.Hour), now.Add(time.Hour)).Templates {
		if strings.Contains(v.Text, "disk of") {
			number = v.Number
		}
	}
	usual := func(v bool) {
		dbtest.Must(t, s.Admin.Send(t.Context(), "PATCH", fmt.Sprintf("/logs/gates/templates/%d", number),
			map[string]bool{"usual": v}, nil))
	}
	if usual(true); len(open()) != 0 {
		t.Error("called usual, it is still told")
	}
	if usual(false); len(open()) != 1 {
		t.Error("news again, it is not told")
	}
	s.Clock.Set(now.Add(2 * time.Hour))
	if len(open()) != 0 {
		t.Error("two hours after its last line it is still told")
	}
	// Where such come every day, one more is nothing rare.
	s.Clock.Set(now.AddDate(0, 0, 9))
	for day, text := range []string{"lost the lock of berth seven", "cannot parse a header", "timeout while paging",
		"queue overflowed twice", "clock jumped backwards", "no such tariff zone", "pool exhausted", "key rotated too early"} {
		told(t, s, "log=gates", "text/plain", line(now.AddDate(0, 0, day+1), "ERROR "+text))
	}
	told(t, s, "log=gates", "text/plain", line(now.AddDate(0, 0, 9), "ERROR another one altogether strange"))
	if list := open(); len(list) != 0 {
		t.Errorf("such come every day: %s", list[0].Sentence)
	}
	err := s.Admin.Send(t.Context(), "PATCH", "/logs/gates", map[string]any{"watched": []string{"loud"}}, nil)
	if status(err) != 422 || !strings.Contains(err.Error(), "trace, debug") {
		t.Errorf("a severity that is none: %v", err)
	}
}

func TestOTLPLogsAreCountedOnceUnderTheServicesName(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	dbtest.Must(t, s.Admin.Send(t.Context(), "PUT", "/logs/gates-api", map[string]string{"dataset": "raw.gates"}, nil))
	nanos := func(at time.Time) string { return fmt.Sprint(at.UnixNano()) }
	record := func(at time.Time, more string) string {
		return fmt.Sprintf(`{"timeUnixNano":"%s",%s}`, nanos(at), more)
	}
	export := fmt.Sprintf(`{"resourceLogs":[
		{"resource":{"attributes":[{"key":"service.name","value":{"stringValue":"gates-api"}}]},"scopeLogs":[{"logRecords":[%s,%s,%s,%s]}]},
		{"resource":{"attributes":[{"key":"service.name","value":{"stringValue":"stranger"}}]},"scopeLogs":[{"logRecords":[%s]}]},
		{"scopeLogs":[{"logRecords":[%s]}]}]}`,
		record(now.Add(-time.Minute), `"severityText":"Error","body":{"stringValue":"gate 4 answers no more\n\tat x"}`),
		record(now.Add(-time.Minute), `"severityNumber":13,"body":{"stringValue":"gate 9 answers slowly"}`),
		record(now.Add(-time.Minute), `"severityNumber":9,"body":{"kvlistValue":{"values":[{"key":"event","value":{"stringValue":"opened"}}]}}`),
		record(now.AddDate(3, 0, 0), `"body":{"stringValue":"ahead"}`),
		record(now, `"body":{"stringValue":"nobody knows me"}`), record(now, `"body":{"stringValue":"from nowhere"}`))
	for range 2 {
		status, answer, _ := post(t, s, "/v1/logs", map[string]string{"Content-Type": "application/json"}, strings.NewReader(export))
		if status != 200 || !strings.Contains(answer, `"rejectedLogRecords":"3"`) || !strings.Contains(answer,
			"tinbell log add stranger") || !strings.Contains(answer, "ahead") {
			t.Fatalf("%d %s", status, answer)
		}
	}
	found := sentences(t, s, "gates-api", now.Add(-time.Hour), now.Add(time.Hour))
	severities := map[string]int64{}
	for _, v := range found.Templates {
		severities[v.Severity] += v.Count
	}
	if found.Lines != 3 || severities["ERROR"] != 1 || severities["WARN"] != 1 || severities["INFO"] != 1 {
		t.Errorf("%d lines: %v", found.Lines, severities)
	}
	if status, answer, _ := post(t, s, "/v1/logs", map[string]string{"Content-Type": "application/x-protobuf"},
		strings.NewReader("no export")); status != 422 {
		t.Errorf("bytes that are no export: %d %s", status, answer)
	}
}

// A log written to a file is the same log on an empty service, before its first line.
func TestALogOfAConfigurationFileIsTheSameElsewhere(t *testing.T) {
	t.Parallel()
	s, empty := dbtest.Start(t, now), dbtest.Start(t, now)
	told(t, s, "log=gates&dataset=raw.gates", "text/plain", "INFO a line\n")
	dbtest.Must(t, s.Admin.Send(t.Context(), "PATCH", "/logs/gates", map[string]any{"keep_samples": 0,
		"watched": []string{"error"}, "rare_seconds": 30 * 86400}, nil))
	var d config.Documents
	dbtest.Must(t, s.Admin.Get(t.Context(), "/config", nil, &d))
	if len(d.Logs) != 1 || d.Logs[0].Dataset != "raw.gates" || d.Logs[0].RareSeconds != 30*86400 || len(d.Logs[0].Watch) != 1 {
		t.Fatalf("written: %+v", d.Logs)
	}
	text := "kind: log\nname: gates\ndataset: raw.gates\nkeep_samples: 0\nwatch: [error]\nrare: 30d\nby: [host]\nmasked: [passenger, /berth-\\d+/]\nkinds: [new, burst]\njob: load gates\n"
	read, wrong := config.Parse("a.yaml", []byte(text))
	if len(wrong) > 0 || len(read.Logs) != 1 || read.Logs[0].RareSeconds != 30*86400 {
		t.Fatalf("read: %+v %v", read.Logs, wrong)
	}
	d.Logs = read.Logs
	dbtest.Must(t, empty.Admin.Send(t.Context(), "POST", "/config/load", d, nil))
	var logs []record.Log
	dbtest.Must(t, empty.Admin.Get(t.Context(), "/logs", nil, &logs))
	if len(logs) != 1 || logs[0].KeepSamples != 0 || logs[0].RareSeconds != 30*86400 || !slices.Equal(logs[0].Watched,
		record.Strings{"ERROR"}) ||
		!slices.Equal(logs[0].By, record.Strings{"host"}) || len(logs[0].Masked) != 2 || !slices.Equal(logs[0].Kinds,
		record.Strings{"new", "burst"}) || logs[0].Job != "load gates" {
		t.Errorf("elsewhere: %+v", logs)
	}
	if r := told(t, empty, "log=gates", "text/plain", "INFO a line\n"); r.Lines != 1 {
		t.Errorf("its first line: %+v", r)
	}
	for why, wrong := range map[string]func(*config.WrittenLog){
		"no expression":           func(w *config.WrittenLog) { w.Masked = record.Strings{"/(/"} },
		"new, burst and vanished": func(w *config.WrittenLog) { w.Kinds = record.Strings{"odd"} },
		"three at most":           func(w *config.WrittenLog) { w.By = record.Strings{"a", "b", "c", "d"} },
		"landing":                 func(w *config.WrittenLog) { w.Source, w.Pattern = "landing", "*.log" },
	} {
		before := d.Logs[0]
		wrong(&d.Logs[0])
		if err := empty.Admin.Send(t.Context(), "POST", "/config/load", d, nil); status(err) != 422 && status(err) != 404 ||
			!strings.Contains(err.Error(), why) {
			t.Errorf("%s: %v", why, err)
		}
		d.Logs[0] = before
	}
	d.Logs[0].Watch = record.Strings{"loud"}
	if err := empty.Admin.Send(t.Context(), "POST", "/config/load", d, nil); status(err) != 422 || !strings.Contains(err.Error(),
		"trace, debug") {
		t.Errorf("a severity that is none: %v", err)
	}
}

// A heartbeat that is followed is a series with its past, zeros included, and a monitor
// on it rings when it stops.
func TestAFollowedSentenceThatStopsRings(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	beats := func(from, to time.Time) string {
		var b strings.Builder
		for at := from; at.Before(to); at = at.Add(time.Minute) {
			fmt.Fprintf(&b, "%s INFO heartbeat of node %d\n", at.Format(time.RFC3339), at.Minute())
		}
		return b.String()
	}
	told(t, s, "log=gates&dataset=raw.gates", "text/plain", beats(now.AddDate(0, 0, -21), now))
	dbtest.Must(t, s.Admin.Send(t.Context(), "PATCH", "/logs/gates/templates/1", map[string]bool{"followed": true}, nil))
	s.Clock.Set(now.Add(2 * time.Minute))
	dbtest.Must(t, s.Parts.Logs.Due(t.Context()))
	s.Settle(t)
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/monitors", httpapi.NewMonitor{Name: "beat", Metric: "log-gates-sentences"}, nil))
	s.Settle(t)
	var series []record.Series
	dbtest.Must(t, s.Admin.Get(t.Context(), "/metrics/log-gates-sentences/series", nil, &series))
	if len(series) != 1 || series[0].Segment != "sentence 1" {
		t.Fatalf("series: %+v", series)
	}
	told(t, s, "log=gates", "text/plain", now.Format(time.RFC3339)+" INFO another sentence, so that the log goes on\n")
	s.Clock.Set(now.Add(95 * time.Minute))
	dbtest.Must(t, s.Parts.Logs.Due(t.Context()))
	s.Settle(t)
	list := alertsOf(t, s, "beat")
	if len(list) == 0 || list[0].Segment != "sentence 1" || list[0].Direction != "low" {
		t.Errorf("after an hour and a half without a beat: %+v", list)
	}
	dbtest.Must(t, s.Admin.Send(t.Context(), "PATCH", "/logs/gates/templates/2", map[string]bool{"followed": true}, nil))
	dbtest.Must(t, s.Parts.Logs.Due(t.Context()))
	dbtest.Must(t, s.Admin.Get(t.Context(), "/metrics/log-gates-sentences/series", nil, &series))
	if len(series) != 2 {
		t.Errorf("a second that is followed: %+v", series)
	}
	if err := s.Admin.Send(t.Context(), "PATCH", "/logs/gates/templates/99", map[string]bool{"followed": true}, nil); status(err) != 404 {
		t.Errorf("a sentence that is none: %v", err)
	}
}

// Counts stay for ever where samples do, and go with them elsewhere; lines go after ninety
// days, whatever is kept, and new ones are kept in their place.
func TestCountsGoWithSamplesAndLinesAfterNinetyDays(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	dbtest.Must(t, s.Admin.Send(t.Context(), "PUT", "/logs/gates", map[string]string{"dataset": "raw.gates"}, nil))
	dbtest.Must(t, s.Admin.Send(t.Context(), "PATCH", "/logs/gates", map[string][]string{"by": {"host"}}, nil))
	of := func(from time.Time) string { return strings.ReplaceAll(loader(from, 10), " INFO", " INFO host=east") }
	told(t, s, "log=gates", "text/plain", of(now.AddDate(0, 0, -40))+of(now.Add(-time.Hour)))
	lines := func() int64 { return sentences(t, s, "gates", now.AddDate(0, 0, -50), now).Lines }
	if dbtest.Must(t, s.Parts.Logs.Forget(t.Context(), 0)); lines() != 60 {
		t.Errorf("where all is kept %d lines are counted, 60 came", lines())
	}
	var parts int
	dbtest.Must(t, s.Parts.Store.DB.Get(&parts, `select sum(n) from log_part`))
	if parts != 40 {
		t.Errorf("by attributes %d lines are counted, 40 came", parts)
	}
	if dbtest.Must(t, s.Parts.Logs.Forget(t.Context(), 30)); lines() != 30 {
		t.Errorf("of the last 30 days %d lines are counted, 30 came", lines())
	}
	dbtest.Must(t, s.Parts.Store.DB.Get(&parts, `select sum(n) from log_part`))
	if parts != 20 {
		t.Errorf("by attributes %d lines of the last 30 days are counted, 20 came", parts)
	}
	samples := func() int {
		var one logs.One
		dbtest.Must(t, s.Admin.Get(t.Context(), "/logs/gates/templates/1", nil, &one))
		return len(one.Samples)
	}
	if samples() == 0 {
		t.Fatal("no line is kept")
	}
	s.Clock.Set(now.AddDate(0, 0, 91))
	if dbtest.Must(t, s.Parts.Logs.Forget(t.Context(), 0)); samples() != 0 {
		t.Errorf("%d lines of 91 days ago are kept", samples())
	}
	told(t, s, "log=gates", "text/plain", of(now.AddDate(0, 0, 91).Add(-time.Hour)))
	if samples() == 0 {
		t.Error("no new line is kept in the place of those that went")
	}
}
