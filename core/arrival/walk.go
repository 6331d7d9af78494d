package arrival

import (
	"math"
	"sort"
	"time"

	"tinbell/core/detect"
)

// Wait says when the load after last is usually there, and from when on it is overdue under a
// rule: where the monitor's own past rang more than stated, later by the rule's caution.
func (p *Pattern) Wait(last int64, rule detect.Rule) (expected, deadline int64) {
	rule = rule.Normal()
	expected, deadline = p.Due(last, p.Confidence(detect.Budget(rule.Warn, rule.Series)))
	return expected, expected + int64(float64(deadline-expected)*rule.Caution.Of(detect.Overdue))
}

// Overdue judges one gap between loads: an alert that opens at the deadline and
// closes with the next load (0 while none has come). ok is false if the load
// was in time.
func (p *Pattern) Overdue(last, next, now int64, rule detect.Rule) (a detect.Alert, ok bool) {
	rule = rule.Normal()
	expected, deadline := p.Wait(last, rule)
	until := now
	if next != 0 {
		until = next
	}
	if until <= deadline {
		return a, false
	}
	a = detect.Alert{
		Cause: detect.Overdue, Direction: detect.High, Severity: detect.Warning,
		Since: expected, Raised: deadline, PeakAt: deadline, ReturnPeriod: rule.Warn.Seconds(),
		Rang: detect.Stretch{From: expected, To: deadline, Periods: 1, Observed: float64(until - last),
			Expected: float64(expected - last)},
		Onset: detect.Onset{At: expected, Spread: float64(deadline-expected) / 2},
	}
	a.Peak = float64(until-expected) / max(float64(deadline-expected), 60)
	rule.Warn = rule.Critical
	_, worse := p.Wait(last, rule)
	if late := max(worse, deadline+(deadline-expected)); until > late {
		a.Severity, a.ReturnPeriod = detect.Critical, rule.Critical.Seconds()
	}
	if next != 0 {
		a.End, a.Closed, a.Reason = next, next, "recovered"
	}
	return a, true
}

// Walk gives the overdue alerts of a stretch, relearning every refit from the
// loads before; muted says whether an instant is under a planned event.
func Walk(loads []int64, zone *time.Location, rule detect.Rule, from, to int64, refit time.Duration,
	muted func(int64) bool) []detect.Alert {
	var alerts []detect.Alert
	eachGap(loads, zone, from, to, refit, func(p *Pattern, last, next int64) {
		if a, ok := p.Overdue(last, next, to, rule); ok && a.Raised >= from && !muted(a.Raised) {
			alerts = append(alerts, a)
		}
	})
	return alerts
}

// Trial is how often loads were overdue in the last third of a stretch by patterns from what lay
// before.
type Trial struct {
	From, To int64
	Rung     int     // occasions; what rings again within a day of the last is one with it
	Logs     float64 // sum of ln of how far beyond the deadline, over the wait for it
}

// Try walks the last third of the loads. excused says of a time without loads that it was known to
// be a fault, or planned.
func Try(loads []int64, zone *time.Location, rule detect.Rule, refit time.Duration, excused func(from, to int64) bool) Trial {
	if len(loads) < 2 {
		return Trial{}
	}
	first, last := loads[0], loads[len(loads)-1]
	t := Trial{From: first + (last-first)*2/3, To: last}
	rule.Caution = detect.Caution{}
	over := t.From - 2*86400
	for _, a := range Walk(loads, zone, rule, t.From, t.To, refit, func(int64) bool { return false }) {
		if a.Closed == 0 || excused(a.Since, a.End) {
			continue
		}
		if a.Raised-over > 86400 {
			t.Rung++
			t.Logs += math.Log(max(a.Peak, 1))
		}
		over = a.End
	}
	return t
}

// Awaited is what was known after a load about the next one: when it was expected,
// and from when on it was overdue. Unix seconds.
type Awaited struct{ Last, Expected, Deadline int64 }

// Waits gives the waits of a stretch, ascending, the first for the last load
// before it, as Walk judges them.
func Waits(loads []int64, zone *time.Location, rule detect.Rule, from, to int64, refit time.Duration) []Awaited {
	rule = rule.Normal()
	var waits []Awaited
	eachGap(loads, zone, from, to, refit, func(p *Pattern, last, _ int64) {
		expected, deadline := p.Wait(last, rule)
		waits = append(waits, Awaited{last, expected, deadline})
	})
	return waits
}

// eachGap hands over the gaps between loads of a stretch, with the pattern known
// when each began; next is 0 for the one that had not ended.
func eachGap(loads []int64, zone *time.Location, from, to int64, refit time.Duration, do func(p *Pattern, last, next int64)) {
	var pattern *Pattern
	due := from
	for i := sort.Search(len(loads), func(i int) bool { return loads[i] >= from }); i <= len(loads); i++ {
		if i == 0 {
			continue
		}
		next := int64(0)
		if i < len(loads) {
			next = loads[i]
		}
		if next > to {
			next = 0
		}
		if pattern == nil || loads[i-1] >= due {
			if fresh, err := Learn(loads[:i], zone); err == nil {
				pattern = fresh
			}
			due = loads[i-1] + int64(refit.Seconds())
		}
		if pattern != nil {
			do(pattern, loads[i-1], next)
		}
		if next == 0 {
			break
		}
	}
}
