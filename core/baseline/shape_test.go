package baseline

import (
	"errors"
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"tinbell/core/timeline"
)

func dailyCounts(rng *rand.Rand, days int, factor float64) []timeline.Sample {
	slotter := timeline.NewSlotter(timeline.Grid{Period: 24 * time.Hour, Zone: time.UTC})
	at := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	list := make([]timeline.Sample, days)
	for i := range list {
		mu := 4000.0
		if slot := slotter.At(at.Unix()); slot.MonthDay >= 2 {
			mu *= factor
		}
		list[i] = timeline.Sample{At: at.Unix(), Value: math.Round(mu * math.Exp(0.03*rng.NormFloat64()))}
		at = at.AddDate(0, 0, 1)
	}
	return list
}

func TestTheTurnOfTheMonthIsLearnedWhereThereIsOne(t *testing.T) {
	rng := rand.New(rand.NewPCG(6, 6))
	for _, factor := range []float64{1.8, 1} {
		p, err := Prepare(daily(timeline.Count), dailyCounts(rng, 182, factor), timeline.Mask{})
		if err != nil {
			t.Fatal(err)
		}
		m := p.Choose()
		if m.Calendar != (factor != 1) {
			t.Errorf("factor %g: calendar %t", factor, m.Calendar)
		}
		if m.Calendar {
			// The last working day of June: the parts say what the date adds.
			e := m.Expect(timeline.NewSlotter(timeline.Grid{Period: 24 * time.Hour, Zone: time.UTC}).At(
				time.Date(2026, 6, 30, 0, 0, 0, 0, time.UTC).Unix()), 0)
			parts, sum := m.Explain(e, 0), 0.0
			for _, part := range parts {
				sum += part.Amount
			}
			last := parts[len(parts)-1]
			near(t, "sum of the parts", sum, e.Mu, 1e-6*e.Mu)
			if last.Name != "calendar" || math.Abs(last.Amount/e.Mu-(1-1/factor)) > 0.05 {
				t.Errorf("the date adds %+v of %g", last, e.Mu)
			}
		}
		for k := 2; k < timeline.MonthDays && m.Calendar; k++ {
			if math.Abs(m.DayType[k]/factor-1) > 0.06 {
				t.Errorf("day type %d has factor %.2f, want %.1f", k, m.DayType[k], factor)
			}
		}
	}
	if p, err := Prepare(daily(timeline.Count), dailyCounts(rng, 60, 1.8), timeline.Mask{}); err != nil || p.Choose().Calendar {
		t.Error("two month ends are too few to know a factor")
	}
}

// monthly are days of about 300 with so much noise; by is what a date does to its day.
func monthly(rng *rand.Rand, days int, noise float64, by func(at time.Time) float64) []timeline.Sample {
	at := time.Date(2025, 3, 3, 0, 0, 0, 0, time.UTC)
	list := make([]timeline.Sample, days)
	for i := range list {
		list[i] = timeline.Sample{At: at.Unix(), Value: math.Round(300 * by(at) * math.Exp(noise*rng.NormFloat64()))}
		at = at.AddDate(0, 0, 1)
	}
	return list
}

func datesOf(t *testing.T, list []timeline.Sample) *Model {
	t.Helper()
	p, err := Prepare(daily(timeline.Count), list, timeline.Mask{})
	if err != nil {
		t.Fatal(err)
	}
	return p.Choose()
}

func TestDatesOfAMonthAreExpectedOnAnyWeekday(t *testing.T) {
	rng := rand.New(rand.NewPCG(4, 4))
	bills := func(at time.Time) float64 {
		switch {
		case at.Month() == time.August && at.Day() == 15:
			return 1 // once they came to nothing
		case at.Day() == 1 || at.Day() == 15:
			return 5
		case at.Day() == 20:
			return 0.3
		}
		return 1
	}
	m := datesOf(t, monthly(rng, 330, 0.1, bills))
	if m.Dates == nil || m.Calendar {
		t.Fatalf("dates %v, turn of the month %t", m.Dates, m.Calendar)
	}
	for date, want := range map[int]float64{1: 5, 15: 5, 20: 0.3, 2: 1, 14: 1, 31: 1} {
		if got := m.Dates[date]; math.Abs(got/want-1) > 0.12 {
			t.Errorf("the %d. has factor %.2f, want %.1f", date, got, want)
		}
	}
	slotter := timeline.NewSlotter(timeline.Grid{Period: 24 * time.Hour, Zone: time.UTC})
	for _, date := range []time.Time{time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC), time.Date(2026, 4, 15, 0, 0, 0, 0, time.UTC)} {
		if e := m.Expect(slotter.At(date.Unix()), 0); math.Abs(e.Mu/1500-1) > 0.2 {
			t.Errorf("on %s %.0f are expected, want 1500", date.Format("Mon 2 Jan"), e.Mu)
		}
	}
}

func TestWorkingDaysAtTheTurnOfAMonthAreNoDates(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 4))
	slotter := timeline.NewSlotter(timeline.Grid{Period: 24 * time.Hour, Zone: time.UTC})
	m := datesOf(t, monthly(rng, 330, 0.05, func(at time.Time) float64 {
		if slotter.At(at.Unix()).MonthDay == 1 {
			return 3
		}
		return 1
	}))
	if !m.Calendar || math.Abs(m.DayType[1]/3-1) > 0.1 {
		t.Errorf("the first working day: %t, %v", m.Calendar, m.DayType)
	}
	if m.Dates != nil {
		t.Errorf("taken for dates: %v", m.Dates)
	}
}

// Lumps that come by chance must not be expected on the dates they fell on.
func TestChanceMakesNoDates(t *testing.T) {
	rng := rand.New(rand.NewPCG(6, 4))
	found := 0
	const series = 200
	for range series {
		if datesOf(t, monthly(rng, 200, 0.2, func(time.Time) float64 {
			if rng.Float64() < 1.0/20 {
				return 4
			}
			return 1
		})).Dates != nil {
			found++
		}
	}
	// Of 31 dates one has three lumps in three to seven months, and no day without, in one
	// series of a hundred or fewer.
	if found > series/50 {
		t.Errorf("dates in %d of %d series", found, series)
	}
}

// Two days in five are others by the week: three of one date are soon all among them. And where
// most days are the same, nothing tells how far one strays.
func TestDaysThatOftenDifferMakeNoDates(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 4))
	const series = 400
	for months, most := range map[int]int{3: series / 10, 12: series / 20} {
		found := 0
		for range series {
			var left [timeline.MonthDates][]float64
			for range months {
				for date := 1; date <= 30; date++ {
					r := 0.05 * rng.NormFloat64()
					if rng.Float64() < 0.4 {
						r -= 2
					}
					left[date] = append(left[date], r)
				}
			}
			if StandOut(&left, 0.2) != nil {
				found++
			}
		}
		if found > most {
			t.Errorf("over %d months, dates in %d of %d series", months, found, series)
		}
	}
	var still [timeline.MonthDates][]float64
	for date := range still {
		still[date] = make([]float64, 6)
	}
	for i := range still[7] {
		still[7][i] = 1e-12
	}
	if found := StandOut(&still, 0); found != nil {
		t.Errorf("of days that are all the same: %v", found)
	}
}

func TestMonthDaysCountWorkingDays(t *testing.T) {
	s := timeline.NewSlotter(timeline.Grid{Period: 24 * time.Hour, Zone: time.UTC})
	for date, want := range map[string]uint8{
		"2026-01-01": 1, "2026-01-02": 0, "2026-01-30": 2, "2026-01-29": 3, "2026-01-28": 4, "2026-01-27": 0,
		"2026-01-31": 0, // 31 January is a Saturday
		"2026-02-02": 1, "2026-02-01": 0, "2026-08-03": 1, "2026-08-31": 2, "2026-11-30": 2, "2026-11-26": 4,
	} {
		at, err := time.Parse("2006-01-02", date)
		if err != nil {
			t.Fatal(err)
		}
		if got := s.At(at.Unix()).MonthDay; got != want {
			t.Errorf("%s is %d to its month, want %d", date, got, want)
		}
	}
}

func TestWhatComesEveryYearIsExpectedFromTheThirdOn(t *testing.T) {
	rng := rand.New(rand.NewPCG(9, 2))
	at := time.Date(2022, 1, 3, 0, 0, 0, 0, time.UTC)
	var list []timeline.Sample
	for range 3*365 + 20 {
		mu := 3000.0
		if at.Month() == time.December && at.Day() >= 10 && at.Day() <= 20 {
			mu *= 2
		}
		if at.Year() == 2023 && at.Month() == time.May && at.Day() < 6 {
			mu *= 0.2 // a fault, once
		}
		list = append(list, timeline.Sample{At: at.Unix(), Value: math.Round(mu * math.Exp(0.03*rng.NormFloat64()))})
		at = at.AddDate(0, 0, 1)
	}
	p, err := Prepare(daily(timeline.Count), list, timeline.Mask{})
	if err != nil {
		t.Fatal(err)
	}
	m := p.Choose()
	if m.Year == nil {
		t.Fatal("three Decembers taught nothing")
	}
	slotter := timeline.NewSlotter(timeline.Grid{Period: 24 * time.Hour, Zone: time.UTC})
	factor := func(month time.Month, day int) float64 {
		return m.Year[slotter.At(time.Date(2025, month, day, 0, 0, 0, 0, time.UTC).Unix()).YearDay]
	}
	near(t, "15 December", factor(time.December, 15), 2, 0.25)
	near(t, "3 May, after one fault", factor(time.May, 3), 1, 1e-12)
	near(t, "1 March", factor(time.March, 1), 1, 1e-12)
	if short, err := Prepare(daily(timeline.Count), list[:600], timeline.Mask{}); err != nil || short.Choose().Year != nil {
		t.Error("a season seen once is expected")
	}
	if feb, mar := slotter.At(time.Date(2024, 2, 29, 0, 0, 0, 0, time.UTC).Unix()).YearDay,
		slotter.At(time.Date(2023, 3, 1, 0, 0, 0, 0, time.UTC).Unix()).YearDay; feb != 59 || mar != 60 {
		t.Errorf("29 February is day %d, 1 March day %d in every year", feb, mar)
	}
}

// means are values whose noise comes to a share from how few rows they have.
func means(rng *rand.Rand, byRows bool) []timeline.Sample {
	list := make([]timeline.Sample, 56*24)
	for i := range list {
		rows := float64(1 + rng.IntN(40))
		sd := 5.0
		if byRows {
			sd = 20 / math.Sqrt(rows)
		}
		list[i] = timeline.Sample{At: start.Add(time.Duration(i) * time.Hour).Unix(), Value: 100 + sd*rng.NormFloat64(), Rows: rows}
	}
	return list
}

var start = time.Date(2026, 2, 2, 0, 0, 0, 0, time.UTC)

func TestNoiseFallsWithRowsWhereItDoes(t *testing.T) {
	rng := rand.New(rand.NewPCG(2, 7))
	cfg := Config{Kind: timeline.Value, Grid: timeline.Grid{Period: time.Hour, Zone: time.UTC}}
	for _, byRows := range []bool{true, false} {
		p, err := Prepare(cfg, means(rng, byRows), timeline.Mask{})
		if err != nil {
			t.Fatal(err)
		}
		m := p.Choose()
		if byRows && m.RowsWeight < 0.85 || !byRows && m.RowsWeight > 0.15 {
			t.Errorf("noise by rows %t: weight %.2f", byRows, m.RowsWeight)
		}
		for i := range p.Points {
			e := m.Expect(p.Points[i].Slot, p.Points[i].Rows)
			m.Learn(&e, p.Points[i].X)
		}
		few, many := m.Expect(timeline.Slot{}, 2), m.Expect(timeline.Slot{}, 38)
		if ratio := few.Sigma / many.Sigma; byRows && math.Abs(ratio-math.Sqrt(19)) > 1 {
			t.Errorf("two rows are %.1f times as uncertain as 38, want %.1f", ratio, math.Sqrt(19))
		}
	}
}

func TestRareEventsKeepTheirRate(t *testing.T) {
	// One event in twenty hours: were each clipped as an outlier, the level
	// would sink to nothing.
	rng := rand.New(rand.NewPCG(4, 2))
	list := make([]timeline.Sample, 84*24)
	for i := range list {
		list[i] = timeline.Sample{At: start.Add(time.Duration(i) * time.Hour).Unix()}
		if rng.Float64() < 0.05 {
			list[i].Value = 1
		}
	}
	p, err := Prepare(Config{Kind: timeline.Count, Grid: timeline.Grid{Period: time.Hour, Zone: time.UTC}}, list, timeline.Mask{})
	if err != nil {
		t.Fatal(err)
	}
	m := p.Choose()
	var e Expectation
	sum := 0.0
	for i := range p.Points {
		m.ExpectInto(&e, &p.Points[i].Slot, 0)
		m.Learn(&e, p.Points[i].X)
		if i >= 28*24 {
			sum += e.Mu / float64(56*24)
		}
	}
	near(t, "mean expectation", sum, 0.05, 0.015)
}

func TestUnusualInputHasADefinedOutcome(t *testing.T) {
	cfg := Config{Kind: timeline.Count, Grid: timeline.Grid{Period: time.Hour, Zone: time.UTC}}
	of := func(n int, value func(i int) float64) []timeline.Sample {
		list := make([]timeline.Sample, n)
		for i := range list {
			list[i] = timeline.Sample{At: start.Add(time.Duration(i) * time.Hour).Unix(), Value: value(i)}
		}
		return list
	}
	var short TooShort
	for name, history := range map[string][]timeline.Sample{
		"none at all": nil, "two days": of(48, func(int) float64 { return 5 }),
		"all missing": of(2000, func(int) float64 { return math.NaN() }),
		"mostly missing": of(600, func(i int) float64 {
			if i%10 == 0 {
				return 3
			}
			return math.NaN()
		}),
	} {
		if _, err := Prepare(cfg, history, timeline.Mask{}); !errors.As(err, &short) || short.Need != 72 {
			t.Errorf("%s: %v, want too short a history", name, err)
		}
	}
	for name, value := range map[string]func(int) float64{
		"constant":            func(int) float64 { return 7 },
		"always zero":         func(int) float64 { return 0 },
		"largest float":       func(i int) float64 { return math.MaxFloat64 * float64(i%3) / 2 },
		"smallest float":      func(i int) float64 { return 5e-324 * float64(i%3) },
		"swings of 1e300":     func(i int) float64 { return math.Pow(10, float64(i%600)-300) },
		"one value all edges": func(i int) float64 { return []float64{1e308, 0, 1, 1e-308}[i%4] },
	} {
		for _, kind := range timeline.Kinds {
			c := cfg
			c.Kind = kind
			p, err := Prepare(c, of(800, value), timeline.Mask{})
			if err != nil {
				t.Fatalf("%s as %s: %v", name, kind, err)
			}
			m := p.Choose()
			e := m.Expect(p.Points[0].Slot, 10)
			if m.Family != Stepped && (math.IsNaN(e.Mu) || math.IsInf(e.Mu, 0) || math.IsNaN(e.Sigma) || e.Sigma <= 0) {
				t.Errorf("%s as %s: expects %g ± %g", name, kind, e.Mu, e.Sigma)
			}
		}
	}
}

func daily(kind timeline.Kind) Config {
	return Config{Kind: kind, Grid: timeline.Grid{Period: 24 * time.Hour, Zone: time.UTC}}
}
