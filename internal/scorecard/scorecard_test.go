package scorecard

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"tinbell/core/score"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

func alerts(labels ...score.Verdict) []score.Alert {
	list := make([]score.Alert, len(labels))
	for i, label := range labels {
		list[i] = score.Alert{Series: int64(i % 3), Label: label, Start: time.Date(2026, 6, 1+i, 0, 0, 0, 0, time.UTC).Unix()}
	}
	return list
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

// What is not known is null on a card, and what is known stands under its own name.
func TestACardSaysWhatIsKnownAndNothingElse(t *testing.T) {
	empty := All(score.Sum(nil, score.Match(nil, nil, 0), 4, false))
	for name, v := range map[string]*float64{"precision": empty.Precision.Estimate, "recall": empty.Recall.Estimate, "F1": empty.F1,
		"lowest": empty.Lowest, "highest": empty.Highest, "time between": empty.Achieved.Seconds, "longest": empty.Achieved.Longest,
		"time between at worst": empty.Achieved.Least} {
		if v != nil {
			t.Errorf("%s of nothing is %g", name, *v)
		}
	}
	if empty.FalseMost == nil || *empty.FalseMost != 0 || empty.Achieved.Shortest == nil {
		t.Errorf("four weeks without an alert say something: %+v", empty)
	}
	m := record.Monitor{Name: "rows", Dataset: "ops.trips", Owner: "Ines", Settings: record.Settings{WarnSeconds: 77}}
	list := alerts("fault", "noise", "planned", "")
	c := CardOf(m, "null_share", score.Sum(list, score.Match(list, nil, 0), 2, false))
	if c.Monitor != "rows" || c.Dataset != "ops.trips" || c.Owner != "Ines" || c.Measure != "null_share" || c.StatedSeconds != 77 {
		t.Errorf("%+v", c)
	}
	if c.Alerts != 4 || c.Labelled != 3 || c.Faults != 1 || c.Noise != 1 || c.Planned != 1 || c.Unlabelled != 1 ||
		*c.Precision.Estimate != 0.5 || c.Achieved.Groups != 1 || c.Achieved.GroupsMost != 2 {
		t.Errorf("%+v", c)
	}
}

// An alert counts under each of its tags and channels, an incident where it is covered,
// and to a channel only from when it first heard of anything.
func TestGroupsCountWhatTheyCover(t *testing.T) {
	day := func(n int) time.Time { return time.Date(2026, 6, n, 0, 0, 0, 0, time.UTC) }
	one := &store.ScoredSeries{Series: 1, Dataset: "ops.trips", Measure: "rows", Segment: "north", Owner: "Ines", Zone: "America/Halifax",
		Tags: record.Strings{"night", "core"}}
	two := &store.ScoredSeries{Series: 2, Dataset: "ops.fares", Measure: "mean", Owner: "Aldo", Zone: "UTC"}
	list := []store.Scored{
		{Alert: score.Alert{Series: 1, Start: day(3).Unix(), End: day(4).Unix(), Label: score.Fault}, Of: one, Cause: "silence", Group: 7},
		{Alert: score.Alert{Series: 2, Start: day(9).Unix(), End: day(10).Unix(), Label: score.Noise}, Of: two, Cause: "step"},
	}
	end := day(4)
	incidents := []record.Incident{{Reference: "I-1", Dataset: "ops.trips", Measure: "rows", Segment: "north", StartedAt: day(3), EndedAt: &end}}
	cases := casesOf(incidents, list, nil)
	for by, want := range map[string]string{
		"dataset": "ops.fares 1 0/0, ops.trips 1 1/1", "measure": "mean 1 0/0, rows 1 1/1", "segment": " 1 0/0, north 1 1/1",
		"owner": "Aldo 1 0/0, Ines 1 1/1", "rule": "step 1 0/1, silence 1 1/1", "tag": "(no tag) 1 0/0, core 1 1/1, night 1 1/1",
		"channel": "(told to nobody) 1 0/0, desk 1 1/1", "month": "2026-06 2 1/1"} {
		g := grouping{by: by, told: map[int64][]string{7: {"desk"}}}
		var got []string
		for _, c := range g.cards(list, incidents, cases, 4, day(30)) {
			got = append(got, fmt.Sprintf("%s %d %d/%d", c.Name, c.Alerts, c.Recall.K, c.Recall.N))
		}
		if strings.Join(got, ", ") != want {
			t.Errorf("by %s: %s, want %s", by, strings.Join(got, ", "), want)
		}
	}
}
