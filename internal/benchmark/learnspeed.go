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
	"tinbell/internal/watch"
)

const (
	learnSeries  = 50
	learnWeeks   = 16
	scoredAlerts = 100_000
)

// learnSpeed tries and tunes one monitor of many series from storage, and scores
// ten thousand alerts.
func learnSpeed(ctx context.Context) ([]Result, error) {
	s, stop, err := start(ctx)
	if err != nil {
		return nil, err
	}
	defer stop()
	m, ids, err := busyMonitor(ctx, s)
	if err != nil {
		return nil, err
	}
	until := time.Now().UTC().Truncate(time.Hour)
	from := until.AddDate(0, 0, -7*learnWeeks)
	began := time.Now()
	n := 0
	if err := s.Parts.Store.EachSeries(ctx, ids, from, until,
		func(_ int64, list []timeline.Sample) error { n += len(list); return nil }); err != nil {
		return nil, err
	}
	reading := time.Since(began)
	proceed := func(int, int) error { return nil }
	calmer := m.Settings
	calmer.WarnSeconds, calmer.CriticalSeconds = 365*86400, 3650*86400
	began = time.Now()
	trial, err := s.Parts.Bench.Try(ctx, []record.Monitor{m}, from, until, record.Tried{Settings: &calmer}, proceed)
	if err != nil {
		return nil, err
	}
	trying := time.Since(began)
	results := []Result{{fmt.Sprintf("trial of a monitor of %d series x %d weeks hourly, both sides", learnSeries, learnWeeks),
		fmt.Sprintf("%.2f s on %d cores, %d alerts today, %d proposed", trying.Seconds(), runtime.NumCPU(),
			len(trial.Today.Alerts), len(trial.Proposed.Alerts)),
		fmt.Sprintf("reading its %d samples %.2f s", n, reading.Seconds())}}
	if err := answerAll(ctx, s, trial.Today.Alerts[0].RaisedAt); err != nil {
		return results, err
	}
	began = time.Now()
	tuned, err := s.Parts.Bench.Tune(ctx, []string{m.Name}, from, proceed)
	if err != nil {
		return results, err
	}
	tuning := time.Since(began)
	results = append(results, Result{"tuning it over the whole search space", fmt.Sprintf("%.1f s for %d settings, %d answers",
		tuning.Seconds(), tuned.Tried, tuned.Answers),
		fmt.Sprintf("one side of the trial %.2f s", trying.Seconds()/2)})
	more, err := scoreSpeed(ctx, s, m, ids)
	return append(results, more...), err
}

// busyMonitor is set so loose that its past rings often.
func busyMonitor(ctx context.Context, s *service.Service) (record.Monitor, []int64, error) {
	c := client.New(s.Address, "")
	var m record.Monitor
	if err := c.Send(ctx, "POST", "/metrics/declare", collect.Declaration{Metric: "busy", Dataset: "bench.busy", Measure: "rows",
		Kind: timeline.Count, Period: "1h", Zone: "America/Halifax"}, nil); err != nil {
		return m, nil, err
	}
	records := s.Parts.Store
	metric, err := records.Metric(ctx, "busy")
	if err != nil {
		return m, nil, err
	}
	segments := make([]string, learnSeries)
	for i := range segments {
		segments[i] = fmt.Sprintf("s%02d", i)
	}
	byName, err := records.EnsureSeries(ctx, metric.ID, segments)
	if err != nil {
		return m, nil, err
	}
	rng := rand.New(rand.NewPCG(2, 9))
	until := time.Now().UTC().Truncate(time.Hour)
	var ids []int64
	var samples []record.Sample
	for _, segment := range segments {
		ids = append(ids, byName[segment])
		for at := until.AddDate(0, 0, -7*learnWeeks); at.Before(until); at = at.Add(time.Hour) {
			mu := 60 * (1.1 + math.Sin(2*math.Pi*float64(at.Hour())/24))
			if rng.Float64() < 0.0004 {
				mu *= 0.1
			}
			v := math.Round(max(mu+3*math.Sqrt(mu)*rng.NormFloat64(), 0))
			samples = append(samples, record.Sample{SeriesID: byName[segment], At: at, Value: &v})
		}
	}
	if err := records.InTx(ctx, func(tx pgx.Tx) error {
		_, err := store.PutSamples(ctx, tx, samples, store.RecentFrom(until))
		return err
	}); err != nil {
		return m, nil, err
	}
	settings := record.DefaultSettings()
	settings.WarnSeconds, settings.CriticalSeconds = 86400, 30*86400
	id, err := records.AddMonitor(ctx, record.Monitor{MetricID: metric.ID, Name: "busy", Settings: settings})
	if err != nil {
		return m, nil, err
	}
	if _, err := s.Parts.Watcher.Learn(ctx, watch.Order{Monitor: id, History: true}, func(int, int) {}); err != nil {
		return m, nil, err
	}
	m, err = records.Monitor(ctx, "busy")
	return m, ids, err
}

// answerAll labels the alerts of the past: one in four a fault.
func answerAll(ctx context.Context, s *service.Service, since time.Time) error {
	alerts, err := s.Parts.Store.Alerts(ctx, store.AlertFilter{Judged: true})
	if err != nil {
		return err
	}
	return s.Parts.Store.InTx(ctx, func(tx pgx.Tx) error {
		for i, a := range alerts {
			verdict := record.Noise
			if i%4 == 0 {
				verdict = record.Fault
			}
			if err := store.AddLabels(ctx, tx, []int64{a.ID}, record.Label{Verdict: verdict, Author: "bench", At: since}, nil); err != nil {
				return err
			}
		}
		return nil
	})
}

// scoreSpeed scores a hundred thousand alerts and some incidents.
func scoreSpeed(ctx context.Context, s *service.Service, m record.Monitor, ids []int64) ([]Result, error) {
	now := time.Now().UTC().Truncate(time.Hour)
	rows := make([][]any, scoredAlerts)
	for i := range rows {
		at := now.Add(-time.Duration(i)*5*time.Minute - 17*time.Second)
		rows[i] = []any{m.ID, ids[i%len(ids)], "deviation", "low", "warning", at.Add(-time.Hour), at, at.Add(time.Hour),
			at.Add(time.Hour), "a made-up alert", []string{"", "fault", "noise"}[i%3]}
	}
	pool := s.Parts.Store.Pool
	if _, err := pool.CopyFrom(ctx, pgx.Identifier{"alert"}, []string{"monitor_id", "series_id", "cause", "direction", "severity",
		"since", "raised_at", "ended_at", "closed_at", "sentence", "verdict"}, pgx.CopyFromRows(rows)); err != nil {
		return nil, err
	}
	if _, err := pool.Exec(ctx, `
		insert into incident (reference, dataset_id, started_at, ended_at, title)
		select 'B-' || n, (select id from dataset limit 1), $1::timestamptz - n * interval '20 hours', $1::timestamptz - n * interval '20 hours' + interval '5 hours', 'made up' from generate_series(1, 90) n`, now); err != nil {
		return nil, err
	}
	best, query := time.Hour, time.Hour
	counted := 0
	for range 5 {
		began := time.Now()
		card, err := s.Parts.Scores.Score(ctx, now.AddDate(-1, 0, 0), time.Time{}, "segment", "")
		if err != nil {
			return nil, err
		}
		best, counted = min(best, time.Since(began)), card.Overall.Alerts
		began = time.Now()
		var n int
		if err := pool.QueryRow(ctx, `select count(*) from (select a.*, s.segment from alert a join series s on s.id = a.series_id order by raised_at) x`).Scan(&n); err != nil {
			return nil, err
		}
		query = min(query, time.Since(began))
	}
	asking := time.Hour
	for range 5 {
		began := time.Now()
		if _, err := s.Parts.Lessons.Ask(ctx, 14, ""); err != nil {
			return nil, err
		}
		asking = min(asking, time.Since(began))
	}
	return []Result{{fmt.Sprintf("label queue over %d alerts, %d of them unanswered", counted, counted/3),
		fmt.Sprintf("%.0f ms", float64(asking.Microseconds())/1e3), ""},
		{fmt.Sprintf("scorecard over %d alerts, by monitor, week and segment", counted),
			fmt.Sprintf("%.0f ms", float64(best.Microseconds())/1e3),
			fmt.Sprintf("reading and sorting them in SQL alone %.0f ms", float64(query.Microseconds())/1e3)}}, nil
}
