package character

import (
	"fmt"
	"math"
	"strings"

	"tinbell/core/robust"
)

const (
	leastMonths = 3   // in which a date must have come
	dateFactor  = 1.5 // by which it must differ
)

// describeDates says which dates of a month are unlike other days, of daily series: in every
// month, to the same side, and farther than nine in ten days stray.
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
	var ratios [32][]float64
	var all []float64
	for i := range s.periods {
		if p := &s.periods[i]; p.came && p.value >= 0 && usual[p.day] > 0 {
			r := math.Log(max(p.value, 0.5) / usual[p.day])
			ratios[p.ofMonth], all = append(ratios[p.ofMonth], r), append(all, math.Abs(r))
		}
	}
	if len(all) == 0 {
		return
	}
	limit := max(robust.Quantile(all, 0.9), math.Log(dateFactor))
	var more, less []int
	var high, low []float64
	for date, list := range ratios {
		if len(list) < leastMonths {
			continue
		}
		lo, hi := list[0], list[0]
		for _, r := range list {
			lo, hi = min(lo, r), max(hi, r)
		}
		switch {
		case lo >= limit:
			more, high = append(more, date), append(high, robust.Median(list))
		case hi <= -limit:
			less, low = append(less, date), append(low, robust.Median(list))
		}
	}
	c.Dates = append(append(c.Dates, more...), less...)
	if len(more) > 0 {
		c.say("On the %s of a month it is %s as on other days.", ordinals(more), partOf(math.Exp(robust.Median(high))))
	}
	if len(less) > 0 {
		c.say("On the %s of a month it is %s as on other days.", ordinals(less), partOf(math.Exp(robust.Median(low))))
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
	if n := len(words) - 1; n > 0 {
		return strings.Join(words[:n], ", ") + " and " + words[n]
	}
	return words[0]
}
