package watch

import (
	"fmt"
	"math"
	"strings"
	"time"

	"tinbell/core/detect"
	"tinbell/core/timeline"
	"tinbell/internal/record"
)

// AlertOf makes the stored form of a series' alert.
func (v *Subject) AlertOf(series record.Series, a detect.Alert) record.Alert {
	row := record.Alert{
		MonitorID: v.Monitor.ID, SeriesID: series.ID, Segment: series.Segment,
		Monitor: v.Monitor.Name, Metric: v.Metric.Name, Measure: v.Metric.Measure, Dataset: v.Metric.Dataset,
		Zone: v.Metric.Zone, Unit: v.Metric.Unit, PeriodSeconds: v.Metric.PeriodSeconds,
		Cause: string(a.Cause), Direction: a.Direction.String(), Severity: string(a.Severity),
		Since: time.Unix(a.Since, 0).UTC(), RaisedAt: time.Unix(a.Raised, 0).UTC(),
		EndedAt: unix(a.End), ClosedAt: unix(a.Closed), CloseReason: a.Reason,
		Peak: a.Peak, PeakAt: unix(a.PeakAt), Observed: a.Observed, Expected: a.Expected,
		ReturnPeriod: a.ReturnPeriod,
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
	switch detect.Cause(a.Cause) {
	case detect.Overdue:
		return v.overdueSentence(a)
	case detect.Silence:
		return fmt.Sprintf("%s sends no %s; %s were expected", who, unit, number(a.Expected))
	case detect.Stuck:
		return fmt.Sprintf("%s repeats the same value of %s again and again", who, unit)
	case detect.Missing:
		return fmt.Sprintf("%s: %s did not come when it was due", who, unit)
	}
	switch v.Metric.Kind {
	case timeline.Count:
		if a.Expected <= 0 {
			return fmt.Sprintf("%s sends %s %s where none were expected", who, number(a.Observed), unit)
		}
		change := a.Observed/a.Expected - 1
		switch {
		case a.Observed == 0:
			return fmt.Sprintf("%s sends no %s; %s were expected", who, unit, number(a.Expected))
		case change < 0:
			return fmt.Sprintf("%s sends %s fewer %s than expected", who, percent(-change), unit)
		case change > 1:
			return fmt.Sprintf("%s sends %.1f times the %s expected", who, change+1, unit)
		}
		return fmt.Sprintf("%s sends %s more %s than expected", who, percent(change), unit)
	case timeline.Share:
		return fmt.Sprintf("%s: %s is %s, expected %s", who, unit, percent(a.Observed), percent(a.Expected))
	case timeline.Duration:
		return fmt.Sprintf("%s: %s is %s, expected %s", who, unit, span(a.Observed), span(a.Expected))
	}
	return fmt.Sprintf("%s: %s is %s, expected %s", who, unit, number(a.Observed), number(a.Expected))
}

// overdueSentence tells of a load that did not arrive; Observed is the gap
// since the load before.
func (v *Subject) overdueSentence(a record.Alert) string {
	if a.ClosedAt != nil {
		return fmt.Sprintf("%s was loaded %s late", a.Dataset, span(a.Observed-a.Expected))
	}
	return fmt.Sprintf("%s has had no load since %s; one was due at %s", a.Dataset,
		a.Since.Add(-time.Duration(a.Expected)*time.Second).In(v.Grid.Zone).Format("Mon 15:04"), a.Since.In(v.Grid.Zone).Format("15:04"))
}

func percent(share float64) string {
	p := share * 100
	if p != 0 && math.Abs(p) < 10 {
		return fmt.Sprintf("%.1f %%", p)
	}
	return fmt.Sprintf("%.0f %%", p)
}

// number writes with a thousands comma and as many digits as tell something.
func number(x float64) string {
	if math.Abs(x) < 10 && x != math.Trunc(x) {
		return fmt.Sprintf("%.1f", x)
	}
	text := fmt.Sprintf("%.0f", math.Abs(x))
	for i := len(text) - 3; i > 0; i -= 3 {
		text = text[:i] + "," + text[i:]
	}
	if x < 0 {
		text = "−" + text
	}
	return text
}

func span(seconds float64) string {
	d := time.Duration(seconds) * time.Second
	switch {
	case d < 2*time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	case d < 2*time.Hour:
		return fmt.Sprintf("%.0f min", d.Minutes())
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h %d min", int(d.Hours()), int(d.Minutes())%60)
	}
	return fmt.Sprintf("%.1f days", d.Hours()/24)
}
