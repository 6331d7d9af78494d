package baseline

import (
	"math"

	"gonum.org/v1/gonum/stat/distuv"

	"tinbell/core/robust"
	"tinbell/core/timeline"
)

const (
	leastMonths = 3    // in which a date must have been seen
	dateSigma   = 3    // robust standard deviations that it must stand out by
	dateChance  = 0.05 // of one date of a series that stands out by chance, at most
)

// StandOut gives by how much dates of a month stand out of how far days usually stray, from
// what is left of each day without level and weekday: the median of a date that strays by
// three robust standard deviations, and by least, to the same side in three months and
// more, with one exception in five at most; 0 for all others, and nil where none does. As
// many days stray as stray: where many do, so many on one date must be beyond chance
// (binomial, over all dates by Bonferroni).
func StandOut(left *[timeline.MonthDates][]float64, least float64) (effects []float64) {
	var all, off []float64
	for _, list := range left {
		all = append(all, list...)
	}
	if len(all) == 0 {
		return nil
	}
	middle := robust.Median(all)
	for _, r := range all {
		off = append(off, math.Abs(r-middle))
	}
	limit := max(dateSigma*1.4826*robust.Median(off), least)
	if limit == 0 {
		return nil // most days are the same: nothing tells how far one strays
	}
	beyond := func(list []float64) (n [2]int) {
		for _, r := range list {
			switch {
			case r > limit:
				n[0]++
			case r < -limit:
				n[1]++
			}
		}
		return n
	}
	usual := beyond(all)
	for date, list := range left {
		n, off := len(list), beyond(list)
		if n < leastMonths {
			continue
		}
		for side, k := range off {
			chance := distuv.Binomial{N: float64(n), P: float64(usual[side]) / float64(len(all))}
			if k < n-n/5 || (timeline.MonthDates-1)*chance.Survival(float64(k-1)) > dateChance {
				continue
			}
			if effects == nil {
				effects = make([]float64, timeline.MonthDates)
			}
			effects[date] = robust.Median(list)
		}
	}
	return effects
}
