package benchmark

import (
	"math"
	"testing"
)

func TestPlantedDriftsAreFoundAtTheStatedShareOfFalseFlags(t *testing.T) {
	if testing.Short() {
		t.Skip("takes half a minute")
	}
	const rounds = 4
	done := 0
	list := Drift(DriftPlan{Seeds: []uint64{11}, Rounds: rounds, Accept: 0.001, Sizes: []int{2000}},
		func(n, total int) { done = max(done, n) })
	if done != len(list) {
		t.Errorf("told of %d of %d", done, len(list))
	}
	for _, r := range list {
		least := func(by string, share, least float64) {
			t.Helper()
			if share < least {
				t.Errorf("%s %s is found by %s in %.2f of %d, wanted %.2f", r.Kind, r.Strength, by, share, r.Rounds, least)
			}
		}
		if r.Rounds != rounds {
			t.Errorf("%s: %d rounds", r.Kind, r.Rounds)
		}
		if r.Blocks == 1 && r.Verdict < 0.75 {
			t.Errorf("%s %s: two simple tests find all, the verdict %.2f", r.Kind, r.Strength, r.Verdict)
		}
		switch {
		case r.Kind == "clean":
			// One flag in four would be hundreds of times the stated share.
			if r.Verdict > 0 {
				t.Errorf("clean days are flagged in %.2f", r.Verdict)
			}
		case r.Kind == "joint only" && r.Strength == "1 of rows":
			least("pairs", r.Pairs, 0.9)
			least("separability", r.Together, 0.9)
			if r.PSI > 0.1 || r.Verdict > 0.1 {
				t.Errorf("each feature alone is as it was, and yet %.2f, %.2f", r.Verdict, r.PSI)
			}
		case r.Kind == "shift" && r.Strength == "0.4 sd", r.Kind == "missing burst" && r.Strength == "+0.05",
			r.Kind == "new category" && r.Strength == "0.03 of rows", r.Kind == "unit changed" && r.Strength == "x 100 in 0.02":
			least("the verdict", r.Verdict, 0.9)
		}
	}
}

func TestCleanDaysAreFlaggedAsSeldomAsStated(t *testing.T) {
	plan := DriftPlan{Seeds: []uint64{3}, Accept: 0.01, Sizes: []int{200, 1000}}
	for _, r := range CleanDrift(plan, 6, func(int, int) {}) {
		n := float64(r.Judged)
		t.Logf("%d rows: %.4f of %d flagged (%.4f to %.4f), plain test %.2f", r.Rows, r.Found, r.Judged, r.Low, r.High, r.Plain)
		if n != 6*cleanDays*driftFeatures || r.Found > 0.01+3*math.Sqrt(0.01/n) {
			t.Errorf("%d rows: %.4f of %d clean features are flagged, stated is 0.01", r.Rows, r.Found, r.Judged)
		}
		if r.Plain < 0.04 {
			t.Errorf("%d rows: the plain test flags %.3f, it should 0.05 and more where days wobble", r.Rows, r.Plain)
		}
	}
}

func TestCleanFeaturesOfEverySortAreFlaggedAsSeldomAsStated(t *testing.T) {
	if testing.Short() {
		t.Skip("takes some seconds")
	}
	const accept = 0.02
	for _, r := range Cells(DriftPlan{Seeds: []uint64{21}, Accept: accept}, 4, func(int, int) {}) {
		if expected := accept * float64(r.Judged); r.Found*float64(r.Judged) > expected+4*math.Sqrt(expected) {
			t.Errorf("%s, %d rows, days %v: %.3f of %d are flagged, stated is %g", r.Sort, r.Rows, r.Days, r.Found, r.Judged, accept)
		}
		if r.Judged != 4*cellPeriods {
			t.Errorf("%s: %d judged", r.Sort, r.Judged)
		}
	}
}

func TestWholeDaysWithoutDriftAreOverAsSeldomAsStated(t *testing.T) {
	if testing.Short() {
		t.Skip("takes some seconds")
	}
	for _, r := range Joint(DriftPlan{Seeds: []uint64{8}, Accept: 0.005, Sizes: []int{400}}, 10, func(int, int) {}) {
		t.Logf("%.4f of %d (%.4f to %.4f), stated %.4f: %d by a feature, %d separable, %d by a pair", r.Found, r.Judged, r.Low,
			r.High, r.Stated, r.Features, r.Separable, r.Pairs)
		if expected := r.Stated * float64(r.Judged); r.Judged != 10*jointDays || r.Found*float64(r.Judged) > expected+
			3*math.Sqrt(expected) {
			t.Errorf("%.4f of %d clean days are over in some way, stated is %.4f", r.Found, r.Judged, r.Stated)
		}
	}
}
