package consistency

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"
)

// from gives a history whose days are what make says of their date.
func from(first, days int, make func(date time.Time) float64) History {
	h := History{First: first, Ratio: true, Holiday: map[int]string{}}
	for k := range days {
		h.Value = append(h.Value, make(Date(first+k)))
	}
	return h
}

// A day is held against the nearest of its weekday: 12 October 2026 and 13 October 2025
// are Mondays, 29 February 2028 is a Tuesday as 2 March 2027 is.
func TestADayIsHeldAgainstTheSameWeekdayOfTheYearBefore(t *testing.T) {
	h := from(DayOf(2024, 1, 1), 1700, func(d time.Time) float64 { return float64(1 + d.Weekday()) })
	for day := DayOf(2025, 2, 1); day < DayOf(2028, 4, 1); day++ {
		for years := 1; years <= 3; years++ {
			c := h.YearsBack(Span{day, day + 1}, years)
			date := Date(day)
			same := time.Date(date.Year()-years, date.Month(), date.Day(), 0, 0, 0, 0, time.UTC)
			off := Date(c.Against.From).Sub(same)
			if Date(c.Against.From).Weekday() != date.Weekday() || off.Abs() > 3*24*time.Hour {
				t.Fatalf("%s is held against %s", date, Date(c.Against.From))
			}
		}
	}
	if c := h.YearsBack(Span{DayOf(2026, 10, 12), DayOf(2026, 10, 13)}, 1); c.Against.From != DayOf(2025, 10, 13) ||
		c.Pairs != 1 || c.Change != 0 {
		t.Errorf("%+v", c)
	}
}

// Good Friday was on 18 April in 2025 and is on 3 April in 2026: it is held against
// itself, and neither against an ordinary Friday.
func TestAHolidayIsHeldAgainstItself(t *testing.T) {
	friday := map[int]int{2025: DayOf(2025, 4, 18), 2026: DayOf(2026, 4, 3)}
	h := from(DayOf(2025, 1, 1), 600, func(d time.Time) float64 {
		if DayOf(d.Year(), d.Month(), d.Day()) == friday[d.Year()] {
			return 5
		}
		return 100
	})
	for _, day := range friday {
		h.Holiday[day] = "Good Friday"
	}
	c := h.YearsBack(Around(Month, DayOf(2026, 4, 10)), 1)
	if c.MovedHolidays != 1 || c.Change != 0 || c.Left != 1 || c.Pairs != 29 {
		t.Errorf("April beside April: %+v", c)
	}
	delete(h.Holiday, friday[2025])
	if c := h.YearsBack(Span{friday[2026], friday[2026] + 1}, 1); c.Pairs != 0 || c.Left != 1 || !math.IsNaN(c.Change) {
		t.Errorf("a holiday that was none then: %+v", c)
	}
}

func TestSpansAreThoseOfTheCalendar(t *testing.T) {
	for _, c := range []struct {
		kind     string
		day      int
		from, to int
	}{
		{Week, DayOf(2026, 11, 29), DayOf(2026, 11, 23), DayOf(2026, 11, 30)}, // a Sunday
		{Week, DayOf(2026, 1, 1), DayOf(2025, 12, 29), DayOf(2026, 1, 5)},     // week 1 of 2026
		{Month, DayOf(2024, 2, 29), DayOf(2024, 2, 1), DayOf(2024, 3, 1)},
		{Year, DayOf(2024, 12, 31), DayOf(2024, 1, 1), DayOf(2025, 1, 1)},
		{Week, DayOf(1969, 12, 31), DayOf(1969, 12, 29), DayOf(1970, 1, 5)},
	} {
		if s := Around(c.kind, c.day); s != (Span{c.from, c.to}) {
			t.Errorf("the %s of %s: %s to %s", c.kind, Date(c.day), Date(s.From), Date(s.To))
		}
	}
	if b := Before(Month, Around(Month, DayOf(2026, 3, 5)), 2); b[0] != Around(Month, DayOf(2026, 2, 1)) || b[1] != Around(Month,
		DayOf(2026, 1, 1)) {
		t.Errorf("months before March: %+v", b)
	}
}

// wander makes days that owe rho to the day before, about a level, with a week's shape.
func wander(rng *rand.Rand, days int, level, rho, sd float64) []float64 {
	list := make([]float64, days)
	x := rng.NormFloat64()
	for i := range list {
		x = rho*x + math.Sqrt(1-rho*rho)*rng.NormFloat64()
		list[i] = level * (1 + 0.3*math.Sin(2*math.Pi*float64(i%7)/7)) * (1 + sd*x)
	}
	return list
}

// The interval of a change holds the true one about as often as it says, be it of a week, a
// month or a year, and also where a day owes something to the one before.
func TestTheIntervalOfAChangeHoldsTheTrueOne(t *testing.T) {
	for _, days := range []int{7, 30, 365} {
		for _, rho := range []float64{0, 0.5} {
			rng := rand.New(rand.NewPCG(5, uint64(10*rho)))
			held, runs, wide := 0, 2000, 0.0
			for range runs {
				h := History{First: DayOf(2025, 1, 6), Ratio: true, Value: append(wander(rng, 364, 100, rho, 0.1),
					wander(rng, 370, 120, rho, 0.1)...)}
				c := h.YearsBack(Span{h.First + 728 - days, h.First + 728}, 1)
				wide += (c.High - c.Low) / float64(runs)
				if c.Low <= 0.2 && c.High >= 0.2 {
					held++
				}
			}
			share := float64(held) / float64(runs)
			t.Logf("%d days, owing %.1f to the day before: .95 stated, %.3f found, %.2f wide", days, rho, share, wide)
			if share < 0.92 || share > 0.985 {
				t.Errorf("%d days, owing %.1f to the day before: the interval holds the change %.3f of the time, .95 stated",
					days, rho, share)
			}
		}
	}
}

// Spans of series that only wander lie outside about once in a hundred, also where the
// month has other weekdays than those before.
func TestWhatOnlyWandersLiesInsideTheCorridor(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 8))
	for _, back := range []int{3, 6, 12} {
		outside, runs := 0, 4000
		for range runs {
			h := History{First: DayOf(2025, 1, 6), Ratio: true, Value: wander(rng, 430, 100, 0.3, 0.1)}
			s := Around(Month, DayOf(2026, 2, 10))
			if p := h.Corridor(s, Before(Month, s, back), 0); p.Verdict == Above || p.Verdict == Below {
				outside++
			}
		}
		if share := float64(outside) / float64(runs); share > 0.02 || share < 0.003 {
			t.Errorf("%d months before: %.4f lie outside, .01 stated", back, share)
		}
	}
}

func TestAFaultOfOldDoesNotMakeASoundMonthLookBad(t *testing.T) {
	rng := rand.New(rand.NewPCG(2, 8))
	h := History{First: DayOf(2026, 3, 2), Ratio: true, Value: wander(rng, 240, 100, 0, 0.05)}
	s := Around(Month, DayOf(2026, 10, 1))
	before := Before(Month, s, 6)
	sound := h.Corridor(s, before, 0.05)
	for day := DayOf(2026, 6, 1); day < DayOf(2026, 6, 13); day++ {
		h.Value[day-h.First] = math.NaN() // labelled: left out
	}
	if p := h.Corridor(s, before, 0.05); p.Verdict != Inside || math.Abs(p.Usual/sound.Usual-1) > 0.02 || p.Spans != 6 {
		t.Errorf("with a labelled fault in June: %+v, without %+v", p, sound)
	}
	for day := DayOf(2026, 6, 1); day < DayOf(2026, 6, 13); day++ {
		h.Value[day-h.First] = 4000 // nobody labelled it
	}
	if p := h.Corridor(s, before, 0.05); p.Verdict != Inside || p.Wanders < 1 {
		t.Errorf("with a fault that nobody labelled: %+v", p)
	}
	for day := s.From; day < s.To; day++ {
		if k := day - h.First; k < len(h.Value) {
			h.Value[k] *= 0.5
		}
	}
	h.Value[DayOf(2026, 6, 1)-h.First] = 100
	for day := DayOf(2026, 6, 1); day < DayOf(2026, 6, 13); day++ {
		h.Value[day-h.First] = 100
	}
	if p := h.Corridor(s, before, 0.05); p.Verdict != Below || p.Off() < 2 {
		t.Errorf("half of October is lost: %+v", p)
	}
}

// Whatever comes, figures are finite or said to be unknown.
func TestHostileHistoriesHaveAPlaceToo(t *testing.T) {
	nan := math.NaN()
	for name, values := range map[string][]float64{"empty": nil, "one": {7}, "none": {nan, nan, nan, nan, nan, nan, nan, nan},
		"constant": make([]float64, 400), "huge": {1e300, 1e308, 1e308, 1e300, 1e308, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1}} {
		for _, ratio := range []bool{true, false} {
			h := History{First: DayOf(2026, 1, 5), Value: values, Ratio: ratio}
			for _, kind := range []string{Week, Month, Year} {
				s := Around(kind, h.First+21)
				p := h.Corridor(s, Before(kind, s, 3), 0.1)
				if p.Verdict != Little && (math.IsNaN(p.Now) || math.IsNaN(p.Low) || math.IsNaN(p.High)) {
					t.Errorf("%s by %s: %+v", name, kind, p)
				}
				if c := h.YearsBack(s, 1); c.Pairs > 0 && math.IsNaN(c.Now) {
					t.Errorf("%s by %s: %+v", name, kind, c)
				}
				h.WeeksBack(s, 1)
			}
		}
	}
	if order := Sorted([]Place{{Verdict: Little}, {Verdict: Inside, Now: 1, Usual: 1, Low: 0, High: 2},
		{Verdict: Above, Now: 9, Usual: 1, Low: 0, High: 2}}); order[0] != 2 || order[2] != 0 {
		t.Errorf("order %v", order)
	}
}
