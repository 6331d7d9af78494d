package detect

import (
	"math"

	"tinbell/core/baseline"
)

// absence tests periods that were due and did not come, against how often the
// same period of the day (of daily series, weekday) goes missing. Slots with few
// visits lean on the overall share.
type absence struct {
	Odds         surprise
	Missed, Seen cells
	All          float64 // share missing overall
	Rare         int     // periods of the run whose absence is rare
}

func (a *absence) end(counts bool) {
	a.Odds.end(counts)
	a.Rare = 0
}

func (a *absence) arrived(e *Evaluator, pt *baseline.Point, learns, counts bool) {
	if learns {
		*a.Seen.at(&pt.Slot, e.Model.PerDay)++
	}
	a.end(counts)
}

// chance that the slot's period does not come. The prior is worth two and a
// half visits, of daily series ten.
func (a *absence) chance(pt *baseline.Point, perDay int) float64 {
	missed, seen := *a.Missed.at(&pt.Slot, perDay), *a.Seen.at(&pt.Slot, perDay)
	if perDay == 1 {
		all, n := 0.1, 1.0
		for d := range a.Seen[0] {
			all, n = all+*a.Missed.day(d), n+a.Seen[0][d]
		}
		return (missed + 10*all/n) / (seen + 10)
	}
	return (missed + 2*min(a.All, 0.5) + 0.1) / (seen + 2.5)
}

// day is the count of a weekday of a daily series.
func (c *cells) day(d int) *float64 {
	if len(c[0]) == 0 {
		c[0] = make([]float64, 7)
	}
	return &c[0][d]
}

// missed takes a period that did not come.
func (a *absence) missed(e *Evaluator, pt *baseline.Point, learns bool) {
	chance := a.chance(pt, e.Model.PerDay)
	a.Odds.add(pt.At, -math.Log(min(max(chance, 1e-300), 1)))
	if chance < 0.05 {
		a.Rare++
	}
	if learns {
		*a.Missed.at(&pt.Slot, e.Model.PerDay)++
		*a.Seen.at(&pt.Slot, e.Model.PerDay)++
	}
}

func (a *absence) tells(e *Evaluator) bool {
	switch {
	case e.rule.Missing < 0 || e.rule.BandOnly:
		return false
	case e.rule.Missing > 0:
		return a.Odds.N >= e.rule.Missing
	}
	return a.Rare >= e.cadence.absences && a.Odds.over(e, Missing)
}
