package character

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"tinbell/core/timeline"
)

var halifax = func() *time.Location {
	l, err := time.LoadLocation("America/Halifax")
	if err != nil {
		panic(err)
	}
	return l
}()

// made is a series of so many days from Monday 2 March 2026 on, by its own clocks.
func made(t *testing.T, period time.Duration, days int, kind timeline.Kind, value func(rng *rand.Rand, at time.Time) float64) Character {
	t.Helper()
	g, err := timeline.NewGrid(period, halifax)
	if err != nil {
		t.Fatal(err)
	}
	rng := rand.New(rand.NewPCG(7, 19))
	var h []timeline.Sample
	from := time.Date(2026, 3, 2, 0, 0, 0, 0, halifax)
	for at := g.Floor(from); at.Before(from.AddDate(0, 0, days)); at = g.Next(at) {
		h = append(h, timeline.Sample{At: at.Unix(), Value: value(rng, at.In(halifax)), Rows: 100})
	}
	return Of(h, g, kind, timeline.Mask{})
}

func poisson(rng *rand.Rand, mean float64) float64 {
	n, p := 0.0, rng.Float64()
	for limit := math.Exp(-mean); p > limit; n++ {
		p *= rng.Float64()
	}
	return n
}

func says(t *testing.T, c Character, words ...string) {
	t.Helper()
	all := strings.Join(c.Sentences, "\n")
	for _, w := range words {
		if !strings.Contains(all, w) {
			t.Errorf("it does not say %q:\n%s", w, all)
		}
	}
}

func TestOpeningHoursAreFoundByTheClocksOfTheSeries(t *testing.T) {
	closed := map[int]bool{12: true, 33: true}
	c := made(t, time.Hour, 70, timeline.Count, func(rng *rand.Rand, at time.Time) float64 {
		day := int(at.Sub(time.Date(2026, 3, 2, 0, 0, 0, 0, halifax)).Hours()) / 24
		if at.Hour() < 8 || at.Hour() >= 18 || at.Weekday() == time.Sunday || closed[day] {
			return 0
		}
		return 5 + poisson(rng, 30)
	})
	if c.Open == nil || c.Open.From != 8 || c.Open.To != 18 || len(c.Open.Closed) != 1 || c.Open.Skipped != 2 {
		t.Fatalf("%+v %v", c.Open, c.Sentences)
	}
	says(t, c, "Open from 8 to 18, closed on Sundays and on 2 other days.")
	night := made(t, 15*time.Minute, 40, timeline.Count, func(rng *rand.Rand, at time.Time) float64 {
		if at.Hour() >= 4 && at.Hour() < 20 {
			return 0
		}
		return 3 + poisson(rng, 9)
	})
	says(t, night, "Open from 20 to 4.")
}

func TestBatchesAreCountedByNightsAndTheirHour(t *testing.T) {
	c := made(t, time.Hour, 84, timeline.Count, func(rng *rand.Rand, at time.Time) float64 {
		if w := at.Weekday(); (w == time.Monday || w == time.Wednesday || w == time.Friday) && at.Hour() == 1+at.YearDay()%3 {
			return 2000 + 300*rng.NormFloat64()
		}
		return 0
	})
	if c.Batches == nil || math.Abs(c.Batches.PerWeek-3) > 0.3 || c.Batches.From != 1 || c.Batches.To != 4 {
		t.Fatalf("%+v %v", c.Batches, c.Sentences)
	}
	says(t, c, "Comes in batches, about 3 nights a week, mostly begun between 1 and 4.")
	any := made(t, 5*time.Minute, 30, timeline.Count, func(rng *rand.Rand, at time.Time) float64 {
		if rng.Float64() < 1.0/500 {
			return 100
		}
		return 0
	})
	if any.Batches == nil || any.Batches.From != any.Batches.To {
		t.Errorf("at any hour: %+v %v", any.Batches, any.Sentences)
	}
}

// Rhythms that are none of a day or a week are found, not listed; noise that wanders, and days
// that differ, have none.
func TestDatesOfAMonthThatDifferAreNamed(t *testing.T) {
	bills := made(t, 24*time.Hour, 300, timeline.Count, func(rng *rand.Rand, at time.Time) float64 {
		mean := 200.0
		switch at.Day() {
		case 1, 22:
			mean = 900
		case 13:
			mean = 20
		}
		return math.Round(mean * math.Exp(0.03*rng.NormFloat64()))
	})
	says(t, bills, "On the 1st and 22nd of a month it is 4.5 times as much", "On the 13th of a month it is 10 % as much")
	if fmt.Sprint(bills.Dates) != "[1 22 13]" {
		t.Errorf("dates: %v", bills.Dates)
	}
	for name, c := range map[string]Character{
		"days like any other": made(t, 24*time.Hour, 300, timeline.Count, func(rng *rand.Rand, _ time.Time) float64 {
			return math.Round(200 * math.Exp(0.5*rng.NormFloat64()))
		}),
		"two months": made(t, 24*time.Hour, 59, timeline.Count, func(_ *rand.Rand, at time.Time) float64 {
			return map[bool]float64{true: 900, false: 200 + float64(at.Day()%3)}[at.Day() == 15]
		}),
		"Mondays": made(t, 24*time.Hour, 300, timeline.Count, func(rng *rand.Rand, at time.Time) float64 {
			return math.Round(map[bool]float64{true: 900, false: 200}[at.Weekday() == time.Monday] * math.Exp(0.1*rng.NormFloat64()))
		}),
	} {
		if len(c.Dates) > 0 {
			t.Errorf("%s: %v", name, c.Dates)
		}
	}
}

func TestRhythmsBesideDayAndWeekAreFound(t *testing.T) {
	for _, hours := range []float64{12.42, 24.84, 9.3, 62} {
		c := made(t, time.Hour, 84, timeline.Count, func(rng *rand.Rand, at time.Time) float64 {
			h := float64(at.Unix()) / 3600
			mu := 200 * (1.4 + math.Sin(float64(at.Hour())/12*math.Pi)) * (1 + 0.3*math.Sin(h/hours*2*math.Pi))
			return math.Round(math.Max(0, mu*(1+0.08*rng.NormFloat64())))
		})
		if c.Rhythm == nil || math.Abs(c.Rhythm.Hours/hours-1) > 0.01 || c.Rhythm.Share < 0.3 {
			t.Errorf("%g hours: %+v %v", hours, c.Rhythm, c.Sentences)
		}
	}
	for seed := range 40 {
		level, rng := 0.0, rand.New(rand.NewPCG(uint64(seed), 1))
		c := made(t, time.Hour, 84, timeline.Count, func(_ *rand.Rand, at time.Time) float64 {
			level = 0.97*level + 0.06*rng.NormFloat64()
			mu := 200 * (1.4 + math.Sin(float64(at.Hour())/12*math.Pi)) * math.Exp(level)
			if at.Weekday() == time.Saturday && at.Hour() > 12 {
				mu *= 0.4
			}
			return math.Round(mu)
		})
		if c.Rhythm != nil {
			t.Errorf("wandering noise has a rhythm of %.1f hours by %.2f", c.Rhythm.Hours, c.Rhythm.Share)
		}
	}
}

func TestValuesAreSaidAsTheyAre(t *testing.T) {
	lots := made(t, time.Hour, 40, timeline.Count, func(rng *rand.Rand, at time.Time) float64 { return 144 * (1 + poisson(rng, 4)) })
	says(t, lots, "All its counts are lots of 144.", "much the same at every hour")
	long := made(t, 6*time.Hour, 60, timeline.Count, func(rng *rand.Rand, at time.Time) float64 { return poisson(rng, 90) })
	says(t, long, "much the same at every hour")
	table := made(t, 24*time.Hour, 120, timeline.Count, func(_ *rand.Rand, at time.Time) float64 {
		return 4000 + 3*math.Floor(float64(at.YearDay())/40)
	})
	says(t, table, "It stays the same and changes by steps")
	share := made(t, time.Hour, 40, timeline.Share, func(rng *rand.Rand, at time.Time) float64 {
		if rng.Float64() < 0.1 {
			return 0.01
		}
		return 0
	})
	says(t, share, "It is almost always 0: in 9 of 10 periods.")
	slow := made(t, time.Hour, 40, timeline.Duration, func(rng *rand.Rand, at time.Time) float64 { return math.Exp(1.2 * rng.NormFloat64()) })
	says(t, slow, "heavy tail")
	grows := made(t, 24*time.Hour, 200, timeline.Count, func(rng *rand.Rand, at time.Time) float64 {
		return math.Round(1000 * math.Exp(0.05/30*float64(at.YearDay())) * (1 + 0.02*rng.NormFloat64()))
	})
	if grows.Growth == nil || math.Abs(*grows.Growth-0.051) > 0.006 {
		t.Errorf("5 %% a month: %+v %v", grows.Growth, grows.Sentences)
	}
	weekend := made(t, time.Hour, 60, timeline.Count, func(rng *rand.Rand, at time.Time) float64 {
		mu := 60.0
		if at.Weekday() == time.Saturday || at.Weekday() == time.Sunday {
			mu = 30
		}
		return poisson(rng, mu)
	})
	says(t, weekend, "At weekends it is half as much as on other days.")
	if weekend.Noise == nil || math.Abs(*weekend.Noise-1.28/math.Sqrt(50)) > 0.05 {
		t.Errorf("Poisson counts of 30 and 60: %v", *weekend.Noise)
	}
	missed := made(t, time.Hour, 40, timeline.Value, func(rng *rand.Rand, at time.Time) float64 {
		if rng.Float64() < 0.1 {
			return math.NaN()
		}
		return 20 + rng.NormFloat64()
	})
	says(t, missed, "1 of 10 periods never come.")
}

// Known faults and planned stretches are no part of what a series is like.
func TestWhatIsKnownToBeWrongIsLookedAwayFrom(t *testing.T) {
	from := time.Date(2026, 3, 20, 0, 0, 0, 0, halifax)
	fault := timeline.Span{From: from.Unix(), To: from.AddDate(0, 0, 9).Unix()}
	of := func(away timeline.Mask) Character {
		g, rng := timeline.Grid{Period: time.Hour, Zone: halifax}, rand.New(rand.NewPCG(1, 2))
		var h []timeline.Sample
		for at := from.AddDate(0, 0, -18); at.Before(from.AddDate(0, 0, 40)); at = at.Add(time.Hour) {
			v := 20 + poisson(rng, 9)
			if at.Unix() >= fault.From && at.Unix() < fault.To {
				v = 0
			}
			h = append(h, timeline.Sample{At: at.Unix(), Value: v, Rows: timeline.NoRows})
		}
		return Of(h, g, timeline.Count, away)
	}
	if c := of(timeline.Mask{}); c.Active > 0.9 {
		t.Errorf("nine days of nothing: %v", c.Sentences)
	}
	if c := of(timeline.NewMask(fault)); c.Active != 1 || strings.Contains(strings.Join(c.Sentences, ""), "othing comes") {
		t.Errorf("known to be a fault: %.2f %v", c.Active, c.Sentences)
	}
}

// Whatever a series is like, the words are finite and few.
func TestHostileSeriesAreDescribedToo(t *testing.T) {
	for name, value := range map[string]func(rng *rand.Rand, at time.Time) float64{
		"nothing": func(*rand.Rand, time.Time) float64 { return 0 },
		"missing": func(*rand.Rand, time.Time) float64 { return math.NaN() },
		"huge":    func(rng *rand.Rand, _ time.Time) float64 { return 1e300 * rng.Float64() },
		"tiny":    func(rng *rand.Rand, _ time.Time) float64 { return 5e-324 * math.Floor(3*rng.Float64()) },
		"signs":   func(rng *rand.Rand, _ time.Time) float64 { return rng.NormFloat64() },
		"one": func(_ *rand.Rand, at time.Time) float64 {
			if at.YearDay() == 70 {
				return 3
			}
			return math.NaN()
		},
	} {
		for _, period := range []time.Duration{5 * time.Minute, time.Hour, 24 * time.Hour} {
			for _, kind := range []timeline.Kind{timeline.Count, timeline.Share, timeline.Value, timeline.Duration} {
				c := made(t, period, 30, kind, value)
				if text := strings.Join(c.Sentences, " "); strings.Contains(text, "NaN") || strings.Contains(text, "Inf") || len(c.Sentences) > 7 {
					t.Errorf("%s, %s, %s: %s", name, period, kind, text)
				}
			}
		}
	}
	if c := Of(nil, timeline.Grid{Period: time.Hour, Zone: time.UTC}, timeline.Count, timeline.Mask{}); len(c.Sentences) != 1 {
		t.Errorf("nothing at all: %v", c.Sentences)
	}
}
