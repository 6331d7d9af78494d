package benchmark

import (
	"math/rand/v2"

	"tinbell/core/drift"
	"tinbell/core/score"
)

// CleanRow is how often features without drift were flagged in days of some size:
// stated, and found with a 95 % interval.
type CleanRow struct {
	Rows   int     `json:"rows" doc:"a day"`
	Judged int     `json:"judged" doc:"features and days"`
	Stated float64 `json:"stated"`
	Found  float64 `json:"found"`
	Low    float64 `json:"low" doc:"days of one reference count as one cluster"`
	High   float64 `json:"high"`
	PSI    float64 `json:"psi" doc:"by PSI > 0.2"`
	Plain  float64 `json:"plain" doc:"by a plain test at 0.05"`
}

// cleanDays is how many clean days are judged against one reference.
const cleanDays = 60

// CleanDrift judges days that wobble as those of the reference do, and have not
// drifted: references is how many there are of each size, each by each seed.
func CleanDrift(p DriftPlan, references int, progress func(done, total int)) []CleanRow {
	sizes := p.Sizes
	if len(sizes) == 0 {
		sizes = driftSizes
	}
	list := make([]CleanRow, len(sizes))
	flags, judged := make([][]int, len(sizes)), make([][]int, len(sizes))
	psi, plain := make([]int, len(sizes)), make([]int, len(sizes))
	each := len(p.Seeds) * references // tasks of a size
	inParallel(len(sizes)*each, progress, func(i int) func() {
		s, seed, r := i/each, p.Seeds[i%each/references], i%references
		c := cleanReference(rand.New(rand.NewPCG(seed, uint64(r)<<24|uint64(sizes[s]))), sizes[s], p.Accept)
		return func() {
			flags[s], judged[s] = append(flags[s], c.flagged), append(judged[s], c.judged)
			psi[s], plain[s] = psi[s]+c.psi, plain[s]+c.plain
		}
	})
	for s, size := range sizes {
		row := CleanRow{Rows: size, Stated: p.Accept}
		flagged := 0
		for i, n := range judged[s] {
			row.Judged, flagged = row.Judged+n, flagged+flags[s][i]
		}
		n := float64(row.Judged)
		row.Found, row.PSI, row.Plain = float64(flagged)/n, float64(psi[s])/n, float64(plain[s])/n
		within := score.Clustered(flags[s], judged[s])
		row.Low, row.High = within.Low, within.High
		list[s] = row
	}
	return list
}

type cleanCounts struct{ judged, flagged, psi, plain int }

// cleanReference judges clean days against one reference, all features.
func cleanReference(rng *rand.Rand, rows int, accept float64) (c cleanCounts) {
	days := make([]*driftDay, driftReference)
	for i := range days {
		days[i] = newDriftDay(rng, rows)
	}
	var references [driftFeatures]drift.Reference
	for f := range references {
		layout, blocks := countDays(days, f)
		references[f] = drift.NewReference(layout, blocks)
	}
	for range cleanDays {
		day := newDriftDay(rng, rows)
		for f := range references {
			r := &references[f]
			period := drift.NewCounts(r.Layout)
			for _, x := range day.values[f] {
				countValue(&period, r.Layout, x)
			}
			v := drift.Judge(r, &period, accept)
			c.judged++
			if v.State == drift.Over {
				c.flagged++
			}
			psi, plain := customary(v)
			if psi {
				c.psi++
			}
			if plain {
				c.plain++
			}
		}
	}
	return c
}

// customary tells what PSI > 0.2, and a plain test at 0.05, say of a feature.
func customary(v drift.Verdict) (psi, plain bool) {
	if m, there := v.Measure(drift.MeasurePSI); there {
		psi = m.Value > 0.2
	}
	test, there := v.Measure(drift.MeasureKS)
	if !there {
		test, there = v.Measure(drift.MeasureChiSquare)
	}
	return psi, there && test.P < 0.05
}
