package replay

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"tinbell/core/baseline"
	"tinbell/core/detect"
	"tinbell/core/timeline"
)

// longer makes a series of weeks or months: a level that wanders by three per cent a period,
// growth, a wave over the year with more in December, and counts with noise of their own; by
// the days that each period has.
func longer(g timeline.Grid, kind timeline.Kind, n int, rng *rand.Rand) []timeline.Sample {
	level, growth, phase, wander := 5+3*rng.Float64(), 0.01*rng.NormFloat64(), 6*rng.Float64(), 0.0
	at := g.Floor(time.Date(1990, 1, 1, 12, 0, 0, 0, g.Zone))
	list := make([]timeline.Sample, n)
	for i := range list {
		local := at.In(g.Zone)
		wander = 0.9*wander + 0.03*rng.NormFloat64()
		log := level + wander + growth*float64(i) + 0.2*math.Sin(float64(local.YearDay())/58+phase)
		if local.Month() == time.December {
			log += 0.2
		}
		next := g.Next(at)
		mean := math.Exp(log+0.05*rng.NormFloat64()) * next.Sub(at).Hours() / g.Period.Hours()
		list[i] = timeline.Sample{At: at.Unix(), Value: math.Max(0, math.Round(mean+math.Sqrt(mean)*rng.NormFloat64()))}
		if kind == timeline.Value {
			list[i].Value = 10*log + rng.NormFloat64()
		}
		at = next
	}
	return list
}

// Weeks and months of clean series ring no oftener than is stated (a half more allowed for
// chance and youth), from their second year on, and a period that loses half rings at once.
func TestWeeksAndMonthsRingNoOftenerThanStated(t *testing.T) {
	t.Parallel()
	zone, err := time.LoadLocation("Europe/Helsinki")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		period time.Duration
		kind   timeline.Kind
		n      int
		found  int // of 40 losses of half, at least
	}{{timeline.Week, timeline.Count, 156, 24}, {timeline.Week, timeline.Value, 156, 0}, {timeline.Month, timeline.Count, 84, 24},
		{timeline.Month, timeline.Value, 84, 0}} {
		t.Run(string(c.kind), func(t *testing.T) {
			t.Parallel()
			g, err := timeline.NewGrid(c.period, zone)
			if err != nil {
				t.Fatal(err)
			}
			rng := rand.New(rand.NewPCG(uint64(c.n), uint64(len(c.kind))))
			rang, stated, found := 0, 0.0, 0
			for range 40 {
				job := Job{Config: baseline.Config{Kind: c.kind, Grid: g},
					Rule: detect.Rule{Warn: detect.Year, Critical: 10 * detect.Year, Series: 1}, History: longer(g, c.kind, c.n, rng)}
				job.From = job.History[c.n/3].At
				alerts, err := Walk(job)
				if err != nil {
					t.Fatal(err)
				}
				rang += len(alerts)
				stated += float64(job.History[c.n-1].At-job.From) / detect.Year.Seconds()
				lost := job.History[c.n*3/4].At
				job.History[c.n*3/4].Value /= 2
				if alerts, err = Walk(job); err != nil {
					t.Fatal(err)
				}
				for _, a := range alerts {
					if a.Direction == detect.Low && a.Since <= lost && a.Raised >= lost && a.Raised <= g.Next(g.Next(time.Unix(lost, 0))).Unix() {
						found++
						break
					}
				}
			}
			t.Logf("%s: rang %d times where %.0f are stated, found %d of 40", c.period, rang, stated, found)
			if float64(rang) > 1.5*stated {
				t.Errorf("%s: rang %d times where %.0f are stated", c.period, rang, stated)
			}
			if found < c.found {
				t.Errorf("%s: %d of 40 losses of half rang", c.period, found)
			}
		})
	}
}

// A series of years, or one whose months never come, is fitted and judged all the same.
func TestYearsAndEmptyMonthsAreJudged(t *testing.T) {
	t.Parallel()
	rng := rand.New(rand.NewPCG(1, 2))
	for _, period := range []time.Duration{timeline.Week, timeline.Month, timeline.Year} {
		g, err := timeline.NewGrid(period, nil)
		if err != nil {
			t.Fatal(err)
		}
		for _, kind := range []timeline.Kind{timeline.Count, timeline.Share, timeline.Value, timeline.Duration} {
			for _, missing := range []float64{0, 0.5, 0.95} {
				list := longer(g, kind, 30, rng)
				for i := range list {
					switch {
					case rng.Float64() < missing:
						list[i].Value = math.NaN()
					case kind == timeline.Share:
						list[i].Value = rng.Float64()
					}
				}
				read := 0
				_, err := Walk(Job{Config: baseline.Config{Kind: kind, Grid: g}, Rule: detect.Rule{}, History: list, From: list[14].At,
					Read: func(r detect.Reading) {
						read++
						if math.IsInf(r.Expected, 0) || math.IsInf(r.Low, 0) || math.IsInf(r.High, 0) || math.IsNaN(r.Deviation) {
							t.Errorf("%s of a %s: %+v", kind, period, r)
						}
					}})
				if err != nil != (read == 0) {
					t.Errorf("%s of a %s: %d read, %v", kind, period, read, err)
				}
			}
		}
	}
}

// A month that lost two fifths rings though the months before it were somewhat high, which was
// told once and is followed without being told again.
func TestWhatIsNotToldAgainHidesNoOpposite(t *testing.T) {
	t.Parallel()
	g, err := timeline.NewGrid(timeline.Month, nil)
	if err != nil {
		t.Fatal(err)
	}
	rng := rand.New(rand.NewPCG(15, 3))
	job := Job{Config: baseline.Config{Kind: timeline.Count, Grid: g}, Rule: detect.Rule{Warn: detect.Year, Critical: 10 * detect.Year, Series: 1}}
	lost := time.Date(2026, 7, 1, 0, 0, 0, 0, time.UTC)
	for at := time.Date(2022, 1, 1, 0, 0, 0, 0, time.UTC); at.Before(lost.AddDate(0, 2, 0)); at = g.Next(at) {
		v := 4000 * math.Exp(0.03*rng.NormFloat64()) * g.Next(at).Sub(at).Hours() / 720
		if !at.Before(lost) {
			v *= 0.6
		}
		job.History = append(job.History, timeline.Sample{At: at.Unix(), Value: math.Round(v)})
	}
	job.From = job.History[18].At
	alerts, err := Walk(job)
	if err != nil {
		t.Fatal(err)
	}
	if last := alerts[len(alerts)-1]; last.Direction != detect.Low || last.Since != lost.Unix() || last.Raised != g.Next(lost).Unix() {
		t.Errorf("told last: %+v", last)
	}
}
