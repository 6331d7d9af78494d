package detect

import (
	"math"
	"math/bits"

	"tinbell/core/baseline"
	"tinbell/core/timeline"
)

// judge opens, follows and closes the series' alert after a known, unmasked
// period.
func (e *Evaluator) judge(pt *baseline.Point, ex *baseline.Expectation, r *Reading) Change {
	if e.rule.BandOnly {
		return None
	}
	for s := range 2 {
		bit := uint64(0)
		if e.verdict.told[s] > e.warn[s] {
			bit = 1
		}
		e.Bits[s] = e.Bits[s]<<1 | bit
	}
	stuck := e.stuckTells(pt, ex)
	silent := e.Silence.see(e, pt, ex) && !e.rule.SilenceOff
	if e.Open {
		return e.follow(pt, ex, r)
	}
	switch {
	case e.windowsTell(Low) || e.windowsTell(High):
		return e.openWindow(pt, r)
	case silent && e.rule.Direction != High:
		return e.open(pt, r, Alert{Cause: Silence, Direction: Low, Severity: Critical, Since: e.Silence.Since})
	case stuck:
		return e.open(pt, r, Alert{Cause: Stuck, Severity: Warning, Since: e.Stuck.Since})
	}
	return None
}

func (e *Evaluator) windowsTell(d Direction) bool {
	if e.rule.Direction != Both && e.rule.Direction != d {
		return false
	}
	s := side(d)
	if e.Bits[s]&1 == 0 {
		return false
	}
	window := uint64(math.MaxUint64)
	if e.rule.Of < 64 {
		window = 1<<e.rule.Of - 1
	}
	if bits.OnesCount64(e.Bits[s]&window) < e.rule.Persist {
		return false
	}
	return !e.daily || !e.Year.recurs(e.Last, s, e.warn[s])
}

func (e *Evaluator) openWindow(pt *baseline.Point, r *Reading) Change {
	d := Low
	if !e.windowsTell(Low) || (e.windowsTell(High) && e.verdict.told[high]/e.warn[high] > e.verdict.told[low]/e.warn[low]) {
		d = High
	}
	s := side(d)
	return e.open(pt, r, Alert{
		Cause: Deviation, Direction: d, Severity: Warning, Window: e.verdict.window[s],
		Since: e.onset(d, e.verdict.window[s], pt.At),
	})
}

// onset is the start of the first period of the window, reading back, from
// which on the series deviates in the alert's direction.
func (e *Evaluator) onset(d Direction, window int, at int64) int64 {
	since := at
	for k := range min(window, e.Recent.Valid) {
		if p := e.Recent.last(k); p.OK && p.Z*float64(d) > 1 {
			since = at - int64(k)*e.step
		}
	}
	return since
}

// open starts an alert, or continues the last one if it ended just before and
// says the same.
func (e *Evaluator) open(pt *baseline.Point, r *Reading, a Alert) Change {
	change := Opened
	last := e.Alert
	if last.Closed != 0 && last.Cause == a.Cause && last.Direction == a.Direction &&
		a.Since-last.End <= e.mergeGap() && last.Reason != "level_adopted" {
		a = last
		a.End, a.Closed, a.Reason = 0, 0, ""
		change = Reopened
	} else {
		a.Raised = pt.At + e.step
	}
	e.Alert, e.Open = a, true
	e.Closing = closing{}
	e.Closing.seed(e, pt.At)
	if change == Opened {
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
		if e.cfg.Kind == timeline.Count {
			a.Observed, a.Expected = a.Observed+r.Observed, a.Expected+r.Expected
		} else {
			n := float64(a.N)
			a.Observed, a.Expected = (a.Observed*n+r.Observed)/(n+1), (a.Expected*n+r.Expected)/(n+1)
		}
		a.N++
	}
	if a.Cause != Deviation {
		a.ReturnPeriod = max(a.ReturnPeriod, clampReturnPeriod(e.rule.Warn.Seconds()))
	} else if s := side(a.Direction); e.verdict.u[s] > e.warn[s] {
		u := e.verdict.u[s]
		b := e.Maxima[s].budgetOf(u, e.sides(), e.cadence.block)
		period := clampReturnPeriod(month.Seconds() / (b * float64(e.rule.Series)))
		a.ReturnPeriod = max(a.ReturnPeriod, period, e.rule.Warn.Seconds())
		if u > e.critical[s] {
			a.Severity = Critical
		}
	}
	e.bear(pt, r)
}

// follow judges whether the open alert goes on.
func (e *Evaluator) follow(pt *baseline.Point, ex *baseline.Expectation, r *Reading) Change {
	e.weigh(pt, r)
	var over bool
	switch e.Alert.Cause {
	case Silence:
		over = pt.X > 0
	case Stuck:
		over = e.Stuck.Run <= 1
	case Missing:
		over = true // the period came
	default:
		var adopted bool
		over, adopted = e.Closing.see(e, pt, ex)
		if adopted {
			return e.close(pt, pt.At, "level_adopted")
		}
		if over {
			end := max(e.Alert.Since+e.step, pt.At-2*e.step)
			return e.close(pt, end, "recovered")
		}
	}
	if over {
		return e.close(pt, pt.At, "recovered")
	}
	return Updated
}

func (e *Evaluator) close(pt *baseline.Point, end int64, reason string) Change {
	e.Alert.End, e.Alert.Closed, e.Alert.Reason = end, pt.At+e.step, reason
	e.Open = false
	e.Recent.restart()
	e.Bits = [2]uint64{}
	return Closed
}

// Carry takes over an alert that is open from the evaluator that a refit
// replaces, so that a refit neither opens nor closes anything by itself.
func (e *Evaluator) Carry(old *Evaluator) {
	e.Alert, e.Open, e.Closing = old.Alert, old.Open, old.Closing
	e.Bits = old.Bits
	if !old.Open {
		e.Recent.Valid = min(e.Recent.Valid, old.Recent.Valid)
	}
}
