package detect

import (
	"math"

	"tinbell/core/baseline"
)

// open starts an alert, or continues the last one if it ended just before and
// says the same. What was told before and comes back is followed without being
// told.
func (e *Evaluator) open(pt *baseline.Point, r *Reading, a Alert) Change {
	change := Opened
	last := e.Alert
	if last.Closed != 0 && !last.Quiet && last.Cause == a.Cause && last.Direction == a.Direction &&
		a.Since-last.End <= e.mergeGap() && last.Reason != "level_adopted" {
		a = last
		a.End, a.Closed, a.Reason = 0, 0, ""
		change = Reopened
		e.forgetNovelty(a.Raised)
	} else {
		a.Raised = e.after(pt.At)
		if !e.replaying && !e.asked() && a.Cause != Bound && (e.returned(&a) != nil || e.rebound(&a) != nil) {
			a.Quiet, change = true, None
		}
	}
	e.Alert, e.Open = a, true
	e.Closing = closing{}
	e.Closing.seed(e, pt.At)
	if change != Reopened {
		e.locate(&e.Alert, pt, r)
		e.recollect(pt.At)
	}
	e.weigh(pt, r)
	return change
}

// mergeGap is the time within which a new alert continues the last one.
func (e *Evaluator) mergeGap() int64 {
	switch {
	case e.rule.Merge < 0:
		return -1
	case e.rule.Merge > 0:
		return int64(e.rule.Merge) * e.step
	}
	return int64(e.cadence.gap) * e.step
}

// adoptAfter is how many seconds an unanswered change lasts before it is the
// new normal; 0 for never.
func (e *Evaluator) adoptAfter() int64 {
	switch {
	case e.rule.AdoptAfter < 0:
		return 0
	case e.rule.AdoptAfter > 0:
		return int64(e.rule.AdoptAfter.Seconds())
	}
	return int64(e.cadence.adopt.Seconds())
}

// weigh updates peak, rarity and severity while the alert is open.
func (e *Evaluator) weigh(pt *baseline.Point, r *Reading) {
	a := &e.Alert
	if !math.IsNaN(r.Observed) {
		if math.Abs(r.Deviation) > math.Abs(a.Peak) && (a.Direction == Both || r.Deviation*float64(a.Direction) > 0) {
			a.Peak, a.PeakAt = r.Deviation, pt.At
		}
		a.Total.add(e.cfg.Kind, pt.At, e.length(pt.At), r.Observed, r.Expected)
		if pt.At >= a.Rang.To {
			e.worsen(a, r)
		}
	}
	strength, grave := e.strength()
	if strength > 1 && !a.Quiet {
		a.ReturnPeriod = max(a.ReturnPeriod, clampReturnPeriod(e.rule.Warn.Seconds()))
		if s := side(a.Direction); a.Cause == Deviation {
			b := e.Maxima[s].budgetOf(e.verdict.u[s], e.sides(), e.cadence.block)
			a.ReturnPeriod = max(a.ReturnPeriod, clampReturnPeriod(month.Seconds()/(b*float64(e.rule.Series))*float64(e.day)/daySeconds))
		}
	}
	if a.Strength = max(a.Strength, strength); grave {
		a.Severity = Critical
	}
	a.Lost = a.lost()
	if e.deviates(pt, r) {
		a.Active = e.after(pt.At)
	}
	e.bear(pt, r)
}

// strength is how far the open alert's statistic lies over its limit now, and
// whether over the critical one.
func (e *Evaluator) strength() (strength float64, critical bool) {
	switch e.Alert.Cause {
	case Silence:
		return e.Silence.Odds.strength(e, Silence)
	case Stuck:
		return e.Stuck.Odds.strength(e, Stuck)
	case Missing:
		return e.Absence.Odds.strength(e, Missing)
	case Step, Bound:
		return max(e.Alert.Strength, 1), false
	}
	s := side(e.Alert.Direction)
	return e.verdict.u[s] / e.warn[s], e.verdict.u[s] > e.critical[s]
}

// deviates tells whether the newest period is still what the open alert is
// about.
func (e *Evaluator) deviates(pt *baseline.Point, r *Reading) bool {
	switch e.Alert.Cause {
	case Missing:
		return !pt.Known
	case Silence:
		return pt.Known && pt.X == 0
	case Stuck:
		return e.Stuck.Run > 1
	case Step:
		return pt.Known && pt.X != e.Steps.Value
	case Bound:
		return pt.Known && e.beyond == e.Alert.Direction
	}
	if !pt.Known {
		return false
	}
	if strength, _ := e.strength(); strength > 1 {
		return true
	}
	if e.windowed() && e.Recent.Valid > 0 {
		if p := e.Recent.last(0); p.OK {
			return p.Z*float64(e.Alert.Direction) > 1.5
		}
	}
	return r.Deviation*float64(e.Alert.Direction) > 1
}

// follow judges whether the open alert goes on.
func (e *Evaluator) follow(pt *baseline.Point, ex *baseline.Expectation, r *Reading) Change {
	e.weigh(pt, r)
	if e.Alert.Quiet {
		return e.listen(pt, r)
	}
	var over bool
	switch e.Alert.Cause {
	case Silence:
		over = pt.X > 0
	case Stuck:
		over = e.Stuck.Run <= 1
	case Missing:
		over = true // the period came
	case Bound:
		over = e.beyond != e.Alert.Direction
	default:
		var adopted bool
		over, adopted = e.Closing.see(e, pt, ex)
		if adopted {
			return e.shut(pt, pt.At, "level_adopted")
		}
		if over {
			end := e.ago(pt.At, 2)
			if e.comingUp() {
				end = e.Alert.Active
			}
			end = max(e.after(e.Alert.Since), end)
			return e.shut(pt, end, "recovered")
		}
	}
	if over {
		return e.shut(pt, pt.At, "recovered")
	}
	return Updated
}

func (e *Evaluator) shut(pt *baseline.Point, end int64, reason string) Change {
	a := &e.Alert
	a.End, a.Closed, a.Reason = end, e.after(pt.At), reason
	e.Open = false
	e.Recent.restart()
	e.Bits = [2]uint64{}
	if reason != "level_adopted" {
		e.Beginning = nil
		e.remember(a)
	}
	return Closed
}

// Carry takes over what a refit would lose from the evaluator that it replaces:
// an alert that is open, so that a refit neither opens nor closes anything by
// itself, and what was told before.
func (e *Evaluator) Carry(old *Evaluator) {
	e.Alert, e.Open, e.Closing = old.Alert, old.Open, old.Closing
	e.Bits = old.Bits
	if !old.Open {
		e.Recent.Valid = min(e.Recent.Valid, old.Recent.Valid)
	}
	e.Known, e.Hushed, e.Probation, e.Former = old.Known, old.Hushed, old.Probation, old.Former
	if old.Regime >= e.Regime {
		e.Regime, e.Begun, e.Beginning = old.Regime, old.Begun, old.Beginning
	}
}
