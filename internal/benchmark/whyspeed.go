package benchmark

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/diagnose"
	"tinbell/core/timeline"
	"tinbell/internal/client"
	"tinbell/internal/collect"
	"tinbell/internal/collect/warehouse"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/service"
	"tinbell/internal/store"
)

// Size of the table that a change is explained in, and how many series are compared
// with their past.
const (
	millRows    = 5_000_000
	millColumns = 6
	beside      = 10_000
	flooded     = 5000 // alerts at once
	floodedSets = 500  // datasets that they are about
)

// whySpeed measures what an alert's page waits for: the segments behind a change of
// a large table, beside one full scan of the same columns, and every other series
// beside its own past.
func whySpeed(ctx context.Context) ([]Result, error) {
	s, stop, err := start(ctx)
	if err != nil {
		return nil, err
	}
	defer stop()
	contribution, err := millSpeed(ctx, s)
	if err != nil {
		return nil, err
	}
	flood, err := floodSpeed(ctx, s) // before ten thousand series have their baselines fitted beside it
	if err != nil {
		return nil, err
	}
	together, err := besideSpeed(ctx, s)
	return append(append(contribution, together...), flood...), err
}

func millSpeed(ctx context.Context, s *service.Service) ([]Result, error) {
	if _, err := s.Postgres.EnsureDatabase(ctx, "mill"); err != nil {
		return nil, err
	}
	address := s.Postgres.URL("mill")
	conn, err := pgx.Connect(ctx, address)
	if err != nil {
		return nil, err
	}
	defer conn.Close(ctx)
	// Five weeks, in no order but that of time.
	if _, err := conn.Exec(ctx, fmt.Sprintf(`
		create table loads as select n as id, 'depot ' || abs(hashint4(n) %% 9) as depot, 'crop ' || abs(hashint4(n + 1) %% 5) as crop, 'lorry ' || abs(hashint4(n + 2) %% 12) as lorry,
			(hashint4(n + 3) %% 2 = 0) as dry, abs(hashint4(n + 4) %% 7)::int as grade, 'scale ' || abs(hashint4(n + 5) %% 4) as scale,
			'2026-05-11T00:00:00Z'::timestamptz + n * interval '35 days' / %d as weighed_at
		from generate_series(0, %d) n`, millRows, millRows-1)); err != nil {
		return nil, fmt.Errorf("fill a table: %w", err)
	}
	if _, err := conn.Exec(ctx, `vacuum analyze loads`); err != nil {
		return nil, err
	}
	scan := time.Duration(math.MaxInt64)
	for range 3 {
		began := time.Now()
		if _, err := conn.Exec(ctx, `select count(depot), count(crop), count(lorry), count(dry), count(grade), count(scale) from loads where weighed_at >= '2026-05-11' and weighed_at < '2026-06-15'`); err != nil {
			return nil, err
		}
		scan = min(scan, time.Since(began))
	}
	source, err := s.Parts.Warehouses.Add(ctx, "mill", address)
	if err != nil {
		return nil, err
	}
	m := warehouse.Narrowed{Metric: record.Metric{Dataset: "public.loads", Measure: record.MeasureRows, TimeColumn: "weighed_at",
		TimeType: "timestamptz", Zone: "UTC"}}
	end := time.Date(2026, 6, 15, 0, 0, 0, 0, time.UTC)
	var spans []warehouse.Span
	for week := range 5 {
		spans = append(spans, warehouse.Span{From: end.AddDate(0, 0, -7*(week+1)), To: end.AddDate(0, 0, -7*week)})
	}
	began := time.Now()
	columns, err := s.Parts.Warehouses.Dimensions(ctx, source, m, nil, spans, millColumns)
	if err != nil {
		return nil, err
	}
	looked := time.Since(began)
	groups, share, err := s.Parts.Warehouses.Group(ctx, source, m, columns, spans)
	if err != nil {
		return nil, err
	}
	grouped := time.Since(began) - looked
	cells := map[string]*diagnose.Cell{}
	var list []diagnose.Cell
	for _, g := range groups {
		key := fmt.Sprint(g.Values)
		if cells[key] == nil {
			list = append(list, diagnose.Cell{Values: g.Values, Before: make([]diagnose.Amount, 4)})
			cells[key] = &list[len(list)-1]
		}
	}
	found := time.Now()
	diagnose.Explain(diagnose.Rows, len(columns), list, 0)
	explained := time.Since(found)
	whole := looked + grouped + explained
	return []Result{{fmt.Sprintf("segments behind a change, %d rows x %d columns, %d combinations", millRows, len(columns),
		len(list)), fmt.Sprintf("%.2f s", whole.Seconds()),
		fmt.Sprintf("one full scan of these columns: %.2f s, ratio %.2f; of it grouping %.0f %% of the rows %.2f s, search %.2f s", scan.Seconds(), whole.Seconds()/scan.Seconds(), 100*share, grouped.Seconds(), explained.Seconds())}}, nil
}

func besideSpeed(ctx context.Context, s *service.Service) ([]Result, error) {
	rng := rand.New(rand.NewPCG(4, 4))
	now := time.Now().UTC().Truncate(time.Hour)
	m, err := s.Parts.Collector.Declare(ctx, collect.Declaration{Metric: "beside", Dataset: "beside", Measure: record.MeasureRows,
		Kind: timeline.Count, Period: "1h", MaxSegments: beside + 1})
	if err != nil {
		return nil, err
	}
	segments := make([]string, beside)
	for i := range segments {
		segments[i] = fmt.Sprintf("segment %05d", i)
	}
	ids, err := s.Parts.Store.EnsureSeries(ctx, m.ID, segments)
	if err != nil {
		return nil, err
	}
	for part := range 10 {
		var samples []record.Sample
		for i, name := range segments {
			if i%10 != part {
				continue
			}
			for week := range 7 {
				for hour := range 30 {
					v := math.Round(max(80+9*rng.NormFloat64(), 0))
					samples = append(samples, record.Sample{SeriesID: ids[name],
						At: now.AddDate(0, 0, -7*week).Add(-time.Duration(hour+2) * time.Hour), Value: &v})
				}
			}
		}
		err := s.Parts.Store.InTx(ctx, func(tx pgx.Tx) error {
			_, err := store.PutSamples(ctx, tx, samples, store.RecentFrom(now))
			return err
		})
		if err != nil {
			return nil, fmt.Errorf("fill series: %w", err)
		}
	}
	c := client.New(s.Address, "")
	if err := c.Send(ctx, "POST", "/monitors", httpapi.NewMonitor{Name: "beside", Metric: "beside", Settings: nil}, nil); err != nil {
		return nil, err
	}
	monitor, err := s.Parts.Store.Monitor(ctx, "beside")
	if err != nil {
		return nil, err
	}
	var alert int64
	err = s.Parts.Store.InTx(ctx, func(tx pgx.Tx) error {
		to := now.Add(-2 * time.Hour)
		alert, err = store.PutAlert(ctx, tx, record.Alert{MonitorID: monitor.ID, SeriesID: ids[segments[0]], Cause: "deviation",
			Direction: "low", Severity: "warning",
			Since: now.Add(-10 * time.Hour), RaisedAt: to, RangTo: &to, Sentence: "a benchmark"})
		return err
	})
	if err != nil {
		return nil, err
	}
	best := math.Inf(1)
	for range 3 {
		w, err := s.Parts.Diagnoser.Why(ctx, alert)
		if err != nil {
			return nil, err
		}
		if w.Together == nil || w.Together.Series != beside {
			return nil, fmt.Errorf("not all of %d series were compared: %+v, %v", beside, w.Together, w.Missing)
		}
		best = min(best, w.Together.Took)
	}
	return []Result{{fmt.Sprintf("what else broke, of %d series", beside), fmt.Sprintf("%.2f s", best),
		"eight hours of each beside the same of six weeks before"}}, nil
}

// floodSpeed measures how long it takes until a flood of alerts over many datasets is
// grouped, and one more alert while all of them are open.
func floodSpeed(ctx context.Context, s *service.Service) ([]Result, error) {
	rng := rand.New(rand.NewPCG(6, 6))
	now := time.Now().UTC().Truncate(time.Minute)
	var monitors, series []int64
	for n := range floodedSets {
		name := fmt.Sprintf("flood.t%03d", n)
		m, err := s.Parts.Collector.Declare(ctx, collect.Declaration{Metric: name, Dataset: name, Measure: record.MeasureRows,
			Kind: timeline.Count, Period: "1h", SegmentBy: record.Strings{"part"}})
		if err != nil {
			return nil, err
		}
		segments := make([]string, flooded/floodedSets)
		for i := range segments {
			segments[i] = fmt.Sprint("part ", i)
		}
		ids, err := s.Parts.Store.EnsureSeries(ctx, m.ID, segments)
		if err != nil {
			return nil, err
		}
		v, err := s.Parts.Setup.AddMonitor(ctx, record.Monitor{Metric: name, Name: name, Settings: record.DefaultSettings()})
		if err != nil {
			return nil, err
		}
		for _, id := range ids {
			monitors, series = append(monitors, v.ID), append(series, id)
		}
	}
	err := s.Parts.Store.InTx(ctx, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, `
			insert into job (namespace, name) select 'flood', 'make ' || n from generate_series(0, $1 - 1) n;`, floodedSets)
		if err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `
			insert into job_dataset (job_id, namespace, name, direction, heard_at)
			select j.id, 'pushed', 'flood.t' || lpad(n::text, 3, '0'), 'output', now() from generate_series(0, $1 - 1) n join job j on j.namespace = 'flood' and j.name = 'make ' || n
			union all select j.id, 'pushed', 'flood.t' || lpad(((n - 1) / 3)::text, 3, '0'), 'input', now() from generate_series(1, $1 - 1) n join job j on j.namespace = 'flood' and j.name = 'make ' || n`, floodedSets)
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("make lineage: %w", err)
	}
	raise := func(from, to int) error {
		return s.Parts.Store.InTx(ctx, func(tx pgx.Tx) error {
			for i := from; i < to; i++ {
				since := now.Add(-time.Duration(20+rng.IntN(100)) * time.Minute)
				raised := since.Add(10 * time.Minute)
				_, err := store.PutAlert(ctx, tx, record.Alert{MonitorID: monitors[i], SeriesID: series[i], Cause: "deviation",
					Direction: "low", Severity: "warning", Since: since, RaisedAt: raised,
					RangTo: &raised, Sentence: "a flood", Effect: -rng.Float64(), EffectError: 0.05, OnsetSpread: 1800})
				if err != nil {
					return err
				}
			}
			return nil
		})
	}
	grouped := func() (time.Duration, error) {
		began := time.Now()
		for {
			if err := s.Parts.Faults.Gather(ctx); err != nil {
				return 0, err
			}
			var left int
			if err := s.Parts.Store.Pool.QueryRow(ctx, `select count(*) from alert_change`).Scan(&left); err != nil || left == 0 {
				return time.Since(began), err
			}
			time.Sleep(5 * time.Millisecond)
		}
	}
	if err := raise(0, flooded-1); err != nil {
		return nil, err
	}
	all, err := grouped()
	if err != nil {
		return nil, err
	}
	if err := raise(flooded-1, flooded); err != nil {
		return nil, err
	}
	one, err := grouped()
	return []Result{{fmt.Sprintf("%d alerts of an hour, over %d datasets in one lineage, until they are grouped and told",
		flooded, floodedSets), fmt.Sprintf("%.1f s", all.Seconds()), ""},
		{"one more alert while all of them are open", fmt.Sprintf("%.0f ms", 1000*one.Seconds()),
			"with reading all groups of the last days"}}, err
}
