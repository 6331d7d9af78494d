package character

import (
	"fmt"
	"math"

	"tinbell/core/baseline"
	"tinbell/core/robust"
	"tinbell/core/timeline"
)

// dateFactor is by how much a date must differ to be worth saying.
const dateFactor = 1.5

// describeDates says which dates of a month are unlike other days, of daily series.
func (s *series) describeDates(c *Character) {
	if !s.Daily() {
		return
	}
	var byDay [7][]float64
	for i := range s.periods {
		if p := &s.periods[i]; p.came && p.value >= 0 {
			byDay[p.day] = append(byDay[p.day], p.value)
		}
	}
	var usual [7]float64
	for d := range byDay {
		if len(byDay[d]) > 0 {
			usual[d] = robust.Median(byDay[d])
		}
	}
	var ratios [timeline.MonthDates][]float64
	for i := range s.periods {
		if p := &s.periods[i]; p.came && p.value >= 0 && usual[p.day] > 0 {
			ratios[p.ofMonth] = append(ratios[p.ofMonth], math.Log(max(p.value, 0.5)/usual[p.day]))
		}
	}
	var more, less []int
	var high, low []float64
	for date, effect := range baseline.StandOut(&ratios, math.Log(dateFactor)) {
		switch {
		case effect > 0:
			more, high = append(more, date), append(high, effect)
		case effect < 0:
			less, low = append(less, date), append(low, effect)
		}
	}
	c.Dates = append(append(c.Dates, more...), less...)
	for _, side := range []struct {
		dates   []int
		effects []float64
	}{{more, high}, {less, low}} {
		if len(side.dates) > 0 {
			c.say("On the %s of a month it is %s as on other days.", ordinals(side.dates), partOf(math.Exp(robust.Median(side.effects))))
		}
	}
}

// ordinals are dates as they are said: 1st, 15th and 31st.
func ordinals(dates []int) string {
	words := make([]string, len(dates))
	for i, d := range dates {
		ending := "th"
		switch {
		case d%10 == 1 && d != 11:
			ending = "st"
		case d%10 == 2 && d != 12:
			ending = "nd"
		case d%10 == 3 && d != 13:
			ending = "rd"
		}
		words[i] = fmt.Sprintf("%d%s", d, ending)
	}
	return listOf(words)
}
