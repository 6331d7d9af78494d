package drift

import (
	"math"
	"math/rand/v2"
	"testing"
)

// versionOf counts scores of a version whose outcomes follow its scores with a skill
// from 0, chance, to 1.
func versionOf(l *Layout, rng *rand.Rand, n int, shift, skill float64) *VersionCounts {
	v := NewVersionCounts(l)
	for range n {
		x := math.Min(math.Max(0.5+0.15*rng.NormFloat64()+shift, 0), 1)
		outcome := 0.0
		if rng.Float64() < 0.5+skill*(x-0.5) {
			outcome = 1
		}
		v.Rows++
		v.Scores.Number(l, x)
		v.Add(x, outcome, 0.6)
	}
	return v
}

func scoreLayout(rng *rand.Rand) *Layout {
	values := make([]float64, 4000)
	for i := range values {
		values[i] = 0.5 + 0.15*rng.NormFloat64()
	}
	return layoutOf(values...)
}

// Counts of days add up to those of all rows, in any order.
func TestCountsOfAVersionAddUp(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 3))
	l := scoreLayout(rng)
	whole, parts := NewVersionCounts(l), map[string]*VersionCounts{}
	for day := range 9 {
		one := versionOf(l, rng, 100+day, 0, 1)
		one.MissingInput = int64(day)
		whole.Join(one)
		parts[string(rune('a'+day))] = one
	}
	all := AllVersions(l, parts)
	if all.Rows != whole.Rows || all.Rows != 936 || all.Above != whole.Above || all.MissingInput != 36 ||
		all.Scores.Values() != whole.Scores.Values() {
		t.Errorf("%+v, want %+v", all, whole)
	}
	rows := int64(0)
	for i, b := range all.Outcomes {
		rows += b.Rows
		if math.Abs(b.Score-whole.Outcomes[i].Score) > 1e-9 || b.Positive != whole.Outcomes[i].Positive {
			t.Errorf("bin %d: %+v, want %+v", i, b, whole.Outcomes[i])
		}
	}
	if rows != 936 {
		t.Errorf("%d rows have an outcome", rows)
	}
}

// A score that is none, or an outcome nobody knows, says nothing of chances.
func TestWhatIsNotKnownIsNotCountedAsAnOutcome(t *testing.T) {
	l := scoreLayout(rand.New(rand.NewPCG(1, 3)))
	v := NewVersionCounts(l)
	v.Add(0.7, math.NaN(), 0.5)
	v.Add(1.4, 1, 0.5)
	v.Add(-0.1, 0, 0.5)
	v.Add(1, 1, 0.5)
	known := int64(0)
	for _, b := range v.Outcomes {
		known += b.Rows
	}
	if known != 1 || v.Outcomes[ScoreBins-1].Positive != 1 || v.Above != 3 {
		t.Errorf("%d known, above %d, last bin %+v", known, v.Above, v.Outcomes[ScoreBins-1])
	}
}

// Each version is held against itself, a new one against all; what loses its skill is
// seen though its scores are as they were, and what moves its scores though it is as good.
func TestVersionsAreHeldAgainstThemselves(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 3))
	l := scoreLayout(rng)
	reference := map[string]*VersionCounts{"v1": versionOf(l, rng, 6000, 0, 1), "v2": versionOf(l, rng, 6000, 0, 1)}
	period := map[string]*VersionCounts{"v1": versionOf(l, rng, 4000, 0, 1), "v2": versionOf(l, rng, 4000, 0, 0),
		"v3": versionOf(l, rng, 4000, 0.1, 1)}
	list := JudgeVersions(l, reference, period, Wobble{}, 0.01)
	if len(list) != 3 || list[0].Version != "v1" || !list[0].Same || !list[1].Same || list[2].Same {
		t.Fatalf("%+v", list)
	}
	if v := list[0]; v.Scores.State == Over || v.Concept == nil || v.Concept.Low > 0 && v.Concept.High < 0 {
		t.Errorf("the same as ever: %+v, %+v", v.Scores.State, v.Concept)
	}
	if v := list[1]; v.Scores.State == Over || v.Concept == nil || v.Concept.High >= 0 || v.Concept.Sigmas() > -3.09 {
		t.Errorf("lost its skill: scores %v, ranking %+v", v.Scores.State, v.Concept)
	}
	if v := list[2]; v.Scores.State != Over || v.Above < list[0].Above+0.1 {
		t.Errorf("moved its scores: %v, above %.2f against %.2f", v.Scores.State, v.Above, list[0].Above)
	}
}
