package reconcile_test

import (
	"fmt"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/config"
	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/reconcile"
	"tinbell/internal/record"
)

func TestMain(m *testing.M) { dbtest.Main(m) }

var now = time.Date(2026, 6, 18, 12, 0, 0, 0, time.UTC)

// post is a warehouse of letters that are sorted and an hour later delivered; since
// four o'clock today half of those of the west round are not.
func post(t *testing.T, s *dbtest.Service) *pgx.Conn {
	t.Helper()
	address := s.NewDatabase(t)
	conn, err := pgx.Connect(t.Context(), address)
	dbtest.Must(t, err)
	t.Cleanup(func() { conn.Close(t.Context()) })
	_, err = conn.Exec(t.Context(), `
		create table sorted as select row_number() over () as id, (array['west', 'east'])[1 + n % 2] as round, 1 + n % 5 as grams, at + n * interval '30 seconds' as at
			from generate_series('2026-05-06T00:00:00Z'::timestamptz, '2026-06-18T10:00:00Z', interval '1 hour') at, generate_series(0, 99) n;
		create table delivered as select id as letter, round, grams, at + interval '1 hour' as at from sorted
			where not (round = 'west' and at >= '2026-06-18T04:00:00Z' and extract(epoch from at)::bigint / 60 % 2 = 0)`)
	dbtest.Must(t, err)
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/sources", httpapi.NewSource{Name: "post", Address: address}, nil))
	for _, table := range []string{"sorted", "delivered"} {
		dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/datasets", httpapi.NewDataset{Source: "post", Name: "public." + table,
			Zone: "UTC"}, nil))
		m := httpapi.NewMetric{Dataset: "public." + table, Name: table, Measure: "rows", TimeColumn: "at",
			SegmentBy: []string{"round"}, EverySeconds: 3600, PeriodSeconds: 3600}
		dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/metrics", m, nil))
		backfill(t, s, table)
	}
	return conn
}

func backfill(t *testing.T, s *dbtest.Service, metric string) {
	t.Helper()
	var started httpapi.Started
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/metrics/"+metric+"/backfill", map[string]int{"since_seconds": 43 * 86400}, &started))
	dbtest.Must(t, s.Admin.Follow(t.Context(), started.TaskID, func(int, int) {}))
}

func TestADifferenceIsASeriesThatRings(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	post(t, s)
	var v record.Reconciliation
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/reconciliations", reconcile.Order{Up: "public.sorted",
		Down: "public.delivered", By: record.Strings{"round"}, LagSeconds: 3600, Tolerance: 0.01}, &v))
	if v.Name != "public.delivered-against-public.sorted" || v.Up != "sorted" || v.Down != "delivered" || v.ComparedTo == nil {
		t.Fatalf("%+v", v)
	}
	s.Settle(t)
	m, err := s.Parts.Store.Metric(t.Context(), v.Metric)
	dbtest.Must(t, err)
	series, err := s.Parts.Store.SeriesOf(t.Context(), m.ID)
	dbtest.Must(t, err)
	for _, one := range series {
		samples, err := s.Parts.Store.Samples(t.Context(), []int64{one.ID}, now.AddDate(0, 0, -20), now)
		dbtest.Must(t, err)
		list := samples[one.ID]
		if len(list) < 400 {
			t.Fatalf("%s has %d samples", one.Segment, len(list))
		}
		for _, x := range list {
			at := time.Unix(x.At, 0).UTC()
			lost := one.Segment == "west" && !at.Before(time.Date(2026, 6, 18, 5, 0, 0, 0, time.UTC))
			if (x.Value > 0.4) != lost || !lost && x.Value != 0 {
				t.Fatalf("%s at %s: %.2f apart", one.Segment, at.Format(time.RFC3339), x.Value)
			}
		}
	}
	var page httpapi.AlertPage
	dbtest.Must(t, s.Admin.Get(t.Context(), "/alerts", map[string][]string{"monitor": {v.Metric}}, &page))
	if len(page.Alerts) != 1 || page.Alerts[0].Segment != "west" || !strings.Contains(page.Alerts[0].Sentence, "share on one side only") {
		t.Errorf("alerts: %+v", page.Alerts)
	}

	// What is not there yet is made; what cannot be is refused.
	for name, c := range map[string]struct {
		order reconcile.Order
		want  string
	}{
		"itself":     {reconcile.Order{Up: "public.sorted", Down: "public.sorted"}, "another dataset"},
		"no dataset": {reconcile.Order{Up: "public.nowhere", Down: "public.sorted"}, "no dataset"},
		"one key":    {reconcile.Order{Up: "public.sorted", Down: "public.delivered", UpKey: "id"}, "both, or neither"},
		"no column":  {reconcile.Order{Up: "public.sorted", Down: "public.delivered", Measure: "sum"}, "a column with sum"},
	} {
		if err := s.Admin.Send(t.Context(), "POST", "/reconciliations", c.order, nil); err == nil ||
			!strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/reconciliations", reconcile.Order{Name: "grams", Up: "public.sorted",
		Down: "public.delivered", Measure: "sum", UpColumn: "grams", LagSeconds: 3600}, &v))
	if v.Up == "sorted" || v.Down == "delivered" {
		t.Errorf("sums are compared of %+v", v)
	}
	dbtest.Must(t, s.Admin.Send(t.Context(), "DELETE", "/reconciliations/grams", nil, nil))
	if err := s.Admin.Get(t.Context(), "/metrics/grams", nil, nil); err == nil {
		t.Error("the metric of a difference outlives it")
	}
}

// What is compared, and what is never shown, is in the files that set a service up.
func TestAReconciliationIsPartOfTheConfiguration(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	post(t, s)
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/reconciliations", reconcile.Order{Name: "letters", Up: "public.sorted",
		Down: "public.delivered", By: record.Strings{"round"},
		LagSeconds: 3600, Tolerance: 0.02, UpKey: "id", DownKey: "letter"}, nil))
	dbtest.Must(t, s.Admin.Send(t.Context(), "PUT", "/datasets/public.sorted/hidden", map[string][]string{"columns": {"grams"}}, nil))
	var saved config.Documents
	dbtest.Must(t, s.Admin.Get(t.Context(), "/config", nil, &saved))
	if len(saved.Reconciliations) != 1 || saved.Reconciliations[0].LagSeconds != 3600 {
		t.Fatalf("saved: %+v", saved.Reconciliations)
	}
	dbtest.Must(t, s.Admin.Send(t.Context(), "DELETE", "/reconciliations/letters", nil, nil))
	dbtest.Must(t, s.Admin.Send(t.Context(), "PUT", "/datasets/public.sorted/hidden", map[string][]string{"columns": {}}, nil))
	saved.Sources = nil // its login is in no file
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/config/load", saved, nil))
	var v record.Reconciliation
	dbtest.Must(t, s.Admin.Get(t.Context(), "/reconciliations/letters", nil, &v))
	if v.Up != "sorted" || v.Down != "delivered" || v.LagSeconds != 3600 || v.Tolerance != 0.02 || v.DownKey != "letter" {
		t.Errorf("loaded: %+v", v)
	}
	d, err := s.Parts.Store.Dataset(t.Context(), "public.sorted")
	dbtest.Must(t, err)
	if len(d.Hidden) != 1 || d.Hidden[0] != "grams" {
		t.Errorf("never shown: %v", d.Hidden)
	}
	saved.Reconciliations[0].Up = "nowhere"
	if err := s.Admin.Send(t.Context(), "POST", "/config/load", saved, nil); err == nil || !strings.Contains(err.Error(),
		"a metric that is there") {
		t.Errorf("a metric that is not there: %v", err)
	}
}

func TestKeysOfOneSideAreCountedBySegmentAndShownToEditors(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	post(t, s)
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/reconciliations", reconcile.Order{Name: "letters", Up: "public.sorted",
		Down: "public.delivered", By: record.Strings{"round"},
		LagSeconds: 3600, UpKey: "id", DownKey: "letter"}, nil))
	var k reconcile.Keys
	ask := map[string]any{"from": "2026-06-18T05:00:00Z", "to": "2026-06-18T09:00:00Z"}
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/reconciliations/letters/keys", ask, &k))
	// Of four hours of a hundred letters each fourth is lost, all of the west round.
	if len(k.Sides) != 2 || k.Sides[0].Missing != 100 || k.Sides[0].Segments["west"] != 100 || len(k.Sides[0].Segments) != 1 ||
		len(k.Sides[0].Some) != 100 || k.Sides[1].Missing != 0 || k.Sides[0].Rows != 400 {
		t.Errorf("%+v", k)
	}
	var trail []record.Audit
	dbtest.Must(t, s.Admin.Get(t.Context(), "/audit", url.Values{"what": {"looked"}}, &trail))
	if len(trail) != 1 || trail[0].What != "looked at keys" || trail[0].About != "letters" {
		t.Errorf("audit: %+v", trail)
	}
	for body, want := range map[string]string{`2026-06-18T09:00:00Z 2026-06-18T05:00:00Z`: "after from",
		`2026-05-01T00:00:00Z 2026-06-18T05:00:00Z`: "14 days"} {
		var from, to string
		fmt.Sscan(body, &from, &to)
		if err := s.Admin.Send(t.Context(), "POST", "/reconciliations/letters/keys", map[string]any{"from": from, "to": to},
			nil); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", body, err)
		}
	}
}
