package replays

import (
	"testing"
	"time"

	"tinbell/core/tune"
)

// Of settings that would spare more, the faults that they would lose are named; those
// that lose no known one, or spare nothing more, are not blamed.
func TestALeftMonitorSaysWhichFaultsStoodInTheWay(t *testing.T) {
	from := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	to := from.AddDate(0, 2, 0)
	alert := func(day int, segment string) BacktestAlert {
		at := from.AddDate(0, 0, day)
		end := at.Add(3 * time.Hour)
		return BacktestAlert{Segment: segment, SeriesID: int64(len(segment)), Since: at, RaisedAt: at.Add(time.Hour), ClosedAt: &end}
	}
	today := []BacktestAlert{alert(3, "a"), alert(9, "bb"), alert(12, "a"), alert(20, "a")}
	known := []verdict{{alert: 7, sentence: "a is low"}, {Known: tune.Known{Incident: "I-4"}}, {}, {}}
	for i := range known[:2] {
		known[i].Gone = tune.Gone{Answered: true, Fault: true}
	}
	c := &candidate{options: []option{{}, {changes: []string{"rarer"}}, {changes: []string{"calmer"}}, {changes: []string{"the same"}}},
		told: [][]BacktestAlert{today, nil, today[:2], today}, known: known}
	c.ready()
	stops := c.stops(0, []tune.Outlook{{}, {Spared: 3, Lost: 2}, {Spared: 2}, {Spared: 0.5, Lost: 2}}, from, to)
	if len(stops) != 1 || stops[0].Changes[0] != "rarer" || len(stops[0].Faults) != 2 {
		t.Fatalf("%+v", stops)
	}
	if f := stops[0].Faults; f[0].Alert != 7 || f[0].Sentence != "a is low" || f[1].Incident != "I-4" || f[1].Segment != "bb" {
		t.Errorf("%+v", f)
	}
	if later := c.stops(0, []tune.Outlook{{}, {Spared: 3, Lost: 1}, {}, {}}, from.AddDate(0, 0, 5), to); len(later) != 1 ||
		len(later[0].Faults) != 1 {
		t.Errorf("of a later stretch: %+v", later)
	}
}
