package trial

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"runtime"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/timeline"
	"tinbell/internal/client"
	"tinbell/internal/collect"
	"tinbell/internal/record"
	"tinbell/internal/service"
)

const (
	walkSeries = 1000
	walkWeeks  = 16
	walkFrom   = 5 // weeks that are only learned from
)

// walkSpeed backtests many series from storage, and runs the query a person
// would write instead over the same rows: hour-of-week median and MAD.
func walkSpeed(ctx context.Context) ([]Result, error) {
	s, stop, err := start(ctx)
	if err != nil {
		return nil, err
	}
	defer stop()
	first := time.Now().UTC().Truncate(time.Hour).AddDate(0, 0, -7*walkWeeks)
	monitor, err := fill(ctx, s, first)
	if err != nil {
		return nil, err
	}
	peak, measured := watchMemory()
	began := time.Now()
	b, err := s.Parts.Bench.Backtest(ctx, []record.Monitor{monitor}, first.AddDate(0, 0, 7*walkFrom), first.AddDate(0, 0, 7*walkWeeks), nil)
	if err != nil {
		return nil, err
	}
	took := time.Since(began)
	measured()
	began = time.Now()
	if _, err := s.Parts.Store.Pool.Exec(ctx, byHand); err != nil {
		return nil, fmt.Errorf("median and MAD in SQL: %w", err)
	}
	sql := time.Since(began)
	n := walkSeries * walkWeeks * 168
	return []Result{{fmt.Sprintf("walk-forward backtest of %d series x %d weeks hourly, from storage", walkSeries, walkWeeks),
		fmt.Sprintf("%.1f s on %d cores, %d alerts, %.0f MB at most", took.Seconds(), runtime.NumCPU(), len(b.Alerts), float64(*peak)/1e6),
		fmt.Sprintf("median and MAD by hour of the week of the same %d rows in SQL %.1f s: ratio %.2f", n, sql.Seconds(), took.Seconds()/sql.Seconds())}}, nil
}

// byHand is what a person would write: values more than four MADs from the
// median of their hour of the week.
const byHand = `
	with slotted as (
		select series_id, at, value, (extract(isodow from at) * 24 + extract(hour from at))::int as slot from sample),
	middle as (
		select series_id, slot, percentile_cont(0.5) within group (order by value) as median from slotted group by series_id, slot),
	spread as (
		select s.series_id, s.slot, m.median, percentile_cont(0.5) within group (order by abs(s.value - m.median)) as mad
		from slotted s join middle m using (series_id, slot) group by s.series_id, s.slot, m.median)
	select count(*) from slotted s join spread p using (series_id, slot) where abs(s.value - p.median) > 4 * 1.4826 * p.mad`

// fill declares a metric, gives it its samples straight in the table, and puts
// a monitor on it without fitting it.
func fill(ctx context.Context, s *service.Service, first time.Time) (record.Monitor, error) {
	c := client.New(s.Address, "")
	if err := c.Send(ctx, "POST", "/metrics/declare", collect.Declaration{Metric: "walk", Dataset: "bench.walk", Measure: "rows", Kind: timeline.Count, Period: "1h", Zone: "America/Halifax"}, nil); err != nil {
		return record.Monitor{}, err
	}
	metric, err := s.Parts.Store.Metric(ctx, "walk")
	if err != nil {
		return record.Monitor{}, err
	}
	err = s.Parts.Store.InTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `insert into series (metric_id, segment) select $1, 's' || n from generate_series(1, $2) n`, metric.ID, walkSeries); err != nil {
			return err
		}
		var low int64
		if err := tx.QueryRow(ctx, `select min(id) from series where metric_id = $1`, metric.ID).Scan(&low); err != nil {
			return err
		}
		rng := rand.New(rand.NewPCG(4, 4))
		i := -1
		_, err := tx.CopyFrom(ctx, pgx.Identifier{"sample"}, []string{"series_id", "at", "value", "rows"}, pgx.CopyFromFunc(func() ([]any, error) {
			if i++; i == walkSeries*walkWeeks*168 {
				return nil, nil
			}
			hour := i % (walkWeeks * 168)
			mu := 60 * (1.1 + math.Sin(2*math.Pi*float64(hour)/24))
			return []any{low + int64(i/(walkWeeks*168)), first.Add(time.Duration(hour) * time.Hour), math.Round(max(mu+math.Sqrt(mu)*rng.NormFloat64(), 0)), nil}, nil
		}))
		return err
	})
	if err != nil {
		return record.Monitor{}, fmt.Errorf("fill samples: %w", err)
	}
	if _, err := s.Parts.Store.Pool.Exec(ctx, `analyze sample`); err != nil {
		return record.Monitor{}, err
	}
	if _, err := s.Parts.Store.AddMonitor(ctx, record.Monitor{MetricID: metric.ID, Name: "walk", Settings: record.DefaultSettings()}); err != nil {
		return record.Monitor{}, err
	}
	return s.Parts.Store.Monitor(ctx, "walk")
}

// watchMemory notes the largest memory the program itself asked of the system
// until the returned function is called.
func watchMemory() (peak *uint64, stop func()) {
	peak = new(uint64)
	done, ended := make(chan struct{}), make(chan struct{})
	look := func() {
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		*peak = max(*peak, m.Sys-m.HeapReleased)
	}
	runtime.GC()
	go func() {
		defer close(ended)
		for {
			select {
			case <-done:
				look()
				return
			case <-time.After(50 * time.Millisecond):
				look()
			}
		}
	}()
	return peak, func() { close(done); <-ended }
}
