package service_test

import (
	"fmt"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/timeline"
	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
)

// warehouse makes a table whose names need quoting, in a database of its own,
// and adds it as a dataset.
func warehouse(t *testing.T, s *dbtest.Service) *pgx.Conn {
	t.Helper()
	address := s.NewDatabase(t)
	conn, err := pgx.Connect(t.Context(), address)
	dbtest.Must(t, err)
	t.Cleanup(func() { conn.Close(t.Context()) })
	_, err = conn.Exec(t.Context(), `create schema "select"; create table "select"."order" ("group" text, "a ""b" int, "when" timestamptz, loaded timestamptz)`)
	dbtest.Must(t, err)
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/sources", httpapi.NewSource{Name: "house", Address: address}, nil))
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/datasets", httpapi.NewDataset{Source: "house", Name: "select.order",
		Zone: "America/Halifax", LoadedBy: "loaded"}, nil))
	return conn
}

func load(t *testing.T, conn *pgx.Conn, group any, value any, when, loaded string) {
	t.Helper()
	_, err := conn.Exec(t.Context(), `insert into "select"."order" values ($1, $2, $3, $4)`, group, value, when, loaded)
	dbtest.Must(t, err)
	flushed(t, conn)
}

// flushed has the server count at once what a connection wrote: an idle one
// tells its figures after ten seconds only.
func flushed(t *testing.T, conn *pgx.Conn) {
	t.Helper()
	_, err := conn.Exec(t.Context(), `select pg_stat_force_next_flush()`)
	dbtest.Must(t, err)
}

// measured gives the samples of a metric by segment and period.
func measured(t *testing.T, s *dbtest.Service, metric string) map[string]map[string]timeline.Sample {
	t.Helper()
	m, err := s.Parts.Store.Metric(t.Context(), metric)
	dbtest.Must(t, err)
	series, err := s.Parts.Store.SeriesOf(t.Context(), m.ID)
	dbtest.Must(t, err)
	found := map[string]map[string]timeline.Sample{}
	for _, one := range series {
		samples, err := s.Parts.Store.Samples(t.Context(), []int64{one.ID}, time.Time{}, now.AddDate(1, 0, 0))
		dbtest.Must(t, err)
		found[one.Segment] = map[string]timeline.Sample{}
		for _, v := range samples[one.ID] {
			found[one.Segment][time.Unix(v.At, 0).UTC().Format("02T15")] = v
		}
	}
	return found
}

func TestProbesCountRowsNullsAndAgePerPeriodAndSegment(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	conn := warehouse(t, s)
	load(t, conn, "north", 1, "2026-06-18T08:10:00Z", "2026-06-18T08:20:00Z")
	load(t, conn, "north", nil, "2026-06-18T08:50:00Z", "2026-06-18T09:05:00Z")
	load(t, conn, "north", 3, "2026-06-18T10:10:00Z", "2026-06-18T10:20:00Z")
	load(t, conn, nil, 3, "2026-06-18T10:15:00Z", "2026-06-18T10:20:00Z")
	metrics := []httpapi.NewMetric{
		{Name: "rows", Measure: "rows", SegmentBy: []string{"group"}},
		{Name: "nulls", Measure: "null_share", Column: `a "b`},
		{Name: "age", Measure: "freshness"},
		{Name: "days", Measure: "rows", PeriodSeconds: 86400},
	}
	for _, m := range metrics {
		m.Dataset, m.TimeColumn, m.EverySeconds = "select.order", "when", 3600
		if m.PeriodSeconds == 0 {
			m.PeriodSeconds = 3600
		}
		dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/metrics", m, nil))
		var started httpapi.Started
		dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/metrics/"+m.Name+"/backfill",
			map[string]int{"since_seconds": 2 * 86400}, &started))
		dbtest.Must(t, s.Admin.Follow(t.Context(), started.TaskID, func(int, int) {}))
	}
	rows := measured(t, s, "rows")
	if n := rows["north"]; n["18T08"].Value != 2 || n["18T09"].Value != 0 || n["18T10"].Value != 1 || rows["(none)"]["18T10"].Value != 1 {
		t.Errorf("rows: %v", rows)
	}
	nulls := measured(t, s, "nulls")[""]
	if v := nulls["18T08"]; v.Value != 0.5 || v.Rows != 2 {
		t.Errorf("null share: %+v", v)
	}
	if v := nulls["18T09"]; !v.Missing() || v.Rows != timeline.NoRows {
		t.Errorf("a share of no rows: %+v", v)
	}
	// At nine the row of 08:50 had not been loaded yet.
	if age := measured(t, s, "age")[""]; age["18T08"].Value != 50*60 || age["18T09"].Value != 70*60 || age["18T10"].Value != 45*60 {
		t.Errorf("age at the end of each period: %v", age)
	}
	if days := measured(t, s, "days")[""]; days["17T03"].Value != 0 || len(days) == 0 {
		t.Errorf("days start at local midnight: %v", days)
	}

	var sql httpapi.MetricSQL
	dbtest.Must(t, s.Admin.Get(t.Context(), "/metrics/rows/sql", nil, &sql))
	if !strings.Contains(sql.SQL, `from "select"."order"`) || !strings.Contains(sql.SQL, `"group"`) {
		t.Errorf("the SQL is shown, with names quoted: %s", sql.SQL)
	}

	// Late rows correct the recent past.
	load(t, conn, "north", 5, "2026-06-18T10:30:00Z", "2026-06-18T11:30:00Z")
	collectNow(t, s, `lookback_seconds = 7200`)
	await(t, func() bool { return measured(t, s, "rows")["north"]["18T10"].Value == 2 }, "the late row is counted")
}

// collectNow makes all metrics due, changed as given, and collects them.
func collectNow(t *testing.T, s *dbtest.Service, change string) {
	t.Helper()
	_, err := s.Parts.Store.DB.Exec(`update metric set next_at = $1, `+change, s.Clock.Now())
	dbtest.Must(t, err)
	datasets, err := s.Parts.Store.DueDatasets(t.Context(), s.Clock.Now())
	dbtest.Must(t, err)
	for _, id := range datasets {
		dbtest.Must(t, s.Parts.Collector.Collect(t.Context(), id))
	}
}

func await(t *testing.T, done func() bool, what string) {
	t.Helper()
	for end := time.Now().Add(time.Minute); !done(); time.Sleep(30 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("never happened: " + what)
		}
	}
}

func TestABrokenProbeIsAStateThatRecovers(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	conn := warehouse(t, s)
	in := httpapi.NewMetric{Dataset: "select.order", Name: "rows", Measure: "rows", TimeColumn: "nowhere", PeriodSeconds: 3600,
		EverySeconds: 3600}
	if err := s.Admin.Send(t.Context(), "POST", "/metrics", in, nil); err == nil || !strings.Contains(err.Error(),
		`column "nowhere" does not exist`) {
		t.Errorf("a wrong column is told before anything is kept, in the database's words: %v", err)
	}
	in.TimeColumn = "when"
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/metrics", in, nil))
	state := func() record.Metric {
		m, err := s.Parts.Store.Metric(t.Context(), "rows")
		dbtest.Must(t, err)
		return m
	}
	collect := func() { collectNow(t, s, "lookback_seconds = 0") }
	open := func() []record.Alert {
		var page httpapi.AlertPage
		dbtest.Must(t, s.Admin.Get(t.Context(), "/alerts", url.Values{"state": {"open"}}, &page))
		return page.Alerts
	}
	collect()
	_, err := conn.Exec(t.Context(), `alter table "select"."order" rename to gone`)
	dbtest.Must(t, err)
	collect()
	if m := state(); m.State != "failed" || !strings.Contains(m.Message, "does not exist") {
		t.Errorf("the metric says why it fails: %s %q", m.State, m.Message)
	}
	if list := open(); len(list) != 0 {
		t.Errorf("a first failure is no alert yet: %+v", list)
	}
	for range 2 {
		s.Clock.Set(s.Clock.Now().Add(2 * time.Minute))
		collect()
	}
	if list := open(); len(list) != 1 || list[0].Cause != record.CauseUnreadable || list[0].Dataset != "select.order" ||
		!list[0].Since.Equal(now) || !strings.Contains(list[0].Sentence, "does not exist") {
		t.Fatalf("one alert, since the first failure, with the database's words: %+v", list)
	}
	first := open()[0]
	if err := s.Admin.Send(t.Context(), "POST", fmt.Sprintf("/alerts/%d/new-normal", first.ID), nil, nil); err == nil ||
		!strings.Contains(err.Error(), "has no level") {
		t.Errorf("a new normal of what has no series: %v", err)
	}
	_, err = conn.Exec(t.Context(), `alter table "select".gone rename to "order"`)
	dbtest.Must(t, err)
	collect()
	if m := state(); m.State != "ready" || m.Message != "" || len(open()) != 0 {
		t.Errorf("the metric recovers by itself, and the alert closes: %+v", m)
	}
	_, err = conn.Exec(t.Context(), `alter table "select"."order" drop column "group", add column gate int, alter column "a ""b" type bigint`)
	dbtest.Must(t, err)
	collect()
	list := open()
	if len(list) != 1 || list[0].Cause != record.CauseColumns || !strings.Contains(list[0].Sentence, "group is gone") ||
		!strings.Contains(list[0].Sentence, `a "b is bigint now, was integer`) {
		t.Fatalf("columns that went or changed are an alert: %+v", list)
	}
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/labels", httpapi.NewLabel{Alerts: []int64{list[0].ID}, Verdict: "fault"}, nil))
	var detail httpapi.AlertDetail
	dbtest.Must(t, s.Admin.Get(t.Context(), fmt.Sprintf("/alerts/%d", list[0].ID), nil, &detail))
	if len(detail.Alike) != 1 || detail.Alike[0].ID != first.ID {
		t.Errorf("seen before of the same table: %+v", detail.Alike)
	}
	var history []record.ColumnVersion
	dbtest.Must(t, s.Admin.Get(t.Context(), "/datasets/select.order/columns", nil, &history))
	if len(history) != 2 || len(history[0].Changes) != 3 {
		t.Errorf("history of columns: %+v", history)
	}
}

func TestASourceOutOfReachIsOneAlert(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	conn := warehouse(t, s)
	_, err := conn.Exec(t.Context(), `create table second (at timestamptz); create role reader login password 'pw'; grant select on second to reader`)
	dbtest.Must(t, err)
	address := conn.Config().ConnString()
	reader := "postgres://reader:pw" + address[strings.LastIndex(address, "@"):]
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/sources", httpapi.NewSource{Name: "narrow", Address: reader}, nil))
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/datasets", httpapi.NewDataset{Source: "narrow", Name: "public.second"}, nil))
	for _, measure := range []string{"rows", "freshness"} {
		dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/metrics", httpapi.NewMetric{Dataset: "public.second", Name: measure,
			Measure: measure, TimeColumn: "at", PeriodSeconds: 3600, EverySeconds: 60}, nil))
	}
	_, err = conn.Exec(t.Context(), `alter role reader nologin; select pg_terminate_backend(pid) from pg_stat_activity where usename = 'reader'`)
	dbtest.Must(t, err)
	for range 3 {
		s.Clock.Set(s.Clock.Now().Add(time.Minute))
		collectNow(t, s, "lookback_seconds = 0")
	}
	var page httpapi.AlertPage
	dbtest.Must(t, s.Admin.Get(t.Context(), "/alerts", url.Values{"state": {"open"}}, &page))
	if len(page.Alerts) != 1 || page.Alerts[0].Source != "narrow" || !strings.Contains(page.Alerts[0].Sentence,
		"narrow is out of reach") || !strings.Contains(page.Alerts[0].Sentence, "not permitted to log in") {
		t.Errorf("want one alert about the source: %+v", page.Alerts)
	}
	var sources []record.Source
	dbtest.Must(t, s.Admin.Get(t.Context(), "/sources", nil, &sources))
	if sources[1].Name != "narrow" || sources[1].State != "failed" || sources[0].State != "ready" {
		t.Errorf("sources: %+v", sources)
	}
	_, err = conn.Exec(t.Context(), `alter role reader login`)
	dbtest.Must(t, err)
	collectNow(t, s, "lookback_seconds = 0")
	dbtest.Must(t, s.Admin.Get(t.Context(), "/alerts", url.Values{"state": {"open"}}, &page))
	if len(page.Alerts) != 0 {
		t.Errorf("after recovery: %+v", page.Alerts)
	}
}

func TestAWarehouseIsOnlyEverRead(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	conn := warehouse(t, s)
	load(t, conn, "north", 1, "2026-06-18T08:10:00Z", "2026-06-18T08:20:00Z")
	in := httpapi.NewMetric{Dataset: "select.order", Name: "rows", Measure: "rows", TimeColumn: "when", PeriodSeconds: 3600,
		EverySeconds: 3600,
		RowFilter:    `exists (with gone as (delete from "select"."order" returning 1) select from gone)`}
	if err := s.Admin.Send(t.Context(), "POST", "/metrics", in, nil); err == nil {
		t.Error("a row filter that writes was accepted")
	}
	var n int
	dbtest.Must(t, conn.QueryRow(t.Context(), `select count(*) from "select"."order"`).Scan(&n))
	if n != 1 {
		t.Errorf("%d rows are left of one", n)
	}
}
