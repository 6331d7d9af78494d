package service_test

import (
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/client"
	"tinbell/internal/dbtest"
	"tinbell/internal/health"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// berths makes tables in a warehouse whose load columns hold time in every way.
func berths(t *testing.T, s *dbtest.Service) *pgx.Conn {
	t.Helper()
	address := s.NewDatabase(t)
	conn, err := pgx.Connect(t.Context(), address)
	dbtest.Must(t, err)
	t.Cleanup(func() { conn.Close(t.Context()) })
	_, err = conn.Exec(t.Context(), `
		create schema ops;
		create table ops.zoned (seen timestamptz, loaded timestamptz);
		create table ops.local (seen timestamptz, loaded timestamp);
		create table ops.dated (seen timestamptz, loaded date, berth int);
		create table ops.still (seen timestamptz)`)
	dbtest.Must(t, err)
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/sources", httpapi.NewSource{Name: "house", Address: address}, nil))
	return conn
}

// counted adds a table and the rows of its last days, and gives how it stands.
func counted(t *testing.T, s *dbtest.Service, table, loadedBy string, days int) (h health.Health) {
	t.Helper()
	ctx := t.Context()
	dbtest.Must(t, s.Admin.Send(ctx, "POST", "/datasets", httpapi.NewDataset{Source: "house", Name: table,
		Zone: "America/Halifax", LoadedBy: loadedBy}, nil))
	dbtest.Must(t, s.Admin.Send(ctx, "POST", "/metrics", httpapi.NewMetric{Dataset: table, Name: table,
		Measure: record.MeasureRows, TimeColumn: "seen", PeriodSeconds: 3600, EverySeconds: 3600}, nil))
	var started httpapi.Started
	dbtest.Must(t, s.Admin.Send(ctx, "POST", "/metrics/"+table+"/backfill", map[string]int{"since_seconds": days * 86400}, &started))
	dbtest.Must(t, s.Admin.Follow(ctx, started.TaskID, func(int, int) {}))
	s.Settle(t)
	var p health.Page
	dbtest.Must(t, s.Admin.Get(ctx, "/datasets/"+table, nil, &p))
	return p.Health
}

// The newest load is when rows were loaded, whatever the load column holds, and without a
// metric of freshness too; local times are the dataset's.
func TestLoadsAreReadWhateverTheirColumnHolds(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	conn := berths(t, s)
	for table, loaded := range map[string][]string{
		"ops.zoned": {"2026-06-18T08:20:00Z", "2026-06-18T10:20:00Z"}, "ops.local": {"2026-06-18 05:20", "2026-06-18 07:20"},
		"ops.dated": {"2026-06-17", "2026-06-18"},
	} {
		for _, at := range loaded {
			_, err := conn.Exec(t.Context(), `insert into `+table+` (seen, loaded) select '2026-06-18T08:10:00Z', '`+at+
				`' from generate_series(1, 3)`)
			dbtest.Must(t, err)
		}
		want := map[string]string{"ops.zoned": "2026-06-18T10:20:00Z", "ops.local": "2026-06-18T10:20:00Z",
			"ops.dated": "2026-06-18T03:00:00Z"}[table]
		h := counted(t, s, table, "loaded", 3)
		if h.Newest == nil || h.Newest.UTC().Format(time.RFC3339) != want || h.Dataset.LoadedType == "" {
			t.Errorf("%s: newest %v, want %s", table, h.Newest, want)
		}
		loads, err := s.Parts.Store.Loads(t.Context(), h.Dataset.ID, now.AddDate(0, 0, -3), now)
		dbtest.Must(t, err)
		if len(loads) != 2 || loads[0].Rows != 3 {
			t.Errorf("%s: loads %+v", table, loads)
		}
	}
}

// Without a load column the newest rows count, not the last look at the table.
func TestADeadTableLooksDead(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	conn := berths(t, s)
	_, err := conn.Exec(t.Context(), `insert into ops.still select '2026-05-20T06:30:00Z'::timestamptz - i * interval '1 hour' from generate_series(0, 100) i`)
	dbtest.Must(t, err)
	h := counted(t, s, "ops.still", "", 60)
	if h.Newest == nil || !h.Newest.Equal(time.Date(2026, 5, 20, 7, 0, 0, 0, time.UTC)) || h.AgeSeconds == nil ||
		*h.AgeSeconds < 28*86400 || h.State == "running" {
		t.Errorf("newest %v, state %s", h.Newest, h.State)
	}
}

func TestATableOrLoadColumnThatIsNotThereIsToldWithThoseThatAre(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	berths(t, s)
	refused := func(v httpapi.NewDataset, says ...string) {
		t.Helper()
		v.Source = "house"
		err := s.Admin.Send(t.Context(), "POST", "/datasets", v, nil)
		if err == nil || !client.Wrong(err) {
			t.Fatalf("%+v: %v", v, err)
		}
		for _, want := range says {
			if !strings.Contains(err.Error(), want) {
				t.Errorf("%v does not say %q", err, want)
			}
		}
	}
	refused(httpapi.NewDataset{Name: "ops.zone"}, "may read: ops.", "ops.zoned")
	refused(httpapi.NewDataset{Name: "ops.dated", LoadedBy: "berth"}, "holds a time: seen, loaded")
	refused(httpapi.NewDataset{Name: "ops.dated", LoadedBy: "none"}, "holds a time: seen, loaded")
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/datasets", httpapi.NewDataset{Source: "house", Name: "ops.dated"}, nil))
	var d record.Dataset
	dbtest.Must(t, s.Admin.Send(t.Context(), "PATCH", "/datasets/ops.dated", map[string]any{"loaded_by": "loaded",
		"owner": "Port desk"}, &d))
	if d.LoadedBy != "loaded" || d.LoadedType != "date" || d.Owner != "Port desk" {
		t.Errorf("%+v", d)
	}
}

// A dataset is removed while its past is measured and its alerts are answered: whoever is
// too late is told that it is gone, and nothing fails or waits for ever.
func TestARemovalABackfillAndALabelAtOnceNeverDeadlock(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	conn := berths(t, s)
	_, err := conn.Exec(t.Context(), `insert into ops.zoned select '2026-06-18T06:30:00Z'::timestamptz - i * interval '10 minutes' from generate_series(0, 2000) i`)
	dbtest.Must(t, err)
	ctx := t.Context()
	for round := range 6 {
		counted(t, s, "ops.zoned", "", 3)
		dbtest.Must(t, s.Admin.Send(ctx, "POST", "/monitors", httpapi.NewMonitor{Name: "zoned", Metric: "ops.zoned"}, nil))
		m, err := s.Parts.Store.Monitor(ctx, "zoned")
		dbtest.Must(t, err)
		series, err := s.Parts.Store.SeriesOf(ctx, m.MetricID)
		dbtest.Must(t, err)
		var ids []int64
		for i := range 40 {
			a := record.Alert{MonitorID: m.ID, SeriesID: series[0].ID, Cause: "deviation", Direction: "low", Severity: "warning",
				Since: now, RaisedAt: now.Add(time.Duration(i) * time.Minute), Sentence: "low"}
			ids = append(ids, put(t, s, a))
		}
		var wait sync.WaitGroup
		at := func(what string, do func() error) {
			wait.Go(func() {
				if err := do(); err != nil && !client.Missing(err) && !client.Wrong(err) && !strings.Contains(err.Error(),
					"exists already") {
					t.Errorf("round %d, %s: %v", round, what, err)
				}
			})
		}
		for i := range 6 {
			at("label", func() error {
				return s.Admin.Send(ctx, "POST", "/labels", map[string]any{"alerts": append(append([]int64{}, ids[i:]...),
					ids[:i]...), "verdict": []string{"fault", "noise"}[i%2]}, nil)
			})
		}
		at("backfill", func() error {
			return s.Admin.Send(ctx, "POST", "/metrics/ops.zoned/backfill", map[string]int{"since_seconds": 14 * 86400}, nil)
		})
		at("monitor", func() error { return s.Admin.Send(ctx, "DELETE", "/monitors/zoned", nil, nil) })
		at("dataset", func() error { return s.Admin.Send(ctx, "DELETE", "/datasets/ops.zoned", nil, nil) })
		at("tag", func() error {
			return s.Admin.Send(ctx, "PATCH", "/tags/gone", map[string]any{"on": map[string]any{"datasets": []string{"ops.*"}}}, nil)
		})
		wait.Wait()
		s.Settle(t)
		if err := s.Admin.Get(ctx, "/datasets/ops.zoned", nil, nil); !client.Missing(err) {
			t.Fatal(fmt.Errorf("round %d: the dataset is there still: %w", round, err))
		}
	}
}

// put keeps an alert.
func put(t *testing.T, s *dbtest.Service, a record.Alert) (id int64) {
	t.Helper()
	dbtest.Must(t, s.Parts.Store.InTx(t.Context(), func(tx pgx.Tx) (err error) {
		id, err = store.PutAlert(t.Context(), tx, a)
		return err
	}))
	return id
}
