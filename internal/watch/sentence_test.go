package watch

import (
	"testing"
	"time"

	"tinbell/core/detect"
	"tinbell/core/replay"
	"tinbell/core/timeline"
	"tinbell/internal/record"
)

func subject(kind timeline.Kind, unit string) *Subject {
	zone, _ := time.LoadLocation("America/Halifax")
	return &Subject{
		Metric: record.Metric{Kind: kind, Unit: unit, Dataset: "ops.boarding_scans", Measure: "rows", Zone: "America/Halifax"},
		Grid:   timeline.Grid{Period: time.Hour, Zone: zone}, Exclusions: map[int64][]replay.Exclusion{},
	}
}

func TestSentencesSayWhatIsWrong(t *testing.T) {
	port := record.Series{Segment: "Gullstone"}
	for _, c := range []struct {
		v    *Subject
		a    detect.Alert
		want string
	}{
		{subject(timeline.Count, "boarding scans"), detect.Alert{Cause: detect.Deviation, Direction: detect.Low,
			Rang: detect.Stretch{Observed: 62, Expected: 100}},
			"Gullstone sends 38 % fewer boarding scans than expected (62, expected 100)"},
		{subject(timeline.Count, "boarding scans"), detect.Alert{Cause: detect.Deviation, Direction: detect.High,
			Rang: detect.Stretch{Observed: 150, Expected: 100}},
			"Gullstone sends 50 % more boarding scans than expected (150, expected 100)"},
		{subject(timeline.Count, "boarding scans"), detect.Alert{Cause: detect.Deviation, Direction: detect.High,
			Rang: detect.Stretch{Observed: 310, Expected: 100}},
			"Gullstone sends 3.1 times the boarding scans expected (310, expected 100)"},
		{subject(timeline.Count, "boarding scans"), detect.Alert{Cause: detect.Silence, Rang: detect.Stretch{Expected: 12345}},
			"Gullstone sends no boarding scans; 12,345 were expected"},
		{subject(timeline.Count, ""), detect.Alert{Cause: detect.Deviation, Rang: detect.Stretch{Observed: 5}},
			"Gullstone sends 5 rows where none were expected"},
		{subject(timeline.Count, "boarding scans"), detect.Alert{Cause: detect.Deviation, Direction: detect.High, Since: 1781780400,
			Rang:  detect.Stretch{From: 1781780400, To: 1781787600, Observed: 79, Expected: 0.02},
			Worst: detect.Stretch{From: 1781794800, To: 1781802000, Observed: 140, Expected: 0.02}},
			"Gullstone sends 79 boarding scans in 2 h where none were expected, at worst 140"},
		{subject(timeline.Share, "null port"), detect.Alert{Cause: detect.Deviation, Rang: detect.Stretch{Observed: 0.3,
			Expected: 0.012}}, "Gullstone: null port is 30 %, expected 1.2 %"},
		{subject(timeline.Duration, "age"), detect.Alert{Cause: detect.Deviation, Rang: detect.Stretch{Observed: 9000,
			Expected: 600}}, "Gullstone: age is 2 h 30 min, expected 10 min"},
		{subject(timeline.Value, "mean fare"), detect.Alert{Cause: detect.Deviation, Rang: detect.Stretch{Observed: 2.5,
			Expected: -1234}}, "Gullstone: mean fare is 2.5, expected −1,234"},
		{subject(timeline.Count, "scans"), detect.Alert{Cause: detect.Stuck}, "Gullstone repeats the same value of scans again and again"},
		{subject(timeline.Count, "scans"), detect.Alert{Cause: detect.Missing}, "Gullstone: scans did not come when it was due"},
		{subject(timeline.Duration, "age"), detect.Alert{Cause: detect.Overdue, Since: 1781780400, Closed: 1781785800,
			Rang: detect.Stretch{Observed: 9000, Expected: 3600}}, "ops.boarding_scans was loaded 90 min late"},
	} {
		if got := c.v.AlertOf(port, c.a).Sentence; got != c.want {
			t.Errorf("%q, want %q", got, c.want)
		}
	}
}

func TestDriftIsToldByWhatHasDrifted(t *testing.T) {
	v := subject(timeline.Value, "times its limit")
	v.Metric.Measure, v.Metric.Comparison = record.MeasureDrift, "noshow"
	a := detect.Alert{Cause: detect.Deviation, Direction: detect.High, Rang: detect.Stretch{Observed: 3.24, Expected: 0.4}}
	for segment, want := range map[string]string{
		"lead_time":          "lead_time has drifted: 3.2 times the limit",
		record.DriftTogether: "Rows of ops.boarding_scans can be told from the reference's: separability is 3.2 times its limit",
		record.DriftPair:     "Two features of ops.boarding_scans go together in another way: 3.2 times the limit",
		record.DriftRanking:  "The model of ops.boarding_scans ranks what came true worse than it did: 3.2 times the limit",
	} {
		row := v.AlertOf(record.Series{Segment: segment}, a)
		if row.Sentence != want || row.Comparison != "noshow" {
			t.Errorf("%s: %q of %q, want %q", segment, row.Sentence, row.Comparison, want)
		}
	}
	// Seen over an alert that has not closed yet, it may be under its limit again.
	a.Rang.Observed = 0.7
	if got := v.AlertOf(record.Series{Segment: "lead_time"}, a).Sentence; got != "lead_time has drifted: over the limit" {
		t.Errorf("%q", got)
	}
	a.Rang.Observed = 3.24
	// A pushed metric may have that name too, and is no comparison's.
	v.Metric.Comparison = ""
	if got := v.AlertOf(record.Series{Segment: "lead_time"}, a).Sentence; got != "lead_time: times its limit is 3.2, expected 0.4" {
		t.Errorf("%q", got)
	}
}

func TestAnOpenOverdueLoadSaysSinceWhenInLocalTime(t *testing.T) {
	a := detect.Alert{Cause: detect.Overdue, Since: time.Date(2026, 6, 18, 6, 14, 0, 0, time.UTC).Unix(),
		Rang: detect.Stretch{Expected: 86400}}
	want := "ops.boarding_scans has had no load since Wed 03:14; one was due at 03:14"
	if got := subject(timeline.Duration, "age").AlertOf(record.Series{}, a).Sentence; got != want {
		t.Errorf("%q, want %q", got, want)
	}
}

func TestAlertsUnderAPlannedEventAreMarked(t *testing.T) {
	v := subject(timeline.Count, "scans")
	v.Exclusions[4] = []replay.Exclusion{{Span: timeline.Span{From: 1000, To: 2000}, Known: 5000, Planned: true},
		{Span: timeline.Span{From: 3000, To: 4000}}}
	for since, want := range map[int64]bool{1500: true, 2500: false, 3500: false} {
		row := v.AlertOf(record.Series{ID: 4}, detect.Alert{Cause: detect.Deviation, Since: since, Raised: since + 100})
		if row.Planned != want {
			t.Errorf("alert at %d planned: %t", since, row.Planned)
		}
	}
}

func TestACorrectedAlertContinuesTheOneItOverlaps(t *testing.T) {
	at := func(h int) time.Time { return time.Date(2026, 6, 18, h, 0, 0, 0, time.UTC) }
	end := at(9)
	known := []record.Alert{
		{ID: 1, Cause: "deviation", Direction: "low", Since: at(4), RaisedAt: at(6), EndedAt: &end, ClosedAt: &end},
		{ID: 2, Cause: "missing", Direction: "both", Since: at(12), RaisedAt: at(14)},
	}
	row := func(cause, direction string, since int) record.Alert {
		return record.Alert{Cause: detect.Cause(cause), Direction: direction, Since: at(since), RaisedAt: at(since + 1)}
	}
	for _, c := range []struct {
		row  record.Alert
		want int64
	}{{row("deviation", "low", 5), 1}, {row("silence", "low", 8), 1}, {row("deviation", "high", 5), 0},
		{row("deviation", "low", 11), 0}, {row("missing", "both", 13), 2}} {
		got := int64(0)
		if old := overlapping(known, c.row, map[int64]bool{}); old != nil {
			got = old.ID
		}
		if got != c.want {
			t.Errorf("%s %s since %s continues %d, want %d", c.row.Cause, c.row.Direction, c.row.Since.Format("15:04"), got, c.want)
		}
	}
}
