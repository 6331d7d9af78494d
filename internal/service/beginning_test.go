package service_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"net/url"
	"strings"
	"testing"
	"time"

	"tinbell/core/timeline"
	"tinbell/internal/chart"
	"tinbell/internal/collect"
	"tinbell/internal/dbtest"
	"tinbell/internal/record"
	"tinbell/internal/study"
	"tinbell/internal/watch"
)

// Two counters open in a house that has watched them empty for six weeks. Each is told once,
// whether somebody says that this is how it is now or nobody says anything; what is expected
// of them is soon what they do by the hour, and within nine days they are fitted by that
// alone, weeks before the others are due.
func TestASegmentThatBeginsIsToldOnceAndFittedByItself(t *testing.T) {
	t.Parallel()
	opens := time.Date(2026, 6, 18, 6, 0, 0, 0, time.UTC)
	s := dbtest.Start(t, opens.Add(time.Minute))
	declared(t, s, collect.Declaration{Metric: "tickets", Kind: timeline.Count, Period: "1h"}, seasonal())
	rng := rand.New(rand.NewPCG(9, 30))
	people := func(at time.Time) float64 { // no one at night, most of them at two ferries
		mean := map[int]float64{6: 20, 7: 70, 8: 40, 9: 20, 10: 15, 11: 15, 12: 20, 13: 15, 14: 15, 15: 30, 16: 80, 17: 60, 18: 20, 19: 8}[at.Hour()]
		return max(0, math.Round(mean+math.Sqrt(mean)*rng.NormFloat64()))
	}
	none := func(time.Time) float64 { return 0 }
	from := opens.AddDate(0, 0, -42)
	pushed(t, s, samples("tickets", "north", from, opens, time.Hour, people)+samples("tickets", "quay", from, opens, time.Hour, none)+
		samples("tickets", "mole", from, opens, time.Hour, none))
	s.Settle(t)
	if told := alertsOf(t, s, "tickets"); len(told) != 0 {
		t.Fatalf("told before anything happened: %+v", told)
	}
	m, err := s.Parts.Store.Monitor(t.Context(), "tickets")
	dbtest.Must(t, err)
	learn := func() {
		t.Helper()
		_, err := s.Parts.Watcher.Learn(t.Context(), watch.Order{Monitor: m.ID}, func(int, int) {})
		dbtest.Must(t, err)
	}
	about := func(segment string) (list []record.Alert) {
		for _, a := range alertsOf(t, s, "tickets") {
			if a.Segment == segment {
				list = append(list, a)
			}
		}
		return list
	}
	hour := opens
	pass := func(until time.Time, step time.Duration) {
		t.Helper()
		for ; hour.Before(until); hour = hour.Add(step) {
			s.Clock.Set(hour.Add(step + time.Minute))
			next := ""
			for _, segment := range []string{"north", "quay", "mole"} {
				next += samples("tickets", segment, hour, hour.Add(step), time.Hour, people)
			}
			pushed(t, s, next)
			s.Settle(t)
		}
	}
	pass(opens.Add(4*time.Hour), time.Hour)
	for _, segment := range []string{"quay", "mole"} {
		if told := about(segment); len(told) != 1 || told[0].Direction != "high" || told[0].Since.Sub(opens).Abs() > time.Hour {
			t.Fatalf("the %s opened at %s, told: %+v", segment, opens, told)
		}
	}
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", fmt.Sprintf("/alerts/%d/new-normal", about("mole")[0].ID), nil, nil))
	learn()
	pass(opens.AddDate(0, 0, 9), 12*time.Hour)
	for segment, times := range map[string]int{"north": 0, "quay": 1, "mole": 1} {
		if told := about(segment); len(told) != times {
			t.Errorf("%s is told %d times", segment, len(told))
			for _, a := range told {
				t.Log(a.Direction, a.Cause, a.Since, a.RaisedAt, a.EndedAt, a.CloseReason, a.Sentence)
			}
		}
	}

	due, err := s.Parts.Store.LearnedMonitors(t.Context(), s.Clock.Now())
	dbtest.Must(t, err)
	if len(due) != 1 || !due[0].Other || due[0].Waiting {
		t.Errorf("nine days after two of its series became others: %+v", due)
	}
	learn()
	list, err := s.Parts.Store.SeriesOf(t.Context(), m.MetricID)
	dbtest.Must(t, err)
	fits, err := s.Parts.Store.Baselines(t.Context(), m.ID, []int64{list[0].ID, list[1].ID, list[2].ID})
	dbtest.Must(t, err)
	for _, series := range list {
		path := fmt.Sprintf("/series/%d", series.ID)
		var like study.CharacterStudy
		dbtest.Must(t, s.Admin.Get(t.Context(), path+"/character", nil, &like))
		if began := like.BeganAt != nil && like.BeganAt.Equal(opens) && like.Sentences[0] == "Empty until 18 June 2026."; began == (series.Segment == "north") {
			t.Errorf("%s is like: %v %v", series.Segment, like.BeganAt, like.Sentences)
		}
		var ahead study.Forecast
		if err := s.Admin.Get(t.Context(), path+"/forecast", url.Values{"days": {"30"}}, &ahead); series.Segment != "north" &&
			(err == nil || !strings.Contains(err.Error(), "28 whole days since it began")) {
			t.Errorf("%s: a month is foretold from nine days: %v", series.Segment, err)
		}
		want := opens
		if series.Segment == "north" {
			want = from
		}
		if got := fits[series.ID].TrainedFrom; got.Sub(want).Abs() > 2*time.Hour {
			t.Errorf("%s is fitted by what came since %s, want %s", series.Segment, got, want)
		}
		var drawn chart.Chart
		dbtest.Must(t, s.Admin.Get(t.Context(), path+"/chart", url.Values{"from": {hour.AddDate(0, 0, -1).Format(time.RFC3339)},
			"to": {hour.Format(time.RFC3339)}}, &drawn))
		sum := func(list []*float64) (sum float64) {
			for _, v := range list[:min(len(list), 24)] {
				if v != nil {
					sum += *v
				}
			}
			return sum
		}
		if expected, came := sum(drawn.Expected), sum(drawn.Observed); math.Abs(expected/came-1) > 0.2 || came < 300 {
			t.Errorf("%s: of the last day %.0f were expected, %.0f came", series.Segment, expected, came)
		}
	}
}
