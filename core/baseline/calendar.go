package baseline

import (
	"math"

	"tinbell/core/robust"
	"tinbell/core/timeline"
)

// learnCalendar finds factors for the days at the turn of a month: the median
// ratio of a day's total to the median of the three weeks before, days of the
// same class. A factor must be seen three times and be clear of chance.
func (p *Prepared) learnCalendar() {
	type total struct {
		sum   float64
		class uint8
		kind  uint8
	}
	if p.shape.Family != Mult || p.shape.MeanRows > 0 || len(p.Points) < 75*p.shape.PerDay {
		return
	}
	var days []total
	date, spoilt := int32(0), false
	for i := range p.Points {
		pt := &p.Points[i]
		if pt.Slot.Date != date {
			if spoilt && len(days) > 0 {
				days[len(days)-1].sum = math.NaN()
			}
			date, spoilt = pt.Slot.Date, false
			days = append(days, total{class: pt.Slot.Class, kind: pt.Slot.MonthDay})
		}
		if pt.Usable() {
			days[len(days)-1].sum += pt.X
		} else {
			spoilt = true
		}
	}
	var ratios [timeline.MonthDays][]float64
	before := make([]float64, 0, 21)
	for i := 21; i < len(days); i++ {
		d := days[i]
		if d.kind == 0 || !(d.sum > 0) {
			continue
		}
		before = before[:0]
		for _, b := range days[i-21 : i] {
			if b.class == d.class && b.kind == 0 && b.sum > 0 {
				before = append(before, b.sum)
			}
		}
		if len(before) >= 5 {
			ratios[d.kind] = append(ratios[d.kind], math.Log(d.sum/robust.Median(before)))
		}
	}
	p.shape.DayType = [timeline.MonthDays]float64{1, 1, 1, 1, 1}
	for k, list := range ratios {
		n := float64(len(list))
		if n < 3 {
			continue
		}
		mean, squares := 0.0, 0.0
		for _, r := range list {
			mean += r / n
		}
		for _, r := range list {
			squares += (r - mean) * (r - mean) / (n - 1)
		}
		if m := robust.Median(list); math.Abs(m) > max(2*math.Sqrt(squares/n), 0.15) {
			p.shape.DayType[k], p.shape.Calendar = math.Exp(m), true
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
