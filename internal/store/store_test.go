package store_test

import (
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/dbtest"
	"tinbell/internal/localpg"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

var now = time.Date(2026, 6, 18, 12, 0, 0, 0, time.UTC)

func open(t *testing.T) *store.Store {
	t.Helper()
	server, err := localpg.Start(t.Context(), localpg.Options{Dir: dbtest.Folder(t), NoSync: true})
	dbtest.Must(t, err)
	t.Cleanup(func() { server.Stop() })
	_, err = server.EnsureDatabase(t.Context(), "records")
	dbtest.Must(t, err)
	s, err := store.Open(t.Context(), server.URL("records"))
	dbtest.Must(t, err)
	t.Cleanup(s.Close)
	again, err := store.Open(t.Context(), server.URL("records"))
	if err != nil {
		t.Fatalf("opening an up-to-date database: %v", err)
	}
	again.Close()
	return s
}

// metric makes a source, a dataset and a metric with one series.
func metric(t *testing.T, s *store.Store) (record.Metric, int64) {
	t.Helper()
	ctx := t.Context()
	source, err := s.AddSource(ctx, record.Source{Name: "w", Kind: "push", Login: []byte{}})
	dbtest.Must(t, err)
	dataset, err := s.AddDataset(ctx, record.Dataset{SourceID: source, Namespace: "w", Name: "ops.x", Zone: "UTC"})
	dbtest.Must(t, err)
	_, err = s.AddMetric(ctx, record.Metric{DatasetID: dataset, Name: "rows", Measure: "rows", Kind: "count", PeriodSeconds: 3600, Zone: "UTC", SegmentBy: record.Strings{"port", "gate"}})
	dbtest.Must(t, err)
	m, err := s.Metric(ctx, "rows")
	dbtest.Must(t, err)
	if strings.Join(m.SegmentBy, ",") != "port,gate" || m.Dataset != "ops.x" {
		t.Errorf("metric came back as %+v", m)
	}
	ids, err := s.EnsureSeries(ctx, m.ID, []string{"a / 1"})
	dbtest.Must(t, err)
	return m, ids["a / 1"]
}

func put(t *testing.T, s *store.Store, samples ...record.Sample) (changed int64, earliest time.Time) {
	t.Helper()
	dbtest.Must(t, s.InTx(t.Context(), func(tx pgx.Tx) (err error) {
		changed, earliest, err = store.PutSamples(t.Context(), tx, samples)
		return err
	}))
	return changed, earliest
}

func value(series int64, hours int, v float64) record.Sample {
	return record.Sample{SeriesID: series, At: now.Add(time.Duration(hours) * time.Hour), Value: &v}
}

func TestSamplesAreReplacedOnlyWhereTheyChange(t *testing.T) {
	s := open(t)
	_, id := metric(t, s)
	if n, first := put(t, s, value(id, 0, 1), value(id, 1, 2), value(id, 1, 3)); n != 2 || !first.Equal(now) {
		t.Errorf("first: %d changed from %s", n, first)
	}
	if n, first := put(t, s, value(id, 0, 1), value(id, 1, 4), value(id, 2, 5)); n != 2 || !first.Equal(now.Add(time.Hour)) {
		t.Errorf("second: %d changed from %s, want the corrected one and the new one", n, first)
	}
	if n, _ := put(t, s, value(id, 0, 1), value(id, 2, 5)); n != 0 {
		t.Errorf("the same again changed %d", n)
	}
	got, err := s.Samples(t.Context(), []int64{id}, now, now.Add(2*time.Hour))
	dbtest.Must(t, err)
	if list := got[id]; len(list) != 2 || list[0].Value != 1 || list[1].Value != 4 {
		t.Errorf("read back: %+v", list)
	}
}

func TestLoadsTakenBackAreForgotten(t *testing.T) {
	s := open(t)
	m, _ := metric(t, s)
	loads := func(hours ...int) (list []record.Load) {
		for _, h := range hours {
			list = append(list, record.Load{At: now.Add(time.Duration(h) * time.Hour), Rows: int64(h)})
		}
		return list
	}
	write := func(after int, list []record.Load) {
		dbtest.Must(t, s.InTx(t.Context(), func(tx pgx.Tx) error {
			return store.PutLoads(t.Context(), tx, m.DatasetID, now.Add(time.Duration(after)*time.Hour), now.AddDate(1, 0, 0), list)
		}))
	}
	write(0, loads(1, 2, 3, 4))
	write(2, loads(4, 5))
	got, err := s.Loads(t.Context(), m.DatasetID, now, now.AddDate(0, 0, 1))
	dbtest.Must(t, err)
	if len(got) != 4 || !got[1].At.Equal(now.Add(2*time.Hour)) || !got[2].At.Equal(now.Add(4*time.Hour)) {
		t.Errorf("want the loads of hours 1, 2, 4 and 5: %+v", got)
	}
}

func TestClashesSayWhatTheyAre(t *testing.T) {
	s := open(t)
	m, _ := metric(t, s)
	_, err := s.AddMetric(t.Context(), m)
	var conflict record.Conflict
	if !errors.As(err, &conflict) || !strings.Contains(err.Error(), "metric rows exists already") {
		t.Errorf("a second metric of the name: %v", err)
	}
	_, err = s.Monitor(t.Context(), "nothing")
	var missing record.NotFound
	if !errors.As(err, &missing) || missing.Kind != "monitor" {
		t.Errorf("a monitor that is not there: %v", err)
	}
	id, err := s.AddMonitor(t.Context(), record.Monitor{MetricID: m.ID, Name: "m", Settings: record.DefaultSettings()})
	dbtest.Must(t, err)
	changed := record.DefaultSettings()
	changed.Persist, changed.Of = 2, 3
	dbtest.Must(t, s.ChangeMonitor(t.Context(), id, 1, changed, false))
	if err := s.ChangeMonitor(t.Context(), id, 1, record.DefaultSettings(), true); !errors.As(err, &conflict) {
		t.Errorf("the second of two who change version 1 must be told: %v", err)
	}
	got, err := s.Monitor(t.Context(), "m")
	dbtest.Must(t, err)
	if got.Settings != changed || got.Version != 2 || got.Paused {
		t.Errorf("monitor came back as %+v", got)
	}
}

func TestReadingASeriesUsesItsIndex(t *testing.T) {
	s := open(t)
	_, id := metric(t, s)
	_, err := s.DB.Exec(`insert into sample select n % 200 + 1000, $1::timestamptz + (n / 200) * interval '1 hour', n, null from generate_series(1, 60000) n`, now)
	dbtest.Must(t, err)
	_, err = s.DB.Exec(`analyze sample`)
	dbtest.Must(t, err)
	var plan []string
	dbtest.Must(t, s.DB.Select(&plan, `explain select value from sample where series_id = any(array[$1::bigint]) and at >= $2 and at < $3 order by series_id, at`, id, now, now.Add(48*time.Hour)))
	if text := strings.Join(plan, "\n"); !strings.Contains(text, "sample_pkey") || strings.Contains(text, "Seq Scan") {
		t.Errorf("plan:\n%s", text)
	}
}

func TestAlertsArePagedByCursor(t *testing.T) {
	s := open(t)
	m, series := metric(t, s)
	id, err := s.AddMonitor(t.Context(), record.Monitor{MetricID: m.ID, Name: "m", Settings: record.DefaultSettings()})
	dbtest.Must(t, err)
	dbtest.Must(t, s.InTx(t.Context(), func(tx pgx.Tx) error {
		for i := range 25 {
			a := record.Alert{MonitorID: id, SeriesID: series, Cause: "deviation", Direction: "low", Severity: "warning", Since: now, RaisedAt: now.Add(time.Duration(i/2) * time.Hour), Sentence: "s"}
			if i%2 == 1 {
				a.Cause = "missing"
			}
			if _, err := store.PutAlert(t.Context(), tx, a); err != nil {
				return err
			}
		}
		return nil
	}))
	seen := map[int64]bool{}
	f := store.AlertFilter{Limit: 7, State: "open"}
	for {
		page, err := s.Alerts(t.Context(), f)
		dbtest.Must(t, err)
		for i, a := range page {
			if seen[a.ID] || i > 0 && page[i-1].RaisedAt.Before(a.RaisedAt) {
				t.Fatalf("alert %d twice or out of order", a.ID)
			}
			seen[a.ID] = true
		}
		if len(page) < 7 {
			break
		}
		f.Cursor = page[len(page)-1].ID
	}
	if len(seen) != 25 {
		t.Errorf("%d of 25 alerts over all pages", len(seen))
	}
	if list, err := s.Alerts(t.Context(), store.AlertFilter{Verdict: "none", Dataset: "ops.x", From: now.Add(12 * time.Hour)}); err != nil || len(list) != 1 {
		t.Errorf("filtered: %d, %v", len(list), err)
	}
}
