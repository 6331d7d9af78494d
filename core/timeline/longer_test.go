package timeline

import (
	"math"
	"testing"
	"time"
)

func halifax(t *testing.T) *time.Location {
	t.Helper()
	zone, err := time.LoadLocation("America/Halifax")
	if err != nil {
		t.Fatal(err)
	}
	return zone
}

func longerGrid(t *testing.T, period time.Duration) Grid {
	t.Helper()
	g, err := NewGrid(period, halifax(t))
	if err != nil {
		t.Fatal(err)
	}
	return g
}

func TestWeeksMonthsAndYearsAreThoseOnTheWall(t *testing.T) {
	for _, c := range []struct {
		period         time.Duration
		at, start, end string
		length         float64 // of the nominal one
	}{
		{Week, "2026-03-08T12:00:00-03:00", "2026-03-02T00:00:00-04:00", "2026-03-09T00:00:00-03:00", 167.0 / 168},
		{Week, "2026-11-02T00:00:00-04:00", "2026-11-02T00:00:00-04:00", "2026-11-09T00:00:00-04:00", 1},
		{Week, "2026-01-01T10:00:00-04:00", "2025-12-29T00:00:00-04:00", "2026-01-05T00:00:00-04:00", 1},
		{Month, "2024-02-29T23:59:59-04:00", "2024-02-01T00:00:00-04:00", "2024-03-01T00:00:00-04:00", 29.0 / 30},
		{Month, "2026-03-31T23:59:59-03:00", "2026-03-01T00:00:00-04:00", "2026-04-01T00:00:00-03:00", (31*24 - 1) / 720.0},
		{Year, "2026-07-01T00:00:00-03:00", "2026-01-01T00:00:00-04:00", "2027-01-01T00:00:00-04:00", 1},
		{Year, "2024-12-31T23:00:00-04:00", "2024-01-01T00:00:00-04:00", "2025-01-01T00:00:00-04:00", 366.0 / 365},
	} {
		g := longerGrid(t, c.period)
		at, err := time.Parse(time.RFC3339, c.at)
		if err != nil {
			t.Fatal(err)
		}
		start := g.Floor(at)
		if got := start.In(g.Zone).Format(time.RFC3339); got != c.start {
			t.Errorf("the %s of %s begins %s, want %s", g.Unit(), c.at, got, c.start)
		}
		if got := g.Next(start).In(g.Zone).Format(time.RFC3339); got != c.end {
			t.Errorf("the %s of %s ends %s, want %s", g.Unit(), c.at, got, c.end)
		}
		if !g.Floor(start).Equal(start) || !g.Add(g.Next(start), -1).Equal(start) {
			t.Errorf("%s is not one before the next", c.start)
		}
		if slot := NewSlotter(g).At(start.Unix()); math.Abs(float64(slot.Length)-c.length) > 1e-6 {
			t.Errorf("the %s of %s is %g as long as usual, want %g", g.Unit(), c.at, slot.Length, c.length)
		}
	}
}

func TestSlotsOfLongerPeriodsAreMonthsOfTheYearAlone(t *testing.T) {
	for _, c := range []struct {
		period time.Duration
		start  string
		want   uint16
	}{
		{Month, "2026-12-01", 11}, {Month, "2026-01-01", 0}, {Year, "2026-01-01", 0},
		{Week, "2025-12-29", 0}, // its Thursday is New Year's Day
		{Week, "2026-06-29", 6}, {Week, "2026-06-22", 5},
	} {
		g := longerGrid(t, c.period)
		start, err := time.ParseInLocation(time.DateOnly, c.start, g.Zone)
		if err != nil {
			t.Fatal(err)
		}
		slot := NewSlotter(g).At(start.Unix())
		if slot.Week != c.want || int(slot.Week) >= Slots(g.PerDay()) || slot.Day != 0 || slot.Class != 0 || slot.MonthDate != 0 || slot.MonthDay != 0 {
			t.Errorf("%s of %s: %+v, want season %d", g.Unit(), c.start, slot, c.want)
		}
	}
}

func TestMonthsAreLaidOnEveryMonth(t *testing.T) {
	g := longerGrid(t, Month)
	at := func(month time.Month) int64 { return time.Date(2026, month, 1, 0, 0, 0, 0, g.Zone).Unix() }
	dense := Dense(g, []Sample{{At: at(1), Value: 1}, {At: at(2), Value: 2}, {At: at(5), Value: 5}}, time.Unix(at(8), 0))
	if len(dense) != 7 || dense[4].Value != 5 || !dense[2].Missing() || !dense[3].Missing() || !dense[6].Missing() || dense[6].At != at(7) {
		t.Errorf("%+v", dense)
	}
	if back := g.Back(time.Unix(at(8), 0).Add(50*time.Hour), 7); back.Unix() != at(1) {
		t.Errorf("seven months back: %s", back)
	}
	if g.Day() != Month || g.PerDay() != 1 || g.Daily() || !g.Dated() || !g.Long() {
		t.Errorf("a month: %+v", g)
	}
}
