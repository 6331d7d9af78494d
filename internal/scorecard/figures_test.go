package scorecard

import (
	"math"
	"testing"
	"time"

	"tinbell/core/score"
	"tinbell/internal/record"
)

func alerts(verdicts ...string) []record.Alert {
	list := make([]record.Alert, len(verdicts))
	for i, v := range verdicts {
		list[i] = record.Alert{ID: int64(i), SeriesID: int64(i % 3), Verdict: score.Verdict(v), RaisedAt: time.Date(2026, 6, 1+i, 0, 0, 0, 0, time.UTC)}
	}
	return list
}

func TestLabelledAndUnlabelledAreKeptApart(t *testing.T) {
	list := alerts("fault", "fault", "fault", "noise", "planned", "", "")
	m := score.Match(scores(list), nil, 0)
	c := Sum(list, m, 4, false)
	if c.Labelled != 5 || c.Unlabelled != 2 || *c.Precision.Estimate != 0.75 || c.Precision.K != 3 || c.Precision.N != 4 {
		t.Errorf("%+v", c)
	}
	// Without any assumption: both unlabelled noise, or both faults.
	if *c.Lowest != 0.5 || *c.Highest != 5.0/6 {
		t.Errorf("bounds %.3f to %.3f, want 3 of 6 and 5 of 6", *c.Lowest, *c.Highest)
	}
	// One labelled noise in four weeks, and at most two unlabelled that match nothing.
	// They rang at the same time, so they are one disturbance.
	if *c.FalseWeekly.Estimate != 0.25 || *c.FalseMost != 0.75 || c.Achieved.GroupsMost != 1 || c.Achieved.Groups != 1 ||
		math.Abs(*c.Achieved.Seconds-4*7*86400) > 1 {
		t.Errorf("false a week %.2f, achieved %+v", *c.FalseWeekly.Estimate, c.Achieved)
	}
	// Garwood's interval for one event: 0.0253 to 5.572.
	if s, l := *c.Achieved.Shortest, *c.Achieved.Longest; math.Abs(4*7*86400/s-5.5716) > 1e-3 || math.Abs(4*7*86400/l-0.02532) > 1e-4 {
		t.Errorf("between %.0f and %.0f s", s, l)
	}
	if r := Sum(list, m, 4, true); *r.FalseWeekly.Estimate != 0.75 || *r.FalseMost != 0.75 {
		t.Errorf("in a replay the catalogue decides: %+v", r.FalseWeekly)
	}
	if c.Recall.Estimate != nil || c.F1 != nil {
		t.Error("without incidents there is no recall")
	}
}

func TestNothingLabelledHasNoPrecision(t *testing.T) {
	c := Sum(alerts("", ""), score.Match(scores(alerts("", "")), nil, 0), 1, false)
	if c.Precision.Estimate != nil || *c.Lowest != 0 || *c.Highest != 1 {
		t.Errorf("%+v", c)
	}
}

func TestWeeksCountAlertsAndIncidentsByTheirStart(t *testing.T) {
	from, to := time.Date(2026, 6, 1, 0, 0, 0, 0, time.UTC), time.Date(2026, 6, 15, 0, 0, 0, 0, time.UTC)
	list := alerts("fault", "noise", "", "fault", "", "", "", "planned", "fault")
	incidents := []record.Incident{{StartedAt: from.AddDate(0, 0, 1)}, {StartedAt: from.AddDate(0, 0, 8)}}
	weeks := byWeek(list, score.Matched{Found: []bool{true, false}}, incidents, from, to)
	if len(weeks) != 2 {
		t.Fatalf("%d weeks", len(weeks))
	}
	if w := weeks[0]; w.Faults != 2 || w.Noise != 1 || w.Unlabelled != 4 || *w.Recall.Estimate != 1 {
		t.Errorf("first week %+v", w)
	}
	if w := weeks[1]; w.Faults != 1 || w.Planned != 1 || *w.Recall.Estimate != 0 {
		t.Errorf("second week %+v", w)
	}
	if got := byWeek(nil, score.Matched{}, nil, to, from); len(got) != 0 {
		t.Errorf("a stretch that ends before it begins has %d weeks", len(got))
	}
}

func TestWorstPrecisionStandsFirst(t *testing.T) {
	p := func(v float64) Figure { return Figure{Estimate: &v} }
	low, high, quiet, loud := Card{Precision: p(0.2)}, Card{Precision: p(0.9)}, Card{Alerts: 1}, Card{Alerts: 9}
	for _, pair := range [][2]Card{{low, high}, {high, loud}, {loud, quiet}} {
		if !worse(pair[0], pair[1]) || worse(pair[1], pair[0]) {
			t.Errorf("order of %+v and %+v", pair[0], pair[1])
		}
	}
}
