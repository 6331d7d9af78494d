package watch

import (
	"fmt"
	"math"
	"strings"
	"time"

	"tinbell/core/detect"
	"tinbell/core/timeline"
	"tinbell/internal/record"
	"tinbell/internal/words"
)

// AlertOf makes the stored form of a series' alert.
func (v *Subject) AlertOf(series record.Series, a detect.Alert) record.Alert {
	row := record.Alert{
		MonitorID: v.Monitor.ID, SeriesID: series.ID, Segment: series.Segment,
		Monitor: v.Monitor.Name, Metric: v.Metric.Name, Measure: v.Metric.Measure, Comparison: v.Metric.Comparison,
		Dataset: v.Metric.Dataset,
		Zone:    v.Metric.Zone, Unit: v.Metric.Unit, PeriodSeconds: v.Metric.PeriodSeconds,
		Cause: a.Cause, Direction: a.Direction.String(), Severity: a.Severity,
		Since: time.Unix(a.Since, 0).UTC(), RaisedAt: time.Unix(a.Raised, 0).UTC(),
		EndedAt: unix(a.End), ClosedAt: unix(a.Closed), CloseReason: a.Reason,
		Peak: a.Peak, PeakAt: unix(a.PeakAt), RangTo: unix(a.Rang.To), Observed: a.Rang.Observed, Expected: a.Rang.Expected,
		WorstFrom: unix(a.Worst.From), WorstTo: unix(a.Worst.To), WorstObserved: a.Worst.Observed, WorstExpected: a.Worst.Expected,
		OnsetSpread: a.Onset.Spread, Effect: a.Onset.Effect, EffectError: a.Onset.Error,
		Owner:        v.Monitor.Settings.For(series.Segment).Owner,
		ReturnPeriod: a.ReturnPeriod, Looks: a.Looks, Strength: a.Strength, Returns: a.Returns, ReturnedAt: unix(a.Returned),
	}
	row.Planned = a.Cause != detect.Overdue && v.plannedAt(series.ID, a.Since, a.Raised)
	row.Sentence, row.Figures = v.sentence(row), v.figures(row)
	return row
}

// plannedAt tells whether a stretch lies under a planned event, known or not.
func (v *Subject) plannedAt(series, from, to int64) bool {
	for _, x := range v.Exclusions[series] {
		if x.Planned && x.Span.From < to && x.Span.To > from {
			return true
		}
	}
	return false
}

// sentence says in one line what is wrong: over the stretch that rang and, where
// it has become clearly worse, how much.
func (v *Subject) sentence(a record.Alert) string {
	who := a.Dataset
	if a.Segment != "" {
		who = a.Segment
	}
	unit := v.unit()
	if v.Metric.Comparison != "" && a.Measure == record.MeasureDrift && detect.Cause(a.Cause) == detect.Deviation {
		return driftSentence(a)
	}
	switch detect.Cause(a.Cause) {
	case detect.Overdue:
		return v.overdueSentence(a)
	case detect.Stuck:
		return fmt.Sprintf("%s repeats the same value of %s again and again", who, unit)
	case detect.Missing:
		return fmt.Sprintf("%s: %s did not come when it was due", who, unit)
	case detect.Bound:
		if v.Metric.Kind == timeline.Count {
			return fmt.Sprintf("%s sends %s %s, %s", who, v.say(a.Observed), unit, v.bound(a))
		}
		return fmt.Sprintf("%s: %s is %s, %s", who, unit, v.say(a.Observed), v.bound(a))
	}
	if v.Metric.Kind == timeline.Count {
		said := v.counted(a.Observed, a.Expected)
		text := fmt.Sprintf("%s sends %s", who, said)
		if none(a.Observed, a.Expected) {
			text = fmt.Sprintf("%s sends %s %s%s where none were expected", who, words.Number(a.Observed), unit, v.within(a.Since, a.RangTo))
		} else if a.Observed > 0 && a.Expected > 0 {
			observed, expected := words.NumbersApart(a.Observed, a.Expected)
			text += fmt.Sprintf(" (%s%s, expected %s)", observed, v.within(a.Since, a.RangTo), expected)
		} else {
			text += v.within(a.Since, a.RangTo)
		}
		if worst := v.counted(a.WorstObserved, a.WorstExpected); v.worse(a) && worst != said {
			text += ", at worst " + short(worst, unit)
		}
		return text
	}
	observed, expected := v.apart(a.Observed, a.Expected)
	text := fmt.Sprintf("%s: %s is %s, expected %s", who, unit, observed, expected)
	if worst := v.say(a.WorstObserved); v.worse(a) && worst != v.say(a.Observed) {
		text += ", at worst " + worst
	}
	return text
}

// bound says which of the bounds that a person gave a value lies beyond.
func (v *Subject) bound(a record.Alert) string {
	s := v.Monitor.Settings.For(a.Segment)
	said := "above"
	edge, share := s.Highest, s.Rise
	if a.Direction == "low" {
		said, edge, share = "below", s.Lowest, s.Fall
	}
	if edge != nil && (said == "below" && a.Observed < *edge || said == "above" && a.Observed > *edge) {
		return said + " the bound of " + v.say(*edge)
	}
	earlier := map[string]string{"": "the day before", "day": "the day before", "week": "the week before",
		"previous": "the period before"}[s.Than]
	return fmt.Sprintf("more than %s %s %s", words.Percent(share), said, earlier)
}

// figures says of the stretch that rang, and of the worst since, what came and what
// was expected.
func (v *Subject) figures(a record.Alert) string {
	switch detect.Cause(a.Cause) {
	case detect.Overdue, detect.Stuck, detect.Missing:
		return ""
	}
	say := func(from time.Time, to *time.Time, observed, expected float64) string {
		x, y := v.apart(observed, expected)
		switch v.Metric.Kind {
		case timeline.Count:
			return fmt.Sprintf("%s %s %s, expected %s", x, v.unit(), v.stretch(from, to), y)
		}
		return fmt.Sprintf("%s %s, expected %s", x, v.stretch(from, to), y)
	}
	text := say(a.Since, a.RangTo, a.Observed, a.Expected)
	if v.worse(a) {
		text += "; at worst " + say(*a.WorstFrom, a.WorstTo, a.WorstObserved, a.WorstExpected)
	}
	return text
}

// worse tells whether a later stretch was clearly worse than the one that rang: by
// a tenth.
func (v *Subject) worse(a record.Alert) bool {
	if a.WorstFrom == nil || a.WorstFrom.Equal(a.Since) {
		return false
	}
	off, worst := a.Observed-a.Expected, a.WorstObserved-a.WorstExpected
	if v.Metric.Kind == timeline.Count && a.Expected > 0 && a.WorstExpected > 0 &&
		math.Abs(worst)/a.WorstExpected < math.Abs(off)/a.Expected {
		return false // more rows are missing, and fewer of those that were due
	}
	return math.Abs(worst) > 1.1*math.Abs(off)
}

func (v *Subject) unit() string {
	if v.Metric.Unit != "" {
		return v.Metric.Unit
	}
	return strings.ReplaceAll(v.Metric.Measure, "_", " ")
}

// none tells whether next to nothing was expected of what came: how many times as much says
// nothing.
func none(observed, expected float64) bool { return expected < 0.5 && observed > max(20*expected, 0) }

// counted says how a count differs from what was expected.
func (v *Subject) counted(observed, expected float64) string {
	unit := v.unit()
	if none(observed, expected) {
		return fmt.Sprintf("%s %s where none were expected", words.Number(observed), unit)
	}
	switch change := observed/expected - 1; {
	case observed == 0:
		return fmt.Sprintf("no %s; %s were expected", unit, words.Number(expected))
	case change < 0:
		return fmt.Sprintf("%s fewer %s than expected", words.Percent(-change), unit)
	case change > 1:
		return fmt.Sprintf("%.1f times the %s expected", change+1, unit)
	default:
		return fmt.Sprintf("%s more %s than expected", words.Percent(change), unit)
	}
}

// short leaves out what the sentence before it says already.
func short(counted, unit string) string {
	counted, _, _ = strings.Cut(counted, "; ")
	counted = strings.TrimSuffix(counted, " where none were expected")
	counted = strings.TrimSuffix(strings.TrimSuffix(counted, " than expected"), " expected")
	counted = strings.TrimSuffix(strings.TrimSuffix(counted, " "+unit), " the")
	if counted == "no" {
		return "none"
	}
	return counted
}

// say writes a value of the metric.
func (v *Subject) say(x float64) string {
	switch v.Metric.Kind {
	case timeline.Share:
		return words.Percent(x)
	case timeline.Duration:
		return words.Seconds(x)
	}
	return words.Number(x)
}

// apart writes an observed and an expected value so that they differ.
func (v *Subject) apart(observed, expected float64) (string, string) {
	switch v.Metric.Kind {
	case timeline.Share:
		return words.Apart(observed, expected)
	case timeline.Duration:
		return words.SecondsApart(observed, expected)
	}
	return words.NumbersApart(observed, expected)
}

// stretch says when, by the dataset's clocks.
func (v *Subject) stretch(from time.Time, to *time.Time) string {
	switch {
	case to == nil && v.Grid.Long():
		return "since " + v.period(from)
	case to == nil:
		return "since " + from.In(v.Grid.Zone).Format("Mon 15:04")
	}
	begin, end := from.In(v.Grid.Zone), to.In(v.Grid.Zone)
	switch {
	case v.Grid.Long() && !to.After(v.Grid.Next(from)):
		return "in " + v.period(from)
	case v.Grid.Long():
		return "from " + v.period(from) + " to " + v.period(end.Add(-time.Hour))
	case v.Grid.Daily() && to.Sub(from) < 36*time.Hour:
		return "on " + begin.Format("Mon 2 Jan")
	case v.Grid.Daily():
		return "from " + begin.Format("Mon 2 Jan") + " to " + end.Add(-time.Hour).Format("Mon 2 Jan")
	case begin.YearDay() == end.YearDay():
		return "from " + begin.Format("Mon 15:04") + " to " + end.Format("15:04")
	}
	return "from " + begin.Format("Mon 15:04") + " to " + end.Format("Mon 15:04")
}

// period names the one longer than a day that an instant lies in.
func (v *Subject) period(at time.Time) string {
	start := v.Grid.Floor(at).In(v.Grid.Zone)
	switch v.Grid.Period {
	case timeline.Month:
		return start.Format("January 2006")
	case timeline.Year:
		return start.Format("2006")
	}
	return "the week of " + start.Format("2 January 2006")
}

// within says how long a stretch is.
func (v *Subject) within(from time.Time, to *time.Time) string {
	if to == nil {
		return ""
	}
	if v.Grid.Long() {
		periods := int(math.Round(float64(to.Sub(from)) / float64(v.Grid.Period)))
		return " in " + words.Plural(max(periods, 1), v.Grid.Unit())
	}
	return " in " + words.Duration(to.Sub(from))
}

// driftSentence says what of a dataset's rows has changed; Observed is in limits.
func driftSentence(a record.Alert) string {
	far := "over the limit"
	if a.Observed > 1.05 {
		far = words.Number(a.Observed) + " times the limit"
	}
	switch a.Segment {
	case record.DriftTogether:
		return fmt.Sprintf("Rows of %s can be told from the reference's: separability is %s", a.Dataset,
			strings.Replace(far, "the limit", "its limit", 1))
	case record.DriftPair:
		return fmt.Sprintf("Two features of %s go together in another way: %s", a.Dataset, far)
	case record.DriftRanking:
		return fmt.Sprintf("The model of %s ranks what came true worse than it did: %s", a.Dataset, far)
	}
	return fmt.Sprintf("%s has drifted: %s", a.Segment, far)
}

// overdueSentence tells of a load that did not arrive; Observed is the gap
// since the load before.
func (v *Subject) overdueSentence(a record.Alert) string {
	if a.ClosedAt != nil {
		return fmt.Sprintf("%s was loaded %s late", a.Dataset, words.Seconds(a.Observed-a.Expected))
	}
	return fmt.Sprintf("%s has had no load since %s; one was due at %s", a.Dataset,
		a.Since.Add(-time.Duration(a.Expected)*time.Second).In(v.Grid.Zone).Format("Mon 15:04"), a.Since.In(v.Grid.Zone).Format("15:04"))
}
