package detect_test

import (
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"tinbell/core/baseline"
	"tinbell/core/detect"
	"tinbell/core/timeline"
)

// hostile makes a history of the kinds that accidents leave: lengths of nothing,
// one value and weeks; gaps, zeros, numbers without meaning, years of silence.
func hostile(rng *rand.Rand, g timeline.Grid, kind timeline.Kind) []timeline.Sample {
	start := time.Date(2026, 1, 4, 0, 0, 0, 0, time.UTC)
	n := []int{0, 1, 2, 30, 3*g.PerDay() + 1, 21 * g.PerDay(), 35 * g.PerDay(), 70 * g.PerDay(), 70 * g.PerDay()}[rng.IntN(9)]
	n = min(n, 12000)
	value := map[int]func(i int) float64{
		0: func(int) float64 { return 0 },
		1: func(int) float64 { return 1 },
		2: func(i int) float64 { return float64(i % 7) },
		3: func(int) float64 { return rng.Float64() },
		4: func(int) float64 { return math.Exp(200 * rng.NormFloat64()) },
		5: func(int) float64 { return 1e308 * rng.Float64() },
		6: func(int) float64 { return 5e-324 },
		7: func(i int) float64 { return float64(i) * 1e6 },
		8: func(int) float64 { return -1e300 },
		9: func(i int) float64 { return 1e15 + float64(i%2) },
	}[rng.IntN(10)]
	gaps := rng.Float64() * float64(rng.IntN(2))
	quiet := rng.IntN(3) == 0 // nothing in the last weeks
	wrong := 0.0              // how often a value is one that its kind cannot have
	if rng.IntN(4) == 0 {
		wrong = 0.02
	}
	list := make([]timeline.Sample, 0, n)
	at := g.Floor(start)
	for i := range n {
		v := value(i)
		switch kind {
		case timeline.Count:
			v = math.Trunc(math.Abs(v))
		case timeline.Share:
			v = math.Abs(math.Mod(v, 1))
		case timeline.Duration:
			v = math.Abs(v)
		}
		if rng.Float64() < wrong {
			v = -3 * v
		}
		if rng.Float64() < gaps || quiet && i > n/3 {
			v = math.NaN()
		}
		list = append(list, timeline.Sample{At: at.Unix(), Value: v, Rows: []float64{0, 1, 1e12, timeline.NoRows}[rng.IntN(4)]})
		at = g.Next(at)
		if rng.IntN(5000) == 0 {
			at = g.Floor(at.AddDate(rng.IntN(20), 0, 0))
		}
	}
	return list
}

// Whatever a series is like, its fit ends, it can be judged, stored and read
// again, and what is said of it is a finite number or not known.
func TestHostileSeriesAreFittedAndJudgedToFiniteFigures(t *testing.T) {
	series := 6000
	if testing.Short() {
		series = 200
	}
	methods := []baseline.Method{{}, {Name: baseline.Fixed, Low: 1, High: 5}, {Name: baseline.Change, Lag: 3},
		{Name: baseline.Rolling, Window: 20}, {Name: baseline.Rolling, Window: 20, Robust: true},
		{Name: baseline.ZScore}, {Name: baseline.Modified}, {Name: baseline.Fences}}
	periods := []time.Duration{24 * time.Hour, time.Hour, 15 * time.Minute, 5 * time.Minute}
	fitted := 0
	for k := range series {
		rng := rand.New(rand.NewPCG(11, uint64(k)))
		g, err := timeline.NewGrid(periods[rng.IntN(len(periods))], time.UTC)
		if err != nil {
			t.Fatal(err)
		}
		cfg := baseline.Config{Kind: timeline.Kinds[rng.IntN(len(timeline.Kinds))], Grid: g, Method: methods[rng.IntN(len(methods))]}
		rule := detect.Rule{Spikes: rng.IntN(2) == 0, Direction: detect.Direction(rng.IntN(3) - 1)}
		history := hostile(rng, g, cfg.Kind)
		name := fmt.Sprintf("series %d, %s of %s by %q", k, cfg.Kind, g.Period, cfg.Method.Name)
		func() {
			defer func() {
				if value := recover(); value != nil {
					t.Errorf("%s: %v", name, value)
					panic(value)
				}
			}()
			part := len(history) * 9 / 10
			e, err := detect.Fit(cfg, rule, history[:part], timeline.Mask{})
			if short := (baseline.TooShort{}); errors.As(err, &short) {
				return
			}
			if err != nil {
				t.Errorf("%s: %v", name, err)
				return
			}
			fitted++
			for i, s := range history[part:] {
				r := e.Step(s, timeline.Judged)
				for what, v := range map[string]float64{"expected": r.Expected, "low": r.Low, "high": r.High,
					"deviation": r.Deviation, "return period": r.ReturnPeriod} {
					bound := math.IsInf(v, 0) && cfg.Method.Name == baseline.Fixed && (what == "low" || what == "high")
					if math.IsInf(v, 0) && !bound {
						t.Errorf("%s, period %d: %s is %g", name, i, what, v)
						return
					}
				}
				if a, open := e.OpenAlert(); open && (math.IsInf(a.Rang.Observed, 0) || math.IsInf(a.Rang.Expected, 0) ||
					math.IsInf(a.Peak, 0)) {
					t.Errorf("%s: the alert's figures are %+v", name, a)
					return
				}
				if a, open := e.OpenAlert(); open && a.Cause == detect.Deviation && (a.Rang.Off(a.Direction) <= 0 ||
					a.Worst.Off(a.Direction) < a.Rang.Off(a.Direction) || a.Rang.To <= a.Rang.From) {
					t.Errorf("%s: an alert of direction %s states %+v, at worst %+v", name, a.Direction, a.Rang, a.Worst)
					return
				}
			}
			blob, err := e.MarshalBinary()
			if err != nil {
				t.Errorf("%s: %v", name, err)
				return
			}
			if _, err := detect.Load(cfg, rule, blob); err != nil {
				t.Errorf("%s: stored and read again: %v", name, err)
			}
			e.Losses()
		}()
		if t.Failed() {
			return
		}
	}
	if fitted < series/3 {
		t.Errorf("only %d of %d series were fitted", fitted, series)
	}
}

// A series that was measured for months and then fell silent is fitted from what
// it was, and its silence is judged.
func TestASeriesQuietForSixWeeksIsFitted(t *testing.T) {
	g, _ := timeline.NewGrid(time.Hour, time.UTC)
	for _, kind := range timeline.Kinds {
		var history []timeline.Sample
		at := time.Date(2026, 1, 5, 0, 0, 0, 0, time.UTC)
		rng := rand.New(rand.NewPCG(3, 3))
		for i := range 120 * 24 {
			v := 50 + 20*math.Sin(float64(i)/24*2*math.Pi) + rng.NormFloat64()
			if kind == timeline.Share {
				v /= 100
			} else if kind == timeline.Count {
				v = math.Round(v)
			}
			if i >= 70*24 {
				v = math.NaN()
			}
			history = append(history, timeline.Sample{At: at.Unix(), Value: v})
			at = at.Add(time.Hour)
		}
		e, err := detect.Fit(baseline.Config{Kind: kind, Grid: g}, detect.Rule{}, history, timeline.Mask{})
		if err != nil {
			t.Fatalf("%s: %v", kind, err)
		}
		r := e.Peek(timeline.Sample{At: at.Unix(), Value: math.NaN()})
		if !(r.Low < r.Expected && r.Expected < r.High) || r.Expected <= 0 {
			t.Errorf("%s: after six quiet weeks %g to %g, expected %g", kind, r.Low, r.High, r.Expected)
		}
	}
}
