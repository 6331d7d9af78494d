// Package replay walks configurations forward over the past, so that nothing from
// the future leaks in: for alerts, for limits held out, for what to ask about a
// past, for studies of a series; and it holds the simple rules that people would
// use instead, for comparison.
package replay

import (
	"errors"
	"math"
	"sort"
	"time"

	"tinbell/core/baseline"
	"tinbell/core/detect"
	"tinbell/core/timeline"
)

// Exclusion is a stretch of history to leave out of learning, from the moment
// it was known: a labelled fault, or (Planned) an announced event, which is
// neither judged if it was known in time; or, where it Widens the band, judged
// by the wider one. What Lasts is a change that stays: the level goes on from
// where the stretch left it.
type Exclusion struct {
	Span    timeline.Span
	Known   int64 // Unix seconds
	Planned bool
	Widens  bool
	Lasts   bool
	// Ordinary: somebody looked at it and said that it is no fault. It is left out
	// of nothing.
	Ordinary bool
}

// Mask gives what is left out of a fit at the instant.
func Mask(exclusions []Exclusion, at int64) timeline.Mask {
	var spans, lasting, ordinary []timeline.Span
	for _, x := range exclusions {
		switch {
		case x.Known > at:
		case x.Ordinary:
			ordinary = append(ordinary, x.Span)
		case x.Lasts:
			lasting = append(lasting, x.Span)
		default:
			spans = append(spans, x.Span)
		}
	}
	return timeline.NewMask(spans...).Lasting(lasting...).Ordinary(ordinary...)
}

// Faults gives the spans of the past that people called faults by the instant.
func Faults(exclusions []Exclusion, at int64) timeline.Mask {
	var spans []timeline.Span
	for _, x := range exclusions {
		if x.Known <= at && !x.Planned && !x.Lasts && !x.Ordinary {
			spans = append(spans, x.Span)
		}
	}
	return timeline.NewMask(spans...)
}

// MarkOf says how a period is judged: a planned event that was known at its end
// mutes it.
func MarkOf(exclusions []Exclusion, from, to int64) timeline.Mark {
	mark := timeline.Judged
	for _, x := range exclusions {
		if x.Known <= to && x.Span.From < to && x.Span.To > from {
			if x.Lasts {
				return timeline.Lasting
			}
			switch {
			case x.Widens && mark == timeline.Judged:
				mark = timeline.Widened
			case x.Planned:
				mark = timeline.Masked
			}
		}
	}
	return mark
}

// RefitEvery is how often arrival patterns are learned anew.
const RefitEvery = 7 * 24 * time.Hour

// RefitAfter is how long a baseline with that much history is kept before it is
// chosen anew: until there is half as much again, at least a week and at most
// four.
// The live service and walks do the same; in between, levels, shapes and
// thresholds go on learning with each sample.
func RefitAfter(history time.Duration) time.Duration {
	return min(max(history/2, 7*24*time.Hour), 28*24*time.Hour)
}

// Job is one series to walk through.
type Job struct {
	Config     baseline.Config
	Rule       detect.Rule
	History    []timeline.Sample // dense, ascending
	Exclusions []Exclusion
	From       int64                        // alerts are raised from here on; earlier samples are only learned from
	Read       func(detect.Reading)         // called for each judged period; may be nil
	Visit      func(int, *detect.Evaluator) // called before each judged period; may be nil
}

// Walk replays a job and gives its alerts in order of raising, the last one
// perhaps open. A baseline is fitted when judging starts, again whenever
// RefitAfter has passed, and when a label or event about the past becomes
// known, each time from what was known by then. While the history is too short
// for a baseline nothing is judged; a series that never gets there returns
// baseline.TooShort.
func Walk(job Job) ([]detect.Alert, error) {
	alerts, _, err := WalkOn(job)
	return alerts, err
}

// WalkOn is Walk that also gives the evaluator as it stands at the end, nil if
// there was never enough history.
func WalkOn(job Job) ([]detect.Alert, *detect.Evaluator, error) {
	i := sort.Search(len(job.History), func(i int) bool { return job.History[i].At >= job.From })
	var (
		alerts    []detect.Alert
		evaluator *detect.Evaluator
		fitted    int64 = math.MinInt64
		due       int64 = math.MinInt64
		err       error
	)
	for ; i < len(job.History); i++ {
		s := job.History[i]
		if s.At >= due || job.learned(fitted, s.At) {
			mask := Mask(job.Exclusions, s.At)
			if evaluator != nil {
				if Settle(evaluator, job.Exclusions, s.At) {
					alerts = Note(alerts, evaluator, detect.Closed)
				}
				evaluator.Disown(Faults(job.Exclusions, s.At))
			}
			fresh, fitErr := detect.Refit(evaluator, job.Config, job.Rule, job.History[:i], mask)
			var short baseline.TooShort
			if fitErr != nil && !errors.As(fitErr, &short) {
				return nil, nil, fitErr
			}
			fitted = s.At
			due = s.At + int64(RefitAfter(time.Duration(s.At-job.History[0].At)*time.Second).Seconds())
			if fitErr != nil {
				err = fitErr
				due = s.At + 86400
				continue
			}
			err, evaluator = nil, fresh
		}
		if evaluator == nil {
			continue
		}
		if _, regime := evaluator.RegimeDue(); regime > fitted {
			due = min(due, regime)
		}
		if job.Visit != nil {
			job.Visit(i, evaluator)
		}
		r := evaluator.Step(s, MarkOf(job.Exclusions, s.At, job.Config.Grid.End(s.At)))
		alerts = Note(alerts, evaluator, r.Change)
		if job.Read != nil {
			job.Read(r)
		}
	}
	return alerts, evaluator, err
}

// Settle closes an evaluator's open alert if by now it is known that its level
// stays.
func Settle(e *detect.Evaluator, exclusions []Exclusion, at int64) bool {
	a, open := e.OpenAlert()
	for _, x := range exclusions {
		if open && x.Lasts && x.Known <= at && x.Span.From <= a.Since && x.Span.To > a.Since {
			e.Adopt(at)
			return true
		}
	}
	return false
}

// learned tells whether something about the past became known between two
// instants.
func (j *Job) learned(after, at int64) bool {
	for _, x := range j.Exclusions {
		// What is ordinary is learned from already; the next fit knows it.
		if !x.Ordinary && x.Known > after && x.Known <= at && x.Span.From < at {
			return true
		}
	}
	return false
}

// Note keeps a list of alerts up to date with what a step did.
func Note(alerts []detect.Alert, e *detect.Evaluator, change detect.Change) []detect.Alert {
	a, _ := e.OpenAlert()
	switch change {
	case detect.Opened:
		return append(alerts, a)
	case detect.Recurred:
		since, times, end, ok := e.Returned()
		for i := range alerts {
			if ok && alerts[i].Since == since {
				alerts[i].Returns, alerts[i].Returned = times, end
			}
		}
	case detect.Updated, detect.Reopened, detect.Closed:
		if n := len(alerts); n > 0 {
			alerts[n-1] = a
		} else {
			alerts = append(alerts, a)
		}
	}
	return alerts
}
