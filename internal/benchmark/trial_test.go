package benchmark

import (
	"context"
	"math"
	"reflect"
	"slices"
	"testing"
	"time"

	"tinbell/core/detect"
	"tinbell/core/timeline"
)

func quietly() Plan { return Plan{Seeds: []uint64{7}, PerFamily: 4, Progress: func(int, int) {}} }

func TestScenesAreWhatTheirSeedSays(t *testing.T) {
	setting := Setting{Seed: 3, Period: time.Hour, Learn: 28, Judge: 14, Faults: true}
	for _, f := range Families {
		a, b := NewScene(setting, f, 2), NewScene(setting, f, 2)
		for i := range a.History {
			if a.History[i].At != b.History[i].At || a.History[i].Missing() != b.History[i].Missing() ||
				!a.History[i].Missing() && a.History[i].Value != b.History[i].Value {
				t.Fatalf("%s: period %d differs between two makings", f, i)
			}
		}
		if !reflect.DeepEqual(a.Faults, b.Faults) {
			t.Errorf("%s: faults differ", f)
		}
		other := NewScene(setting, f, 3)
		if len(a.History) != 42*24 || f != Reference && a.History[5].Value == other.History[5].Value &&
			a.History[6].Value == other.History[6].Value {
			t.Errorf("%s: another scene is the same", f)
		}
		for _, x := range a.Faults {
			if x.From < a.From || x.To <= x.From || x.To > a.History[len(a.History)-1].At+3600 {
				t.Errorf("%s: fault %+v lies outside the judged part", f, x)
			}
		}
	}
	clean := NewScene(Setting{Seed: 3, Period: time.Hour, Learn: 28, Judge: 14}, Counts, 1)
	if len(clean.Faults)+clean.Artifacts+len(clean.Exclusions) != 0 {
		t.Error("a clean scene has something in it")
	}
}

func TestContaminationSpoilsATwentiethOfTheHistory(t *testing.T) {
	setting := Setting{Seed: 5, Period: time.Hour, Learn: 56, Judge: 14}
	changed, n := 0, 0
	for i := range 20 {
		clean := NewScene(setting, Counts, i)
		dirty := setting
		dirty.Contaminated = true
		spoilt := NewScene(dirty, Counts, i)
		for k := range clean.History {
			if clean.History[k].At >= clean.From || clean.History[k].Missing() || spoilt.History[k].Missing() {
				continue
			}
			n++
			if clean.History[k].Value != spoilt.History[k].Value {
				changed++
			}
		}
	}
	if share := float64(changed) / float64(n); share < 0.03 || share > 0.09 {
		t.Errorf("%.3f of the history is spoilt", share)
	}
}

func TestStatedRarityIsFoundOnCleanSeries(t *testing.T) {
	p := quietly()
	for _, contaminated := range []bool{false, true} {
		rows, err := p.rarity(stretch{time.Hour, 56, 28, 2}, contaminated)
		if err != nil {
			t.Fatal(err)
		}
		all := rows[0]
		for k, stated := range all.Stated {
			t.Logf("faults in history %t: stated %.1f a month, found %.2f (%.2f–%.2f)", contaminated, stated,
				all.Found[k].Estimate, all.Found[k].Low, all.Found[k].High)
			// Few series: the interval must reach the stated figure's neighbourhood.
			// Faults that nobody labelled make limits err on the quiet side.
			if all.Found[k].Low > 1.5*stated || !contaminated && all.Found[k].High < stated/1.5 {
				t.Errorf("stated %.1f, found %+v", stated, all.Found[k])
			}
		}
		for _, c := range all.Coverage {
			if c.Found < c.Stated-0.012 {
				t.Errorf("coverage stated %.2f, found %.3f", c.Stated, c.Found)
			}
		}
	}
}

func TestFaultsAreFoundFarBetterThanBySimpleRules(t *testing.T) {
	p := quietly()
	st := stretches[0]
	scenes := append(p.scenes(st, true, true), p.scenes(st, false, true)...)
	alerts, err := walkAll(scenes, ruleOf(0.1))
	if err != nil {
		t.Fatal(err)
	}
	c := Contest{Ours: tally("ours", scenes, alerts)}
	_, c.Equal = rivals(scenes, st.InRow, c.Ours.False)
	best := c.Best()
	t.Logf("ours: precision %.2f, recall %.2f, delay %s; best rival, %s: recall %.2f, delay %s",
		c.Ours.Precision().Estimate, c.Ours.Recall().Estimate, c.Ours.Delay(), best.Way, best.Recall().Estimate, best.Delay())
	if c.Ours.Found < 2*best.Found || c.Ours.Recall().Estimate < 0.6 || c.Ours.Precision().Estimate < 0.8 {
		t.Errorf("found %d of %d, %s %d", c.Ours.Found, c.Ours.Faults, best.Way, best.Found)
	}
	// Half of the histories hold faults that nobody labelled; a person answers the
	// first few questions about each.
	told, err := asked(scenes, ruleOf(0.1))
	if err != nil {
		t.Fatal(err)
	}
	if alerts, err = walkAll(told, ruleOf(0.1)); err != nil {
		t.Fatal(err)
	}
	after := tally("answered", told, alerts)
	t.Logf("after %d questions a series: precision %.2f, recall %.2f", answers, after.Precision().Estimate, after.Recall().Estimate)
	if after.Found < c.Ours.Found+c.Ours.Faults/40 || after.Recall().Estimate < 0.7 || after.Precision().Estimate < 0.8 {
		t.Errorf("answers bring %d of %d, without them %d", after.Found, after.Faults, c.Ours.Found)
	}
	if best.False > c.Ours.False {
		t.Errorf("a rival may ring falsely %d times, and does %d", c.Ours.False, best.False)
	}
}

func TestLeavingTheWorstPeriodOutIsWhatStopsSpikes(t *testing.T) {
	p := quietly()
	scenes := p.scenes(stretches[0], false, true)
	told := func(rule detect.Rule) Outcome {
		alerts, err := walkAll(scenes, rule)
		if err != nil {
			t.Fatal(err)
		}
		return tally("", scenes, alerts)
	}
	rule := ruleOf(0.1)
	with := told(rule)
	rule.KeepWorst = true
	without := told(rule)
	if without.False < 5*max(with.False, 1) {
		t.Errorf("false alarms: %d with, %d without", with.False, without.False)
	}
}

func TestPredictedLossesAreFound(t *testing.T) {
	checks, err := Plan{Seeds: []uint64{9}, PerFamily: 12, Progress: func(int, int) {}}.Losses(context.Background(), 0.1)
	if err != nil {
		t.Fatal(err)
	}
	day := checks[1]
	t.Logf("%+v", day)
	if day.Within != 24*time.Hour || day.AtAlways.Estimate < 0.85 || day.AtLess.Estimate > 0.3 || math.IsNaN(day.Predicted) {
		t.Errorf("within a day: %+v", day)
	}
}

func TestTalliesCountEachFaultOnce(t *testing.T) {
	s := NewScene(Setting{Seed: 1, Period: time.Hour, Learn: 28, Judge: 14}, Counts, 0)
	s.Faults = []Fault{{Span: timeline.Span{From: s.From + 10*3600, To: s.From + 20*3600}, Kind: "stall"},
		{Span: timeline.Span{From: s.From + 90*3600, To: s.From + 95*3600}, Kind: "dip"}}
	at := func(hour int64) detect.Alert {
		return detect.Alert{Since: s.From + (hour-1)*3600, Raised: s.From + hour*3600, End: s.From + (hour+2)*3600,
			Closed: s.From + (hour+3)*3600}
	}
	o := tally("x", []Scene{s}, [][]detect.Alert{{at(12), at(16), at(50)}})
	if o.Hits != 1 || o.False != 1 || o.Found != 1 || o.Faults != 2 || o.Delay() != 2*time.Hour {
		t.Errorf("one fault found by two alerts, one false alarm, one miss: %+v", o)
	}
	if o.Kinds["stall"] != (KindCount{1, 1}) || o.Kinds["dip"] != (KindCount{0, 1}) || !slices.Equal(o.found, []bool{true, false}) {
		t.Errorf("by kind: %+v", o.Kinds)
	}
}
