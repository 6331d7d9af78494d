package drift

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"
)

// tally counts rows of some words.
func tally(l *Layout, rows map[string]int64) Counts {
	c := NewCounts(l)
	for word, n := range rows {
		if n > 0 {
			c.Words(l, word, n)
		}
	}
	return c
}

func TestARareValueThatBecomesCommonIsOver(t *testing.T) {
	const rows = 40_000
	days := func(n int64, often func(day int64) int64) (l *Layout, blocks []Counts) {
		l = WordLayout(Boolean, map[string]int64{"no": rows - 20, "yes": 20}, false)
		for day := range n {
			blocks = append(blocks, tally(l, map[string]int64{"no": rows/n - often(day), "yes": often(day)}))
		}
		return l, blocks
	}
	for name, c := range map[string]struct {
		days  int64
		often func(day int64) int64 // twenty in all
		is    int64                 // of 5,000
		over  bool
	}{
		"without days, as ever":           {1, func(int64) int64 { return 20 }, 4, false},
		"without days, ten times as many": {1, func(int64) int64 { return 20 }, 25, true},
		"without days, all":               {1, func(int64) int64 { return 20 }, 5000, true},
		"even days, as ever":              {20, func(int64) int64 { return 1 }, 4, false},
		"even days, ten times as many":    {20, func(int64) int64 { return 1 }, 25, true},
		"all of them came on one day":     {20, func(day int64) int64 { return 20 * (1 - min(day, 1)) }, 25, false},
	} {
		l, blocks := days(c.days, c.often)
		r := NewReference(l, blocks)
		period := tally(l, map[string]int64{"no": 5000 - c.is, "yes": c.is})
		if v := Judge(&r, &period, DefaultAccept); (v.State == Over) != c.over {
			t.Errorf("%s: %s at %.2f of its limit by %s", name, v.State, v.Ratio, v.By)
		}
	}
}

func TestCleanColumnsOfManyCategoriesAreLeftAlone(t *testing.T) {
	const accept, rounds = 0.01, 150
	for _, c := range []struct {
		words, reference, period int
		even                     bool
	}{{120, 150, 1500, false}, {400, 900, 900, false}, {3000, 4000, 40_000, false}, {2500, 60_000, 20_000, true},
		{700, 100_000, 3000, false}} {
		rng := rand.New(rand.NewPCG(uint64(c.words), 5))
		draw := func(n int, sums []float64) map[string]int64 {
			times := make([]int64, len(sums))
			for range n {
				x, low := rng.Float64()*sums[len(sums)-1], 0
				for high := len(sums) - 1; low < high; {
					if mid := (low + high) / 2; sums[mid] < x {
						low = mid + 1
					} else {
						high = mid
					}
				}
				times[low]++
			}
			counts := map[string]int64{}
			for word, n := range times {
				if n > 0 {
					counts[fmt.Sprint("word ", word)] = n
				}
			}
			return counts
		}
		flagged := 0
		for range rounds {
			sums, sum := make([]float64, c.words), 0.0
			for i := range sums {
				share := 1.0
				if !c.even {
					share = math.Exp(1.4 * rng.NormFloat64())
				}
				sum += share
				sums[i] = sum
			}
			was := draw(c.reference, sums)
			l := WordLayout(Category, was, false)
			r := NewReference(l, []Counts{tally(l, was)})
			period := tally(l, draw(c.period, sums))
			if v := Judge(&r, &period, accept); v.State == Over {
				flagged++
			}
		}
		// Three standard errors above the stated share.
		if most := accept*rounds + 3*math.Sqrt(accept*rounds); float64(flagged) > most {
			t.Errorf("%d words, %d rows against %d: %d of %d clean columns are over", c.words, c.period, c.reference, flagged, rounds)
		}
	}
}

func TestAShapeIsFoundThatLeavesMeanAndSpreadAlone(t *testing.T) {
	rng := rand.New(rand.NewPCG(4, 4))
	l := normalLayout(rng)
	var blocks []Counts
	for range 28 {
		blocks = append(blocks, drawn(rng, l, 2000, 0.03*rng.NormFloat64(), 1, 0))
	}
	r := NewReference(l, blocks)
	period := NewCounts(l)
	for range 2000 { // two humps, mean 0, standard deviation 1
		x := 0.85
		if rng.IntN(2) == 0 {
			x = -x
		}
		period.Number(l, x+math.Sqrt(1-0.85*0.85)*rng.NormFloat64())
	}
	if v := Judge(&r, &period, DefaultAccept); v.State != Over {
		t.Errorf("%s at %.2f of its limit by %s", v.State, v.Ratio, v.By)
	}
}
