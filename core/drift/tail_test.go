package drift

import (
	"math"
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
