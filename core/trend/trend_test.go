package trend

import (
	"errors"
	"math"
	"math/rand/v2"
	"slices"
	"sync"
	"testing"
)

// nile is the yearly flow of the Nile at Aswan, 1871 to 1970, in 10^8 m³ (Cobb 1978).
var nile = []float64{1120, 1160, 963, 1210, 1160, 1160, 813, 1230, 1370, 1140, 995, 935, 1110, 994, 1020, 960, 1180, 799, 958,
	1140, 1100, 1210, 1150, 1250, 1260,
	1220, 1030, 1100, 774, 840, 874, 694, 940, 833, 701, 916, 692, 1020, 1050, 969, 831, 726, 456, 824, 702, 1120, 1100, 832, 764, 821,
	768, 845, 864, 862, 698, 845, 744, 796, 1040, 759, 781, 865, 845, 944, 984, 897, 822, 1010, 771, 676, 649, 846, 812, 742, 801,
	1040, 860, 874, 848, 890, 744, 749, 838, 1050, 918, 986, 797, 923, 975, 815, 1020, 906, 901, 1170, 912, 746, 919, 718, 714, 740}

func test(t *testing.T, r Result, name string) Test {
	t.Helper()
	i := slices.IndexFunc(r.Tests, func(x Test) bool { return x.Name == name })
	if i < 0 {
		t.Fatalf("no test %s", name)
	}
	return r.Tests[i]
}

// Values that Zeileis et al. (2003, Computational Statistics & Data Analysis 44) and their
// package print for the Nile: sup F 75.93 with the change after 1898; OLS-CUSUM 2.9518 with
// p 5.4e-08. Bai's interval there is 1895 to 1902.
func TestTheNileGivesPublishedValues(t *testing.T) {
	r, err := Look(nile, Options{Independent: true, Draws: -1})
	if err != nil {
		t.Fatal(err)
	}
	if f := test(t, r, SupF); math.Abs(f.Statistic-75.93) > 0.005 || f.P > 1e-13 {
		t.Errorf("sup F %.4f, p %g", f.Statistic, f.P)
	}
	if c := test(t, r, CUSUM); math.Abs(c.Statistic-2.9518) > 5e-5 || math.Abs(c.P/5.409e-8-1) > 0.001 {
		t.Errorf("CUSUM %.5f, p %g", c.Statistic, c.P)
	}
	if year := 1871 + r.Step.At; year != 1899 || r.Better != "step" || r.Step.Low != 25 || r.Step.High < 31 || r.Step.High > 32 {
		t.Errorf("the first year after the change is %d, %+v, %s", year, r.Step, r.Better)
	}
	if math.Abs(r.Step.Before-1097.75) > 0.01 || math.Abs(r.Step.After-849.97) > 0.01 {
		t.Errorf("levels %+v", r.Step)
	}
}

// Statistics that are sums over pairs agree with counting every pair.
func TestRanksAgreeWithCountingPairs(t *testing.T) {
	rng := rand.New(rand.NewPCG(2, 7))
	for range 30 {
		y := make([]float64, 20+rng.IntN(40))
		for i := range y {
			y[i] = float64(rng.IntN(12)) // many ties
		}
		s := seasonless(y, 0)
		n := len(y)
		concordance, most := 0.0, 0.0
		for k := 1; k < n; k++ {
			u := 0.0
			for i := range k {
				for j := k; j < n; j++ {
					u += sign(y[i] - y[j])
				}
			}
			most = math.Max(most, math.Abs(u))
			for i := range k {
				concordance += sign(y[k] - y[i])
			}
		}
		if got, _ := s.kendall(); got != concordance {
			t.Fatalf("Kendall %g, want %g", got, concordance)
		}
		if got := s.pettitt(); got != most {
			t.Fatalf("Pettitt %g, want %g", got, most)
		}
	}
	// Kendall's variance without ties is n(n-1)(2n+5)/18.
	if _, v := (series{t: make([]float64, 10), y: []float64{1, 2, 3, 4, 5, 6, 7, 8, 9, 10}}).kendall(); v != 125 {
		t.Errorf("the variance of ten is %g, want 125", v)
	}
}

// memory makes a series that owes rho of each value to the one before.
func memory(rng *rand.Rand, n int, rho float64) []float64 {
	y, v := make([]float64, n), 0.0
	for i := -100; i < n; i++ {
		if v = rho*v + rng.NormFloat64()*math.Sqrt(1-rho*rho); i >= 0 {
			y[i] = v
		}
	}
	return y
}

// found counts how often each test's bootstrap finds something at .05.
func found(runs int, make func(rng *rand.Rand) []float64) (share [6]float64) {
	var mu sync.Mutex
	var wait sync.WaitGroup
	for worker := range 4 {
		wait.Go(func() {
			for i := worker; i < runs; i += 4 {
				rng := rand.New(rand.NewPCG(uint64(i), 99))
				r, err := Look(make(rng), Options{Draws: 99, Seed: uint64(i)})
				if err != nil {
					panic(err)
				}
				mu.Lock()
				for k, x := range r.Tests {
					if x.Bootstrap <= 0.05 {
						share[k] += 1 / float64(runs)
					}
				}
				mu.Unlock()
			}
		})
	}
	wait.Wait()
	return share
}

// Where chance alone changes a series, every test says so as often as it states, be what
// a value owes to the one before 0, .4 or .7; and power is there. (At 400 runs a share of
// .05 is known to .022, 95 % of the time.)
func TestSizesAreWhatIsStatedAndPowerIsThere(t *testing.T) {
	const n, runs = 120, 400
	for _, rho := range []float64{0, 0.4, 0.7} {
		size := found(runs, func(rng *rand.Rand) []float64 { return memory(rng, n, rho) })
		t.Logf("rho %.1f: size %.3f", rho, size)
		for k, s := range size {
			if s < 0.03-0.011 || s > 0.08 {
				t.Errorf("%s at rho %.1f: size %.3f", names[k], rho, s)
			}
		}
		grows := found(runs/4, func(rng *rand.Rand) []float64 {
			y := memory(rng, n, rho)
			for i := range y {
				y[i] += 2.5 * float64(i) / n
			}
			return y
		})
		steps := found(runs/4, func(rng *rand.Rand) []float64 {
			y := memory(rng, n, rho)
			for i := n / 2; i < n; i++ {
				y[i] += 1.5
			}
			return y
		})
		t.Logf("rho %.1f: power of a trend of 2.5 sd %.2f, of a step of 1.5 sd %.2f", rho, grows, steps)
		if least := map[float64]float64{0: 0.95, 0.4: 0.85, 0.7: 0.4}[rho]; grows[1] < least || steps[3] < least {
			t.Errorf("power at rho %.1f: trend %.2f, step %.2f", rho, grows, steps)
		}
	}
}

// The week's shape, missing days and a single wild value do not make a trend.
func TestTheSeasonGapsAndAnOddDayMakeNoTrend(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 5))
	y := make([]float64, 140)
	for i := range y {
		y[i] = 100 + 40*float64(i%7) + 3*rng.NormFloat64()
		if i%11 == 0 {
			y[i] = math.NaN()
		}
	}
	y[130] = 5000
	r, err := Look(y, Options{Season: 7, Draws: 199, Seed: 1})
	if err != nil {
		t.Fatal(err)
	}
	if test(t, r, Kendall).Bootstrap < 0.05 || test(t, r, Pettitt).Bootstrap < 0.05 || r.Low > 0 || r.High < 0 || r.N != 127 {
		t.Errorf("%+v", r)
	}
	for i := range y {
		y[i] += 0.2 * float64(i)
	}
	if r, err = Look(y, Options{Season: 7, Draws: 199, Seed: 1}); err != nil || test(t, r, Kendall).Bootstrap > 0.01 ||
		r.Slope < 0.15 || r.Slope > 0.25 || r.Low > 0.2 || r.High < 0.2 {
		t.Errorf("a slope of .2: %+v, %v", r, err)
	}
}

func TestWhatCannotBeTestedSaysWhy(t *testing.T) {
	var short TooShort
	gone := []float64{math.NaN(), math.NaN()}
	for name, y := range map[string][]float64{"empty": nil, "three": {1, 2, 3}, "all missing": slices.Repeat(gone, 50)} {
		if _, err := Look(y, Options{}); !errors.As(err, &short) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := Look(slices.Repeat([]float64{4}, 60), Options{}); !errors.Is(err, ErrConstant) {
		t.Errorf("constant: %v", err)
	}
	if _, err := Look(append(slices.Clone(nile), math.Inf(1)), Options{}); err == nil {
		t.Error("infinite is tested")
	}
	long := memory(rand.New(rand.NewPCG(1, 1)), 1_000_000, 0.2)
	if r, err := Look(long, Options{Draws: -1}); err != nil || r.N != Most {
		t.Errorf("a million values: %d, %v", r.N, err)
	}
	mostly := make([]float64, 90) // zeros, and one that is not
	mostly[40] = 1
	if r, err := Look(mostly, Options{Draws: 99}); err != nil || test(t, r, Kendall).Bootstrap < 0.05 {
		t.Errorf("one odd value: %+v, %v", r, err)
	}
}
