package store_test

import (
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"reflect"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/detect"
	"tinbell/core/timeline"
	"tinbell/internal/localpg"
	"tinbell/internal/pgtest"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

var (
	now    = time.Date(2026, 6, 18, 12, 0, 0, 0, time.UTC)
	recent = store.RecentFrom(now)
)

// inParts is in how many parts the samples lie in a database that a test opens.
var inParts = 1

func open(t *testing.T) *store.Store {
	t.Helper()
	server, err := localpg.Start(t.Context(), localpg.Options{Dir: pgtest.Folder(t), NoSync: true})
	pgtest.Must(t, err)
	t.Cleanup(func() { server.Stop() })
	_, err = server.EnsureDatabase(t.Context(), "records")
	pgtest.Must(t, err)
	s, err := store.Open(t.Context(), server.URL("records"))
	pgtest.Must(t, err)
	t.Cleanup(s.Close)
	again, err := store.Open(t.Context(), server.URL("records"))
	if err != nil {
		t.Fatalf("opening an up-to-date database: %v", err)
	}
	again.Close()
	if inParts > 1 {
		pgtest.Must(t, store.Partition(t.Context(), server.URL("records"), inParts))
	}
	return s
}

// metric makes a source, a dataset and a metric with one series.
func metric(t *testing.T, s *store.Store) (record.Metric, int64) {
	t.Helper()
	ctx := t.Context()
	source, err := s.AddSource(ctx, record.Source{Name: "w", Kind: "push", Login: []byte{}})
	pgtest.Must(t, err)
	dataset, err := s.AddDataset(ctx, record.Dataset{SourceID: source, Namespace: "w", Name: "ops.x", Zone: "UTC"})
	pgtest.Must(t, err)
	_, err = s.AddMetric(ctx, record.Metric{DatasetID: dataset, Name: "rows", Measure: "rows", Kind: "count", PeriodSeconds: 3600,
		Zone: "UTC", SegmentBy: record.Strings{"port", "gate"}})
	pgtest.Must(t, err)
	m, err := s.Metric(ctx, "rows")
	pgtest.Must(t, err)
	if strings.Join(m.SegmentBy, ",") != "port,gate" || m.Dataset != "ops.x" {
		t.Errorf("metric came back as %+v", m)
	}
	ids, err := s.EnsureSeries(ctx, m.ID, []string{"a / 1"})
	pgtest.Must(t, err)
	return m, ids["a / 1"]
}

func put(t *testing.T, s *store.Store, samples ...record.Sample) (changed int64, earliest time.Time) {
	t.Helper()
	pgtest.Must(t, s.InTx(t.Context(), func(tx pgx.Tx) (err error) {
		changes, err := store.PutSamples(t.Context(), tx, samples, recent)
		changed, earliest = changes.N, time.Time{}
		for _, first := range changes.First {
			if earliest.IsZero() || first.Before(earliest) {
				earliest = first
			}
		}
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
	pgtest.Must(t, err)
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
		if n, first := put(t, s, value(id, hour, 1), value(id, hour+1, 4), value(id, hour+2, 5)); n != 2 ||
			!first.Equal(start.Add(time.Hour)) {
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
	pgtest.Must(t, s.DB.Get(&rows, `select count(*) from sample`))
	pgtest.Must(t, s.DB.Get(&chunks, `select count(*) from sample_day`))
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
	pgtest.Must(t, err)
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
	pgtest.Must(t, err)
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

// Samples go over the wire in a form of our own making: the database's own words for what it
// holds must be those that were meant, for what is missing and what is at the ends of numbers too.
func TestWhatIsCopiedIsWhatTheDatabaseHolds(t *testing.T) {
	s := open(t)
	_, id := metric(t, s)
	rng := rand.New(rand.NewPCG(3, 3))
	odd := []*float64{nil, new(0.0), new(math.Copysign(0, -1)), new(math.MaxFloat64), new(-math.SmallestNonzeroFloat64),
		new(0.1), new(-1e-300), new(1.0 / 3)}
	batch := make([]record.Sample, 4000) // enough for a COPY into the table itself
	for i := range batch {
		batch[i] = record.Sample{SeriesID: id, At: now.Add(time.Duration(i)*time.Minute + time.Duration(rng.IntN(1e6))*time.Microsecond),
			Value: odd[rng.IntN(len(odd))], Rows: odd[rng.IntN(len(odd))]}
	}
	put(t, s, batch...)
	var held []struct {
		Second, Micro int64
		Value, Rows   *string
	}
	pgtest.Must(t, s.DB.Select(&held, `
		select floor(extract(epoch from at))::bigint as second, (extract(microseconds from at)::bigint % 1000000) as micro,
			value::text as value, rows::text as rows
		from sample order by at`))
	if len(held) != len(batch) {
		t.Fatalf("%d samples are held of %d", len(held), len(batch))
	}
	same := func(text *string, v *float64) bool {
		if text == nil || v == nil {
			return text == nil && v == nil
		}
		x, err := strconv.ParseFloat(*text, 64)
		return err == nil && x == *v
	}
	for i, h := range held {
		b := batch[i]
		if h.Second != b.At.Unix() || h.Micro != int64(b.At.Nanosecond()/1000) || !same(h.Value, b.Value) || !same(h.Rows, b.Rows) {
			t.Fatalf("sample %d: held %+v, sent %+v", i, h, b)
		}
	}
}

// What is written in one transaction into rows and day chunks is read whole or not at all.
func TestABatchAcrossBothLayersIsNeverSeenHalf(t *testing.T) {
	s := open(t)
	m, _ := metric(t, s)
	const hours = 20 * 24
	written := make(chan int64)
	ids, err := s.EnsureSeries(t.Context(), m.ID, strings.Split("abcdefghijklmnopqrstuvwxyz", ""))
	pgtest.Must(t, err)
	go func() {
		defer close(written)
		for _, id := range ids {
			batch := make([]record.Sample, hours)
			for h := range batch {
				batch[h] = value(id, h-hours+24, float64(h))
			}
			written <- id
			put(t, s, batch...)
		}
	}()
	for id := range written {
		for n := 0; n < hours; {
			if n = len(read(t, s, id, now.AddDate(0, -1, 0), now.AddDate(0, 1, 0))); n != 0 && n != hours {
				t.Fatalf("of %d samples of one batch %d are seen", hours, n)
			}
		}
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
						_, err := store.PutSamples(ctx, tx, []record.Sample{v}, now.AddDate(0, 0, 30*(day%3)))
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
		pgtest.Must(t, <-failed)
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
	pgtest.Must(t, err)
	if n != 0 {
		t.Errorf("without a rule %d chunks went", n)
	}
	if n, err = s.ForgetOld(t.Context(), now, 55); err != nil || n != 4 {
		t.Errorf("of 10 days, ten apart, %d older than 55 went (%v), want 4", n, err)
	}
	_, err = s.DB.Exec(`update dataset set keep_days = 25 where id = $1`, m.DatasetID)
	pgtest.Must(t, err)
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
		pgtest.Must(t, s.InTx(t.Context(), func(tx pgx.Tx) error {
			return store.PutLoads(t.Context(), tx, m.DatasetID, now.Add(time.Duration(after)*time.Hour), now.AddDate(1, 0, 0), list)
		}))
	}
	write(0, loads(1, 2, 3, 4))
	write(2, loads(4, 5))
	got, err := s.Loads(t.Context(), m.DatasetID, now, now.AddDate(0, 0, 1))
	pgtest.Must(t, err)
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
	pgtest.Must(t, err)
	changed := record.DefaultSettings()
	changed.Persist, changed.Of = 2, 3
	change := func(c store.Change) error {
		return s.InTx(t.Context(), func(tx pgx.Tx) error { return store.ChangeMonitor(t.Context(), tx, id, c) })
	}
	pgtest.Must(t, change(store.Change{Version: 1, Settings: changed, Author: "Ada", Reason: "calmer"}))
	if err := change(store.Change{Version: 1, Settings: record.DefaultSettings(), Paused: true}); !errors.As(err, &conflict) {
		t.Errorf("the second of two who change version 1 must be told: %v", err)
	}
	got, err := s.Monitor(t.Context(), "m")
	pgtest.Must(t, err)
	if !reflect.DeepEqual(got.Settings, changed) || got.Version != 2 || got.Paused {
		t.Errorf("monitor came back as %+v", got)
	}
	versions, err := s.MonitorVersions(t.Context(), id)
	pgtest.Must(t, err)
	if len(versions) != 2 || !reflect.DeepEqual(versions[0].Settings, changed) || versions[0].Author != "Ada" ||
		versions[0].Reason != "calmer" || versions[1].Version != 1 {
		t.Errorf("versions: %+v", versions)
	}
}

func TestReadingASeriesUsesItsIndex(t *testing.T) {
	s := open(t)
	_, id := metric(t, s)
	_, err := s.DB.Exec(`insert into sample select n % 200 + 1000, $1::timestamptz + (n / 200) * interval '1 hour', n, null from generate_series(1, 60000) n`, now)
	pgtest.Must(t, err)
	_, err = s.DB.Exec(`insert into sample_day select n % 200 + 1000, n / 200, '' from generate_series(1, 60000) n`)
	pgtest.Must(t, err)
	_, err = s.DB.Exec(`analyze sample, sample_day`)
	pgtest.Must(t, err)
	var plan []string
	pgtest.Must(t, s.DB.Select(&plan, `explain `+store.BothLayers, []int64{id}, now, now.Add(48*time.Hour), 20000, 20002))
	text := strings.Join(plan, "\n")
	rows := regexp.MustCompile(`Index Scan (using|on) sample(_\d+)?_pkey`).MatchString(text)
	days := regexp.MustCompile(`Index Scan (using|on) sample_day(_\d+)?_pkey`).MatchString(text)
	if !rows || !days || strings.Contains(text, "Seq Scan") {
		t.Errorf("plan:\n%s", text)
	}
}

// The label queue is read by everybody who opens the console: out of a year of alerts it
// takes its head by an index, nearest to a half first, of each monitor its share.
func TestTheLabelQueueIsReadByItsHead(t *testing.T) {
	s := open(t)
	m, series := metric(t, s)
	ids := map[string]int64{}
	for _, name := range []string{"loud", "quiet"} {
		id, err := s.AddMonitor(t.Context(), record.Monitor{MetricID: m.ID, Name: name, Settings: record.DefaultSettings()})
		pgtest.Must(t, err)
		ids[name] = id
	}
	_, err := s.DB.Exec(`
		insert into alert (monitor_id, series_id, cause, direction, severity, since, raised_at, sentence, chance, verdict, planned)
		select case when n % 1000 = 0 then $3::bigint else $2 end, $1, 'deviation', 'low', 'warning', t, t, '', (n % 997) / 997.0,
			case when n % 3 = 0 then 'noise' else '' end, n % 7 = 0
		from generate_series(1, 20000) n, lateral (select $4::timestamptz - n * interval '5 minutes' as t) x`,
		series, ids["loud"], ids["quiet"], now)
	pgtest.Must(t, err)
	_, err = s.DB.Exec(`analyze alert`)
	pgtest.Must(t, err)
	var plan []string
	pgtest.Must(t, s.DB.Select(&plan, `explain `+store.LeastSure, "", 30, 20))
	if text := strings.Join(plan, "\n"); !strings.Contains(text, "alert_unsure") || strings.Contains(text, "Seq Scan on alert") {
		t.Errorf("plan:\n%s", text)
	}
	list, err := s.Unsure(t.Context(), "", 30, 20)
	pgtest.Must(t, err)
	each := map[string]int{}
	for _, a := range list {
		each[a.Monitor]++
		if a.Planned || a.Verdict != "" || a.Monitor == "loud" && math.Abs(*a.Chance-0.5) > 0.01 {
			t.Errorf("asked about %+v", a)
		}
	}
	if len(list) != 30 || each["loud"] != 20 || each["quiet"] != 10 {
		t.Errorf("%d asked: %v", len(list), each)
	}
	one, err := s.Unsure(t.Context(), "quiet", 30, 20)
	pgtest.Must(t, err)
	for _, a := range one {
		if a.Monitor != "quiet" {
			t.Errorf("of one monitor alone: %s", a.Monitor)
		}
	}
}

// A pooler between may allow the simple protocol alone, in which all comes as text.
func TestScoredAlertsAreReadAlikeByEitherProtocol(t *testing.T) {
	address := pgtest.Empty(t)
	s, err := store.Open(t.Context(), address)
	pgtest.Must(t, err)
	t.Cleanup(s.Close)
	m, series := metric(t, s)
	id, err := s.AddMonitor(t.Context(), record.Monitor{MetricID: m.ID, Name: "m", Settings: record.DefaultSettings()})
	pgtest.Must(t, err)
	end, early := now.Add(90*time.Minute), time.Date(1987, 3, 1, 4, 5, 6, 0, time.UTC)
	pgtest.Must(t, s.InTx(t.Context(), func(tx pgx.Tx) error {
		for i, a := range []record.Alert{{Since: now.Add(-time.Hour), RaisedAt: now, EndedAt: &end, ClosedAt: &end, Planned: true},
			{Since: early, RaisedAt: early.Add(time.Minute)}} {
			a.MonitorID, a.SeriesID, a.Cause, a.Direction, a.Severity = id, series, []detect.Cause{"step", "missing"}[i], "low", "warning"
			if _, err := store.PutAlert(t.Context(), tx, a); err != nil {
				return err
			}
		}
		return nil
	}))
	simple, err := store.Open(t.Context(), address+"&default_query_exec_mode=simple_protocol")
	pgtest.Must(t, err)
	t.Cleanup(simple.Close)
	for name, by := range map[string]*store.Store{"binary": s, "text": simple} {
		list, err := by.Scored(t.Context(), time.Time{}, now.Add(time.Hour))
		pgtest.Must(t, err)
		if len(list) != 2 {
			t.Fatalf("%s: %d alerts", name, len(list))
		}
		a, b := list[0], list[1]
		if a.Since != now.Unix()-3600 || a.Start != now.Unix() || a.End != end.Unix() || !a.Planned || a.Cause != "step" || a.Of.Monitor != "m" {
			t.Errorf("%s: %+v", name, a)
		}
		if b.Since != early.Unix() || b.Start != early.Unix()+60 || b.End != 0 || b.Planned || b.Slack != 3*3600 || b.Group != 0 {
			t.Errorf("%s: %+v", name, b)
		}
	}
}

func TestAlertsArePagedByCursor(t *testing.T) {
	s := open(t)
	m, series := metric(t, s)
	id, err := s.AddMonitor(t.Context(), record.Monitor{MetricID: m.ID, Name: "m", Settings: record.DefaultSettings()})
	pgtest.Must(t, err)
	pgtest.Must(t, s.InTx(t.Context(), func(tx pgx.Tx) error {
		for i := range 25 {
			a := record.Alert{MonitorID: id, SeriesID: series, Cause: "deviation", Direction: "low", Severity: "warning",
				Since: now, RaisedAt: now.Add(time.Duration(i/2) * time.Hour), Sentence: "s"}
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
		pgtest.Must(t, err)
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
	if list, err := s.Alerts(t.Context(), store.AlertFilter{Verdict: "none", Dataset: "ops.x",
		From: now.Add(12 * time.Hour)}); err != nil || len(list) != 1 {
		t.Errorf("filtered: %d, %v", len(list), err)
	}
}

// comparison sets one on the dataset of metric.
func comparison(t *testing.T, s *store.Store, v record.Comparison) record.Comparison {
	t.Helper()
	pgtest.Must(t, s.InTx(t.Context(), func(tx pgx.Tx) error { _, err := store.SetComparison(t.Context(), tx, v); return err }))
	v, err := s.Comparison(t.Context(), v.Name)
	pgtest.Must(t, err)
	return v
}

func TestWhatAComparisonComputedIsDroppedOnlyWhenItIsAnother(t *testing.T) {
	s := open(t)
	metric(t, s)
	ctx := t.Context()
	set := record.Comparison{Name: "x", Dataset: "ops.x", Settings: record.ComparisonSettings{TimeColumn: "at", Period: "day"},
		NextAt: &now}
	v := comparison(t, s, set)
	in := func(do func(tx pgx.Tx) error) error { return s.InTx(ctx, do) }
	day := func(n int) time.Time { return now.AddDate(0, 0, n).Truncate(24 * time.Hour) }
	keep := func() {
		t.Helper()
		pgtest.Must(t, in(func(tx pgx.Tx) error {
			return store.PutDriftDays(ctx, tx, v, false, day(0), day(3), []store.DriftDay{{Day: day(0), Counts: []byte("a")},
				{Day: day(2), Counts: []byte("c")}})
		}))
		pgtest.Must(t, in(func(tx pgx.Tx) error {
			return store.PutDriftPeriods(ctx, tx, v, []record.DriftPeriod{{ComparisonID: v.ID, From: day(0), To: day(1),
				Found: record.DriftResult{Over: 2, Features: []record.FeatureResult{{Feature: "f"}}}}, {ComparisonID: v.ID,
				From: day(1), To: day(2)}})
		}))
		pgtest.Must(t, in(func(tx pgx.Tx) error { return store.ComputedTo(ctx, tx, v, day(2)) }))
	}
	count := func() (days, periods int) {
		t.Helper()
		d, err := s.DriftDays(ctx, v.ID, false, day(-9), day(9))
		pgtest.Must(t, err)
		p, err := s.DriftPeriods(ctx, v.ID, day(-9), day(9))
		pgtest.Must(t, err)
		return len(d), len(p)
	}
	keep()
	keep() // the same again is the same
	if days, periods := count(); days != 2 || periods != 2 {
		t.Fatalf("%d days and %d periods are kept", days, periods)
	}
	if v, _ = s.Comparison(ctx, "x"); v.CountedTo == nil || !v.CountedTo.Equal(day(3)) || v.ComputedTo == nil ||
		!v.ComputedTo.Equal(day(2)) {
		t.Errorf("a run came to %v and %v", v.CountedTo, v.ComputedTo)
	}
	overs, err := s.DriftOvers(ctx)
	pgtest.Must(t, err)
	if len(overs) != 2 || overs[0].Over != 2 || overs[1].Over != 0 {
		t.Errorf("features over their limits: %+v", overs)
	}
	if p, err := s.DriftPeriodAt(ctx, v, day(0).Add(5*time.Hour)); err != nil || p.Found.Over != 2 {
		t.Errorf("the period of an instant: %+v, %v", p, err)
	}
	if _, err := s.DriftPeriodAt(ctx, v, day(5)); !errors.As(err, &record.NotFound{}) {
		t.Errorf("an instant in no period: %v", err)
	}
	if last, err := s.LastDriftPeriods(ctx, v.ID, 1); err != nil || len(last) != 1 || !last[0].From.Equal(day(1)) {
		t.Errorf("the last period: %+v, %v", last, err)
	}

	// Set as it is, all stays; another owner changes nothing that was computed.
	set.Owner = "somebody"
	comparison(t, s, set)
	if days, periods := count(); days != 2 || periods != 2 {
		t.Errorf("set as it was, %d days and %d periods are left", days, periods)
	}
	set.Settings.Period = "week"
	later := comparison(t, s, set)
	if days, periods := count(); days+periods != 0 || later.ComputedTo != nil || later.Revision != v.Revision+1 {
		t.Errorf("of other settings %d days and %d periods are left, revision %d after %d", days, periods, later.Revision, v.Revision)
	}
	// What a run of the old settings still wants to write is refused.
	for what, write := range map[string]func(tx pgx.Tx) error{
		"days":    func(tx pgx.Tx) error { return store.PutDriftDays(ctx, tx, v, false, day(0), day(1), nil) },
		"periods": func(tx pgx.Tx) error { return store.PutDriftPeriods(ctx, tx, v, nil) },
		"layouts": func(tx pgx.Tx) error { return store.KeepLayouts(ctx, tx, v) },
		"the end": func(tx pgx.Tx) error { return store.ComputedTo(ctx, tx, v, day(9)) },
	} {
		if err := in(write); !errors.Is(err, store.ErrReplaced) {
			t.Errorf("%s of a run of old settings: %v", what, err)
		}
	}
	if _, err := s.Ran(ctx, v); !errors.Is(err, store.ErrReplaced) {
		t.Errorf("its end: %v", err)
	}
	if err := in(func(tx pgx.Tx) error {
		_, err := store.SetComparison(ctx, tx, record.Comparison{Name: "y", Dataset: "nowhere"})
		return err
	}); !errors.As(err, &record.NotFound{}) {
		t.Errorf("a dataset that is not there: %v", err)
	}
}

func TestADueComparisonIsAskedForAgainUntilARunHasEnded(t *testing.T) {
	s := open(t)
	metric(t, s)
	ctx := t.Context()
	v := comparison(t, s, record.Comparison{Name: "x", Dataset: "ops.x", NextAt: &now})
	due := func(at time.Time) int {
		t.Helper()
		names, err := s.DueComparisons(ctx, at, at.Add(time.Minute))
		pgtest.Must(t, err)
		return len(names)
	}
	if n := due(now.Add(-time.Second)); n != 0 {
		t.Errorf("before its time %d are due", n)
	}
	if n, again := due(now), due(now.Add(30*time.Second)); n != 1 || again != 0 {
		t.Errorf("due are %d, half a minute later %d", n, again)
	}
	// Its process died: another is told of it.
	if n := due(now.Add(time.Minute)); n != 1 {
		t.Errorf("a minute later %d are due", n)
	}
	next := now.Add(24 * time.Hour)
	v.State, v.NextAt = "ready", &next
	// Somebody waits for a run that began before it was ordered.
	var ordered int64
	pgtest.Must(t, s.InTx(ctx, func(tx pgx.Tx) (err error) { ordered, err = store.OrderComparison(ctx, tx, v, now); return err }))
	served, err := s.Ran(ctx, v)
	if pgtest.Must(t, err); ordered == 0 || served != ordered {
		t.Errorf("task %d was ordered, the run serves %d", ordered, served)
	}
	if n := due(now.Add(time.Hour)); n != 0 {
		t.Errorf("after it has run %d are due", n)
	}
	release, held, err := s.HoldComparison(ctx, v.ID)
	if pgtest.Must(t, err); !held {
		t.Fatal("nobody has it")
	}
	if _, twice, err := s.HoldComparison(ctx, v.ID); twice || err != nil {
		t.Errorf("two have it: %v", err)
	}
	release()
	release, held, err = s.HoldComparison(ctx, v.ID)
	if pgtest.Must(t, err); !held {
		t.Error("it was not let go")
	}
	release()
}
