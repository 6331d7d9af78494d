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
	together, err := besideSpeed(ctx, s)
	return append(contribution, together...), err
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
	m := warehouse.Narrowed{Metric: record.Metric{Dataset: "public.loads", Measure: record.MeasureRows, TimeColumn: "weighed_at", TimeType: "timestamptz", Zone: "UTC"}}
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
	diagnose.Explain(diagnose.Rows, len(columns), list)
	explained := time.Since(found)
	whole := looked + grouped + explained
	return []Result{{fmt.Sprintf("segments behind a change, %d rows x %d columns, %d combinations", millRows, len(columns), len(list)), fmt.Sprintf("%.2f s", whole.Seconds()),
		fmt.Sprintf("one full scan of these columns: %.2f s, ratio %.2f; of it grouping %.0f %% of the rows %.2f s, search %.2f s", scan.Seconds(), whole.Seconds()/scan.Seconds(), 100*share, grouped.Seconds(), explained.Seconds())}}, nil
}

func besideSpeed(ctx context.Context, s *service.Service) ([]Result, error) {
	rng := rand.New(rand.NewPCG(4, 4))
	now := time.Now().UTC().Truncate(time.Hour)
	m, err := s.Parts.Collector.Declare(ctx, collect.Declaration{Metric: "beside", Dataset: "beside", Measure: record.MeasureRows, Kind: timeline.Count, Period: "1h", MaxSegments: beside + 1})
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
					samples = append(samples, record.Sample{SeriesID: ids[name], At: now.AddDate(0, 0, -7*week).Add(-time.Duration(hour+2) * time.Hour), Value: &v})
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
		alert, err = store.PutAlert(ctx, tx, record.Alert{MonitorID: monitor.ID, SeriesID: ids[segments[0]], Cause: "deviation", Direction: "low", Severity: "warning",
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
	return []Result{{fmt.Sprintf("what else broke, of %d series", beside), fmt.Sprintf("%.2f s", best), "eight hours of each beside the same of six weeks before"}}, nil
}
