package baseline

import (
	"math"
	"slices"
	"time"

	"tinbell/core/robust"
	"tinbell/core/timeline"
)

// total is what a local day came to, NaN where a part of it is not known.
type total struct {
	sum   float64
	class uint8
	kind  uint8 // to its month
	date  uint8 // within it
}

// totals sums a history up by local day.
func (p *Prepared) totals() (days []total) {
	date, spoilt := int32(0), false
	for i := range p.Points {
		pt := &p.Points[i]
		if pt.Slot.Date != date {
			if spoilt && len(days) > 0 {
				days[len(days)-1].sum = math.NaN()
			}
			date, spoilt = pt.Slot.Date, false
			days = append(days, total{class: pt.Slot.Class, kind: pt.Slot.MonthDay, date: pt.Slot.MonthDate})
		}
		if pt.Usable() {
			days[len(days)-1].sum += pt.X
		} else {
			spoilt = true
		}
	}
	return days
}

// usually gives the median of the three weeks before a day, of ordinary days of its class;
// ok is false where they are too few.
func usually(days []total, i int, room *[]float64) (median float64, ok bool) {
	before := (*room)[:0]
	for _, b := range days[i-21 : i] {
		if b.class == days[i].class && b.kind == 0 && b.sum > 0 {
			before = append(before, b.sum)
		}
	}
	if *room = before; len(before) < 5 {
		return 0, false
	}
	return robust.Median(before), true
}

// learnCalendar finds what dates do to counts: working days at the turn of a month and, of
// daily counts, dates within it. Few months cannot always tell the two apart: what one of
// them explains is not left to the other, and the order that leaves less unexplained counts.
func (p *Prepared) learnCalendar() {
	if p.shape.Family != Mult || p.shape.MeanRows > 0 || p.shape.Long || len(p.Points) < 75*p.shape.PerDay {
		return
	}
	days := p.totals()
	turns := months{}
	turns.learnTurns(days)
	if p.shape.PerDay == 1 {
		dates := months{}
		dates.learnDates(days)
		dates.learnTurns(dates.without(days))
		turns.learnDates(turns.without(days))
		if unexplained(dates.without(days)) < unexplained(turns.without(days)) {
			turns = dates
		}
	}
	p.shape.Calendar, p.shape.DayType, p.shape.Dates = turns.found, turns.kinds, turns.dates
}

// months are what dates do: factors by kind of day to its month, and by date within it.
type months struct {
	found bool
	kinds [timeline.MonthDays]float64
	dates []float64
}

// without gives the days as they would be without what the dates do.
func (m *months) without(days []total) []total {
	left := slices.Clone(days)
	for i := range left {
		if m.found {
			left[i].sum /= m.kinds[left[i].kind]
		}
		if m.dates != nil {
			left[i].sum /= m.dates[left[i].date]
		}
	}
	return left
}

// unexplained is how far days are from what is usual, all together.
func unexplained(days []total) (sum float64) {
	var room []float64
	for i := 21; i < len(days); i++ {
		if usual, ok := usually(days, i, &room); ok && days[i].sum >= 0 {
			sum += math.Abs(math.Log(max(days[i].sum, 0.5) / usual))
		}
	}
	return sum
}

// dateFactor is by how much the logarithm of a day's ratio to what is usual must stand out.
const dateFactor = 0.2

// learnDates finds factors for dates within the month, of daily counts: bills on the 1st
// and 15th, whatever weekday that is. What falls on a date by chance does not come again on
// it.
func (m *months) learnDates(days []total) {
	var ratios [timeline.MonthDates][]float64
	var room []float64
	for i := 21; i < len(days); i++ {
		if d := days[i]; d.sum >= 0 {
			if usual, ok := usually(days, i, &room); ok {
				ratios[d.date] = append(ratios[d.date], math.Log(max(d.sum, 0.5)/usual))
			}
		}
	}
	if found := StandOut(&ratios, dateFactor); found != nil {
		m.dates = make([]float64, timeline.MonthDates)
		for date, effect := range found {
			m.dates[date] = math.Exp(effect)
		}
	}
}

// learnTurns finds factors for the days at the turn of a month: the median
// ratio of a day's total to the median of the three weeks before, days of the
// same class. A factor must be seen three times and be clear of chance.
func (m *months) learnTurns(days []total) {
	var ratios [timeline.MonthDays][]float64
	var room []float64
	for i := 21; i < len(days); i++ {
		d := days[i]
		if d.kind == 0 || !(d.sum > 0) {
			continue
		}
		if usual, ok := usually(days, i, &room); ok {
			ratios[d.kind] = append(ratios[d.kind], math.Log(d.sum/usual))
		}
	}
	m.kinds = [timeline.MonthDays]float64{1, 1, 1, 1, 1}
	for k, list := range ratios {
		n := float64(len(list))
		if n < leastMonths {
			continue
		}
		mean, squares := 0.0, 0.0
		for _, r := range list {
			mean += r / n
		}
		for _, r := range list {
			squares += (r - mean) * (r - mean) / (n - 1)
		}
		if ratio := robust.Median(list); math.Abs(ratio) > max(2*math.Sqrt(squares/n), 0.15) {
			m.kinds[k], m.found = math.Exp(ratio), true
		}
	}
}

// year says how what comes around every year is found in a series: each period is compared
// with those around it, at most span before and after, and none nearer than guard; a date is
// the same in every year, or some days off.
type year struct {
	span, guard, reach int
	factor             float64 // of its logarithm, how far it must be off at least
}

// yearOf gives nothing for series within a day and of years.
func yearOf(g timeline.Grid) (y year, is bool) {
	switch {
	case g.Daily():
		return year{span: 28, guard: 7, factor: 0.2}, true
	case g.Period == timeline.Week:
		return year{span: 6, guard: 1, reach: 3, factor: 0.1}, true
	case g.Period == timeline.Month:
		return year{span: 6, factor: 0.1}, true
	}
	return y, false
}

// apart is how far a period is from those around it.
type apart struct {
	date uint16
	off  float64 // ln
}

// learnYear finds what comes around the same date every year, of daily or longer counts:
// periods that deviated from those around them to the same side, in each of at least two
// years, by a fifth or more (of weeks and months a tenth, and twice what is ordinary). Once
// is not enough: a fault of last year must not be expected this year. What is slower is the
// level's, or a season's.
func (p *Prepared) learnYear(g timeline.Grid) {
	y, is := yearOf(g)
	n := len(p.Points)
	if !is || p.shape.Family != Mult || p.shape.MeanRows > 0 || n < 2*y.span ||
		p.Points[n-1].At-p.Points[0].At < int64((2*timeline.Year+2*time.Duration(y.span)*g.Day()-g.Day()).Seconds()) {
		return
	}
	list := p.apart(y)
	if g.Long() {
		ordinary := make([]float64, len(list))
		for i, a := range list {
			ordinary[i] = math.Abs(a.off)
		}
		y.factor = max(y.factor, 2*robust.Median(ordinary))
	}
	byDate := make([][]float64, timeline.YearDays)
	for _, a := range list {
		byDate[a.date] = append(byDate[a.date], a.off)
	}
	for date := range byDate {
		r := y.everyYear(byDate, date)
		if r == 0 {
			continue
		}
		if p.shape.Year == nil {
			p.shape.Year = make([]float64, timeline.YearDays)
			for k := range p.shape.Year {
				p.shape.Year[k] = 1
			}
		}
		p.shape.Year[date] = math.Exp(r)
	}
}

// apart lists how far each usable period is from those around it of its class.
func (p *Prepared) apart(y year) (list []apart) {
	around := make([]float64, 0, 2*y.span)
	least := min(8, 2*(y.span-y.guard)-2)
	each := func(pt *Point) float64 { return pt.X / float64(pt.Slot.Length) }
	for i := y.span; i+y.span < len(p.Points); i++ {
		pt := &p.Points[i]
		if !pt.Usable() || pt.X <= 0 {
			continue
		}
		around = around[:0]
		for k := i - y.span; k <= i+y.span; k++ {
			other := &p.Points[k]
			if (k < i-y.guard || k > i+y.guard) && other.Usable() && other.X > 0 && other.Slot.Class == pt.Slot.Class {
				around = append(around, each(other))
			}
		}
		if len(around) >= least {
			list = append(list, apart{pt.Slot.YearDay, math.Log(each(pt) / robust.Median(around))})
		}
	}
	return list
}

// everyYear is by how much a date stands out every year, 0 where it does not.
func (y year) everyYear(byDate [][]float64, date int) float64 {
	n, low, high := 0, math.Inf(1), math.Inf(-1)
	for k := date - y.reach; k <= date+y.reach; k++ {
		for _, r := range byDate[(k+timeline.YearDays)%timeline.YearDays] {
			n, low, high = n+1, min(low, r), max(high, r)
		}
	}
	switch {
	case n < 2:
	case low > y.factor:
		return low
	case high < -y.factor:
		return high
	}
	return 0
}
