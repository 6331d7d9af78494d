package arrival

import (
	"sort"
	"time"

	"tinbell/core/detect"
)

// Overdue judges one gap between loads: an alert that opens at the deadline and
// closes with the next load (0 while none has come). ok is false if the load
// was in time.
func (p *Pattern) Overdue(last, next, now int64, rule detect.Rule) (a detect.Alert, ok bool) {
	rule = rule.Normal()
	expected, deadline := p.Due(last, p.Confidence(detect.Budget(rule.Warn, rule.Series)))
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
	_, worse := p.Due(last, p.Confidence(detect.Budget(rule.Critical, rule.Series)))
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

// Wait is what was known after a load about the next one: when it was expected,
// and from when on it was overdue. Unix seconds.
type Wait struct{ Last, Expected, Deadline int64 }

// Waits gives the waits of a stretch, ascending, the first for the last load
// before it, as Walk judges them.
func Waits(loads []int64, zone *time.Location, rule detect.Rule, from, to int64, refit time.Duration) []Wait {
	rule = rule.Normal()
	var waits []Wait
	eachGap(loads, zone, from, to, refit, func(p *Pattern, last, _ int64) {
		expected, deadline := p.Due(last, p.Confidence(detect.Budget(rule.Warn, rule.Series)))
		waits = append(waits, Wait{last, expected, deadline})
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
