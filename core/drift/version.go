package drift

import (
	"maps"
	"slices"
)

// ScoreBins is how many bins scores from 0 to 1 are kept in beside their outcomes.
const ScoreBins = 100

// VersionCounts is what one version of a model did on some rows. Counts of days add up.
type VersionCounts struct {
	Rows         int64
	MissingInput int64 // rows that lack an input
	Above        int64 // rows scored at or above the threshold
	Scores       Counts
	Outcomes     []ScoreBin // equal bins of scores from 0 to 1
}

// NewVersionCounts begins counts over the layout of scores.
func NewVersionCounts(scores *Layout) *VersionCounts {
	return &VersionCounts{Scores: NewCounts(scores), Outcomes: make([]ScoreBin, ScoreBins)}
}

// Join adds other counts over the same layout.
func (v *VersionCounts) Join(o *VersionCounts) {
	v.Rows, v.MissingInput, v.Above = v.Rows+o.Rows, v.MissingInput+o.MissingInput, v.Above+o.Above
	v.Scores.Join(&o.Scores)
	for i, b := range o.Outcomes {
		to := &v.Outcomes[i]
		to.Rows, to.Positive, to.Score = to.Rows+b.Rows, to.Positive+b.Positive, to.Score+b.Score
		to.Squares, to.Hit = to.Squares+b.Squares, to.Hit+b.Hit
	}
}

// Add takes in a score and its outcome: above 0 it came true, NaN is not known. Scores
// beyond 0 to 1 say nothing of chances.
func (v *VersionCounts) Add(score, outcome, threshold float64) {
	if score >= threshold {
		v.Above++
	}
	if outcome != outcome || !(score >= 0 && score <= 1) {
		return
	}
	b := &v.Outcomes[min(ScoreBins-1, int(score*ScoreBins))]
	b.Rows++
	b.Score += score
	b.Squares += score * score
	if outcome > 0 {
		b.Positive++
		b.Hit += score
	}
}

// AllVersions adds up versions.
func AllVersions(scores *Layout, versions map[string]*VersionCounts) *VersionCounts {
	all := NewVersionCounts(scores)
	for _, name := range slices.Sorted(maps.Keys(versions)) {
		all.Join(versions[name])
	}
	return all
}

// VersionVerdict is what became of one version of a model. What is a share is one of its
// rows; Classes are those of each answer, where answers are categories. Scores are held
// against the reference's of the same version (Same), or of all where it is new.
type VersionVerdict struct {
	Version      string
	Rows         int64
	MissingInput float64
	Above        float64
	Classes      map[string]float64
	Scores       *Verdict
	Same         bool
	Quality      *Quality    // where outcomes are known
	Concept      *Difference // ranking less the reference's, where both are known
}

// JudgeVersions holds each version of a model against a reference, by name.
func JudgeVersions(l *Layout, reference, period map[string]*VersionCounts, wobble Wobble, accept float64) []VersionVerdict {
	all := AllVersions(l, reference)
	list := []VersionVerdict{}
	for _, name := range slices.Sorted(maps.Keys(period)) {
		now := period[name]
		one := VersionVerdict{Version: name, Rows: now.Rows, MissingInput: share(now.MissingInput, now.Rows)}
		before := reference[name]
		if one.Same = before != nil; before == nil {
			before = all
		}
		was := NewReference(l, []Counts{before.Scores})
		was.Wobble = wobble
		v := Judge(&was, &now.Scores, accept)
		one.Scores = &v
		if l.Kind.Numeric() {
			one.Above = share(now.Above, now.Scores.Values())
		} else {
			one.Classes = map[string]float64{}
			for i, word := range l.Words {
				one.Classes[word] = share(now.Scores.Bins[i], now.Scores.Values())
			}
		}
		if q := QualityOf(now.Outcomes); q.Judged() {
			one.Quality = &q
			if QualityOf(before.Outcomes).Judged() {
				c := ConceptDrift(before.Outcomes, now.Outcomes)
				one.Concept = &c
			}
		}
		list = append(list, one)
	}
	return list
}

func share(n, of int64) float64 {
	if of == 0 {
		return 0
	}
	return float64(n) / float64(of)
}
