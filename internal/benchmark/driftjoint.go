package benchmark

import (
	"math/rand/v2"

	"tinbell/core/drift"
	"tinbell/core/score"
)

// JointRow is how often whole sets of rows without drift were over in any way: a
// feature, separability or a pair.
type JointRow struct {
	Rows      int     `json:"rows" doc:"a day"`
	Judged    int     `json:"judged" doc:"days, all features at once"`
	Stated    float64 `json:"stated"`
	Found     float64 `json:"found"`
	Low       float64 `json:"low" doc:"of a 95 % interval; days of one reference count as one cluster"`
	High      float64 `json:"high"`
	Features  int     `json:"features" doc:"days on which a feature was over"`
	Separable int     `json:"separable" doc:"days on which separability was over"`
	Pairs     int     `json:"pairs" doc:"days on which a pair was over"`
}

const jointDays = 20 // clean ones against each reference

// Joint judges clean days whole, as a comparison's verdict does: references is how
// many there are of each size, each by each seed.
func Joint(p DriftPlan, references int, progress func(done, total int)) []JointRow {
	sizes := p.Sizes
	if len(sizes) == 0 {
		sizes = driftSizes
	}
	list := make([]JointRow, len(sizes))
	flagged, judged := make([][]int, len(sizes)), make([][]int, len(sizes))
	each := len(p.Seeds) * references
	inParallel(len(sizes)*each, progress, func(i int) func() {
		s, seed, r := i/each, p.Seeds[i%each/references], i%references
		one, flags := jointReference(rand.New(rand.NewPCG(seed, uint64(r)<<32|uint64(sizes[s]))), sizes[s], p.Accept)
		return func() {
			row := &list[s]
			row.Judged, row.Features, row.Separable, row.Pairs = row.Judged+jointDays, row.Features+one.Features, row.Separable+
				one.Separable, row.Pairs+one.Pairs
			row.Found += float64(flags)
			flagged[s], judged[s] = append(flagged[s], flags), append(judged[s], jointDays)
		}
	})
	for s := range list {
		row := &list[s]
		row.Rows, row.Stated = sizes[s], drift.JointShare(p.Accept, driftFeatures, true, true)
		row.Found /= float64(row.Judged)
		within := score.Clustered(flagged[s], judged[s])
		row.Low, row.High = within.Low, within.High
	}
	return list
}

// jointReference judges clean days against one reference.
func jointReference(rng *rand.Rand, rows int, accept float64) (row JointRow, flagged int) {
	days := make([]*driftDay, driftReference)
	for i := range days {
		days[i] = newDriftDay(rng, rows)
	}
	var references [driftFeatures]drift.Reference
	for f := range references {
		references[f] = drift.NewReference(countDays(days, f))
	}
	before := driftSample(rng, days, rows)
	level := driftLevelOf(rng, days, before, rows)
	for range jointDays {
		day := newDriftDay(rng, rows)
		feature := false
		for f := range references {
			r := &references[f]
			period := drift.NewCounts(r.Layout)
			for _, x := range day.values[f] {
				countValue(&period, r.Layout, x)
			}
			feature = feature || drift.Judge(r, &period, accept).State == drift.Over
		}
		after := driftSample(rng, []*driftDay{day}, rows)
		half := thin(before, after.Rows())
		separable := drift.Separate(half, after, 1).Score > level.limit
		pairs := drift.Pairs(half, after, accept, level.pairs, 1)
		pair := len(pairs) > 0 && pairs[0].Beyond > pairs[0].Limit
		for _, one := range []struct {
			over bool
			into *int
		}{{feature, &row.Features}, {separable, &row.Separable}, {pair, &row.Pairs}, {feature || separable || pair, &flagged}} {
			if one.over {
				*one.into++
			}
		}
	}
	return row, flagged
}
