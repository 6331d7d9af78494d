package watch

import (
	"fmt"
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
		Monitor: v.Monitor.Name, Metric: v.Metric.Name, Measure: v.Metric.Measure, Comparison: v.Metric.Comparison, Dataset: v.Metric.Dataset,
		Zone: v.Metric.Zone, Unit: v.Metric.Unit, PeriodSeconds: v.Metric.PeriodSeconds,
		Cause: string(a.Cause), Direction: a.Direction.String(), Severity: string(a.Severity),
		Since: time.Unix(a.Since, 0).UTC(), RaisedAt: time.Unix(a.Raised, 0).UTC(),
		EndedAt: unix(a.End), ClosedAt: unix(a.Closed), CloseReason: a.Reason,
		Peak: a.Peak, PeakAt: unix(a.PeakAt), Observed: a.Observed, Expected: a.Expected,
		ReturnPeriod: a.ReturnPeriod, Looks: a.Looks, Strength: a.Strength, Returns: a.Returns, ReturnedAt: unix(a.Returned),
	}
	row.Planned = a.Cause != detect.Overdue && v.plannedAt(series.ID, a.Since, a.Raised)
	row.Sentence = v.sentence(row)
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

// sentence says in one line what is wrong.
func (v *Subject) sentence(a record.Alert) string {
	who := a.Dataset
	if a.Segment != "" {
		who = a.Segment
	}
	unit := v.Metric.Unit
	if unit == "" {
		unit = strings.ReplaceAll(v.Metric.Measure, "_", " ")
	}
	if v.Metric.Comparison != "" && a.Measure == record.MeasureDrift && detect.Cause(a.Cause) == detect.Deviation {
		return driftSentence(a)
	}
	switch detect.Cause(a.Cause) {
	case detect.Overdue:
		return v.overdueSentence(a)
	case detect.Silence:
		return fmt.Sprintf("%s sends no %s; %s were expected", who, unit, words.Number(a.Expected))
	case detect.Stuck:
		return fmt.Sprintf("%s repeats the same value of %s again and again", who, unit)
	case detect.Missing:
		return fmt.Sprintf("%s: %s did not come when it was due", who, unit)
	}
	switch v.Metric.Kind {
	case timeline.Count:
		if a.Expected <= 0 {
			return fmt.Sprintf("%s sends %s %s where none were expected", who, words.Number(a.Observed), unit)
		}
		change := a.Observed/a.Expected - 1
		switch {
		case a.Observed == 0:
			return fmt.Sprintf("%s sends no %s; %s were expected", who, unit, words.Number(a.Expected))
		case change < 0:
			return fmt.Sprintf("%s sends %s fewer %s than expected", who, words.Percent(-change), unit)
		case change > 1:
			return fmt.Sprintf("%s sends %.1f times the %s expected", who, change+1, unit)
		}
		return fmt.Sprintf("%s sends %s more %s than expected", who, words.Percent(change), unit)
	case timeline.Share:
		observed, expected := words.Apart(a.Observed, a.Expected)
		return fmt.Sprintf("%s: %s is %s, expected %s", who, unit, observed, expected)
	case timeline.Duration:
		return fmt.Sprintf("%s: %s is %s, expected %s", who, unit, words.Seconds(a.Observed), words.Seconds(a.Expected))
	}
	return fmt.Sprintf("%s: %s is %s, expected %s", who, unit, words.Number(a.Observed), words.Number(a.Expected))
}

// driftSentence says what of a dataset's rows has changed; Observed is in limits.
func driftSentence(a record.Alert) string {
	far := "over the limit"
	if a.Observed > 1 {
		far = words.Number(a.Observed) + " times the limit"
	}
	switch a.Segment {
	case record.DriftTogether:
		return fmt.Sprintf("Rows of %s can be told from the reference's: separability is %s", a.Dataset, strings.Replace(far, "the limit", "its limit", 1))
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
