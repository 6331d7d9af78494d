package diagnose_test

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/client"
	"tinbell/internal/collect/warehouse"
	"tinbell/internal/dbtest"
	"tinbell/internal/diagnose"
	"tinbell/internal/httpapi"
	"tinbell/internal/people"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

func TestMain(m *testing.M) { dbtest.Main(m) }

var now = time.Date(2026, 6, 18, 12, 0, 0, 0, time.UTC)

// mill is a warehouse of grain loads: seven weeks of forty an hour, of which the last
// eight hours of one depot are mostly lost, and whose moisture is missing at another.
func mill(t *testing.T, s *dbtest.Service) *pgx.Conn {
	t.Helper()
	address := s.NewDatabase(t)
	conn, err := pgx.Connect(t.Context(), address)
	dbtest.Must(t, err)
	t.Cleanup(func() { conn.Close(t.Context()) })
	_, err = conn.Exec(t.Context(), `
		create table loads (id bigint, depot text, crop text, moisture float8, driver text, weighed_at timestamptz);
		insert into loads select row_number() over (), depot, (array['rye', 'oats', 'spelt'])[1 + (n % 3)], case when depot = 'brook' and at >= '2026-06-18T04:00:00Z' and n % 2 = 0 then null else 12.5 end,
			'driver ' || n, at + n * interval '4 minutes'
		from generate_series('2026-04-30T00:00:00Z'::timestamptz, '2026-06-18T11:00:00Z', interval '1 hour') at, unnest(array['hill', 'brook', 'quay', 'ford']) depot,
			generate_series(0, 9 + (extract(hour from at)::int % 4)) n
		where not (depot = 'quay' and at >= '2026-06-18T04:00:00Z' and n % 5 > 0)`)
	dbtest.Must(t, err)
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/sources", httpapi.NewSource{Name: "mill", Address: address}, nil))
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/datasets", httpapi.NewDataset{Source: "mill", Name: "public.loads",
		Zone: "America/Halifax"}, nil))
	for _, m := range []httpapi.NewMetric{{Name: "loads", Measure: "rows"}, {Name: "dry", Measure: "null_share",
		Column: "moisture", SegmentBy: []string{"depot"}}} {
		watched(t, s, m)
	}
	return conn
}

// watched measures the loads by one more metric, from their beginning, and watches it.
func watched(t *testing.T, s *dbtest.Service, m httpapi.NewMetric) {
	t.Helper()
	m.Dataset, m.TimeColumn, m.EverySeconds, m.PeriodSeconds = "public.loads", "weighed_at", 3600, 3600
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/metrics", m, nil))
	var started httpapi.Started
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/metrics/"+m.Name+"/backfill", map[string]int{"since_seconds": 48 * 86400}, &started))
	dbtest.Must(t, s.Admin.Follow(t.Context(), started.TaskID, func(int, int) {}))
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/monitors", httpapi.NewMonitor{Name: m.Name, Metric: m.Name}, nil))
}

// rung raises an alert on a segment of a monitor's metric over the last eight hours.
func rung(t *testing.T, s *dbtest.Service, monitor, segment, direction string) int64 {
	t.Helper()
	m, err := s.Parts.Store.Monitor(t.Context(), monitor)
	dbtest.Must(t, err)
	list, err := s.Parts.Store.SeriesOf(t.Context(), m.MetricID)
	dbtest.Must(t, err)
	i := slices.IndexFunc(list, func(x record.Series) bool { return x.Segment == segment })
	to := now.Add(-time.Hour)
	var id int64
	dbtest.Must(t, s.Parts.Store.InTx(t.Context(), func(tx pgx.Tx) error {
		id, err = store.PutAlert(t.Context(), tx, record.Alert{MonitorID: m.ID, SeriesID: list[i].ID, Cause: "deviation",
			Direction: direction, Severity: "critical",
			Since: now.Add(-8 * time.Hour), RaisedAt: to, RangTo: &to, Sentence: "something is wrong", Observed: 1, Expected: 2})
		return err
	}))
	return id
}

func why(t *testing.T, s *dbtest.Service, alert int64) (w diagnose.Why) {
	t.Helper()
	dbtest.Must(t, s.Admin.Get(t.Context(), fmt.Sprintf("/alerts/%d/why", alert), nil, &w))
	return w
}

func TestTheSegmentsBehindAChangeAreFoundInTheWarehouse(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	mill(t, s)
	w := why(t, s, rung(t, s, "loads", "", "low"))
	c := w.Contribution
	if c == nil {
		t.Fatalf("no contribution: %v", w.Missing)
	}
	if len(c.Parts) != 1 || len(c.Parts[0].Tags) != 1 || c.Parts[0].Tags[0] != (diagnose.Dimension{Column: "depot",
		Value: "quay"}) || c.Explained < 0.9 || c.Explained > 1.1 {
		t.Errorf("parts %+v explain %.2f", c.Parts, c.Explained)
	}
	if slices.Contains(c.Columns, "id") || !slices.Contains(c.Columns, "crop") || c.By[0].Column != "depot" {
		t.Errorf("looked at %v, the most telling is %s", c.Columns, c.By[0].Column)
	}
	if !strings.HasPrefix(w.Line, "depot = quay: ") {
		t.Errorf("in one line: %q", w.Line)
	}

	// Of a share: the depot whose moisture is missing, though nothing about rows.
	w = why(t, s, rung(t, s, "dry", "brook", "high"))
	if c := w.Contribution; c == nil || c.Measure != "share" || len(c.Parts) != 1 || c.Parts[0].Tags[0].Value != "brook" ||
		c.By[0].Rate < 0.9*(c.Observed-c.Expected) {
		t.Errorf("%+v, %v", c, w.Missing)
	}
	if together := w.Together; together == nil || together.Broken != 2 || together.Series != 5 || len(together.Most) != 1 ||
		together.Most[0].Metric != "loads" || together.Most[0].Alert == 0 {
		t.Errorf("what broke with it: %+v, %v", together, w.Missing)
	}
}

func TestRowsOfATableThatStandOutAreFoundAndTheSQLFindsThem(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	conn := mill(t, s)
	_, err := conn.Exec(t.Context(), `insert into loads values (-1, 'ford', 'rye', 900, 'driver x', '2026-06-17T10:00:00Z'), (-2, 'ford', 'rye', -900, 'driver y', '2026-06-17T10:00:01Z'), (-3, 'ford', 'rye', 'NaN', 'driver z', '2026-06-17T10:00:02Z');
		update loads set moisture = 10 + id % 7 where id > 0 and moisture is not null; delete from loads where crop = 'rye' and depot = 'hill' and id % 3000 > 5`)
	dbtest.Must(t, err)
	post := func(body map[string]any, into any) error {
		return s.Admin.Send(t.Context(), "POST", "/datasets/public.loads/outliers", body, into)
	}
	var found diagnose.TableOutliers
	dbtest.Must(t, post(map[string]any{"column": "moisture", "key": "depot", "pairs": []string{"depot", "crop"},
		"from": now.AddDate(0, 0, -10)}, &found))
	if len(found.Studies) != 4 || found.Studies[0].Key != "ford" || len(found.Studies[0].Odd) != 2 ||
		len(found.Studies[1].Odd) != 0 || found.Studies[0].Missing != 1 {
		t.Fatalf("what stands out: %+v", found.Studies)
	}
	if len(found.Pairs) != 1 || found.Pairs[0].First != "hill" || found.Pairs[0].Second != "rye" {
		t.Errorf("pairs: %+v", found.Pairs)
	}
	rows, err := conn.Query(t.Context(), "select id from ("+found.SQL+") found order by id")
	dbtest.Must(t, err)
	ids, err := pgx.CollectRows(rows, pgx.RowTo[int64])
	if dbtest.Must(t, err); !slices.Equal(ids, []int64{-3, -2, -1}) && !slices.Equal(ids, []int64{-2, -1}) {
		t.Errorf("the SQL finds %v:\n%s", ids, found.SQL)
	}
	dbtest.Must(t, s.Admin.Send(t.Context(), "PUT", "/datasets/public.loads/hidden", map[string][]string{"columns": {"driver"}}, nil))
	for _, body := range []map[string]any{{"column": "depot"}, {"column": "driver"}, {"column": "moisture", "key": "driver"},
		{"column": "moisture", "key": "nothing"}, {"column": "moisture", "time_column": "crop"},
		{"column": "moisture", "low": "wet"}, {"column": "moisture", "from": now.AddDate(1, 0, 0), "to": now.AddDate(2, 0, 0)}} {
		if err := post(body, nil); err == nil {
			t.Errorf("%v is not refused", body)
		}
	}
	var trail []record.Audit
	dbtest.Must(t, s.Admin.Get(t.Context(), "/audit", url.Values{"what": {"looked"}}, &trail))
	if len(trail) == 0 || !strings.Contains(trail[len(trail)-1].Note, "stand out by moisture") {
		t.Errorf("the audit trail: %+v", trail)
	}
}

func TestARatioInAPersonsOwnSQLIsTakenApartAndADistinctCountIsNot(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	mill(t, s)
	watched(t, s, httpapi.NewMetric{Name: "damp", Measure: "expression", Expression: "sum(moisture) / nullif(count(*), 0)"})
	watched(t, s, httpapi.NewMetric{Name: "drivers", Measure: "expression", Expression: "count(distinct driver)"})
	c := why(t, s, rung(t, s, "damp", "", "low")).Contribution
	if c == nil || c.Measure != "mean" || len(c.Parts) != 1 || c.Parts[0].Tags[0] != (diagnose.Dimension{Column: "depot",
		Value: "brook"}) || c.Observed >= 12 || c.Expected != 12.5 {
		t.Errorf("of a ratio: %+v", c)
	}
	w := why(t, s, rung(t, s, "drivers", "", "low"))
	if w.Contribution != nil || !strings.Contains(w.Missing["contribution"], "does not follow from those of its parts") {
		t.Errorf("of a count of different values: %+v, %v", w.Contribution, w.Missing)
	}
}

func TestRowsAreShownToEditorsOnlyAndTheAuditTrailSaysSo(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	mill(t, s)
	id := rung(t, s, "dry", "brook", "high")
	if err := s.Admin.Send(t.Context(), "PUT", "/datasets/public.loads/hidden", map[string][]string{"columns": {"drivr"}},
		nil); err == nil || !strings.Contains(err.Error(), "driver") {
		t.Errorf("a column that is not there: %v", err)
	}
	dbtest.Must(t, s.Admin.Send(t.Context(), "PUT", "/datasets/public.loads/hidden", map[string][]string{"columns": {"driver"}}, nil))
	w := why(t, s, id)
	i := slices.IndexFunc(w.Listings, func(l warehouse.Listing) bool { return l.Name == "nulls" })
	if i < 0 || strings.Contains(w.Listings[i].SQL, "driver") || !strings.Contains(w.Listings[i].SQL, `"moisture" is null`) {
		t.Fatalf("listings: %+v", w.Listings)
	}
	if c := w.Contribution; c == nil || slices.Contains(c.Columns, "driver") {
		t.Errorf("a hidden column explains: %+v", c)
	}
	var found warehouse.Found
	path := fmt.Sprintf("/alerts/%d/rows", id)
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", path, map[string]any{"listing": "nulls", "limit": 7}, &found))
	depot, moisture := slices.Index(found.Columns, "depot"), slices.Index(found.Columns, "moisture")
	if len(found.Rows) != 7 || !found.More || slices.Contains(found.Columns, "driver") || found.Rows[0][depot] != "brook" ||
		found.Rows[0][moisture] != "(none)" {
		t.Errorf("rows: %+v", found)
	}
	if err := s.Admin.Send(t.Context(), "POST", path, map[string]any{"listing": "drop table loads"}, nil); err == nil ||
		!strings.Contains(err.Error(), "nulls") {
		t.Errorf("a listing that is not there: %v", err)
	}
	reader, err := s.Parts.People.Make(t.Context(), people.Wanted{Name: "ria", Role: people.Reader, For: "test"})
	dbtest.Must(t, err)
	if err := client.New(s.Address, reader).Send(t.Context(), "POST", path, map[string]any{"listing": "nulls"},
		nil); err == nil || !strings.Contains(err.Error(), "editor") {
		t.Errorf("a reader looks at rows: %v", err)
	}
	var trail []record.Audit
	dbtest.Must(t, s.Admin.Get(t.Context(), "/audit", url.Values{"what": {"looked"}}, &trail))
	if len(trail) != 1 || trail[0].About != "public.loads" || trail[0].Note != "Rows without moisture" || trail[0].Who == "" {
		t.Errorf("audit: %+v", trail)
	}
}

func TestWhatCannotBeFoundOutSaysWhyNotAndTheRestStands(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	conn := mill(t, s)
	id := rung(t, s, "loads", "", "low")

	// Somebody holds the table: the page does not wait for long.
	tx, err := conn.Begin(t.Context())
	dbtest.Must(t, err)
	_, err = tx.Exec(t.Context(), `lock table loads in access exclusive mode`)
	dbtest.Must(t, err)
	w := why(t, s, id)
	if !strings.Contains(w.Missing["contribution"], "too long") || w.Together == nil {
		t.Errorf("a slow warehouse: %v", w.Missing)
	}
	dbtest.Must(t, tx.Rollback(t.Context()))

	_, err = conn.Exec(t.Context(), `drop table loads`)
	dbtest.Must(t, err)
	w = why(t, s, id)
	if !strings.Contains(w.Missing["contribution"], "does not exist") || !strings.Contains(w.Missing["listings"],
		"does not exist") || w.Together == nil || w.Line != "" {
		t.Errorf("a table gone meanwhile: %v, %q", w.Missing, w.Line)
	}
	if !strings.Contains(w.Missing["lineage"], "no run") || !strings.Contains(w.Missing["before"], "nothing like it") {
		t.Errorf("nothing known of lineage and past: %v", w.Missing)
	}
	if err := s.Admin.Get(t.Context(), "/alerts/999999/why", nil, nil); err == nil || !strings.Contains(err.Error(), "no alert") {
		t.Errorf("an alert that is not there: %v", err)
	}
}
