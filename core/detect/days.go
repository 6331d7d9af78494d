package detect

import (
	"math"

	"tinbell/core/robust"
)

// Days are what the last days of a series of counts came to, and how far the last one
// is from what was expected. NaN where that is not known.
type Days struct {
	Day, Week, Month float64 // sums of the last one, seven, thirty days
	Lowest, Highest  float64 // of a whole day, over the last thirty
	Expected         float64 // of the last day
	Deviation        float64 // of the last day: ±1 at the edges that 99 % of clean days lie within
}

// LastDays sums up readings, of which so many are a day. The last day deviates by its
// ratio to what was expected, in units of 2.58 robust standard deviations of the same
// ratio on the days before, which are never less than a Poisson count's or one percent.
// It takes a week of days before it.
func LastDays(readings []Reading, perDay int) Days {
	d := Days{Lowest: math.NaN(), Highest: math.NaN(), Expected: math.NaN(), Deviation: math.NaN()}
	n := len(readings)
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
			d.Day = rows
		}
		if day < 7 {
			d.Week += rows
		}
		d.Month += rows
		switch whole := end >= perDay; {
		case day == 0 && whole:
			d.Lowest, d.Highest = rows, rows
		case whole:
			d.Lowest, d.Highest = min(d.Lowest, rows), max(d.Highest, rows)
		}
	}
	came, expected := dayOf(readings, n, perDay)
	if expected <= 0 {
		return d
	}
	d.Expected = expected
	var off []float64
	for end := n - perDay; end >= perDay; end -= perDay {
		if x, e := dayOf(readings, end, perDay); e > 0 {
			off = append(off, math.Abs(x/e-1))
		}
	}
	if len(off) >= 7 {
		d.Deviation = (came/expected - 1) / (2.58 * max(1.4826*robust.Median(off), 1/math.Sqrt(expected), 0.01))
	}
	return d
}

// dayOf adds up the day before an end where both what came and what was expected is known.
func dayOf(readings []Reading, end, perDay int) (came, expected float64) {
	for _, r := range readings[max(end-perDay, 0):end] {
		if !math.IsNaN(r.Observed) && !math.IsNaN(r.Expected) {
			came, expected = came+r.Observed, expected+r.Expected
		}
	}
	return came, expected
}
