package service_test

import (
	"fmt"
	"net/url"
	"strings"
	"testing"
	"time"

	"tinbell/internal/collect"
	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/lineage"
	"tinbell/internal/record"
)

func hear(t *testing.T, s *dbtest.Service, events ...string) {
	t.Helper()
	body := "[" + strings.Join(events, ",") + "]"
	if status, answer, _ := post(t, s, "/api/v1/lineage", map[string]string{"Content-Type": "application/json"},
		strings.NewReader(body)); status != 201 {
		t.Fatalf("%d %s", status, answer)
	}
}

func runEvent(kind string, at time.Time, run int, more string) string {
	return fmt.Sprintf(`{"eventType":"%s","eventTime":"%s","run":{"runId":"0190a1b2-0000-7000-8000-%012d","facets":{"errorMessage":{"message":"%s"}}},"job":{"namespace":"vellamar","name":"load scans"},
		"inputs":[{"namespace":"vellamar","name":"raw.gate_events"}],
		"outputs":[{"namespace":"vellamar","name":"ops.scans","facets":{"schema":{"fields":[{"name":"port","type":"text"}]}},"outputFacets":{"outputStatistics":{"rowCount":%d}}}]}`,
		kind, at.Format(time.RFC3339), run, more, 100+run)
}

func TestRunsAreKeptInWhateverOrderTheyAreHeard(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/metrics/declare", collect.Declaration{Metric: "m", Dataset: "ops.scans",
		Namespace: "vellamar", Measure: "rows", Kind: "count", Period: "1h"}, nil))
	at := now.Add(-3 * time.Hour)
	complete, start := runEvent("COMPLETE", at.Add(4*time.Minute), 1, ""), runEvent("START", at, 1, "")
	hear(t, s, complete, start, complete, runEvent("RUNNING", at.Add(time.Minute), 1, ""))
	hear(t, s, runEvent("START", at.Add(time.Hour), 2, ""), runEvent("FAIL", at.Add(time.Hour+time.Minute), 2, "disk full"))
	hear(t, s, `{"eventType":"COMPLETE","eventTime":"2026-06-18T09:00:00Z","run":{"runId":"0190a1b2-0000-7000-8000-00000000aaaa"},"job":{"namespace":"vellamar","name":"mart"},
		"inputs":[{"namespace":"vellamar","name":"ops.scans"}],"outputs":[{"namespace":"vellamar","name":"mart.daily"}]}`)
	var jobs []lineage.JobHealth
	dbtest.Must(t, s.Admin.Get(t.Context(), "/jobs", nil, &jobs))
	if len(jobs) != 2 || jobs[0].Name != "load scans" || jobs[0].Runs != 2 || jobs[0].Failed != 1 || *jobs[0].State != "failed" ||
		*jobs[0].Seconds != 240 || jobs[0].Writes != "ops.scans" {
		t.Fatalf("jobs: %+v", jobs)
	}
	var runs []record.Run
	dbtest.Must(t, s.Admin.Get(t.Context(), "/datasets/ops.scans/runs", nil, &runs))
	if len(runs) != 2 || runs[0].State != "failed" || runs[0].Message != "disk full" || runs[1].State != "complete" ||
		!runs[1].StartedAt.Equal(at) || !runs[1].EndedAt.Equal(at.Add(4*time.Minute)) || *runs[1].Rows != 101 {
		t.Errorf("runs: %+v", runs)
	}
	var loads []record.Load
	dbtest.Must(t, s.Parts.Store.DB.Select(&loads, `select at, rows from load`))
	if len(loads) != 1 || loads[0].Rows != 101 {
		t.Errorf("a complete run is one load: %+v", loads)
	}
	var columns []record.ColumnVersion
	dbtest.Must(t, s.Admin.Get(t.Context(), "/datasets/ops.scans/columns", nil, &columns))
	if len(columns) != 1 || columns[0].Columns[0].Name != "port" {
		t.Errorf("columns: %+v", columns)
	}
	var graph lineage.Lineage
	dbtest.Must(t, s.Admin.Get(t.Context(), "/datasets/ops.scans/lineage", nil, &graph))
	var names []string
	for _, n := range graph.Nodes {
		names = append(names, fmt.Sprintf("%s %d %t", n.Name, n.Depth, n.Watched))
	}
	if got := strings.Join(names, ", "); got != "raw.gate_events -1 false, ops.scans 0 true, mart.daily 1 false" || len(graph.Links) != 2 {
		t.Errorf("graph: %s, %+v", got, graph.Links)
	}
	if status, answer, _ := post(t, s, "/api/v1/lineage", nil,
		strings.NewReader("["+start+`, {"eventTime":1}]`)); status != 422 || !strings.Contains(answer, "event 2 of 2") {
		t.Errorf("a bad event among good ones: %d %s", status, answer)
	}
}

func TestAJobThatFallsSilentRingsAndRecovers(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	var events []string
	for i := range 200 {
		events = append(events, runEvent("COMPLETE", now.Add(time.Duration(i-200)*30*time.Minute), i, ""))
	}
	hear(t, s, events...)
	open := func() []record.Alert {
		dbtest.Must(t, s.Parts.Watcher.SilentJobs(t.Context()))
		var page httpapi.AlertPage
		dbtest.Must(t, s.Admin.Get(t.Context(), "/alerts", url.Values{"state": {"open"}}, &page))
		return page.Alerts
	}
	if list := open(); len(list) != 0 {
		t.Errorf("while runs come: %+v", list)
	}
	s.Clock.Set(now.Add(10 * time.Hour))
	list := open()
	if len(list) != 1 || list[0].Job != "load scans" || list[0].Cause != record.CauseSilentJob ||
		!strings.Contains(list[0].Sentence, "no complete run since Thu 18 Jun 11:30") {
		t.Fatalf("ten hours without a run: %+v", list)
	}
	hear(t, s, runEvent("FAIL", now.Add(10*time.Hour), 999, "still broken"))
	if len(open()) != 1 {
		t.Error("a failed run does not mend it")
	}
	hear(t, s, runEvent("COMPLETE", now.Add(10*time.Hour), 1000, ""))
	if list := open(); len(list) != 0 {
		t.Errorf("after a complete run: %+v", list)
	}
}
