package warehouse

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5/pgconn"

	"tinbell/internal/record"
)

func build(t *testing.T, loadedBy string, batch ...record.Metric) string {
	t.Helper()
	q, err := Build(batch, LoadColumn{Name: loadedBy})
	if err != nil {
		t.Fatal(err)
	}
	return q.SQL
}

func holds(t *testing.T, sql string, wanted ...string) {
	t.Helper()
	for _, want := range wanted {
		if !strings.Contains(sql, want) {
			t.Errorf("%s is missing in:\n%s", want, sql)
		}
	}
}

func TestProbesQuoteWhateverANameHolds(t *testing.T) {
	m := record.Metric{Dataset: `raw.or"der; drop table x`, Measure: "rows", TimeColumn: `at"; --`,
		SegmentBy: record.Strings{"select", "from"}, PeriodSeconds: 86400, Zone: "America/Halifax'; --"}
	holds(t, build(t, "", m), `"raw"."or""der; drop table x"`, `"at""; --" >= $1`, `"select"::text`, `"from"::text`,
		`'America/Halifax''; --'`, "date_trunc('day'")
	m.Measure, m.Column, m.Matches = record.MeasureValueShare, `a"b`, "it's"
	holds(t, build(t, "", m), `"a""b"::text = 'it''s'`)
	m.KeptSegments = record.Strings{"O'Neill / x", "b / y"}
	holds(t, build(t, "", m), "in ('O''Neill / x', 'b / y')", "else '(other)' end")
	m.Measure = "mood"
	if _, err := Build([]record.Metric{m}, LoadColumn{}); err == nil || !strings.Contains(err.Error(), "rows, freshness, null_share") {
		t.Errorf("an unknown measure: %v", err)
	}
}

func TestFreshnessIsTakenAsItWasKnown(t *testing.T) {
	m := record.Metric{Dataset: "ops.scans", Measure: record.MeasureFreshness, TimeColumn: "scanned_at", PeriodSeconds: 3600,
		RowFilter: "port = 'Ansby'"}
	holds(t, build(t, "loaded_at", m), `max("scanned_at")`, `"loaded_at" >= $1`, "and (port = 'Ansby')")
}

func TestTimesWithoutAZoneAreLocalAndTheirIndexIsUsed(t *testing.T) {
	m := record.Metric{Dataset: "ops.scans", Measure: record.MeasureRows, TimeColumn: "at", TimeType: "timestamp",
		PeriodSeconds: 3600, Zone: "America/Halifax"}
	holds(t, build(t, "", m), `date_bin('3600 seconds', ("at" at time zone 'America/Halifax'), 'epoch')`,
		`"at" >= (($1)::timestamptz at time zone 'America/Halifax')`)
	m.TimeType, m.PeriodSeconds = "date", 86400
	holds(t, build(t, "", m), `("at"::timestamp at time zone 'America/Halifax')`,
		`"at" < (($2)::timestamptz at time zone 'America/Halifax')::date`)
}

func TestMetricsOfTheSameRowsShareAPass(t *testing.T) {
	base := record.Metric{Dataset: "ops.scans", TimeColumn: "at", PeriodSeconds: 3600, Zone: "UTC"}
	of := func(measure, column string, change func(*record.Metric)) record.Metric {
		m := base
		m.Measure, m.Column = measure, column
		if change != nil {
			change(&m)
		}
		return m
	}
	metrics := []record.Metric{
		of("rows", "", nil), of("mean", "fare", nil), of("null_share", "port", nil),
		of("rows", "", func(m *record.Metric) { m.SegmentBy = record.Strings{"port"} }),
		of("max", "fare", func(m *record.Metric) { m.SegmentBy = record.Strings{"port"} }),
		of("rows", "", func(m *record.Metric) { m.RowFilter = "port is not null" }),
		of("freshness", "", nil), of("table_bytes", "", nil), of("rows", "", func(m *record.Metric) { m.TimeColumn = "" }),
	}
	var sizes []int
	for _, batch := range Batches(metrics) {
		sizes = append(sizes, len(batch))
	}
	if got := fmt.Sprint(sizes); got != "[3 2 1 1 1 1]" {
		t.Errorf("passes take %s metrics", got)
	}
	sql := build(t, "", Batches(metrics)[0]...)
	if strings.Count(sql, "from \"ops\"") != 1 {
		t.Errorf("one pass reads the table once:\n%s", sql)
	}
	holds(t, sql, "(count(*))::double precision as v1", `(avg("fare"))::double precision as v2`, "as of3")
}

func TestTimeColumnsAreProposed(t *testing.T) {
	times, loaded := propose([]record.Column{{Name: "id", Type: "bigint"}, {Name: "loaded_at", Type: "timestamp with time zone"},
		{Name: "day", Type: "date"},
		{Name: "sold_at", Type: "timestamp(3) with time zone"}, {Name: "said_at", Type: "text"},
		{Name: "local", Type: "timestamp without time zone"}})
	if fmt.Sprint(times) != "[day sold_at local loaded_at]" || loaded != "loaded_at" {
		t.Errorf("time columns %v, loading %q", times, loaded)
	}
}

func TestOutOfReachIsToldFromRefused(t *testing.T) {
	for code, reached := range map[string]bool{"42P01": true, "42703": true, "42501": true, "57014": true, "28P01": false,
		"3D000": false, "57P01": false, "53300": false} {
		if got := Reached(fmt.Errorf("ask: %w", &pgconn.PgError{Code: code})); got != reached {
			t.Errorf("%s: reached %t", code, got)
		}
	}
	if Reached(errors.New("dial tcp: connection refused")) {
		t.Error("a database that does not answer was reached")
	}
}

func TestAQueryMayEndAsPeopleEndIt(t *testing.T) {
	for query, want := range map[string]string{
		"select 1":                          "select 1",
		" select 1 ; \n":                    "select 1 ",
		"select 1; -- the first":            "select 1",
		"select 1 -- the first":             "select 1 -- the first",
		"select ';' as x":                   "select ';' as x",
		"select ';--' as x":                 "select ';--' as x",
		"select 1; -- one\nselect 2":        "select 1; -- one\nselect 2",
		"select 1; drop table x; select 2 ": "select 1; drop table x; select 2",
	} {
		if got := plain(query); got != want {
			t.Errorf("%q is asked as %q, wanted %q", query, got, want)
		}
	}
}
