package detect

import (
	"slices"

	"tinbell/core/baseline"
	"tinbell/core/timeline"
)

// novelty is something that was told once. What comes back soon after, or at the
// same time of day within about a week, is the same and does not ring again,
// unless it lasts much longer or is much stronger than it was.
type novelty struct {
	Key     noveltyKey
	Since   int64
	Raised  int64
	ToldEnd int64
	End     int64    // of its newest return
	Others  [3]int64 // newest returns at other times of day: a schedule that moved shows at several
	Cause   Cause
	Length  int64 // seconds
	Peak    float64
	Again   int     // how often it has come back
	Lost    float64 // of counts: rows that did not come, before any came late
}

type noveltyKey uint8

const (
	lowKey noveltyKey = iota // deviation and silence
	highKey
	missingKey
	stuckKey
	stepKey
)

func keyOf(a *Alert) noveltyKey {
	switch a.Cause {
	case Missing:
		return missingKey
	case Stuck:
		return stuckKey
	case Step:
		return stepKey
	}
	if a.Direction == High {
		return highKey
	}
	return lowKey
}

const (
	manyKnown  = 12
	manyHushed = 64
	daySeconds = 86400
)

// asked tells whether somebody gave the bounds: what lies beyond them rings each
// time.
func (e *Evaluator) asked() bool {
	return e.plainly() && (e.cfg.Method.Name == baseline.Fixed || e.cfg.Method.Width > 0)
}

// returned is what an opening alert repeats, the strongest of several; nil if it
// is new. Returns do not extend how long something counts as just told, only the
// week in which the same time of day does.
func (e *Evaluator) returned(a *Alert) (found *novelty) {
	near := int64(e.cadence.told) * e.day
	for i := range e.Known {
		k := &e.Known[i]
		if k.Key != keyOf(a) || found != nil && found.Peak > k.Peak {
			continue
		}
		slack := e.aboutThen()
		justTold := a.Since-k.ToldEnd <= near && k.Raised > 0
		sameHour := !e.dated && a.Since-k.End <= 8*daySeconds && (k.cameAt(a.Since, slack) || sameTime(a.Raised, k.Raised, slack))
		if justTold || sameHour {
			found = k
		}
	}
	return found
}

// aboutThen is how far apart two times of day may lie and be about the same, seconds.
func (e *Evaluator) aboutThen() int64 { return max(e.step, 5400) }

// cameAt tells whether it was told of, or came back, at the time of day of an instant.
func (k *novelty) cameAt(at, slack int64) bool {
	if sameTime(at, k.Since, slack) {
		return true
	}
	for _, other := range k.Others {
		if other != 0 && sameTime(at, other, slack) {
			return true
		}
	}
	return false
}

// rebound is the loss of rows just told of that an opening alert of too many may
// be the end of: what was held back comes.
func (e *Evaluator) rebound(a *Alert) *novelty {
	if e.cfg.Kind != timeline.Count || a.Cause != Deviation || a.Direction != High {
		return nil
	}
	for i := len(e.Known) - 1; i >= 0; i-- {
		if k := &e.Known[i]; k.Key == lowKey && k.Lost > 0 && a.Since-k.End <= e.day {
			return k
		}
	}
	return nil
}

// sameTime tells whether two instants lie at about the same time of day.
func sameTime(a, b, slack int64) bool {
	d := ((a-b)%daySeconds + daySeconds) % daySeconds
	return min(d, daySeconds-d) <= slack
}

// remember keeps a told alert, or counts a return.
func (e *Evaluator) remember(a *Alert) {
	end := max(a.Active, e.after(a.Since))
	if a.Quiet {
		if k := e.returned(a); k != nil {
			k.Again, k.End = k.Again+1, max(k.End, end)
			if k.Lost > 0 && a.Since-k.ToldEnd <= e.day { // of the same day: it all may come at its end
				k.Lost += max(a.lost(), 0)
			}
			if !k.cameAt(a.Since, e.aboutThen()) {
				k.Others = [3]int64{a.Since, k.Others[0], k.Others[1]}
			}
		} else if k := e.rebound(a); k != nil {
			// The same may come at this time of day again, with the loss before it.
			e.know(novelty{Key: highKey, Since: a.Since, ToldEnd: end, End: end, Length: end - a.Since, Peak: a.Strength})
		}
		e.Hushed = append(e.Hushed, timeline.Span{From: a.Since, To: end})
		if n := len(e.Hushed) - manyHushed; n > 0 {
			e.Hushed = slices.Delete(e.Hushed, 0, n)
		}
		return
	}
	if e.replaying || a.Cause == Bound { // bounds ring each time
		return
	}
	k := novelty{Key: keyOf(a), Cause: a.Cause, Since: a.Since, Raised: a.Raised, ToldEnd: end, End: end, Length: end - a.Since, Peak: a.Strength}
	if k.Key == lowKey && e.cfg.Kind == timeline.Count {
		k.Lost = a.lost()
	}
	e.know(k)
}

func (e *Evaluator) know(k novelty) {
	e.Known = append(e.Known, k)
	if n := len(e.Known) - manyKnown; n > 0 {
		e.Known = slices.Delete(e.Known, 0, n)
	}
}

// Returned is what the last Recurred was about: since when the alert deviated that
// told of it, how often it has come back, and the end of the newest return. ok is
// false where no alert did.
func (e *Evaluator) Returned() (since int64, times int, end int64, ok bool) {
	k := e.returned(&e.Alert)
	if k == nil || k.Raised == 0 {
		return 0, 0, 0, false
	}
	return k.Since, k.Again, k.End, true
}

// forgetNovelty takes an alert off the list: it goes on.
func (e *Evaluator) forgetNovelty(raised int64) {
	e.Known = slices.DeleteFunc(e.Known, func(k novelty) bool { return k.Raised == raised })
}

// Disown takes what lies in the spans off the list of what is known: a person
// said that it was a fault, and it rings when it comes back.
func (e *Evaluator) Disown(faults timeline.Mask) {
	e.Known = slices.DeleteFunc(e.Known, func(k novelty) bool { return faults.Touches(k.Since, k.ToldEnd) })
}

// listen follows what is not told: it is told after all where it lasts more than
// twice as long as before, or is half as strong again by the same rule; it ends with two
// ordinary periods.
func (e *Evaluator) listen(pt *baseline.Point, r *Reading) Change {
	a := &e.Alert
	k := e.returned(a)
	over := false
	if k != nil {
		over = a.Active-a.Since > 2*k.Length+max(6*3600, 6*e.step) ||
			a.Strength > 1.5*max(k.Peak, 1) && (k.Cause == a.Cause || k.Cause == "")
	} else if k = e.rebound(a); k != nil {
		over = a.Total.Off(High) > 1.3*k.Lost
	}
	if k == nil || over {
		a.Quiet, a.Raised = false, e.after(pt.At)
		if a.Strength > 1 {
			a.ReturnPeriod = max(a.ReturnPeriod, clampReturnPeriod(e.rule.Warn.Seconds()))
		}
		return Opened
	}
	if e.deviates(pt, r) {
		e.Closing.Good = 0
	} else if e.Closing.Good++; e.Closing.Good >= 2 {
		e.shut(pt, e.ago(pt.At, 1), "recovered")
		return Recurred
	}
	return None
}
