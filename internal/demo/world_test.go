package demo

import (
	"bytes"
	"context"
	"encoding/csv"
	"math"
	"strings"
	"testing"
	"time"

	ical "github.com/arran4/golang-ical"

	"tinbell/internal/dbtest"
	"tinbell/internal/localpg"
	"tinbell/internal/record"
)

var asOf = time.Date(2026, 6, 18, 12, 0, 0, 0, time.UTC)

func world(t testing.TB, seed uint64) *World {
	t.Helper()
	w, err := NewWorld(seed, asOf)
	if err != nil {
		t.Fatal(err)
	}
	return w
}

// quiet is a world in which nothing goes wrong but what the test adds.
func quiet(t testing.TB, effects ...Effect) *World {
	w := world(t, 7)
	w.Effects, w.byTable = effects, nil
	return w
}

func rowsBetween(w *World, t *Table, from, to time.Time) (rows []Row) {
	for at := from; at.Before(to); at = at.Add(time.Hour) {
		rows = append(rows, w.Rows(t, at)...)
	}
	return rows
}

func TestTheSameSeedGivesTheSamePast(t *testing.T) {
	a, b, other := world(t, 3), world(t, 3), world(t, 4)
	for i := range Tables {
		at := asOf.AddDate(0, 0, -23)
		x, y := rowsBetween(a, &Tables[i], at, at.Add(80*time.Hour)), rowsBetween(b, &Tables[i], at, at.Add(80*time.Hour))
		if len(x) == 0 || len(x) != len(y) {
			t.Fatalf("%s: %d and %d rows from one seed", Tables[i].Name, len(x), len(y))
		}
		for k := range x {
			for j := range x[k].Values {
				if x[k].Values[j] != y[k].Values[j] {
					t.Fatalf("%s row %d differs: %v, %v", Tables[i].Name, k, x[k], y[k])
				}
			}
		}
	}
	if a.Faults[0].From.Equal(other.Faults[0].From) && a.Faults[5].From.Equal(other.Faults[5].From) &&
		a.Faults[9].Segment == other.Faults[9].Segment && a.Faults[13].Segment == other.Faults[13].Segment {
		t.Error("another seed should give another past")
	}
}

func TestFaultsStandInTheRows(t *testing.T) {
	table := TableNamed("ops.boarding_scans")
	from := asOf.AddDate(0, 0, -10)
	to := from.Add(24 * time.Hour)
	clean := len(rowsBetween(quiet(t), table, from, to))
	effect := func(kind EffectKind, size float64, column string) []Row {
		return rowsBetween(quiet(t, Effect{Kind: kind, Table: table.Name, Segment: -1, From: from, To: to, Size: size,
			Column: column}), table, from, to)
	}
	share := func(n int) float64 { return float64(n) / float64(clean) }
	if got := share(len(effect(Drop, 0.4, ""))); math.Abs(got-0.6) > 0.03 {
		t.Errorf("a drop of 0.4 leaves %.2f", got)
	}
	if got := share(len(effect(Double, 0, ""))); got != 2 {
		t.Errorf("a doubled load has %.2f of the rows", got)
	}
	nulls := 0
	for _, r := range effect(Nulls, 0.3, "passenger_type") {
		if r.Values[3] == nil {
			nulls++
		}
	}
	if got := share(nulls); got < 0.26 || got > 0.36 {
		t.Errorf("nulls at 0.3 give %.2f", got)
	}
	for _, r := range effect(Stall, 0, "") {
		// What came in the stretch arrives after its end.
		if !r.Loaded.Before(from.Add(10*time.Minute)) && r.Loaded.Before(to) {
			t.Fatalf("a row was loaded at %s during the stall", r.Loaded)
		}
	}
}

func TestTheCatalogueAndTheCalendarCanBeRead(t *testing.T) {
	w := world(t, 1)
	lines, err := csv.NewReader(bytes.NewReader(w.Catalogue())).ReadAll()
	if err != nil || len(lines) < 38 {
		t.Fatalf("%d lines, %v", len(lines), err)
	}
	covered := map[string]bool{}
	for _, l := range lines[1:] {
		start, errStart := time.Parse(time.RFC3339, l[3])
		end, errEnd := time.Parse(time.RFC3339, l[4])
		if errStart != nil || errEnd != nil || !end.After(start) || end.After(w.AsOf) {
			t.Errorf("window of %v", l)
		}
		covered[l[1]] = true
	}
	for i := range Tables {
		if !covered[Tables[i].Name] {
			t.Errorf("no incident on %s", Tables[i].Name)
		}
	}
	cal, err := ical.ParseCalendar(bytes.NewReader(w.Calendar()))
	if err != nil || len(cal.Events()) < 6 || !strings.Contains(string(w.Calendar()), "HOLIDAY") {
		t.Errorf("calendar: %v", err)
	}
}

func TestPeopleWouldLabelByWhatHappened(t *testing.T) {
	w := world(t, 1)
	f := w.Faults[5]
	end := f.To
	alert := record.Alert{Dataset: f.Dataset, Measure: f.Measure, Segment: f.Segment, RaisedAt: f.From.Add(2 * time.Hour), EndedAt: &end}
	if v, cause := w.truth(alert); v != record.Fault || cause != f.Cause {
		t.Errorf("an alert in a fault is a %s (%s)", v, cause)
	}
	alert.Segment = "Esk Point"
	if v, _ := w.truth(alert); v != record.Noise {
		t.Errorf("at another port it is %s", v)
	}
}

func TestFeedingGoesOnWhereThePastEndedAndBreakagesHold(t *testing.T) {
	ctx := context.Background()
	server, err := localpg.Start(ctx, localpg.Options{Dir: dbtest.Folder(t), NoSync: true})
	dbtest.Must(t, err)
	defer server.Stop()
	_, err = server.EnsureDatabase(ctx, "vellamar")
	dbtest.Must(t, err)
	house := OpenWarehouse(server.URL("vellamar"), world(t, 5))
	_, err = house.Fill(ctx, func(int, int) {})
	dbtest.Must(t, err)
	conn, err := house.connect(ctx)
	dbtest.Must(t, err)
	defer conn.Close(ctx)
	count := func(where string) (n int) {
		dbtest.Must(t, conn.QueryRow(ctx, "select count(*) from ops.boarding_scans where "+where).Scan(&n))
		return n
	}
	unique := func() {
		t.Helper()
		var n int
		dbtest.Must(t, conn.QueryRow(ctx, "select count(*) - count(distinct id) from ops.boarding_scans").Scan(&n))
		if n != 0 {
			t.Errorf("%d rows stand twice", n)
		}
	}
	for minutes := 10; minutes <= 120; minutes += 10 {
		_, err := house.Feed(ctx, asOf.Add(time.Duration(minutes)*time.Minute))
		dbtest.Must(t, err)
	}
	unique()
	want := 0
	w := world(t, 5)
	for _, r := range rowsBetween(w, TableNamed("ops.boarding_scans"), asOf.Add(-3*time.Hour), asOf.Add(2*time.Hour)) {
		if r.Loaded.After(asOf) && !r.Loaded.After(asOf.Add(2*time.Hour)) {
			want++
		}
	}
	if got := count("loaded_at > '2026-06-18T12:00:00Z'"); got != want || want == 0 {
		t.Errorf("%d rows fed, %d generated", got, want)
	}
	_, err = house.Break(ctx, Drop, "ops.boarding_scans", "Ansby", 1, asOf)
	dbtest.Must(t, err)
	_, err = house.Feed(ctx, asOf.Add(4*time.Hour))
	dbtest.Must(t, err)
	if n := count("port = 'Ansby' and scanned_at >= '2026-06-18T12:00:00Z'"); n != 0 {
		t.Errorf("%d rows of a dropped port are there", n)
	}
	mended, err := house.Mend(ctx, asOf.Add(4*time.Hour))
	dbtest.Must(t, err)
	_, err = house.Feed(ctx, asOf.Add(6*time.Hour))
	dbtest.Must(t, err)
	if n := count("port = 'Ansby' and scanned_at >= '2026-06-18T16:30:00Z'"); n == 0 || len(mended) != 1 {
		t.Errorf("after mending %d breakages %d rows came", len(mended), n)
	}
	for _, bad := range [][2]string{{"ops.nothing", ""}, {"ops.boarding_scans", "Atlantis"}} {
		if _, err := house.Break(ctx, Drop, bad[0], bad[1], 1, asOf); err == nil {
			t.Errorf("%v was broken", bad)
		}
	}
	unique()
}
