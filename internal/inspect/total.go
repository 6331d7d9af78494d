package inspect

import (
	"context"
	"errors"
	"math"
	"time"

	"tinbell/core/baseline"
	"tinbell/core/detect"
	"tinbell/core/replay"
	"tinbell/core/robust"
	"tinbell/core/timeline"
	"tinbell/internal/record"
	"tinbell/internal/watch"
)

// total is the summed row count of all segments of a metric with its band.
type total struct {
	spark            Spark
	day, week, month float64 // rows
	lowest, highest  float64 // of a day, over the last thirty
	expected         float64 // of the last day, NaN if unknown
	deviation        float64 // of the last day
}

// sumUp fills in the sums of the last day, week and month. The last day deviates by
// its ratio to expected, in units of 2.58 robust standard deviations of the
// same ratio on the days before (99 % of clean days lie inside).
func (t *total) sumUp(readings []detect.Reading, perDay int) {
	t.expected, t.deviation = math.NaN(), math.NaN()
	ratio := func(end int) (rows, expected float64) {
		for _, r := range readings[max(end-perDay, 0):end] {
			if !math.IsNaN(r.Observed) && !math.IsNaN(r.Expected) {
				rows, expected = rows+r.Observed, expected+r.Expected
			}
		}
		return rows, expected
	}
	n := len(readings)
	t.lowest, t.highest = math.NaN(), math.NaN()
	for day := range 30 {
		end := n - day*perDay
		if end <= 0 {
			break
		}
		rows := 0.0
		for _, r := range readings[max(end-perDay, 0):end] {
			if !math.IsNaN(r.Observed) {
				rows += r.Observed
			}
		}
		if day == 0 {
			t.day = rows
		}
		if day < 7 {
			t.week += rows
		}
		t.month += rows
		switch whole := end >= perDay; {
		case day == 0 && whole:
			t.lowest, t.highest = rows, rows
		case whole:
			t.lowest, t.highest = min(t.lowest, rows), max(t.highest, rows)
		}
	}
	rows, expected := ratio(n)
	if expected <= 0 {
		return
	}
	t.expected = expected
	var off []float64
	for end := n - perDay; end >= perDay; end -= perDay {
		if x, e := ratio(end); e > 0 {
			off = append(off, math.Abs(x/e-1))
		}
	}
	if len(off) >= 7 {
		width := 2.58 * max(1.4826*robust.Median(off), 1/math.Sqrt(expected), 0.01)
		t.deviation = (rows/expected - 1) / width
	}
}

func (v *Inspector) total(ctx context.Context, m record.Metric) (*total, error) {
	subject, err := watch.Load(ctx, v.store, record.Monitor{MetricID: m.ID, Settings: record.DefaultSettings()})
	if err != nil {
		return nil, err
	}
	settled := subject.SettledTo(v.now())
	days := 70
	if subject.Grid.PerDay() > 288 {
		days = 35
	}
	sum := newSum(subject.Grid, settled.AddDate(0, 0, -days), settled)
	err = subject.EachHistory(ctx, v.store, settled.AddDate(0, 0, -days), settled, func(_ int64, history []timeline.Sample) error {
		sum.add(history)
		return nil
	})
	summed := sum.samples(m.Kind == timeline.Count)
	if err != nil || len(summed) == 0 {
		return nil, err
	}
	t := &total{spark: Spark{From: subject.Grid.Floor(settled.AddDate(0, 0, -7)), PeriodSeconds: m.PeriodSeconds}}
	var readings []detect.Reading
	rule := record.DefaultSettings().Rule(1)
	rule.BandOnly = true
	_, err = replay.Walk(replay.Job{Config: subject.Config, Rule: rule, History: summed, From: settled.AddDate(0, 0, -31).Unix(),
		Read: func(r detect.Reading) { readings = append(readings, r) }})
	if short := (baseline.TooShort{}); err != nil && !errors.As(err, &short) {
		return nil, err
	}
	readings = append(unread(summed, readings, settled.AddDate(0, 0, -31)), readings...)
	for _, r := range readings {
		if r.At >= t.spark.From.Unix() {
			t.spark.Observed, t.spark.Expected = append(t.spark.Observed, drawn(r.Observed)), append(t.spark.Expected, drawn(r.Expected))
			t.spark.Low, t.spark.High = append(t.spark.Low, drawn(r.Low)), append(t.spark.High, drawn(r.High))
		}
	}
	t.sumUp(readings, subject.Grid.PerDay())
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
	return finite(x)
}

// sum adds up dense series period by period, one after another, so that only one
// of them is held at a time.
type sum struct {
	at    []int64
	place map[int64]int
	value []float64
	n     []float64
}

func newSum(g timeline.Grid, from, to time.Time) *sum {
	s := &sum{place: map[int64]int{}}
	for at := g.Floor(from); at.Before(to); at = g.Next(at) {
		s.place[at.Unix()] = len(s.at)
		s.at = append(s.at, at.Unix())
	}
	s.value, s.n = make([]float64, len(s.at)), make([]float64, len(s.at))
	return s
}

func (s *sum) add(history []timeline.Sample) {
	for _, v := range history {
		if i, there := s.place[v.At]; there && !v.Missing() {
			s.value[i] += v.Value
			s.n[i]++
		}
	}
}

// samples gives what was added up, from the first period that came; what is no
// count as the mean.
func (s *sum) samples(count bool) []timeline.Sample {
	var list []timeline.Sample
	for i, at := range s.at {
		v := math.NaN()
		if s.n[i] > 0 {
			if v = s.value[i]; !count {
				v /= s.n[i]
			}
		} else if list == nil {
			continue
		}
		list = append(list, timeline.Sample{At: at, Value: v})
	}
	return list
}
