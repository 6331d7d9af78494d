package study

import (
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"tinbell/core/baseline"
	"tinbell/core/detect"
	"tinbell/core/replay"
	"tinbell/core/timeline"
)

func fitted(t *testing.T, mean float64, rule detect.Rule) *detect.Evaluator {
	t.Helper()
	rng := rand.New(rand.NewPCG(2, 2))
	start := time.Date(2026, 3, 2, 0, 0, 0, 0, time.UTC)
	h := make([]timeline.Sample, 56*24)
	for i := range h {
		mu := mean * (1 + 0.5*math.Sin(float64(i)/24*2*math.Pi))
		h[i] = timeline.Sample{At: start.Add(time.Duration(i) * time.Hour).Unix(),
			Value: math.Max(0, math.Round(mu+math.Sqrt(mu)*rng.NormFloat64()))}
	}
	e, err := detect.Fit(baseline.Config{Kind: timeline.Count, Grid: timeline.Grid{Period: time.Hour, Zone: time.UTC}}, rule, h,
		timeline.Mask{})
	if err != nil {
		t.Fatal(err)
	}
	return e
}

func TestAMonitorSaysWhatItCanSeeAndProposesSegments(t *testing.T) {
	for name, c := range map[string]struct {
		mean      float64
		segmented bool
		proposal  string
	}{
		"plenty": {4000, false, ""},
		"modest": {12, false, "Split it by a column: a segment with "},
		"split":  {12, true, "Split it further: a part of "},
		"few":    {2, false, "Too few rows to split"},
	} {
		d := Detectable{Subject: Subject{Kind: timeline.Count}}
		d.Tell(fitted(t, c.mean, detect.Rule{}), c.segmented)
		if !strings.HasPrefix(d.Sentence, "Within ") || !strings.HasSuffix(d.Sentence, ".") || len(d.Losses) != 6 {
			t.Errorf("%s: %q", name, d.Sentence)
		}
		if !strings.HasPrefix(d.Proposal, c.proposal) || (c.proposal == "") != (d.Proposal == "") {
			t.Errorf("%s proposes %q", name, d.Proposal)
		}
		if d.Typical == nil || math.Abs(*d.Typical/(24*c.mean)-1) > 0.15 {
			t.Errorf("%s: a typical day of %v", name, d.Typical)
		}
	}
	d := Detectable{Subject: Subject{Kind: timeline.Count}}
	d.Tell(fitted(t, 100, detect.Rule{Direction: detect.High}), false)
	if len(d.Losses) != 0 || d.Sentence == "" {
		t.Errorf("a monitor that looks up only sees no loss: %+v", d)
	}
}

func TestTheSmoothingSentenceTellsGainAndPrice(t *testing.T) {
	rows := []replay.Smoothing{{Periods: 1, FalseBefore: 4, Delay: 3600}, {Periods: 5, By: "median", FalseBefore: 4, FalseGone: 3,
		Delay: 3 * 3600, Recommended: true}}
	if got := smoothingSentence(rows); got != "A moving median of 5 periods rids the past of 3 of 4 false alarms and costs 2 h of delay." {
		t.Error(got)
	}
	rows[0].Recommended, rows[1].Recommended = true, false
	if got := smoothingSentence(rows); !strings.HasPrefix(got, "No smoothing is best") {
		t.Error(got)
	}
}
