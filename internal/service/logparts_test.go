package service_test

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"tinbell/internal/dbtest"
	"tinbell/internal/logs"
	"tinbell/internal/record"
)

// landingLog makes a log whose files land in a folder.
func landingLog(t *testing.T, s *dbtest.Service) (folder string) {
	t.Helper()
	folder = t.TempDir()
	dbtest.Must(t, os.Mkdir(filepath.Join(folder, "gates"), 0o700))
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/sources", map[string]string{"name": "landing", "address": folder}, nil))
	dbtest.Must(t, s.Admin.Send(t.Context(), "PUT", "/logs/gates", map[string]string{"dataset": "raw.gates"}, nil))
	dbtest.Must(t, s.Admin.Send(t.Context(), "PATCH", "/logs/gates", map[string]string{"source": "landing",
		"pattern": "gates/*.log*"}, nil))
	return folder
}

// write puts text at the end of a file that was changed last at an instant.
func write(t *testing.T, path, text string, at time.Time) {
	t.Helper()
	f, err := os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	dbtest.Must(t, err)
	_, err = f.WriteString(text)
	dbtest.Must(t, err)
	dbtest.Must(t, f.Close())
	dbtest.Must(t, os.Chtimes(path, at, at))
}

// A file that lands is counted as it grows, line by whole line, and once: also when it is
// moved away while a new one begins, packed, cut in the middle of a line, or read by a
// process that was started anew.
func TestAFileThatLandsIsCountedOnceThroughRotations(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	folder := landingLog(t, s)
	keeper := s.Parts.Logs
	lines := func() int64 {
		t.Helper()
		dbtest.Must(t, keeper.Files(t.Context()))
		var log []record.Log
		dbtest.Must(t, s.Admin.Get(t.Context(), "/logs", nil, &log))
		return log[0].Lines
	}
	at := func(name string) string { return filepath.Join(folder, "gates", name) }
	stamp := now.Add(-time.Minute).Format(time.RFC3339)
	line := func(n int) string { return fmt.Sprintf("%s INFO gate %d opened\n", stamp, n) }

	write(t, at("a.log"), line(1)+line(2)+stamp+" INFO gate", now.Add(-50*time.Second))
	if n := lines(); n != 2 {
		t.Fatalf("of two lines and a half %d are counted", n)
	}
	write(t, at("a.log"), " 3 opened\n\tat gates.Open(gates.go:7)\n", now.Add(-40*time.Second))
	write(t, at("a.log"), "\tat main\n"+line(4), now.Add(-39*time.Second))
	if n := lines(); n != 4 {
		t.Errorf("grown to four with a trace, %d are counted", n)
	}
	keeper = logs.New(s.Parts.Store, s.Parts.Collector, func() time.Time { return now })
	if n := lines(); n != 4 {
		t.Errorf("after a restart %d are counted", n)
	}
	// It is moved away, gets a last line, and another begins under its name.
	dbtest.Must(t, os.Rename(at("a.log"), at("a.log.1")))
	write(t, at("a.log.1"), line(5), now.Add(-30*time.Second))
	write(t, at("a.log"), "2026-10-31T00:00:00Z INFO begun anew\n", now.Add(-29*time.Second))
	if n := lines(); n != 6 {
		t.Errorf("rotated, %d are counted", n)
	}
	// Then it is packed, and another lands packed at once.
	text, err := os.ReadFile(at("a.log.1"))
	dbtest.Must(t, err)
	pack := func(name string, text []byte) {
		var b bytes.Buffer
		z := gzip.NewWriter(&b)
		_, err := z.Write(text)
		dbtest.Must(t, err)
		dbtest.Must(t, z.Close())
		dbtest.Must(t, os.WriteFile(at(name), b.Bytes(), 0o600))
	}
	// While it is packed both are there, the packed one first half written.
	pack("a.log.1.gz", text[:len(text)/2])
	if n := lines(); n != 6 {
		t.Errorf("half packed beside itself, %d are counted", n)
	}
	pack("a.log.1.gz", text)
	if n := lines(); n != 6 {
		t.Errorf("packed beside itself, %d are counted", n)
	}
	dbtest.Must(t, os.Remove(at("a.log.1")))
	pack("b.log.gz", []byte(line(6)+line(7)))
	if n := lines(); n != 8 {
		t.Errorf("packed, %d are counted", n)
	}
	// One that is cut in the middle of a line and touched no more has it counted in the end;
	// one that is no gzip is said, and disturbs no other.
	write(t, at("c.log"), line(8)+stamp+" INFO gate 9 open", now.Add(-time.Hour))
	dbtest.Must(t, os.WriteFile(at("d.log.gz"), []byte("no gzip"), 0o600))
	if n := lines(); n != 10 {
		t.Errorf("with half a line of an hour ago %d are counted", n)
	}
	var files []record.LogFile
	dbtest.Must(t, s.Admin.Get(t.Context(), "/logs/gates/files", nil, &files))
	said := map[string]string{}
	for _, f := range files {
		said[f.Path] = f.Message
	}
	if len(files) != 5 || !strings.Contains(said["gates/d.log.gz"], "gzip") || said["gates/a.log.1.gz"] != "" {
		t.Errorf("files: %+v", files)
	}
	// Its lines can be read from there.
	opened := 0
	for _, v := range sentences(t, s, "gates", now.Add(-24*time.Hour), now.Add(time.Hour)).Templates {
		if strings.Contains(v.Text, "opened") {
			opened = v.Number
		}
	}
	var read logs.FromFiles
	dbtest.Must(t, s.Admin.Get(t.Context(), fmt.Sprintf("/logs/gates/templates/%d/lines", opened), nil, &read))
	if len(read.Lines) != 8 || !slices.ContainsFunc(read.Lines,
		func(v logs.FromFile) bool { return v.Path == "gates/a.log.1.gz" && v.Line == 6 }) {
		t.Errorf("read: %+v", read)
	}
	err = s.Admin.Send(t.Context(), "PATCH", "/logs/gates", map[string]string{"source": "landing", "pattern": "../x"}, nil)
	if status(err) != 422 || !strings.Contains(err.Error(), "below the folder") {
		t.Errorf("outside the folder: %v", err)
	}
}

// Lines are counted by the attributes that are asked for, from objects, exports and words
// of the form name=value alike; what a person adds is masked in all that is kept, also
// what was kept before.
func TestLinesAreCountedByAttributesAndMaskedAsPeopleSay(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	dbtest.Must(t, s.Admin.Send(t.Context(), "PUT", "/logs/gates", map[string]string{"dataset": "raw.gates"}, nil))
	told(t, s, "log=gates", "text/plain", "INFO let passenger Annabel through\n")
	dbtest.Must(t, s.Admin.Send(t.Context(), "PATCH", "/logs/gates", map[string][]string{"by": {"host", "net.zone"},
		"masked": {"passenger", `/berth-\d+/`}}, nil))
	var one logs.One
	dbtest.Must(t, s.Admin.Get(t.Context(), "/logs/gates/templates/1", nil, &one))
	if len(one.Samples) != 1 || strings.Contains(one.Samples[0].Line, "Annabel") {
		t.Errorf("kept before: %+v", one.Samples)
	}
	stamp := now.Add(-30 * time.Minute).Format(time.RFC3339)
	told(t, s, "log=gates", "application/x-ndjson",
		fmt.Sprintf(`{"at":%q,"message":"gate 4 jammed at berth-77","host":"east","net":{"zone":"harbour"}}
{"at":%[1]q,"message":"gate 5 jammed at berth-78","host":"east"}
`, stamp))
	told(t, s, "log=gates", "text/plain", strings.Repeat(stamp+" gate 6 jammed at berth-79 ghost=none host=west\n", 3))
	found := func(where string) logs.Sayings {
		t.Helper()
		var v logs.Sayings
		dbtest.Must(t, s.Admin.Get(t.Context(), "/logs/gates/templates", url.Values{"where": {where}}, &v))
		return v
	}
	for where, want := range map[string]int64{"host=east": 2, "host=west": 3, "net.zone=harbour": 1, "host=north": 0} {
		if v := found(where); v.Lines != want {
			t.Errorf("%s: %d lines, want %d", where, v.Lines, want)
		}
	}
	if err := s.Admin.Get(t.Context(), "/logs/gates/templates", url.Values{"where": {"port=1"}}, nil); status(err) != 422 ||
		!strings.Contains(err.Error(), "host") {
		t.Errorf("an attribute that is not counted: %v", err)
	}
	dbtest.Must(t, s.Parts.Logs.Due(t.Context()))
	s.Settle(t)
	var series []record.Series
	dbtest.Must(t, s.Admin.Get(t.Context(), "/metrics/log-gates-by-host/series", nil, &series))
	if len(series) != 2 {
		t.Errorf("series by host: %+v", series)
	}
	// And again, each time that more lines come.
	told(t, s, "log=gates", "text/plain", now.Format(time.RFC3339)+" gate 6 jammed host=north\n")
	s.Clock.Set(now.Add(20 * time.Minute))
	dbtest.Must(t, s.Parts.Logs.Due(t.Context()))
	dbtest.Must(t, s.Admin.Get(t.Context(), "/metrics/log-gates-by-host/series", nil, &series))
	if len(series) != 3 {
		t.Errorf("series by host after a line of a third: %+v", series)
	}
	all := ""
	for n := range 4 {
		var v map[string]any
		if s.Admin.Get(t.Context(), fmt.Sprintf("/logs/gates/templates/%d", n), nil, &v) == nil {
			all += fmt.Sprint(v)
		}
	}
	if strings.Contains(all, "berth-7") || !strings.Contains(all, "jammed") {
		t.Errorf("masked is not %s", all)
	}
}

// A person's corrections hold for what comes, are kept as history, and what cannot be is
// refused with what is allowed.
func TestASentenceIsCorrectedByPeople(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	stamp := now.Add(-30 * time.Minute).Format(time.RFC3339)
	var text strings.Builder
	for i := range 20 {
		fmt.Fprintf(&text, "%s INFO gate %d opened in %d ms\n%s INFO gate %d closed in %d ms\n", stamp, i, 7*i, stamp, i, 9*i)
	}
	told(t, s, "log=gates&dataset=raw.gates", "text/plain", text.String())
	correct := func(number int, c logs.Correction) (done logs.Corrected, err error) {
		return done, s.Admin.Send(t.Context(), "POST", fmt.Sprintf("/logs/gates/templates/%d/correct", number), c, &done)
	}
	if done, err := correct(2, logs.Correction{What: "join", With: 1}); err != nil || done.Number != 1 {
		t.Fatalf("%+v %v", done, err)
	}
	told(t, s, "log=gates", "text/plain", strings.Repeat(stamp+" INFO gate 3 jammed in 5 ms\n", 4))
	part := 3
	if done, err := correct(1, logs.Correction{What: "hold", Word: "13", Part: &part}); err != nil || done.Number != 3 {
		t.Fatalf("%+v %v", done, err)
	}
	told(t, s, "log=gates", "text/plain", stamp+" INFO gate 13 opened in 5 ms\n"+stamp+" INFO gate 14 opened in 5 ms\n")
	count := map[int]int64{}
	for _, v := range sentences(t, s, "gates", now.Add(-time.Hour), now).Templates {
		count[v.Number] = v.Count
	}
	if count[1] != 45 || count[3] != 1 || len(count) != 2 {
		t.Errorf("lines by sentence: %v", count)
	}
	var one logs.One
	dbtest.Must(t, s.Admin.Get(t.Context(), "/logs/gates/templates/1", nil, &one))
	if len(one.Changes) != 2 || one.Changes[0].What != "held" || one.Changes[1].What != "joined" || one.Changes[0].Author == "" ||
		!slices.Equal(one.Parts, []int{2}) {
		t.Errorf("history: %+v, parts %v", one.Changes, one.Parts)
	}
	// What stood in its parts is summed up, with numbers in their unit.
	i := slices.IndexFunc(one.Values, func(p logs.PartOf) bool { return p.Before == "INFO gate" })
	if i < 0 || one.Values[i].Distinct < 16 || one.Values[i].Distinct > 24 || one.Values[i].Numbers < 40 || len(one.Values[i].Days) != 1 {
		t.Errorf("values: %+v", one.Values)
	}
	for what, c := range map[string]logs.Correction{
		"a word of": {What: "vary", Word: "nothing"}, "no such template": {What: "join", With: 99}, "no such part": {What: "vary",
			Part: ptr(99)},
	} {
		if _, err := correct(1, c); status(err) != 422 || !strings.Contains(err.Error(), what) {
			t.Errorf("%+v: %v", c, err)
		}
	}
}

// A sentence is told with those that follow it, with the hours in which its dataset had
// alerts, and not with those that share its clock alone.
func TestASentenceGoesWithWhatFollowsIt(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	var text strings.Builder
	say := func(at time.Time, what string) { fmt.Fprintf(&text, "%s %s\n", at.Format(time.RFC3339), what) }
	from := now.AddDate(0, 0, -7)
	rng := rand.New(rand.NewPCG(19, 7))
	for p := range 7 * 288 {
		at := from.Add(time.Duration(p) * 5 * time.Minute)
		for range p % 288 / 60 {
			say(at, "INFO a passenger came through")
		}
		if p%288 > 200 {
			say(at, "INFO the evening ferry boards")
		}
		if rng.IntN(60) == 0 {
			for i := range 4 {
				say(at, fmt.Sprintf("WARN pool of %d connections exhausted", i))
				say(at.Add(10*time.Minute), fmt.Sprintf("ERROR request %d timed out", i))
				say(at.Add(-5*time.Minute), fmt.Sprintf("INFO burst of %d callers", i))
			}
		}
	}
	told(t, s, "log=gates&dataset=raw.gates", "text/plain", text.String())
	number := map[string]int{}
	for _, v := range sentences(t, s, "gates", from, now).Templates {
		for _, word := range []string{"pool", "timed", "burst", "passenger", "evening"} {
			if strings.Contains(v.Text, word) {
				number[word] = v.Number
			}
		}
	}
	var g logs.GoesWith
	dbtest.Must(t, s.Admin.Get(t.Context(), fmt.Sprintf("/logs/gates/templates/%d/goes-with", number["pool"]), nil, &g))
	lags := map[int]int{}
	for _, v := range g.Kin {
		if lags[v.Number] = v.LagSeconds; v.Correlation < .8 {
			t.Errorf("%+v", v)
		}
	}
	if len(lags) != 2 || lags[number["timed"]] != 600 || lags[number["burst"]] != -300 || g.Sentence != "2 sentences go with it." {
		t.Errorf("pool goes with %+v (%q)", g.Kin, g.Sentence)
	}
}

// A watched log tells of a burst and of a heartbeat that stops, once each, and of neither
// while the whole log is silent.
func TestAWatchedLogTellsOfBurstsAndSilence(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	var text strings.Builder
	from := now.AddDate(0, 0, -30)
	for p := range 30 * 288 {
		at := from.Add(time.Duration(p) * 5 * time.Minute).Format(time.RFC3339)
		fmt.Fprintf(&text, "%s INFO heartbeat of node %d\n", at, p%7)
		for i := range (p*p%11 + p%5) / 4 {
			fmt.Fprintf(&text, "%s WARN retry %d of partner\n", at, i)
		}
	}
	told(t, s, "log=gates&dataset=raw.gates", "text/plain", text.String())
	dbtest.Must(t, s.Admin.Send(t.Context(), "PATCH", "/logs/gates", map[string]any{"watched": []string{"error"}}, nil))
	open := func() []record.Alert { t.Helper(); return openNews(t, s) }
	if list := open(); len(list) != 0 {
		t.Fatalf("on an even day: %s", list[0].Sentence)
	}
	s.Clock.Set(now.Add(10 * time.Minute))
	told(t, s, "log=gates", "text/plain", strings.Repeat(now.Format(time.RFC3339)+" WARN retry 3 of partner\n", 400)+
		now.Format(time.RFC3339)+" INFO heartbeat of node 1\n")
	list := open()
	if len(list) != 1 || !strings.Contains(list[0].Sentence, "far more often") || !strings.Contains(list[0].Sentence, "retry") ||
		list[0].Direction != "high" {
		t.Fatalf("a burst: %+v", list)
	}
	// Hours later the heartbeat has stopped, and the rest goes on.
	for p := range 48 {
		s.Clock.Set(now.Add(time.Duration(p+3) * 5 * time.Minute))
		told(t, s, "log=gates", "text/plain", s.Clock.Now().Format(time.RFC3339)+" WARN retry 1 of partner\n")
	}
	list = open()
	if len(list) != 1 || !strings.Contains(list[0].Sentence, "no longer says") || !strings.Contains(list[0].Sentence, "heartbeat") {
		t.Errorf("a heartbeat that stopped: %+v", list)
	}
	s.Clock.Set(now.Add(30 * time.Hour))
	if list := open(); len(list) != 0 {
		t.Errorf("the whole log is silent, and told is %s", list[0].Sentence)
	}
}

// As many pushes of lines as can be worked on are let in; the next is asked to come again,
// and nothing of it is stored.
func TestMoreLinesThanCanBeCountedAreAskedToComeAgain(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	dbtest.Must(t, s.Admin.Send(t.Context(), "PUT", "/logs/gates", map[string]string{"dataset": "raw.gates"}, nil))
	var wait sync.WaitGroup
	var pipes []*io.PipeWriter
	for range 48 {
		in, out := io.Pipe()
		pipes = append(pipes, out)
		wait.Go(func() {
			if code, answer, _ := request(t, s, "POST", "/api/v1/logs?log=gates", map[string]string{"Content-Type": "text/plain"},
				in); code != 200 {
				t.Errorf("let in: %d %s", code, answer)
			}
		})
		_, err := io.WriteString(out, "INFO a line that is whole\n")
		dbtest.Must(t, err)
	}
	code, answer, head := 0, "", http.Header{}
	for range 20 { // until all are inside
		if code, answer, head = request(t, s, "POST", "/api/v1/logs?log=gates", map[string]string{"Content-Type": "text/plain"},
			strings.NewReader("INFO one too many\n")); code == 429 {
			break
		}
	}
	if code != 429 || head.Get("Retry-After") == "" || !strings.Contains(answer, "nothing of it was stored") {
		t.Errorf("the next: %d %s", code, answer)
	}
	for _, p := range pipes {
		dbtest.Must(t, p.Close())
	}
	wait.Wait()
}

// A log is of a dataset, of a job, whose dataset its lineage says, or of a service, which is
// a dataset of its own; what is not clear is asked for.
func TestALogBelongsToADatasetAJobOrAService(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	run := func(id, job string, outputs ...string) {
		t.Helper()
		var list []string
		for _, o := range outputs {
			list = append(list, fmt.Sprintf(`{"namespace":"house","name":%q}`, o))
		}
		event := fmt.Sprintf(`{"eventType":"COMPLETE","eventTime":%q,"producer":"https://x.example","schemaURL":"https://openlineage.io/spec/2-0-2/OpenLineage.json","run":{"runId":"0190c1a2-0000-7000-8000-00000000000%s"},"job":{"namespace":"house","name":%q},"inputs":[],"outputs":[%s]}`,
			now.Add(-time.Hour).Format(time.RFC3339), id, job, strings.Join(list, ","))
		if code, answer, _ := request(t, s, "POST", "/api/v1/lineage", map[string]string{"Content-Type": "application/json"},
			strings.NewReader(event)); code >= 300 {
			t.Fatal(code, answer)
		}
	}
	run("1", "load gates", "raw.gates")
	run("2", "load both", "raw.one", "raw.two")
	for query, want := range map[string]string{"log=a&job=load+gates": "raw.gates",
		"log=b&service=fares-api": "service.fares-api", "log=c&dataset=raw.two&job=load+both": "raw.two"} {
		told(t, s, query, "text/plain", "INFO a line\n")
		var log record.Log
		dbtest.Must(t, s.Admin.Get(t.Context(), "/logs/"+query[4:5], nil, &log))
		if log.Dataset != want || log.Lines != 1 || strings.Contains(query, "job=") && log.Job == "" || strings.Contains(query,
			"service=") && log.Service != "fares-api" {
			t.Errorf("%s: %+v", query, log)
		}
	}
	for query, why := range map[string]string{"log=d": "which dataset, job or service", "log=d&job=nobody's": "of no job",
		"log=d&job=load+both": "writes raw.one and raw.two", "log=d&job=x&service=y": "one of both", "log=a&dataset=raw.two": "already"} {
		code, answer, _ := request(t, s, "POST", "/api/v1/logs?"+query, map[string]string{"Content-Type": "text/plain"},
			strings.NewReader("INFO a line\n"))
		if code != 422 && code != 409 || !strings.Contains(answer, why) {
			t.Errorf("%s: %d %s", query, code, answer)
		}
	}
	// Sentences are found over all logs, or those of a dataset.
	told(t, s, "log=a", "text/plain", strings.Repeat(now.Add(-time.Minute).Format(time.RFC3339)+" ERROR lock of berth 4 lost\n", 3))
	told(t, s, "log=c", "text/plain", now.Add(-time.Minute).Format(time.RFC3339)+" ERROR lock of berth 9 lost\n")
	find := func(q url.Values) (f logs.Finding) {
		t.Helper()
		dbtest.Must(t, s.Admin.Get(t.Context(), "/log-sentences", q, &f))
		return f
	}
	if f := find(url.Values{"words": {"berth LOCK"}}); len(f.Sentences) != 2 || f.Sentences[0].Log != "a" ||
		f.Sentences[0].Count != 3 || f.Logs != 3 {
		t.Errorf("over all: %+v", f)
	}
	if f := find(url.Values{"words": {"berth"}, "dataset": {"raw.two"}, "severity": {"ERROR"}}); len(f.Sentences) != 1 ||
		f.Sentences[0].Log != "c" {
		t.Errorf("of one dataset: %+v", f)
	}
	if f := find(url.Values{"words": {"berth"}, "severity": {"INFO"}}); len(f.Sentences) != 0 {
		t.Errorf("of another severity: %+v", f)
	}
}
