package store_test

import (
	"errors"
	"fmt"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/timeline"
	"tinbell/internal/dbtest"
	"tinbell/internal/localpg"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

var (
	now    = time.Date(2026, 6, 18, 12, 0, 0, 0, time.UTC)
	recent = store.RecentFrom(now)
)

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
		changed, earliest, err = store.PutSamples(t.Context(), tx, samples, recent)
		return err
	}))
	return changed, earliest
}

func value(series int64, hours int, v float64) record.Sample {
	return record.Sample{SeriesID: series, At: now.Add(time.Duration(hours) * time.Hour), Value: &v}
}

func read(t *testing.T, s *store.Store, id int64, from, to time.Time) []timeline.Sample {
	t.Helper()
	got, err := s.Samples(t.Context(), []int64{id}, from, to)
	dbtest.Must(t, err)
	return got[id]
}

func TestSamplesAreReplacedOnlyWhereTheyChange(t *testing.T) {
	s := open(t)
	_, id := metric(t, s)
	for layer, hour := range map[string]int{"rows": 0, "day chunks": -100 * 24} {
		start := now.Add(time.Duration(hour) * time.Hour)
		if n, first := put(t, s, value(id, hour, 1), value(id, hour+1, 2), value(id, hour+1, 3)); n != 2 || !first.Equal(start) {
			t.Errorf("%s, first: %d changed from %s", layer, n, first)
		}
		if n, first := put(t, s, value(id, hour, 1), value(id, hour+1, 4), value(id, hour+2, 5)); n != 2 || !first.Equal(start.Add(time.Hour)) {
			t.Errorf("%s, second: %d changed from %s, want the corrected one and the new one", layer, n, first)
		}
		if n, _ := put(t, s, value(id, hour, 1), value(id, hour+2, 5)); n != 0 {
			t.Errorf("%s: the same again changed %d", layer, n)
		}
		if list := read(t, s, id, start, start.Add(2*time.Hour)); len(list) != 2 || list[0].Value != 1 || list[1].Value != 4 {
			t.Errorf("%s read back: %+v", layer, list)
		}
	}
	var rows, chunks int
	dbtest.Must(t, s.DB.Get(&rows, `select count(*) from sample`))
	dbtest.Must(t, s.DB.Get(&chunks, `select count(*) from sample_day`))
	if rows != 3 || chunks != 1 {
		t.Errorf("%d rows and %d chunks, want the recent three and one old day", rows, chunks)
	}
}

func TestPackingChangesNothingThatIsRead(t *testing.T) {
	s := open(t)
	_, id := metric(t, s)
	var all []record.Sample
	for h := range 10 * 24 {
		v := value(id, h, float64(h*h%97)/10)
		switch h % 7 {
		case 2:
			zero := 0.0
			v.Value, v.Rows = nil, &zero
		case 3:
			rows := float64(h)
			v.Rows = &rows
		}
		all = append(all, v)
	}
	put(t, s, all...)
	from, to := now.Add(5*time.Hour), now.Add(9*24*time.Hour)
	before := read(t, s, id, from, to)
	later := now.AddDate(0, 0, 8)
	moved, err := s.PackDays(t.Context(), store.RecentFrom(later))
	dbtest.Must(t, err)
	if moved != 5*24+12 {
		t.Errorf("%d rows were packed, want those of five days and the half day before", moved)
	}
	check := func(what string) {
		t.Helper()
		if after := read(t, s, id, from, to); fmt.Sprint(before) != fmt.Sprint(after) {
			t.Fatalf("%s: read\n%v\nbefore\n%v", what, after, before)
		}
	}
	check("after packing")
	if again, err := s.PackDays(t.Context(), store.RecentFrom(later)); err != nil || again != 0 {
		t.Errorf("packed again: %d, %v", again, err)
	}
	// A row above a packed day, as when one is written while days are packed.
	_, err = s.DB.Exec(`insert into sample values ($1, $2, 7.5, null)`, id, now.Add(24*time.Hour))
	dbtest.Must(t, err)
	before[19].Value, before[19].Rows = 7.5, 0
	check("with a newer row")
	recent = store.RecentFrom(later)
	t.Cleanup(func() { recent = store.RecentFrom(now) })
	if n, first := put(t, s, value(id, 24, 7.5), value(id, 25, -1)); n != 1 || !first.Equal(now.Add(25*time.Hour)) {
		t.Errorf("a correction of a packed day changed %d from %s", n, first)
	}
	before[20].Value, before[20].Rows = -1, 0
	check("after a correction")
}

func TestManySamplesAtOnceAreCountedOnce(t *testing.T) {
	s := open(t)
	_, id := metric(t, s)
	var batch []record.Sample
	for h := range 5000 {
		batch = append(batch, value(id, h, float64(h)))
	}
	if n, first := put(t, s, batch...); n != 5000 || !first.Equal(now) {
		t.Errorf("%d changed from %s", n, first)
	}
	batch = append(batch[2000:], value(id, 5000, 1))
	if n, first := put(t, s, batch...); n != 1 || !first.Equal(now.Add(5000*time.Hour)) {
		t.Errorf("most of them again: %d changed from %s", n, first)
	}
}

func TestPackingAndWritingAtOnceLoseNothing(t *testing.T) {
	s := open(t)
	_, id := metric(t, s)
	ctx := t.Context()
	failed := make(chan error, 3)
	for writer := range 2 {
		go func() {
			failed <- func() error {
				for day := range 60 {
					v := value(id, day*24+writer, float64(day))
					if err := s.InTx(ctx, func(tx pgx.Tx) error {
						_, _, err := store.PutSamples(ctx, tx, []record.Sample{v}, now.AddDate(0, 0, 30*(day%3)))
						return err
					}); err != nil {
						return err
					}
				}
				return nil
			}()
		}()
	}
	go func() {
		failed <- func() error {
			for range 40 {
				if _, err := s.PackDays(ctx, now.AddDate(0, 0, 50)); err != nil {
					return err
				}
			}
			return nil
		}()
	}()
	for range 3 {
		dbtest.Must(t, <-failed)
	}
	if list := read(t, s, id, now, now.AddDate(0, 0, 70)); len(list) != 120 {
		t.Errorf("%d samples of 120 are there", len(list))
	}
}

func TestOldSamplesAreForgottenByTheDatasetsRule(t *testing.T) {
	s := open(t)
	m, id := metric(t, s)
	for day := range 10 {
		put(t, s, value(id, -24*day*10, 1))
	}
	n, err := s.ForgetOld(t.Context(), now, 0)
	dbtest.Must(t, err)
	if n != 0 {
		t.Errorf("without a rule %d chunks went", n)
	}
	if n, err = s.ForgetOld(t.Context(), now, 55); err != nil || n != 4 {
		t.Errorf("of 10 days, ten apart, %d older than 55 went (%v), want 4", n, err)
	}
	_, err = s.DB.Exec(`update dataset set keep_days = 25 where id = $1`, m.DatasetID)
	dbtest.Must(t, err)
	if n, err = s.ForgetOld(t.Context(), now, 55); err != nil || n != 3 {
		t.Errorf("with a rule of 25 days for the dataset %d more went (%v), want 3", n, err)
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
	change := func(c store.Change) error {
		return s.InTx(t.Context(), func(tx pgx.Tx) error { return store.ChangeMonitor(t.Context(), tx, id, c) })
	}
	dbtest.Must(t, change(store.Change{Version: 1, Settings: changed, Author: "Ada", Reason: "calmer"}))
	if err := change(store.Change{Version: 1, Settings: record.DefaultSettings(), Paused: true}); !errors.As(err, &conflict) {
		t.Errorf("the second of two who change version 1 must be told: %v", err)
	}
	got, err := s.Monitor(t.Context(), "m")
	dbtest.Must(t, err)
	if !reflect.DeepEqual(got.Settings, changed) || got.Version != 2 || got.Paused {
		t.Errorf("monitor came back as %+v", got)
	}
	versions, err := s.MonitorVersions(t.Context(), id)
	dbtest.Must(t, err)
	if len(versions) != 2 || !reflect.DeepEqual(versions[0].Settings, changed) || versions[0].Author != "Ada" || versions[0].Reason != "calmer" || versions[1].Version != 1 {
		t.Errorf("versions: %+v", versions)
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
