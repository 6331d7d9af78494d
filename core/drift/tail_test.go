package drift

import (
	"math"
	"math/rand/v2"
	"testing"

	"gonum.org/v1/gonum/mathext"
)

func TestCountLimitsAreExactAndSmoothUpToABillionRows(t *testing.T) {
	// A negative binomial is a regularised incomplete beta function: P(X >= x) =
	// I_odds(x, r) (DLMF 8.17).
	for _, r := range []float64{1, 2, 7.5, 400} {
		for _, mean := range []float64{0.01, 1, 30, 5000, 3e6} {
			l := negativeBinomial(r, mean)
			for _, z := range []float64{1, 3, 5} {
				x := math.Ceil(mean + z*l.sd)
				if got, want := l.above(x), mathext.RegIncBeta(x, r, mean/(r+mean)); math.Abs(got/want-1) > 1e-5 {
					t.Errorf("r %g, mean %g: P(X >= %g) is %g, want %g", r, mean, x, got, want)
				}
			}
			for _, p := range []float64{0.1, 1e-3, 1e-7} {
				x := l.most(p)
				over, before := mathext.RegIncBeta(x+1, r, mean/(r+mean)), 1.0
				if x > 0 {
					before = mathext.RegIncBeta(x, r, mean/(r+mean))
				}
				if over > p*1.0001 || before < p*0.9999 {
					t.Errorf("r %g, mean %g: at most %g but with %g: %g exceed it, %g reach it", r, mean, x, p, over, before)
				}
			}
		}
	}
	// With a + b far beyond the rows it is a binomial, with rows far beyond a + b a
	// beta variable: both by other functions.
	for _, p := range []float64{0.001, 0.3} {
		m := 1000.0
		l := betaBinomial(m, p*1e12, (1-p)*1e12)
		x := math.Ceil(l.mean + 3*l.sd)
		if got, want := l.above(x), mathext.RegIncBeta(x, m-x+1, p); math.Abs(got/want-1) > 1e-2 {
			t.Errorf("binomial, share %g: %g, want %g", p, got, want)
		}
		wide := betaBinomial(1e9, p*5000, (1-p)*5000)
		x = math.Ceil(wide.mean + 3*wide.sd)
		if got, want := wide.above(x), 1-mathext.RegIncBeta(p*5000, (1-p)*5000, (x-0.5)/1e9); math.Abs(got/want-1) > 1e-3 {
			t.Errorf("beta, share %g: %g, want %g", p, got, want)
		}
	}
	// The wider of two samples has the narrower limit, and no size makes one jump.
	for _, share := range []float64{1e-6, 0.001, 0.2, 0.97} {
		before := math.Inf(1)
		for m := 100.0; m <= 1e9; m *= 1.3 {
			m = math.Floor(m)
			l := betaBinomial(m, share*1e6+1, (1-share)*1e6)
			high, low := l.most(1e-4)/m, l.least(1e-4)/m
			if high < share-1e-9 || high > 1 || low > share+1e-9 || low < 0 {
				t.Fatalf("share %g of %g rows: between %g and %g", share, m, low, high)
			}
			if high > before+1/m || before < 2 && m > 1e4 && share > 1e-4 && high < before*0.6 {
				t.Errorf("share %g: the limit goes from %g to %g at %g rows", share, before, high, m)
			}
			before = high
		}
	}
}

// What follows from a wobble that goes one way alone: of each day's own making, all its
// values move together by some of their scale.
func TestDaysThatMoveAsAWholeKeepTheStatedShare(t *testing.T) {
	const accept, references, periods, rows = 0.004, 40, 25, 2000
	for name, draw := range map[string]func(rng *rand.Rand, off float64) float64{
		// The range begins elsewhere each day: the first of a new day lies below all
		// days of the reference in one of twenty-nine.
		"a range that begins elsewhere": func(rng *rand.Rand, off float64) float64 { return off + rng.ExpFloat64() },
		// A move of half a standard deviation takes ranks away from the middle, whichever way.
		"large moves": func(rng *rand.Rand, off float64) float64 { return 2*off + rng.NormFloat64() },
	} {
		rng := rand.New(rand.NewPCG(14, 3))
		flagged := 0
		for range references {
			day := func(add func(float64)) {
				off := 0.1 * rng.NormFloat64()
				for range rows {
					add(draw(rng, off))
				}
			}
			sketch := NewSketch(Number, 1)
			days := make([][]float64, 28)
			for i := range days {
				day(func(x float64) { sketch.Number(x); days[i] = append(days[i], x) })
			}
			l := sketch.Layout()
			blocks := make([]Counts, len(days))
			for i, list := range days {
				blocks[i] = NewCounts(l)
				for _, x := range list {
					blocks[i].Number(l, x)
				}
			}
			r := NewReference(l, blocks)
			for range periods {
				clean := NewCounts(l)
				day(func(x float64) { clean.Number(l, x) })
				if Judge(&r, &clean, accept).State == Over {
					flagged++
				}
			}
		}
		t.Logf("%s: %d of %d", name, flagged, references*periods)
		if expected := accept * references * periods; float64(flagged) > expected+3*math.Sqrt(expected) {
			t.Errorf("%s: %d of %d clean days are flagged; stated are %g", name, flagged, references*periods, expected)
		}
	}
}

func TestRowsBelowARangeThatHoldsAreOver(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 8))
	l := NumberLayout(Number, func() (list []float64) {
		for range 5000 {
			list = append(list, rng.ExpFloat64())
		}
		return list
	}(), 0, 12)
	blocks := make([]Counts, 28)
	day := func(below int) Counts {
		c := NewCounts(l)
		for range 2000 - below {
			c.Number(l, rng.ExpFloat64())
		}
		for range below {
			c.Number(l, -rng.Float64())
		}
		return c
	}
	for i := range blocks {
		blocks[i] = day(0)
	}
	r := NewReference(l, blocks)
	for below, want := range map[int]string{0: AsExpected, 12: Over} {
		if c := day(below); Judge(&r, &c, DefaultAccept).State != want {
			t.Errorf("%d of 2,000 below zero, where none ever was: not %s", below, want)
		}
	}
}
