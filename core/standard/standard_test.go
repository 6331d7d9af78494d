package standard

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
)

func near(t *testing.T, what string, got, want, by float64) {
	t.Helper()
	if math.IsNaN(got) || math.Abs(got-want) > by {
		t.Errorf("%s: %.8g, want %.8g", what, got, want)
	}
}

// The definitions worked out by hand for 1 to 10, and for 1 to 11 where they agree.
func TestQuantilesAreThoseOfTheirDefinition(t *testing.T) {
	ten := []float64{1, 2, 3, 4, 5, 6, 7, 8, 9, 10}
	for _, c := range []struct {
		q    float64
		want [3]float64 // types 2, 6, 7
	}{{0.25, [3]float64{3, 2.75, 3.25}}, {0.5, [3]float64{5.5, 5.5, 5.5}}, {0.75, [3]float64{8, 8.25, 7.75}},
		{0.1, [3]float64{1.5, 1.1, 1.9}}, {0, [3]float64{1, 1, 1}}, {1, [3]float64{10, 10, 10}}, {0.3, [3]float64{3.5, 3.3, 3.7}}} {
		for i, definition := range []int{2, 6, 7} {
			near(t, "quantile", Quantile(ten, c.q, definition), c.want[i], 1e-12)
		}
	}
	for _, wrong := range []float64{Quantile(nil, 0.5, 7), Quantile(ten, 1.5, 7), Quantile(ten, 0.5, 3)} {
		if !math.IsNaN(wrong) {
			t.Errorf("what has no quantile has %g", wrong)
		}
	}
}

// Hollander and Wolfe's depression scores: the published estimate of the change is −0.46.
func TestHodgesAndLehmannsEstimatesArePublishedOnes(t *testing.T) {
	before := []float64{1.83, 0.50, 1.62, 2.48, 1.68, 1.88, 1.55, 3.06, 1.30}
	after := []float64{0.878, 0.647, 0.598, 2.05, 1.06, 1.29, 1.06, 3.14, 1.29}
	change := make([]float64, len(before))
	for i := range change {
		change[i] = after[i] - before[i]
	}
	near(t, "the median of means of pairs", HodgesLehmann(change), -0.46, 1e-9)
	// And of any values what all pairs say, one by one.
	rng := rand.New(rand.NewPCG(1, 7))
	for range 60 {
		a, b := make([]float64, 1+rng.IntN(9)), make([]float64, 1+rng.IntN(9))
		for i := range a {
			a[i] = math.Round(4 * rng.NormFloat64())
		}
		for i := range b {
			b[i] = math.Round(4*rng.NormFloat64()) / 4
		}
		var means, off []float64
		for i := range a {
			for j := i; j < len(a); j++ {
				means = append(means, (a[i]+a[j])/2)
			}
			for _, v := range b {
				off = append(off, v-a[i])
			}
		}
		slices.Sort(means)
		slices.Sort(off)
		near(t, "median of means", HodgesLehmann(a), Quantile(means, 0.5, 2), 1e-9)
		near(t, "median of differences", Shift(a, b), Quantile(off, 0.5, 2), 1e-9)
	}
	large := make([]float64, 200_000)
	for i := range large {
		large[i] = 5 + rng.NormFloat64()
	}
	near(t, "of many values", HodgesLehmann(large), 5, 0.02)
	if !math.IsNaN(HodgesLehmann(nil)) || !math.IsNaN(Shift(nil, large)) {
		t.Error("nothing has an estimate")
	}
}

// Tables of the two-sample test have 20, 2 and 90 of the 252 ways for two samples of five
// (Massey 1952); with ties the ways are counted here one by one.
func TestSmirnovsChanceIsCountedExactly(t *testing.T) {
	five := []float64{1, 2, 3, 4, 5}
	for _, c := range []struct {
		other   []float64
		d, ways float64
	}{{[]float64{6, 7, 8, 9, 10}, 1, 2}, {[]float64{4.5, 5.5, 6.5, 7.5, 8.5}, 0.8, 20}, {[]float64{3.5, 4.5, 6.5, 7.5, 8.5}, 0.6, 90}} {
		d, p, exact := Smirnov(five, c.other)
		near(t, "D", d, c.d, 1e-12)
		near(t, "p", p, c.ways/252, 1e-12)
		if !exact {
			t.Error("small samples are counted")
		}
	}
	rng := rand.New(rand.NewPCG(2, 2))
	for range 20 {
		all := make([]float64, 9)
		for i := range all {
			all[i] = float64(rng.IntN(4))
		}
		d, p, _ := Smirnov(all[:4], all[4:])
		as, of := 0, 0
		for set := range 1 << 9 {
			var a, b []float64
			for i, v := range all {
				if set&(1<<i) != 0 {
					a = append(a, v)
				} else {
					b = append(b, v)
				}
			}
			if len(a) == 4 {
				of++
				if other, _, _ := Smirnov(a, b); other >= d-1e-12 {
					as++
				}
			}
		}
		near(t, "with ties", p, float64(as)/float64(of), 1e-12)
	}
	a, b := make([]float64, 1990), make([]float64, 2000)
	for i := range a {
		a[i] = rng.NormFloat64()
	}
	for i := range b {
		b[i] = rng.NormFloat64()
	}
	d, counted, exact := Smirnov(a, b)
	if near(t, "the limit is near what is counted", limit(d*math.Sqrt(1990*2000/3990.0)), counted, 0.02); !exact {
		t.Error("two thousand are counted")
	}
	if d, p, _ := Smirnov(a, a); d != 0 || p != 1 {
		t.Errorf("a sample beside itself: %g, %g", d, p)
	}
	if d, _, _ := Smirnov(nil, a); !math.IsNaN(d) {
		t.Errorf("nothing beside something: %g", d)
	}
}

// Clopper and Pearson's bounds as tables print them: 0 of 10, 10 of 100, and the closed
// form of none, 1 − (α/2)^(1/n).
func TestExactBoundsOfASharesAreThoseOfTables(t *testing.T) {
	for _, c := range []struct {
		k, n      int
		low, high float64
	}{{0, 10, 0, 0.3085}, {10, 100, 0.0490, 0.1762}, {10, 10, 0.6915, 1}, {1, 20, 0.0013, 0.2487}} {
		low, high := ClopperPearson(c.k, c.n, 0.95)
		near(t, "low", low, c.low, 5e-5)
		near(t, "high", high, c.high, 5e-5)
	}
	for _, n := range []int{1, 7, 1000} {
		_, high := ClopperPearson(0, n, 0.95)
		near(t, "of none", high, 1-math.Pow(0.025, 1/float64(n)), 1e-9)
	}
	if low, _ := ClopperPearson(3, 2, 0.95); !math.IsNaN(low) {
		t.Error("three of two")
	}
}

func TestDistancesOfCountsAreAsDefined(t *testing.T) {
	a, b := []int64{50, 50}, []int64{40, 60}
	near(t, "PSI", PSI(a, b), -0.1*math.Log(0.8)+0.1*math.Log(1.2), 1e-12)
	near(t, "Jensen-Shannon", JensenShannon([]int64{10, 0}, []int64{0, 30}), 1, 1e-12)
	near(t, "Jensen-Shannon", JensenShannon(a, []int64{500, 500}), 0, 1e-12)
	if !math.IsInf(PSI([]int64{1, 0}, []int64{1, 1}), 1) {
		t.Error("a bin that is empty in one of them is infinitely far")
	}
	near(t, "MAD", MAD([]float64{1, 1, 2, 2, 4, 6, 9}), 1, 0)
}

// The recursion by hand, and that without damping it is Holt's line.
func TestHoltsRecursionIsTheTextbooks(t *testing.T) {
	h := Smooth([]float64{10, 12, 13}, 0.5, 0.4, 0.9, 9, 1)
	// 9.9 → l 9.95, b .4·.95+.6·.9 = .92; 10.778 → l 11.389, b .4·1.439+.6·.828 = 1.0724; 12.35416 → l 12.67708
	near(t, "level", h.Level, 12.67708, 1e-9)
	near(t, "trend", h.Trend, 0.4*(12.67708-11.389)+0.6*0.9*1.0724, 1e-9)
	near(t, "ahead", h.Ahead(2), h.Level+(0.9+0.81)*h.Trend, 1e-12)
	line := make([]float64, 60)
	for i := range line {
		line[i] = 3 + 2*float64(i)
	}
	near(t, "a line goes on", Smooth(line, 0.3, 0.2, 1, 1, 2).Ahead(10), 3+2*69, 1e-9)
	rng := rand.New(rand.NewPCG(3, 8))
	for i := range line {
		line[i] += rng.NormFloat64()
	}
	fitted, ok := FitHolt(line)
	if !ok || math.Abs(fitted.Ahead(1)-123) > 4 || fitted.SSE/60 > 2 {
		t.Errorf("fitted to a line with noise: %+v, ahead %g", fitted, fitted.Ahead(1))
	}
	if _, ok := FitHolt(line[:4]); ok {
		t.Error("four values are fitted")
	}
	if same, ok := FitHolt(slices.Repeat([]float64{7}, 9)); !ok || same.Ahead(5) != 7 {
		t.Errorf("constant values: %+v", same)
	}
}

// Values drawn by inversion from known tails: shape and scale come back, and so does a
// value that one in ten thousand passes.
func TestATailComesBack(t *testing.T) {
	for _, shape := range []float64{-0.2, 0, 0.25} {
		rng := rand.New(rand.NewPCG(4, uint64(100+100*shape)))
		values := make([]float64, 100_000)
		for i := range values {
			u := rng.Float64()
			if values[i] = -2 * math.Log(1-u); shape != 0 {
				values[i] = 2 / shape * (math.Pow(1-u, -shape) - 1)
			}
		}
		slices.Sort(values)
		p, ok := FitPareto(values, 0.9)
		if !ok || math.Abs(p.Shape-shape) > 0.05 {
			t.Errorf("shape %g: %+v", shape, p)
		}
		near(t, "the tail begins with its share", p.Beyond(p.Threshold), 0.1, 1e-3)
		near(t, "level and chance undo each other", p.Beyond(p.Level(0.003)), 0.003, 1e-9)
		want := Quantile(values, 0.9999, 7)
		near(t, "one in ten thousand", p.Level(1e-4)/want, 1, 0.2)
	}
	if _, ok := FitPareto([]float64{1, 2, 3}, 0.5); ok {
		t.Error("three values have a tail")
	}
}
