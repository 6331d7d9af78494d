package baseline

import (
	"math"
	"slices"

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
	if p.shape.Family != Mult || p.shape.MeanRows > 0 || len(p.Points) < 75*p.shape.PerDay {
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

const (
	yearSpan   = 28 // days around a date that it is compared with
	yearGuard  = 7  // days around it that are left out
	yearFactor = 0.2
)

// learnYear finds what comes around the same date every year, of daily counts:
// days that deviated from the weeks around them to the same side, in each of at
// least two years, by a fifth or more. Once is not enough: a fault of last year
// must not be expected this year. What is slower than weeks is the level's.
func (p *Prepared) learnYear() {
	if p.shape.Family != Mult || p.shape.PerDay != 1 || p.shape.MeanRows > 0 || len(p.Points) < 2*365+2*yearSpan {
		return
	}
	type seen struct {
		n    int
		low  float64
		high float64
	}
	dates := make([]seen, timeline.YearDays)
	around := make([]float64, 0, 2*yearSpan)
	for i := yearSpan; i+yearSpan < len(p.Points); i++ {
		pt := &p.Points[i]
		if !pt.Usable() || pt.X <= 0 {
			continue
		}
		around = around[:0]
		for k := i - yearSpan; k <= i+yearSpan; k++ {
			other := &p.Points[k]
			if (k < i-yearGuard || k > i+yearGuard) && other.Usable() && other.X > 0 && other.Slot.Class == pt.Slot.Class {
				around = append(around, other.X)
			}
		}
		if len(around) < 8 {
			continue
		}
		r := math.Log(pt.X / robust.Median(around))
		d := &dates[pt.Slot.YearDay]
		if d.n == 0 {
			d.low, d.high = r, r
		}
		d.n, d.low, d.high = d.n+1, min(d.low, r), max(d.high, r)
	}
	for day, d := range dates {
		r := 0.0
		switch {
		case d.n < 2:
		case d.low > yearFactor:
			r = d.low
		case d.high < -yearFactor:
			r = d.high
		}
		if r == 0 {
			continue
		}
		if p.shape.Year == nil {
			p.shape.Year = make([]float64, timeline.YearDays)
			for k := range p.shape.Year {
				p.shape.Year[k] = 1
			}
		}
		p.shape.Year[day] = math.Exp(r)
	}
}
