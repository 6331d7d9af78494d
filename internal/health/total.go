package health

import (
	"context"
	"errors"
	"math"
	"time"

	"tinbell/core/baseline"
	"tinbell/core/detect"
	"tinbell/core/replay"
	"tinbell/core/timeline"
	"tinbell/internal/record"
	"tinbell/internal/watch"
	"tinbell/internal/wire"
)

// total is the summed row count of all segments of a metric with its band.
type total struct {
	spark Spark
	detect.Days
}

func (r *Reader) total(ctx context.Context, m record.Metric) (*total, error) {
	subject, err := watch.Load(ctx, r.store, record.Monitor{MetricID: m.ID, Settings: record.DefaultSettings()})
	if err != nil {
		return nil, err
	}
	settled := subject.SettledTo(r.now())
	days, drawnFrom := 70, 7
	switch {
	case subject.Grid.PerDay() > 288:
		days = 35
	case subject.Grid.Long():
		drawnFrom = 12
	}
	back := func(days int) time.Time { return subject.Grid.Back(settled, days) }
	sum := timeline.NewSum(subject.Grid, back(days), settled)
	err = subject.EachHistory(ctx, r.store, back(days), settled, func(_ int64, history []timeline.Sample) error {
		sum.Add(history)
		return nil
	})
	summed := sum.Samples(m.Kind == timeline.Count)
	if err != nil || len(summed) == 0 {
		return nil, err
	}
	t := &total{spark: Spark{From: back(drawnFrom), PeriodSeconds: m.PeriodSeconds}}
	var readings []detect.Reading
	rule := record.DefaultSettings().Rule(1)
	rule.BandOnly = true
	_, err = replay.Walk(replay.Job{Config: subject.Config, Rule: rule, History: summed, From: back(31).Unix(),
		Read: func(r detect.Reading) { readings = append(readings, r) }})
	if short := (baseline.TooShort{}); err != nil && !errors.As(err, &short) {
		return nil, err
	}
	readings = append(unread(summed, readings, back(31)), readings...)
	for _, r := range readings {
		if r.At >= t.spark.From.Unix() {
			t.spark.Observed, t.spark.Expected = append(t.spark.Observed, drawn(r.Observed)), append(t.spark.Expected, drawn(r.Expected))
			t.spark.Low, t.spark.High = append(t.spark.Low, drawn(r.Low)), append(t.spark.High, drawn(r.High))
		}
	}
	t.Days = detect.LastDays(readings, subject.Grid.PerDay())
	return t, nil
}

// unread gives what of a young series came before there was a band, from an instant
// on: it counts and is drawn all the same.
func unread(summed []timeline.Sample, readings []detect.Reading, from time.Time) (list []detect.Reading) {
	for _, s := range summed {
		if len(readings) > 0 && s.At >= readings[0].At {
			break
		}
		if s.At >= from.Unix() {
			list = append(list, detect.Reading{At: s.At, Observed: s.Value, Expected: math.NaN(), Low: math.NaN(), High: math.NaN()})
		}
	}
	return list
}

// drawn keeps as many digits as a small chart can show: a thousand of them are
// sent at once.
func drawn(x float64) *float64 {
	if x != 0 && !math.IsNaN(x) && !math.IsInf(x, 0) {
		scale := math.Pow(10, 3-math.Floor(math.Log10(math.Abs(x))))
		if rounded := math.Round(x*scale) / scale; !math.IsNaN(rounded) && !math.IsInf(rounded, 0) {
			x = rounded
		}
	}
	return wire.Finite(x)
}
