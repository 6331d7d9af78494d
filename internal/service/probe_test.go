package service_test

import (
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/timeline"
	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/work"
)

// warehouse makes a table whose names need quoting, in a database of its own,
// and adds it as a dataset.
func warehouse(t *testing.T, s *dbtest.Service) *pgx.Conn {
	t.Helper()
	_, err := s.Postgres.EnsureDatabase(t.Context(), "house")
	dbtest.Must(t, err)
	conn, err := pgx.Connect(t.Context(), s.Postgres.URL("house"))
	dbtest.Must(t, err)
	t.Cleanup(func() { conn.Close(t.Context()) })
	_, err = conn.Exec(t.Context(), `create schema "select"; create table "select"."order" ("group" text, "a ""b" int, "when" timestamptz, loaded timestamptz)`)
	dbtest.Must(t, err)
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/sources", httpapi.NewSource{Name: "house", Address: s.Postgres.URL("house")}, nil))
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/datasets", httpapi.NewDataset{Source: "house", Name: "select.order", Zone: "America/Halifax", LoadedBy: "loaded"}, nil))
	return conn
}

func load(t *testing.T, conn *pgx.Conn, group any, value any, when, loaded string) {
	t.Helper()
	_, err := conn.Exec(t.Context(), `insert into "select"."order" values ($1, $2, $3, $4)`, group, value, when, loaded)
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
		dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/metrics/"+m.Name+"/backfill", map[string]int{"since_seconds": 2 * 86400}, &started))
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
	_, err := s.Parts.Store.DB.Exec(`update metric set lookback_seconds = 7200`)
	dbtest.Must(t, err)
	m, err := s.Parts.Store.Metric(t.Context(), "rows")
	dbtest.Must(t, err)
	dbtest.Must(t, s.Parts.Queue.Add(t.Context(), work.Collect{MetricID: m.ID}))
	await(t, func() bool { return measured(t, s, "rows")["north"]["18T10"].Value == 2 }, "the late row is counted")
}

func await(t *testing.T, done func() bool, what string) {
	t.Helper()
	for end := time.Now().Add(20 * time.Second); !done(); time.Sleep(30 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("never happened: " + what)
		}
	}
}

func TestABrokenProbeIsAStateThatRecovers(t *testing.T) {
	s := dbtest.Start(t, now)
	conn := warehouse(t, s)
	in := httpapi.NewMetric{Dataset: "select.order", Name: "rows", Measure: "rows", TimeColumn: "nowhere", PeriodSeconds: 3600, EverySeconds: 3600}
	if err := s.Admin.Send(t.Context(), "POST", "/metrics", in, nil); err == nil || !strings.Contains(err.Error(), `column "nowhere" does not exist`) {
		t.Errorf("a wrong column is told before anything is kept, in the database's words: %v", err)
	}
	in.TimeColumn = "when"
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/metrics", in, nil))
	state := func() record.Metric {
		m, err := s.Parts.Store.Metric(t.Context(), "rows")
		dbtest.Must(t, err)
		return m
	}
	collect := func() {
		dbtest.Must(t, s.Parts.Queue.Add(t.Context(), work.Collect{MetricID: state().ID}))
	}
	_, err := conn.Exec(t.Context(), `alter table "select"."order" rename to gone`)
	dbtest.Must(t, err)
	collect()
	await(t, func() bool { m := state(); return m.State == "failed" && strings.Contains(m.Message, "does not exist") }, "the metric says why it fails")
	_, err = conn.Exec(t.Context(), `alter table "select".gone rename to "order"`)
	dbtest.Must(t, err)
	await(t, func() bool { collect(); return state().State == "ready" }, "the metric recovers by itself")
}

func TestAWarehouseIsOnlyEverRead(t *testing.T) {
	s := dbtest.Start(t, now)
	conn := warehouse(t, s)
	load(t, conn, "north", 1, "2026-06-18T08:10:00Z", "2026-06-18T08:20:00Z")
	in := httpapi.NewMetric{Dataset: "select.order", Name: "rows", Measure: "rows", TimeColumn: "when", PeriodSeconds: 3600, EverySeconds: 3600,
		RowFilter: `exists (with gone as (delete from "select"."order" returning 1) select from gone)`}
	if err := s.Admin.Send(t.Context(), "POST", "/metrics", in, nil); err == nil {
		t.Error("a row filter that writes was accepted")
	}
	var n int
	dbtest.Must(t, conn.QueryRow(t.Context(), `select count(*) from "select"."order"`).Scan(&n))
	if n != 1 {
		t.Errorf("%d rows are left of one", n)
	}
}
