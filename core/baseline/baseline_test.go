package baseline

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"tinbell/core/timeline"
)

func weekOfHours(n int, value func(at time.Time, i int) timeline.Sample) []timeline.Sample {
	at := time.Date(2026, 2, 2, 0, 0, 0, 0, time.UTC)
	list := make([]timeline.Sample, n)
	for i := range list {
		list[i] = value(at, i)
		list[i].At = at.Unix()
		at = at.Add(time.Hour)
	}
	return list
}

func fitted(t *testing.T, kind timeline.Kind, history []timeline.Sample) (*Prepared, *Model) {
	t.Helper()
	cfg := Config{Kind: kind, Grid: timeline.Grid{Period: time.Hour, Zone: time.UTC}}
	p, err := Prepare(cfg, history, timeline.Mask{})
	if err != nil {
		t.Fatal(err)
	}
	m := p.Restart(p.Choose())
	for i := range p.Points {
		e := m.Expect(p.Points[i].Slot, p.Points[i].Rows)
		m.Learn(&e, p.Points[i].X)
	}
	return p, m
}

func TestTheModelLearnsLevelAndWeeklyShape(t *testing.T) {
	shape := func(at time.Time) float64 {
		v := 100 + 80*math.Sin(2*math.Pi*float64(at.Hour())/24)
		if at.Weekday() == time.Sunday {
			v += 60
		}
		return v
	}
	rng := rand.New(rand.NewPCG(6, 1))
	for _, kind := range []timeline.Kind{timeline.Count, timeline.Value} {
		history := weekOfHours(8*168, func(at time.Time, _ int) timeline.Sample {
			return timeline.Sample{Value: math.Max(0, math.Round(shape(at)+5*rng.NormFloat64()))}
		})
		_, m := fitted(t, kind, history)
		slotter := timeline.NewSlotter(timeline.Grid{Period: time.Hour, Zone: time.UTC})
		for i := range 168 {
			at := time.Unix(history[0].At, 0).UTC().Add(time.Duration(8*168+i) * time.Hour)
			e := m.Expect(slotter.At(at.Unix()), 0)
			if want := shape(at); math.Abs(e.Mu-want) > 0.05*want+6 {
				t.Errorf("%s, %s: expected %.1f, want %.1f", kind, at.Format("Mon 15:04"), e.Mu, want)
			}
		}
	}
}

func TestPartsOfAnExplanationAddUp(t *testing.T) {
	rng := rand.New(rand.NewPCG(9, 9))
	for _, kind := range timeline.Kinds {
		history := weekOfHours(6*168, func(at time.Time, _ int) timeline.Sample {
			base := 0.4 + 0.2*math.Sin(2*math.Pi*float64(at.Hour())/24) + 0.02*rng.NormFloat64()
			s := timeline.Sample{Value: base}
			switch kind {
			case timeline.Count:
				s.Value = math.Round(100 * base)
			case timeline.Share:
				s.Rows = 200
			case timeline.Duration:
				s.Value = 600 * base
			}
			return s
		})
		p, m := fitted(t, kind, history)
		for _, pt := range p.Points[len(p.Points)-50:] {
			e := m.Expect(pt.Slot, pt.Rows)
			m.Holiday(&e, pt.X, 0, true)
			sum := 0.0
			for _, part := range m.Explain(e, pt.Rows) {
				sum += part.Amount
			}
			if want := m.Back(e.Mu, pt.Rows); math.Abs(sum-want) > 1e-9*max(1, math.Abs(want)) {
				t.Fatalf("%s: parts add up to %g, expected is %g", kind, sum, want)
			}
		}
	}
}

func TestUnlabelledOutliersCannotBendTheBand(t *testing.T) {
	rng := rand.New(rand.NewPCG(4, 2))
	clean := weekOfHours(8*168, func(at time.Time, _ int) timeline.Sample {
		return timeline.Sample{Value: math.Round(200 + 100*math.Sin(2*math.Pi*float64(at.Hour())/24) + 12*rng.NormFloat64())}
	})
	dirty := slices.Clone(clean)
	for i := range dirty {
		if rng.Float64() < 0.05 {
			dirty[i].Value *= 20
		}
	}
	_, a := fitted(t, timeline.Count, clean)
	_, b := fitted(t, timeline.Count, dirty)
	if ratio := b.Level() / a.Level(); ratio > 1.1 || ratio < 0.95 {
		t.Errorf("5 %% of values times twenty moved the level by a factor of %.2f", ratio)
	}
}

func TestBandQuantilesConvergeToStatedTails(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 7))
	for _, coverage := range []float64{0.9, 0.95, 0.99} {
		b := NewBand(coverage)
		for range 1000 {
			b.Add(rng.NormFloat64())
		}
		outside, n := 0, 40000
		for range n {
			x := rng.NormFloat64()
			if x < b.Low || x > b.High {
				outside++
			}
			b.Add(x)
		}
		if got := 1 - float64(outside)/float64(n); math.Abs(got-coverage) > 0.004 {
			t.Errorf("stated %.2f, covered %.4f", coverage, got)
		}
	}
}

func TestTailProbabilityIsThatOfANormalForNormalResiduals(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 7))
	b := NewBand(0.99)
	for range 1000 {
		b.Add(rng.NormFloat64())
	}
	for z, want := range map[float64]float64{1: 0.3173, 2: 0.0455, -2: 0.0455, 3: 0.0027} {
		if got := b.TailProbability(z); got < want/2 || got > want*2 {
			t.Errorf("P(|z| > %g) = %.4f, want about %.4f", z, got, want)
		}
	}
}

func TestASteppedSeriesIsToldFromASeasonalOneWithTies(t *testing.T) {
	cfg := Config{Kind: timeline.Count, Grid: timeline.Grid{Period: time.Hour, Zone: time.UTC}}
	reference := weekOfHours(6*168, func(_ time.Time, i int) timeline.Sample { return timeline.Sample{Value: float64(500 + 10*(i/400))} })
	timetable := weekOfHours(6*168, func(at time.Time, _ int) timeline.Sample {
		if at.Hour() < 6 {
			return timeline.Sample{Value: 0}
		}
		return timeline.Sample{Value: 12}
	})
	for want, history := range map[Family][]timeline.Sample{Stepped: reference, Mult: timetable} {
		p, err := Prepare(cfg, history, timeline.Mask{})
		if err != nil {
			t.Fatal(err)
		}
		if p.shape.Family != want {
			t.Errorf("family %d, want %d", p.shape.Family, want)
		}
	}
}
