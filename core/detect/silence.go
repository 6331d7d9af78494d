package detect

import (
	"math"

	"tinbell/core/baseline"
	"tinbell/core/figures"
	"tinbell/core/timeline"
)

// silence tests runs of zeros where rows were due. A period's probability of
// being empty is that of a negative binomial with the model's spread, or how
// often this period of the day (of daily series, weekday) has been empty,
// whichever is larger.
type silence struct {
	Odds        surprise
	Empty, Seen cells
	All         [2]float64 // empty and all periods where rows were due
}

// cells counts by class and period of the day, of daily series by weekday.
type cells [2]figures.Floats

func (c *cells) at(slot *timeline.Slot, perDay int) *float64 {
	class, i, n := int(slot.Class), int(slot.Hour), perDay
	if perDay == 1 {
		class, i, n = 0, int(slot.Day), 7
	}
	if len(c[class]) == 0 {
		c[class] = make([]float64, n)
	}
	return &c[class][i]
}

// due tells whether so few rows are expected that their absence says nothing.
const due = 0.5

// see takes a judged period. learns is false under an alert, and where a history
// is gone through that was counted before.
func (s *silence) see(e *Evaluator, pt *baseline.Point, ex *baseline.Expectation, learns, counts bool) {
	if e.cfg.Kind != timeline.Count || ex.Mu <= due {
		if pt.X > 0 {
			s.Odds.end(counts)
		}
		return
	}
	empty, seen := s.Empty.at(&pt.Slot, e.Model.PerDay), s.Seen.at(&pt.Slot, e.Model.PerDay)
	if pt.X > 0 {
		s.Odds.end(counts)
	} else {
		phi := max((ex.Sigma*ex.Sigma-ex.Mu)/(ex.Mu*ex.Mu), 1e-6)
		chance := math.Exp(-math.Log1p(phi*ex.Mu) / phi)
		usual := 0.0
		if s.All[1] > 0 {
			usual = s.All[0] / s.All[1]
		}
		chance = max(chance, (*empty+2.5*max(chance, min(usual, 0.5)))/(*seen+2.5))
		s.Odds.add(pt.At, -math.Log(min(max(chance, 1e-300), 1)))
	}
	if learns {
		*seen++
		s.All[1]++
		if pt.X == 0 {
			*empty++
			s.All[0]++
		}
	}
}

func (s *silence) tells(e *Evaluator) bool {
	return s.Odds.N >= e.cadence.zeros && s.Odds.over(e, Silence) && !e.rule.SilenceOff
}
