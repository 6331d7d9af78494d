// Package benchmark measures the program itself: how long its parts take, beside a
// limit measured in the same run.
package benchmark

import (
	"bytes"
	"context"
	"fmt"
	"log/slog"
	"math"
	"math/rand/v2"
	"os"
	"slices"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/baseline"
	"tinbell/core/detect"
	"tinbell/core/timeline"
	"tinbell/internal/client"
	"tinbell/internal/collect"
	"tinbell/internal/service"
)

// Result is one measured figure.
type Result struct {
	What   string `json:"what"`
	Figure string `json:"figure"`
	Beside string `json:"beside"`
}

// SpeedParts are what Speed measures, by name: fit and evaluation of a series,
// ingest, the layers of samples, the overview, learning from labels, drift, and what
// accidents cost.
var SpeedParts = []string{"series", "ingest", "layers", "overview", "learning", "drift", "holding", "why"}

// Speed measures the parts asked for; all if none is.
func Speed(ctx context.Context, parts []string) ([]Result, error) {
	results := []Result{}
	for i, measure := range []func(context.Context) ([]Result, error){seriesSpeed, ingestSpeed, layerSpeed, overviewSpeed,
		learnSpeed, driftSpeed, holdSpeed, whySpeed} {
		if len(parts) > 0 && !slices.Contains(parts, SpeedParts[i]) {
			continue
		}
		more, err := measure(ctx)
		if err != nil {
			return results, err
		}
		results = append(results, more...)
	}
	return results, nil
}

func seriesSpeed(context.Context) ([]Result, error) {
	history := series(2160 + 20000)
	config := baseline.Config{Kind: timeline.Count, Grid: timeline.Grid{Period: time.Hour, Zone: time.UTC}}
	var failed error
	fit := fastest(func(b *testing.B) {
		for b.Loop() {
			if _, err := detect.Fit(config, detect.Rule{}, history[:2160], timeline.Mask{}); err != nil {
				failed = err
				return
			}
		}
	})
	if failed != nil {
		return nil, failed
	}
	e, err := detect.Fit(config, detect.Rule{}, history[:2160], timeline.Mask{})
	if err != nil {
		return nil, err
	}
	i := 0
	step := fastest(func(b *testing.B) {
		b.ReportAllocs()
		for b.Loop() {
			s := history[2160+i%(119*168)] // whole weeks, again and again
			s.At = history[2160].At + int64(i)*3600
			e.Step(s, timeline.Judged)
			i++
		}
	})
	return []Result{
		{"fit of 2,160 hourly points", fmt.Sprintf("%.2f ms", float64(fit.NsPerOp())/1e6), ""},
		{"evaluation of one sample", fmt.Sprintf("%.2f µs", float64(step.NsPerOp())/1e3),
			fmt.Sprintf("%d allocations", step.AllocsPerOp())},
	}, nil
}

// fastest is the fastest of five rounds of a second: on a machine with other
// work, what the work itself costs.
func fastest(f func(*testing.B)) testing.BenchmarkResult {
	best := testing.Benchmark(f)
	for range 4 {
		if r := testing.Benchmark(f); r.NsPerOp() < best.NsPerOp() {
			best = r
		}
	}
	return best
}

// start runs a service of its own on a private PostgreSQL with its usual
// durability.
func start(ctx context.Context, change ...func(*service.Options)) (*service.Service, func(), error) {
	dir, err := os.MkdirTemp("", "tinbell-speed-")
	if err != nil {
		return nil, nil, err
	}
	if err := os.Chmod(dir, 0o755); err != nil {
		return nil, nil, err
	}
	o := service.Options{Dir: dir, Listen: "127.0.0.1:0", SignIn: false, Log: quietLog()}
	for _, one := range change {
		one(&o)
	}
	s, err := service.Start(ctx, o)
	if err != nil {
		os.RemoveAll(dir)
		return nil, nil, err
	}
	return s, func() { s.Stop(); os.RemoveAll(dir) }, nil
}

func quietLog() *slog.Logger { return slog.New(slog.DiscardHandler) }

func series(n int) []timeline.Sample {
	rng := rand.New(rand.NewPCG(1, 1))
	list := make([]timeline.Sample, n)
	for i := range list {
		mu := 80 * (1.1 + math.Sin(2*math.Pi*float64(i)/24))
		list[i] = timeline.Sample{At: 1_770_000_000/3600*3600 + int64(i)*3600,
			Value: math.Round(max(mu+math.Sqrt(mu)*rng.NormFloat64(), 0))}
	}
	return list
}

// ingestSpeed pushes samples of the last day and a half over HTTP and copies the same rows into a table of
// the same shape, on the same private PostgreSQL with its usual durability.
func ingestSpeed(ctx context.Context) ([]Result, error) {
	const n = 400_000
	s, stop, err := start(ctx)
	if err != nil {
		return nil, err
	}
	defer stop()
	c := client.New(s.Address, "")
	if err := c.Send(ctx, "POST", "/metrics/declare", collect.Declaration{Metric: "speed", Dataset: "bench.speed",
		Measure: "rows", Kind: timeline.Count, Period: "1m"}, nil); err != nil {
		return nil, err
	}
	body, rows := lines(n)
	if _, err := s.Parts.Store.Pool.Exec(ctx, `create table copied (like sample including all)`); err != nil {
		return nil, err
	}
	began := time.Now()
	err = s.Parts.Store.InTx(ctx, func(tx pgx.Tx) error {
		_, err := tx.CopyFrom(ctx, pgx.Identifier{"copied"}, []string{"series_id", "at", "value", "rows"}, pgx.CopyFromRows(rows))
		return err
	})
	if err != nil {
		return nil, err
	}
	copied := float64(n) / time.Since(began).Seconds()
	began = time.Now()
	var receipt collect.Receipt
	if err := c.Stream(ctx, "POST", "/samples", "application/x-ndjson", bytes.NewReader(body), &receipt); err != nil {
		return nil, err
	}
	pushed := float64(n) / time.Since(began).Seconds()
	if receipt.Changed != int64(n) {
		return nil, fmt.Errorf("pushed %d samples, %d were stored", n, receipt.Changed)
	}
	return []Result{{fmt.Sprintf("ingest of %d samples as NDJSON", n), fmt.Sprintf("%.0f samples/s", pushed),
		fmt.Sprintf("COPY into the same table %.0f rows/s: ratio %.2f", copied, pushed/copied)}}, nil
}

func lines(n int) ([]byte, [][]any) {
	var b bytes.Buffer
	rows := make([][]any, n)
	const segments = 200
	start := time.Now().UTC().Truncate(time.Minute).Add(-time.Duration(n/segments+1) * time.Minute)
	for i := range n {
		at := start.Add(time.Duration(i/segments) * time.Minute)
		fmt.Fprintf(&b, "{\"metric\":\"speed\",\"segment\":\"s%d\",\"at\":\"%s\",\"value\":%d}\n", i%segments,
			at.Format(time.RFC3339), i%977)
		rows[i] = []any{int64(i%segments + 1), at, float64(i % 977), nil}
	}
	return b.Bytes(), rows
}
