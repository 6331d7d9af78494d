package drift

import (
	"fmt"
	"math"
	"math/rand/v2"
	"reflect"
	"slices"
	"sort"
	"testing"
)

func near(t *testing.T, what string, got, want, within float64) {
	t.Helper()
	if !(math.Abs(got-want) <= within) {
		t.Errorf("%s is %.6g, wanted %.6g within %g", what, got, want, within)
	}
}

func TestChiSquareAgreesWithThePublishedAspirinStudy(t *testing.T) {
	// Myocardial infarctions under placebo and aspirin (Agresti, Categorical Data
	// Analysis, table 2.1): X² = 25.01 at one degree of freedom.
	statistic, freedom, p := ChiSquare([]int64{189, 10845}, []int64{104, 10933})
	near(t, "chi-square", statistic, 25.01, 0.005)
	if freedom != 1 || p > 1e-6 || p < 1e-7 {
		t.Errorf("%d degrees of freedom, p = %g", freedom, p)
	}
	if _, freedom, p := ChiSquare([]int64{5, 0, 7}, []int64{6, 0, 4}); freedom != 1 || p < 0.05 {
		t.Errorf("a bin empty in both counts: %d degrees of freedom, p = %g", freedom, p)
	}
	if statistic, _, p := ChiSquare([]int64{5, 7}, []int64{0, 0}); statistic != 0 || p != 1 {
		t.Errorf("nothing to compare with: %g, p = %g", statistic, p)
	}
}

func TestKolmogorovsDistributionAgreesWithSmirnovsTable(t *testing.T) {
	// Smirnov 1948: the upper tenth, twentieth and hundredth.
	for x, p := range map[float64]float64{1.2239: 0.10, 1.3581: 0.05, 1.6276: 0.01, 0.1: 1} {
		near(t, "the tail", kolmogorov(x), p, 5e-5)
	}
	d, _ := KolmogorovSmirnov([]int64{10, 20, 30, 40}, []int64{40, 30, 20, 10})
	near(t, "the largest distance", d, 0.4, 1e-12)
	if d, p := KolmogorovSmirnov([]int64{7, 3}, []int64{70, 30}); d > 1e-12 || p != 1 {
		t.Errorf("equal shares are %g apart, p = %g", d, p)
	}
}

func TestPSIAndJensenShannonAgreeWithTheirFormulas(t *testing.T) {
	// Shares .5 .3 .2 and .4 .3 .3, so many that smoothing does not show:
	// .1 ln(.5/.4) + .1 ln(.3/.2) = .06286.
	a, b := []int64{5e8, 3e8, 2e8}, []int64{4e8, 3e8, 3e8}
	near(t, "PSI", PSI(a, b), 0.0628608, 1e-6)
	near(t, "PSI the other way round", PSI(b, a), PSI(a, b), 1e-12)
	// (1/2, 1/2) against (1, 0): divergence 0.311278 bits.
	near(t, "Jensen-Shannon", JensenShannon([]int64{5e8, 5e8}, []int64{1e9, 0}), math.Sqrt(0.311278), 1e-5)
	near(t, "Jensen-Shannon without overlap", JensenShannon([]int64{1e9, 0}, []int64{0, 1e9}), 1, 1e-6)
	near(t, "Jensen-Shannon of equals", JensenShannon(a, a), 0, 1e-9)
}

func TestPSIOfCleanPairsIsWhatItsDistributionSays(t *testing.T) {
	// (K-1)(1/n+1/m): .0900 at 200 and 200 rows over ten bins.
	rng := rand.New(rand.NewPCG(4, 4))
	mean, rounds := 0.0, 4000
	for range rounds {
		a, b := make([]int64, 10), make([]int64, 10)
		for range 200 {
			a[rng.IntN(10)]++
			b[rng.IntN(10)]++
		}
		mean += PSI(a, b) / float64(rounds)
	}
	near(t, "mean PSI", mean, 0.0885, 0.003)
}

// countAll counts numbers over a layout.
func countAll(l *Layout, values ...float64) Counts {
	c := NewCounts(l)
	for _, x := range values {
		c.Number(l, x)
	}
	return c
}

func layoutOf(values ...float64) *Layout {
	return NumberLayout(Number, values, slices.Min(values), slices.Max(values))
}

func TestWassersteinIsHowFarValuesMoved(t *testing.T) {
	l := layoutOf(0, 1, 3)
	before, moved := countAll(l, 0, 1, 3), countAll(l, 5, 6, 8)
	near(t, "0 1 3 against 5 6 8", Wasserstein(l, &before, &moved), 5, 1e-9)
	swapped := countAll(l, 0, 0, 3)
	near(t, "a third moved by one", Wasserstein(l, &before, &swapped), 1.0/3, 1e-9)

	// Of continuous values: a shift by .25, whatever its direction.
	rng := rand.New(rand.NewPCG(8, 1))
	l = normalLayout(rng)
	for _, shift := range []float64{0.25, -0.25, 3} {
		a, b := NewCounts(l), NewCounts(l)
		for range 40000 {
			x := rng.NormFloat64()
			a.Number(l, x)
			b.Number(l, x+shift)
		}
		near(t, "a shift", Wasserstein(l, &a, &b), math.Abs(shift), 0.02*math.Abs(shift)+0.004)
	}
}

func TestCountsOfDaysAddUpToCountsOfAll(t *testing.T) {
	rng := rand.New(rand.NewPCG(2, 3))
	l := normalLayout(rng)
	whole, days := NewCounts(l), make([]Counts, 5)
	for i := range days {
		days[i] = NewCounts(l)
		for range 700 {
			x := 2 * rng.NormFloat64()
			switch rng.IntN(50) {
			case 0:
				x = math.NaN()
			case 1:
				x = math.Inf(1)
			}
			days[i].Number(l, x)
			whole.Number(l, x)
		}
	}
	sum := Total(l, days)
	if !slices.Equal(sum.Bins, whole.Bins) || sum.Missing != whole.Missing || sum.Unreadable != whole.Unreadable ||
		sum.Min != whole.Min || sum.Max != whole.Max {
		t.Errorf("the days add up to %+v, all are %+v", sum, whole)
	}
	if whole.Missing == 0 || whole.Unreadable == 0 {
		t.Fatal("the rows should hold some of both")
	}
	mean, sd := sum.Mean(l)
	near(t, "mean", mean, 0, 0.12)
	near(t, "sd", sd, 2, 0.1)
	near(t, "median", sum.Quantile(l, 0.5), 0, 0.12)
	near(t, "upper tenth", sum.Quantile(l, 0.9), 2*1.2816, 0.2)

	words := WordLayout(Category, map[string]int64{"web": 60, "kiosk": 30}, false)
	a, b := NewCounts(words), NewCounts(words)
	a.Words(words, "web", 5)
	a.Word(words, []byte("pigeon"))
	b.Words(words, "pigeon", 3)
	b.Nothing(false)
	a.Join(&b)
	if a.Rows != 10 || a.Values() != 9 || a.Fresh != 4 || a.New["pigeon"] != 4 || a.Bins[0] != 5 || a.Bins[2] != 4 {
		t.Errorf("categories add up to %+v", a)
	}
}

func TestEveryValueHasExactlyOneBin(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 5))
	for name, draw := range map[string]func() float64{
		"normal":        rng.NormFloat64,
		"skewed":        func() float64 { return math.Exp(2 * rng.NormFloat64()) },
		"few values":    func() float64 { return float64(rng.IntN(6)) },
		"one value":     func() float64 { return 7 },
		"mostly zeroes": func() float64 { return max(0, rng.NormFloat64()-1) },
	} {
		values := make([]float64, 5000)
		for i := range values {
			values[i] = draw()
		}
		l := layoutOf(values...)
		if !slices.IsSorted(l.Edges) || len(slices.Compact(slices.Clone(l.Edges))) != len(l.Edges) {
			t.Errorf("%s: edges do not ascend: %v", name, l.Edges)
		}
		for _, x := range append(values[:200:200], -1e9, 1e9, l.Edges[0], l.Edges[len(l.Edges)-1]) {
			bin := l.Bin(x)
			if bin > 0 && x < l.Edges[bin-1] || bin < len(l.Edges) && x >= l.Edges[bin] {
				t.Fatalf("%s: %g is in bin %d", name, x, bin)
			}
		}
		c := countAll(l, values...)
		if c.Bins[0] != 0 || c.Bins[len(c.Bins)-1] != 0 {
			t.Errorf("%s: %d and %d of the reference's own values lie outside its range", name, c.Bins[0], c.Bins[len(c.Bins)-1])
		}
	}
}

func TestAShiftNamesWhereValuesWentAndCameFrom(t *testing.T) {
	bars := func(labelled bool, shares ...float64) (list []Bar) {
		for i := 0; i < len(shares); i += 2 {
			b := Bar{From: float64(i / 2), To: float64(i/2 + 1), Reference: shares[i], Period: shares[i+1]}
			if labelled {
				b.Label = string(rune('a' + i/2))
			}
			list = append(list, b)
		}
		return list
	}
	for name, c := range map[string]struct {
		layout       Layout
		bars         []Bar
		gained, lost Shift
	}{
		"numbers, the ends hardly changed": {Layout{Kind: Number}, bars(false, .2, .21, .1, .2, .1, .2, .3, .1, .3, .29),
			Shift{1, 3, "", .2, .4}, Shift{3, 4, "", .3, .1}},
		"values": {Layout{Kind: Number, Discrete: true}, bars(true, .5, .2, .1, .3, .1, .2, .3, .3),
			Shift{1, 2, "", .2, .5}, Shift{0, 1, "a", .5, .2}},
		"categories": {Layout{Kind: Category}, bars(true, .5, .2, .1, .35, .4, .45),
			Shift{1, 2, "b", .1, .35}, Shift{0, 1, "a", .5, .2}},
	} {
		gained, lost := Shifts(&c.layout, c.bars)
		for what, pair := range map[string][2]Shift{"gained": {*gained, c.gained}, "lost": {*lost, c.lost}} {
			if got, want := pair[0], pair[1]; got.From != want.From || got.To != want.To || got.Label != want.Label ||
				math.Abs(got.Was-want.Was) > 1e-9 || math.Abs(got.Is-want.Is) > 1e-9 {
				t.Errorf("%s %s: %+v, wanted %+v", name, what, got, want)
			}
		}
	}
	if gained, lost := Shifts(&Layout{Kind: Number}, bars(false, .5, .5, .5, .5)); gained != nil || lost != nil {
		t.Errorf("nothing changed, and yet %+v, %+v", gained, lost)
	}
}

func TestASketchIsAFairSampleInFixedMemory(t *testing.T) {
	s := NewSketch(Number, 9)
	const n = 1_000_000
	for i := range n {
		s.Number(float64(i))
	}
	s.Number(math.NaN())
	if len(s.sample) != sketched {
		t.Fatalf("%d values are kept", len(s.sample))
	}
	l := s.Layout()
	if l.Edges[0] != 0 || l.Edges[len(l.Edges)-1] <= n-1 {
		t.Errorf("the range is %g to %g", l.Edges[0], l.Edges[len(l.Edges)-1])
	}
	// Quantiles of 32,768 of a million uniform values: sd .003 of the range at most.
	for i := 1; i < fineBins-2; i += 25 {
		near(t, "a quantile", l.Edges[i]/n, float64(i)/(fineBins-1), 0.012)
	}
	words := NewSketch(Category, 1)
	for i := range 200_000 {
		words.Word([]byte{byte(i), byte(i >> 8), byte(i >> 16)})
	}
	if l := words.Layout(); !l.Many || len(l.Words) != 0 || len(l.Rest) != 0 || len(words.words) > wordsCounted {
		t.Errorf("200,000 categories: %d words, %d more, many %v", len(l.Words), len(l.Rest), l.Many)
	}
}

func TestBarsHoldAllValuesOfBothSides(t *testing.T) {
	rng := rand.New(rand.NewPCG(6, 2))
	normal := normalLayout(rng)
	few := layoutOf(0, 1, 2, 3, 4)
	words := WordLayout(Category, map[string]int64{"a": 9, "b": 5, "c": 1}, false)
	var x, y, v, w Counts = NewCounts(normal), NewCounts(normal), NewCounts(few), NewCounts(few)
	for range 3000 {
		x.Number(normal, rng.NormFloat64())
		y.Number(normal, 1+2*rng.NormFloat64())
		v.Number(few, float64(rng.IntN(5)))
		w.Number(few, float64(rng.IntN(7)-1))
	}
	a, b := NewCounts(words), NewCounts(words)
	a.Words(words, "a", 9)
	a.Words(words, "b", 6)
	b.Words(words, "a", 3)
	b.Words(words, "z", 5)
	for name, bars := range map[string][]Bar{"normal": Histogram(normal, &x, &y), "few": Histogram(few, &v, &w),
		"words": Histogram(words, &a, &b)} {
		was, is := 0.0, 0.0
		for i, bar := range bars {
			was, is = was+bar.Reference, is+bar.Period
			if name == "normal" && i > 0 && bar.From != bars[i-1].To {
				t.Errorf("bars leave a gap at %g", bar.From)
			}
		}
		near(t, name+": the reference's shares", was, 1, 1e-9)
		near(t, name+": the period's shares", is, 1, 1e-9)
	}
	if bars := Histogram(words, &a, &b); bars[len(bars)-1].Label != "z (new)" || bars[len(bars)-1].PSI <= 0 {
		t.Errorf("a new category has no bar of its own: %+v", bars)
	}
	empty := NewCounts(&Layout{Kind: Number})
	if bars := Histogram(&Layout{Kind: Number}, &empty, &empty); len(bars) != 0 {
		t.Errorf("bars of nothing: %+v", bars)
	}
}

// Wherever a number lies, it is counted in the bin that a plain search gives, and many at
// once come to what they come to one by one.
func TestNumbersFindTheirBinWhereverEdgesLie(t *testing.T) {
	rng := rand.New(rand.NewPCG(12, 3))
	shapes := map[string]func() float64{
		"normal": rng.NormFloat64, "heavy": func() float64 { return math.Exp(9 * rng.NormFloat64()) },
		"tiny": func() float64 { return 5e-320 * float64(rng.IntN(4000)) },
		"huge": func() float64 { return 1e308 * (2*rng.Float64() - 1) }, "far": func() float64 { return 1e15 + rng.Float64() },
		"grid": func() float64 { return float64(rng.IntN(90)) / 3 },
	}
	for name, draw := range shapes {
		for _, n := range []int{1, 7, 8, 60, 250} {
			edges := make([]float64, n)
			for i := range edges {
				edges[i] = draw()
			}
			slices.Sort(edges)
			edges = slices.Compact(edges)
			l := &Layout{Kind: Number, Edges: edges}
			l.Ready()
			values := slices.Concat(edges, []float64{math.NaN(), math.Inf(1), -math.MaxFloat64, math.MaxFloat64})
			for range 400 {
				values = append(values, draw())
			}
			for _, e := range edges {
				values = append(values, math.Nextafter(e, math.Inf(1)), math.Nextafter(e, math.Inf(-1)))
			}
			one, many := NewCounts(l), NewCounts(l)
			for _, x := range values {
				one.Number(l, x)
				if x-x != 0 {
					continue
				}
				want := sort.Search(len(edges), func(i int) bool { return edges[i] > x })
				if got := l.Bin(x); got != want {
					t.Fatalf("%s, %d edges: %g lies in bin %d, found in %d", name, len(edges), x, want, got)
				}
			}
			many.Numbers(l, values[:3])
			many.Numbers(l, nil)
			many.Numbers(l, values[3:])
			if !reflect.DeepEqual(one, many) {
				t.Errorf("%s, %d edges: at once %+v, one by one %+v", name, len(edges), many, one)
			}
		}
	}
}

func TestCategoriesAreFoundAsTheyAreOneByOne(t *testing.T) {
	rng := rand.New(rand.NewPCG(12, 4))
	counts := map[string]int64{"": 3}
	for i := range 300 {
		counts[fmt.Sprintf("route %d", i*i)] = int64(1 + i%50)
	}
	for _, many := range []bool{false, true} {
		l := WordLayout(Category, counts, many)
		l.Ready()
		f, one, found := l.Finder(), NewCounts(l), NewCounts(l)
		for range 5000 {
			word := []byte(fmt.Sprintf("route %d", rng.IntN(400)*rng.IntN(3)*rng.IntN(50)))
			if rng.IntN(9) == 0 {
				word = nil
			}
			one.Word(l, word)
			found.Found(f, word)
		}
		if !reflect.DeepEqual(one, found) {
			t.Errorf("one by one %+v, found %+v", one, found)
		}
	}
}
