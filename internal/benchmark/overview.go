package benchmark

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/timeline"
	"tinbell/internal/client"
	"tinbell/internal/collect"
	"tinbell/internal/health"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// manyDatasets is how many the overview is measured with.
const manyDatasets = 1000

// overviewSpeed fills many datasets with four weeks of hourly rows and measures
// the overview that the console opens with: all of them with their small charts.
func overviewSpeed(ctx context.Context) ([]Result, error) {
	s, stop, err := start(ctx)
	if err != nil {
		return nil, err
	}
	defer stop()
	if err := crowd(ctx, s.Parts.Store, s.Parts.Collector, s.Parts.Health); err != nil {
		return nil, err
	}
	c := client.New(s.Address, "")
	best := time.Duration(math.MaxInt64)
	for range 3 {
		began := time.Now()
		var list []health.Health
		if err := c.Get(ctx, "/datasets", nil, &list); err != nil {
			return nil, err
		}
		if len(list) != manyDatasets || len(list[0].Spark.Observed) < 100 {
			return nil, fmt.Errorf("the overview shows %d datasets of %d", len(list), manyDatasets)
		}
		best = min(best, time.Since(began))
	}
	return []Result{{fmt.Sprintf("overview of %d datasets with their small charts, over HTTP", manyDatasets),
		fmt.Sprintf("%.2f s", best.Seconds()), ""}}, nil
}

// crowd makes many datasets with a metric of four weeks each, and sums them up.
func crowd(ctx context.Context, records *store.Store, collector *collect.Collector, summed *health.Reader) error {
	rng := rand.New(rand.NewPCG(8, 8))
	now := time.Now().UTC().Truncate(time.Hour)
	for n := range manyDatasets {
		name := fmt.Sprintf("crowd.table_%04d", n)
		m, err := collector.Declare(ctx, collect.Declaration{Metric: fmt.Sprintf("crowd-%04d", n), Dataset: name,
			Measure: record.MeasureRows, Kind: timeline.Count, Period: "1h"})
		if err != nil {
			return err
		}
		ids, err := records.EnsureSeries(ctx, m.ID, []string{""})
		if err != nil {
			return err
		}
		var samples []record.Sample
		for hour := range 28 * 24 {
			mu := 60 * (1.1 + math.Sin(2*math.Pi*float64(hour+n)/24))
			v := math.Round(max(mu+math.Sqrt(mu)*rng.NormFloat64(), 0))
			samples = append(samples, record.Sample{SeriesID: ids[""], At: now.Add(time.Duration(hour-28*24) * time.Hour), Value: &v})
		}
		err = records.InTx(ctx, func(tx pgx.Tx) error {
			_, err := store.PutSamples(ctx, tx, samples, store.RecentFrom(now))
			return err
		})
		if err != nil {
			return fmt.Errorf("fill datasets: %w", err)
		}
		if err := summed.Refresh(ctx, m.DatasetID); err != nil {
			return err
		}
	}
	return nil
}
