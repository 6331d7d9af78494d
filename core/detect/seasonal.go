package detect

import (
	"math"
	"math/bits"

	"tinbell/core/baseline"
	"tinbell/core/timeline"
)

// seasonal judges a series by its level and weekly shape.
type seasonal struct{ *Evaluator }

func (e seasonal) peek(pt *baseline.Point, s timeline.Sample) Reading {
	ex := e.expect(pt)
	return e.read(pt, &ex, s.Value)
}

func (e seasonal) explain(s timeline.Sample) []baseline.Part {
	pt := e.Model.NewPoint(s, e.slotter.At(s.At), &e.cfg, timeline.Judged)
	return e.Model.Explain(e.expect(&pt), e.rowsOr(pt.Rows))
}

// take is the whole of evaluation: read, judge, learn.
func (e seasonal) take(pt *baseline.Point, observed float64) Reading {
	if e.turnBlock(pt) {
		e.growUp()
	}
	if e.Moved.N > 0 && !pt.Lasting {
		e.moveLevel()
	}
	var ex baseline.Expectation
	e.expectInto(&ex, pt)
	r := Reading{At: pt.At, Observed: math.NaN()}
	if !e.replaying {
		r = e.read(pt, &ex, observed)
	}
	e.Last = pt.At
	if e.Model.Empty() {
		e.EmptyAt = pt.At
	}
	if pt.Lasting && pt.Known {
		e.move(pt, &ex)
	}
	if pt.Masked || !pt.Known {
		e.Recent.push(&point{Level: e.Model.Level()})
		e.Bits[low], e.Bits[high] = e.Bits[low]<<1, e.Bits[high]<<1
		if pt.Masked {
			e.Silence.Odds.end(false)
			e.Absence.end(false)
			e.Stuck.clear()
		} else if !pt.Holiday && pt.Rows != timeline.NoRows {
			r.Change = e.miss(pt)
		}
		return r
	}
	e.InBlock++
	p := pointOf(e.Model, &ex, pt.X)
	if e.rule.Smooth > 1 {
		e.smooth(&p)
	}
	e.Recent.push(&p)
	if e.idle {
		e.verdict = silentVerdict
	} else {
		e.Recent.judge(&e.cadence, e.Model.Family == baseline.Mult, &e.Scales, e.effect(&ex), e.sampling, &e.verdict)
	}
	if e.dated && (!e.replaying || e.calibrating) {
		e.Year.note(pt.At, e.verdict.u)
	}
	learns, counts := e.learning(), !e.hushed()
	e.Absence.arrived(e.Evaluator, pt, learns, counts)
	e.Stuck.see(e.Evaluator, pt, &ex, counts)
	e.Silence.see(e.Evaluator, pt, &ex, learns, counts)
	if e.calibrating {
		if !pt.Holiday {
			if pt.At >= e.bandFrom {
				e.Band.Add(e.Model.Residual(&ex, pt.X))
			}
			e.Model.Learn(&ex, pt.X)
		}
		return r
	}
	e.Beginning.see(&pt.Slot, pt.X, ex.Exposure)
	r.Change = e.tell(pt, &ex, &r)
	if r.Change == Closed && e.Alert.Reason == "level_adopted" {
		e.expectInto(&ex, pt) // what it is now, to learn from
	}
	if !e.hushed() && !e.settling() {
		for s := range 2 {
			e.Maxima[s].see(&e.verdict, s)
		}
	}
	if e.Former.Until > 0 && !pt.Holiday {
		e.goBack(pt, ex.Mu)
	}
	if !e.Open && !pt.Holiday {
		e.Band.Add(e.Model.Residual(&ex, pt.X))
		e.Model.Learn(&ex, pt.X)
	}
	return r
}

// learning tells whether rules count what is usual: not under an alert, and not
// where a history is gone through again that was counted before.
func (e *Evaluator) learning() bool {
	return e.calibrating || !e.replaying && (!e.Open || e.Alert.Quiet)
}

// hushed tells whether something goes on that is known and not told again.
func (e *Evaluator) hushed() bool { return e.Open && e.Alert.Quiet }

// settling tells whether a new level was adopted lately: what deviates from it
// is learned from and not told, unless it is far beyond what a level that is not yet
// well known explains.
func (e *Evaluator) settling() bool { return e.Last < e.Probation }

// settleLimit is how many times its limit a statistic must reach while a new level
// settles: twice at first, a fifth more at the end.
func (e *Evaluator) settleLimit() float64 {
	if !e.settling() {
		return 1
	}
	return 1.2 + 0.8*min(float64(e.Probation-e.Last)/float64(e.probation()), 1)
}

// tell opens, follows and closes the series' alert after a known, unmasked
// period.
func (e seasonal) tell(pt *baseline.Point, ex *baseline.Expectation, r *Reading) Change {
	if e.rule.BandOnly {
		return None
	}
	for s := range 2 {
		bit := uint64(0)
		if e.verdict.told[s] > e.settleLimit()*e.warn[s] {
			bit = 1
		}
		e.Bits[s] = e.Bits[s]<<1 | bit
	}
	if e.Open && !e.overturned(pt) {
		return e.follow(pt, ex, r)
	}
	switch {
	case e.beginning():
		return None
	case e.windowsTell(Low) || e.windowsTell(High):
		return e.openWindow(pt, r)
	case e.rule.Direction != High && e.Silence.tells(e.Evaluator):
		return e.open(pt, r, Alert{Cause: Silence, Direction: Low, Severity: Warning, Since: e.Silence.Odds.Since})
	case e.Stuck.tells(e.Evaluator):
		return e.open(pt, r, Alert{Cause: Stuck, Severity: Warning, Since: e.Stuck.Since})
	}
	return None
}

// overturned ends what is followed without being told where the series deviates to the other
// side: of days and longer periods it would hide that for as many of them as it takes to end.
func (e seasonal) overturned(pt *baseline.Point) bool {
	if !e.dated || !e.hushed() || e.Alert.Cause != Deviation || e.Alert.Direction == Both || !e.windowsTell(-e.Alert.Direction) {
		return false
	}
	bits, valid := e.Bits, e.Recent.Valid
	e.shut(pt, pt.At, "recovered")
	e.Bits, e.Recent.Valid = bits, valid
	return true
}

// miss takes a period that was due and did not come.
func (e *Evaluator) miss(pt *baseline.Point) Change {
	e.InBlock++
	e.Absence.missed(e, pt, e.learning())
	if e.calibrating {
		return None
	}
	r := Reading{At: pt.At, Observed: math.NaN()}
	switch {
	case e.hushed():
		e.weigh(pt, &r)
		return e.listen(pt, &r)
	case e.Open || !e.Absence.tells(e):
		return None
	}
	return e.open(pt, &r, Alert{Cause: Missing, Severity: Warning, Since: e.Absence.Odds.Since})
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
	return !e.dated || !e.Year.recurs(e.Last, s, e.warn[s], e.verdict.told[s])
}

func (e *Evaluator) openWindow(pt *baseline.Point, r *Reading) Change {
	d := Low
	if !e.windowsTell(Low) || (e.windowsTell(High) && e.verdict.told[high]/e.warn[high] > e.verdict.told[low]/e.warn[low]) {
		d = High
	}
	s := side(d)
	if e.settling() && e.explained(d, e.verdict.window[s]) {
		return None
	}
	onset, rang := e.began(d, e.verdict.window[s], pt.At)
	return e.open(pt, r, Alert{
		Cause: Deviation, Direction: d, Severity: Warning, Window: e.verdict.window[s], Since: onset.At, Onset: onset, Rang: rang,
	})
}
