package detect

import (
	"math"
	"slices"

	"tinbell/core/baseline"
)

// Evidence is what speaks for an alert so far: what a filter of false alarms
// looks at, when the alert opens and again while it lasts.
type Evidence struct {
	Periods  int     // judged since the first that deviates
	Age      int     // of them, since the alert opened
	Rarity   float64 // how many times rarer by chance than asked for; 1 where another rule tells
	Excess   float64 // largest statistic of the windows over the threshold; 1 where another rule tells
	Z        float64 // sum over those periods of the standardised residual in the alert's direction, each within −3 and 8
	Worst    float64 // largest of them
	Last     float64 // the newest
	Expected float64 // mean expected value of a period
	Ratio    float64 // of what was observed to what was expected while open; 1 where that says nothing
}

// Looks are the ages in periods at which an alert's evidence is looked at.
var Looks = [...]int{1, 4, 9, 25}

// Mean is the mean standardised residual of the periods.
func (v Evidence) Mean() float64 { return v.Z / float64(max(v.Periods, 1)) }

// see adds a period: its standardised residual and what was expected.
func (v *Evidence) see(z, expected float64) {
	z = min(max(z, -3), 8)
	v.Periods++
	v.Z, v.Last, v.Worst = v.Z+z, z, max(v.Worst, z)
	if !math.IsNaN(expected) {
		v.Expected += (expected - v.Expected) / float64(v.Periods)
	}
}

// recollect adds the periods that deviated before an alert opened.
func (e *Evaluator) recollect(at int64) {
	for k := e.between(e.Alert.Since, at); k > 0; k-- {
		if k < e.Recent.Valid {
			if p := e.Recent.last(k); p.OK {
				e.Alert.Evidence.see(towards(e.Alert.Direction, p.Z), math.NaN())
			}
		}
	}
}

// bear adds the newest period to the open alert's evidence, and keeps it if it
// is to be looked at.
func (e *Evaluator) bear(pt *baseline.Point, r *Reading) {
	v := &e.Alert.Evidence
	v.Age, v.Excess, v.Ratio, v.Rarity = v.Age+1, max(v.Excess, 1), 1, max(e.Alert.ReturnPeriod/e.rule.Warn.Seconds(), 1)
	if a := &e.Alert; a.Total.Periods > 0 && a.Total.Expected > 0 && a.Total.Observed >= 0 {
		v.Ratio = a.Total.Observed / a.Total.Expected
	}
	e.weighEvidence(pt, r)
	if slices.Contains(Looks[:], v.Age) {
		e.Alert.Looks = append(e.Alert.Looks, *v)
	}
}

func (e *Evaluator) weighEvidence(pt *baseline.Point, r *Reading) {
	v := &e.Alert.Evidence
	if !pt.Known {
		v.see(3, r.Expected) // what is missing is as far off as can be
		return
	}
	z := 2.6 * r.Deviation
	if e.Recent.Valid > 0 {
		if p := e.Recent.last(0); p.OK {
			z = p.Z
		}
	}
	v.see(towards(e.Alert.Direction, z), r.Expected)
	if e.Alert.Cause == Deviation && e.windowed() {
		s := side(e.Alert.Direction)
		v.Excess = max(v.Excess, e.verdict.u[s]/e.warn[s])
	}
}

func towards(d Direction, z float64) float64 {
	if d == Both {
		return math.Abs(z)
	}
	return z * float64(d)
}
