package forecast

import (
	"math"
	"slices"
	"time"

	"tinbell/core/baseline"
	"tinbell/core/robust"
	"tinbell/core/timeline"
)

// date is what a day's date within its month does to it.
func (f *Forecast) date(day time.Time) float64 {
	if f.dates == nil {
		return 0
	}
	return f.dates[day.Day()]
}

// leastDate is by how much a date must stand out where days are compared by their ratios.
const leastDate = 0.2

// season brings days onto the working scale, fills gaps with the week's mean
// and takes the effects of weekdays and dates out.
func (f *Forecast) season(d Daily, g timeline.Grid) []float64 {
	y := make([]float64, len(d.Value))
	last := math.NaN()
	for i, v := range d.Value {
		if y[i] = v; f.log {
			y[i] = math.Log(max(v, 1))
		}
		if math.IsNaN(v) {
			y[i] = last
			if i >= 7 {
				y[i] = y[i-7]
			}
		}
		last = y[i]
	}
	for i := len(y) - 2; i >= 0; i-- { // a gap at the very start
		if math.IsNaN(y[i]) {
			y[i] = y[i+1]
		}
	}
	if !g.Long() {
		f.takeWeekdays(d, y)
	}
	// Six neighbours, so that one odd day tells of itself alone.
	strays := func(i int) float64 {
		return y[i] - robust.Median(append(slices.Clone(y[i-3:i]), y[i+1:i+4]...))
	}
	switch {
	case !g.Long():
		f.takeDates(d, y, g.Zone, strays)
	case g.Period == timeline.Month:
		f.takeMonths(d, y, g.Zone, strays)
	}
	var rest []float64
	for i := 3; i+3 < len(y); i++ {
		// The median of six has .2147 of the variance of a day (normal order statistics).
		rest = append(rest, math.Abs(strays(i))/math.Sqrt(1.2147))
	}
	f.noise = ninety * 1.4826 * robust.Median(rest)
	return y
}

func (f *Forecast) takeWeekdays(d Daily, y []float64) {
	var effects [7][]float64
	for i := 3; i+3 < len(y); i++ {
		effects[d.Weekday[i]] = append(effects[d.Weekday[i]], y[i]-robust.Mean(y[i-3:i+4]))
	}
	for w := range effects {
		if len(effects[w]) > 0 {
			f.weekday[w] = robust.Median(effects[w])
		}
	}
	for i := range y {
		y[i] -= f.weekday[d.Weekday[i]]
	}
}

// leastMonth is by how much a month must stray from its neighbours, each year and to the same
// side, where months are compared by their ratios.
const leastMonth = 0.1

// takeMonths finds months of the year that stray from their neighbours in each of two years or
// more, and takes out by how much they do so at least.
func (f *Forecast) takeMonths(d Daily, y []float64, zone *time.Location, strays func(i int) float64) {
	var byMonth [12][]float64
	var sizes []float64
	month := func(i int) int { return int(time.Unix(d.At[i], 0).In(zone).Month()) - 1 }
	for i := 3; i+3 < len(y); i++ {
		off := strays(i)
		byMonth[month(i)], sizes = append(byMonth[month(i)], off), append(sizes, math.Abs(off))
	}
	least := 2 * robust.Median(sizes)
	if f.log {
		least = max(least, leastMonth)
	}
	for m, list := range byMonth {
		if len(list) < 2 {
			continue
		}
		if low, high := slices.Min(list), slices.Max(list); low > least {
			f.months[m] = low
		} else if high < -least {
			f.months[m] = high
		}
	}
	for i := range y {
		y[i] -= f.months[month(i)]
	}
}

// takeDates finds dates of a month that stray from their neighbours, and takes them out.
func (f *Forecast) takeDates(d Daily, y []float64, zone *time.Location, strays func(i int) float64) {
	var byDate [timeline.MonthDates][]float64
	for i := 3; i+3 < len(y); i++ {
		date := time.Unix(d.At[i], 0).In(zone).Day()
		byDate[date] = append(byDate[date], strays(i))
	}
	least := 0.0
	if f.log {
		least = leastDate
	}
	if f.dates = baseline.StandOut(&byDate, least); f.dates != nil {
		for i := range y {
			y[i] -= f.date(time.Unix(d.At[i], 0).In(zone))
		}
	}
}
