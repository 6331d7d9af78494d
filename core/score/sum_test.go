package score

import (
	"math"
	"math/rand/v2"
	"testing"
)

// labelled are alerts of three series, one a day, that were labelled so.
func labelled(labels ...Verdict) []Alert {
	list := make([]Alert, len(labels))
	for i, label := range labels {
		list[i] = Alert{Series: int64(i % 3), Label: label, Start: int64(i+1) * 86400, Since: 1}
	}
	return list
}

func TestLabelledAndUnlabelledAreKeptApart(t *testing.T) {
	list := labelled(Fault, Fault, Fault, Noise, Planned, "", "")
	m := Match(list, nil, 0)
	s := Sum(list, m, 4, false)
	if s.Faults+s.Noise+s.Planned != 5 || s.Unlabelled != 2 || s.Precision.Estimate != 0.75 || s.Precision.K != 3 || s.Precision.N != 4 {
		t.Errorf("%+v", s)
	}
	// Without any assumption: both unlabelled noise, or both faults.
	if s.Lowest != 0.5 || s.Highest != 5.0/6 {
		t.Errorf("bounds %.3f to %.3f, want 3 of 6 and 5 of 6", s.Lowest, s.Highest)
	}
	// One labelled noise in four weeks, and at most two unlabelled that match nothing.
	// They began at the same time, so they are one disturbance.
	if s.FalseWeekly.Estimate != 0.25 || s.FalseMost != 0.75 || s.AtWorst.Groups != 1 || s.Achieved.Groups != 1 ||
		math.Abs(s.Achieved.Between-4*7*86400) > 1 {
		t.Errorf("false a week %.2f, achieved %+v", s.FalseWeekly.Estimate, s.Achieved)
	}
	// Garwood's interval for one event: 0.0253 to 5.572.
	if a := s.Achieved; math.Abs(4*7*86400/a.Shortest-5.5716) > 1e-3 || math.Abs(4*7*86400/a.Longest-0.02532) > 1e-4 {
		t.Errorf("between %.0f and %.0f s", a.Shortest, a.Longest)
	}
	if r := Sum(list, m, 4, true); r.FalseWeekly.Estimate != 0.75 || r.FalseMost != 0.75 {
		t.Errorf("in a replay the catalogue decides: %+v", r.FalseWeekly)
	}
	if !math.IsNaN(s.Recall.Estimate) || !math.IsNaN(s.F1) {
		t.Error("without incidents there is no recall")
	}
}

func TestNothingLabelledHasNoPrecision(t *testing.T) {
	list := labelled("", "")
	if s := Sum(list, Match(list, nil, 0), 1, false); !math.IsNaN(s.Precision.Estimate) || s.Lowest != 0 || s.Highest != 1 {
		t.Errorf("%+v", s)
	}
	s := Sum(nil, Match(nil, nil, 0), 0, false)
	if s.Alerts != 0 || !math.IsNaN(s.FalseMost) || !math.IsNaN(s.Lowest) || !math.IsInf(s.Achieved.Between, 1) {
		t.Errorf("of nothing, over no time: %+v", s)
	}
}

// Whatever the labels and incidents: counts add up, what is likeliest lies between the
// bounds, and more that is false never makes it rarer.
func TestSumsAddUpWhateverIsScored(t *testing.T) {
	rng := rand.New(rand.NewPCG(4, 2))
	for range 2000 {
		n := rng.IntN(30)
		list := make([]Alert, n)
		for i := range list {
			start := int64(rng.IntN(40 * 86400))
			list[i] = Alert{Series: int64(rng.IntN(4)), Since: start - int64(rng.IntN(7200)), Start: start,
				Label: []Verdict{"", Fault, Noise, Planned}[rng.IntN(4)], Planned: rng.IntN(9) == 0}
			if rng.IntN(5) > 0 {
				list[i].End = start + int64(rng.IntN(86400))
			}
		}
		incidents := make([]Incident, rng.IntN(5))
		for i := range incidents {
			series := int64(rng.IntN(4))
			incidents[i] = Incident{Start: int64(rng.IntN(40 * 86400)), Covers: func(s int64) bool { return s == series }}
			incidents[i].End = incidents[i].Start + 3600
		}
		m := Match(list, incidents, 41*86400)
		s := Sum(list, m, 6, false)
		if s.Faults+s.Noise+s.Planned+s.Unlabelled != n || s.Alerts != n {
			t.Fatalf("%d alerts: %+v", n, s)
		}
		if p := s.Precision.Estimate; !math.IsNaN(p) && (p < 0 || p > 1 || s.Lowest > p || s.Highest < p && s.Unlabelled == 0) {
			t.Fatalf("precision %g within %g and %g", p, s.Lowest, s.Highest)
		}
		if s.AtWorst.Groups < s.Achieved.Groups || s.AtWorst.Between > s.Achieved.Between || s.FalseMost < s.FalseWeekly.Estimate {
			t.Fatalf("more that is false is rarer: %+v", s)
		}
		if s.Achieved.Groups > s.Noise {
			t.Fatalf("%d disturbances of %d false alarms", s.Achieved.Groups, s.Noise)
		}
	}
}
