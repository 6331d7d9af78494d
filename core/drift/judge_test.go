package drift

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"gonum.org/v1/gonum/stat/distuv"
)

// normalLayout is a layout over standard normal values.
func normalLayout(rng *rand.Rand) *Layout {
	s := NewSketch(Number, 1)
	for range 20000 {
		s.Number(rng.NormFloat64())
	}
	return s.Layout()
}

// drawn are counts of rows drawn from a normal distribution, bin by bin, so that
// millions of rows cost no more than hundreds.
func drawn(rng *rand.Rand, l *Layout, rows, mean, sd, missing float64) Counts {
	c := NewCounts(l)
	normal := distuv.Normal{Mu: mean, Sigma: sd}
	poisson := func(mu float64) int64 {
		if mu > 1e4 {
			return int64(mu + math.Sqrt(mu)*rng.NormFloat64())
		}
		return int64(distuv.Poisson{Lambda: mu, Src: rng}.Rand())
	}
	below := 0.0
	for i := range c.Bins {
		upto := 1.0
		if i < len(l.Edges) {
			upto = normal.CDF(l.Edges[i])
		}
		if p := upto - below; p > 0 {
			c.Bins[i] = poisson(rows * (1 - missing) * p)
		}
		c.Rows += c.Bins[i]
		below = upto
	}
	c.Min, c.Max = -4, 4
	if missing > 0 {
		c.Missing = poisson(rows * missing)
		c.Rows += c.Missing
	}
	return c
}

func TestCleanPeriodsAreFlaggedNoMoreOftenThanStatedAtAnySize(t *testing.T) {
	const accept, days, rounds = 0.01, 28, 600
	for _, rows := range []float64{200, 2000, 20000, 2e6} {
		for _, wobble := range []float64{0, 0.05} {
			t.Run(fmt.Sprintf("%g rows, wobble %g", rows, wobble), func(t *testing.T) {
				rng := rand.New(rand.NewPCG(uint64(rows), uint64(wobble*100)))
				l := normalLayout(rng)
				day := func() Counts {
					return drawn(rng, l, rows, wobble*rng.NormFloat64(), math.Exp(0.6*wobble*rng.NormFloat64()), 0.02*math.Exp(4*wobble*rng.NormFloat64()))
				}
				flagged, judged := 0, 0
				for range rounds / 10 {
					blocks := make([]Counts, days)
					for i := range blocks {
						blocks[i] = day()
					}
					r := NewReference(l, blocks)
					for range 10 {
						c := day()
						if v := Judge(&r, &c, accept); v.State == Over {
							flagged++
						}
						judged++
					}
				}
				// Three standard errors above the stated share.
				most := accept*float64(judged) + 3*math.Sqrt(accept*float64(judged))
				t.Logf("%d of %d flagged", flagged, judged)
				if float64(flagged) > most {
					t.Errorf("%d of %d clean days flagged; stated are %g", flagged, judged, accept*float64(judged))
				}
			})
		}
	}
}

func TestDriftIsFound(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 7))
	l := normalLayout(rng)
	blocks := make([]Counts, 28)
	for i := range blocks {
		blocks[i] = drawn(rng, l, 2000, 0.05*rng.NormFloat64(), 1, 0.01)
	}
	r := NewReference(l, blocks)
	for name, c := range map[string]Counts{
		"a shift of .4":     drawn(rng, l, 2000, 0.4, 1, 0.01),
		"a spread of 1.5":   drawn(rng, l, 2000, 0, 1.5, 0.01),
		"missing 6 %":       drawn(rng, l, 2000, 0, 1, 0.06),
		"all beyond":        drawn(rng, l, 2000, 100, 1, 0.01),
		"collapsed":         drawn(rng, l, 2000, 0, 0.01, 0.01),
		"everything is nil": {Rows: 2000, Missing: 2000, Bins: make([]int64, l.Bins())},
	} {
		if v := Judge(&r, &c, DefaultAccept); v.State != Over {
			t.Errorf("%s: %s, %.2f of its limit by %s", name, v.State, v.Ratio, v.By)
		}
	}
}
