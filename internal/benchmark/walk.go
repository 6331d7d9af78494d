package benchmark

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
	"tinbell/internal/store"
)

const (
	walkSeries = 1000
	walkWeeks  = 16
	walkFrom   = 5 // weeks that are only learned from
)

// layerSpeed writes the history of many series as day chunks and, beside, into
// a plain table; reads both; backtests the series from storage; and runs the
// query a person would write instead over the plain rows.
func layerSpeed(ctx context.Context) ([]Result, error) {
	s, stop, err := start(ctx)
	if err != nil {
		return nil, err
	}
	defer stop()
	first := time.Now().UTC().Truncate(time.Hour).AddDate(0, 0, -7*walkWeeks)
	h := &layers{Service: s, first: first, until: first.AddDate(0, 0, 7*walkWeeks)}
	var results []Result
	for _, step := range []func(context.Context) ([]Result, error){h.fill, h.sizes, h.reads, h.walk} {
		more, err := step(ctx)
		if err != nil {
			return results, err
		}
		results = append(results, more...)
	}
	return results, nil
}

type layers struct {
	*service.Service
	first, until time.Time
	monitor      record.Monitor
	series       []int64
}

const walkSamples = walkSeries * walkWeeks * 168

// walk backtests from storage.
func (h *layers) walk(ctx context.Context) ([]Result, error) {
	peak, measured := watchMemory()
	began := time.Now()
	b, err := h.Parts.Bench.Backtest(ctx, []record.Monitor{h.monitor}, h.first.AddDate(0, 0, 7*walkFrom), h.until, record.Tried{})
	if err != nil {
		return nil, err
	}
	took := time.Since(began)
	measured()
	began = time.Now()
	if _, err := h.Parts.Store.Pool.Exec(ctx, byHand); err != nil {
		return nil, fmt.Errorf("median and MAD in SQL: %w", err)
	}
	sql := time.Since(began)
	return []Result{{fmt.Sprintf("walk-forward backtest of %d series x %d weeks hourly, from storage", walkSeries, walkWeeks),
		fmt.Sprintf("%.1f s on %d cores, %d alerts, %.0f MB at most", took.Seconds(), runtime.NumCPU(), len(b.Alerts), float64(*peak)/1e6),
		fmt.Sprintf("median and MAD by hour of the week of the same %d rows in SQL %.1f s: ratio %.2f", walkSamples,
			sql.Seconds(), took.Seconds()/sql.Seconds())}}, nil
}

// byHand is what a person would write: values more than four MADs from the
// median of their hour of the week.
const byHand = `
	with slotted as (
		select series_id, at, value, (extract(isodow from at) * 24 + extract(hour from at))::int as slot from plain),
	middle as (
		select series_id, slot, percentile_cont(0.5) within group (order by value) as median from slotted group by series_id, slot),
	spread as (
		select s.series_id, s.slot, m.median, percentile_cont(0.5) within group (order by abs(s.value - m.median)) as mad
		from slotted s join middle m using (series_id, slot) group by s.series_id, s.slot, m.median)
	select count(*) from slotted s join spread p using (series_id, slot) where abs(s.value - p.median) > 4 * 1.4826 * p.mad`

// fill declares a metric with a monitor that is not fitted yet, and writes its
// samples: into the store, and into a plain table of the same columns and key.
func (h *layers) fill(ctx context.Context) ([]Result, error) {
	c := client.New(h.Address, "")
	if err := c.Send(ctx, "POST", "/metrics/declare", collect.Declaration{Metric: "walk", Dataset: "bench.walk", Measure: "rows",
		Kind: timeline.Count, Period: "1h", Zone: "America/Halifax"}, nil); err != nil {
		return nil, err
	}
	records := h.Parts.Store
	metric, err := records.Metric(ctx, "walk")
	if err != nil {
		return nil, err
	}
	if _, err := records.AddMonitor(ctx, record.Monitor{MetricID: metric.ID, Name: "walk",
		Settings: record.DefaultSettings()}); err != nil {
		return nil, err
	}
	if h.monitor, err = records.Monitor(ctx, "walk"); err != nil {
		return nil, err
	}
	segments := make([]string, walkSeries)
	for i := range segments {
		segments[i] = fmt.Sprintf("s%04d", i)
	}
	ids, err := records.EnsureSeries(ctx, metric.ID, segments)
	if err != nil {
		return nil, err
	}
	if _, err := records.Pool.Exec(ctx, `create table plain (like sample including all)`); err != nil {
		return nil, err
	}
	rng := rand.New(rand.NewPCG(4, 4))
	var packing, copying time.Duration
	const atOnce = 50
	for k := 0; k < walkSeries; k += atOnce {
		var samples []record.Sample
		for _, segment := range segments[k : k+atOnce] {
			h.series = append(h.series, ids[segment])
			for hour := range walkWeeks * 168 {
				mu := 60 * (1.1 + math.Sin(2*math.Pi*float64(hour)/24))
				v := math.Round(max(mu+math.Sqrt(mu)*rng.NormFloat64(), 0))
				samples = append(samples, record.Sample{SeriesID: ids[segment], At: h.first.Add(time.Duration(hour) * time.Hour),
					Value: &v})
			}
		}
		began := time.Now()
		err := records.InTx(ctx, func(tx pgx.Tx) error {
			_, err := store.PutSamples(ctx, tx, samples, h.until)
			return err
		})
		if err != nil {
			return nil, fmt.Errorf("fill day chunks: %w", err)
		}
		packing += time.Since(began)
		began = time.Now()
		if _, err := records.Pool.CopyFrom(ctx, pgx.Identifier{"plain"}, []string{"series_id", "at", "value"},
			pgx.CopyFromSlice(len(samples), func(i int) ([]any, error) {
				return []any{samples[i].SeriesID, samples[i].At, samples[i].Value}, nil
			})); err != nil {
			return nil, fmt.Errorf("fill plain table: %w", err)
		}
		copying += time.Since(began)
	}
	_, err = records.Pool.Exec(ctx, `analyze sample_day, plain`)
	return []Result{{"history written as day chunks", perSecond(walkSamples, packing),
		"COPY into a plain table with the same key " + perSecond(walkSamples, copying)}}, err
}

func perSecond(n int, took time.Duration) string {
	return fmt.Sprintf("%.0f samples/s", float64(n)/took.Seconds())
}

// sizes asks what both take on disk, indexes included.
func (h *layers) sizes(ctx context.Context) ([]Result, error) {
	var packed, plain float64
	err := h.Parts.Store.Pool.QueryRow(ctx, `
		select pg_total_relation_size('sample_day')::float8, pg_total_relation_size('plain')::float8`).Scan(&packed, &plain)
	return []Result{{"size of an hourly sample in a day chunk", fmt.Sprintf("%.1f bytes", packed/walkSamples),
		fmt.Sprintf("plain table %.1f bytes", plain/walkSamples)}}, err
}

// reads reads all of both.
func (h *layers) reads(ctx context.Context) ([]Result, error) {
	began := time.Now()
	n := 0
	if err := h.Parts.Store.EachSeries(ctx, h.series, h.first, h.until,
		func(_ int64, list []timeline.Sample) error { n += len(list); return nil }); err != nil {
		return nil, err
	}
	chunks := time.Since(began)
	began = time.Now()
	rows, err := h.Parts.Store.Pool.Query(ctx,
		`select series_id, at, value from plain where series_id = any($1) and at >= $2 and at < $3 order by series_id, at`,
		h.series, h.first, h.until)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var v record.Sample
	m := 0
	for rows.Next() {
		if err := rows.Scan(&v.SeriesID, &v.At, &v.Value); err != nil {
			return nil, err
		}
		m++
	}
	if n != walkSamples || m != walkSamples {
		return nil, fmt.Errorf("wrote %d samples, read %d from chunks and %d from the plain table", walkSamples, n, m)
	}
	return []Result{{"history read from day chunks", perSecond(n, chunks), "the plain table, row by row " + perSecond(m,
		time.Since(began))}}, rows.Err()
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
