package drift

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
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
					return drawn(rng, l, rows, wobble*rng.NormFloat64(), math.Exp(0.6*wobble*rng.NormFloat64()),
						0.02*math.Exp(4*wobble*rng.NormFloat64()))
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

func TestFewBlocksOfReferenceKeepTheStatedShareToo(t *testing.T) {
	// Five weeks of seven days, each week and each day off by some of its own: what
	// is not known of the wobble must not be taken for none.
	const accept, weeks, rows = 0.01, 5, 3000
	for _, finer := range []bool{false, true} {
		rng := rand.New(rand.NewPCG(9, 41))
		l := normalLayout(rng)
		flagged, found, judged := 0, 0, 0
		week := func(shift float64) (days []Counts) {
			off := shift + 0.04*rng.NormFloat64()
			for range 7 {
				days = append(days, drawn(rng, l, rows, off+0.04*rng.NormFloat64(), 1, 0.01))
			}
			return days
		}
		for range 150 {
			var blocks, days []Counts
			for range weeks {
				one := week(0)
				blocks, days = append(blocks, Total(l, one)), append(days, one...)
			}
			r := NewReference(l, blocks)
			if finer {
				r.Refine(days)
			}
			for range 6 {
				clean, shifted := Total(l, week(0)), Total(l, week(0.7))
				judged++
				if v := Judge(&r, &clean, accept); v.State == Over {
					flagged++
				}
				if v := Judge(&r, &shifted, accept); v.State == Over {
					found++
				}
			}
		}
		t.Logf("finer %v: %d of %d clean weeks flagged, %d shifted ones found", finer, flagged, judged, found)
		if most := accept*float64(judged) + 3*math.Sqrt(accept*float64(judged)); float64(flagged) > most {
			t.Errorf("%d of %d clean weeks flagged; stated are %g", flagged, judged, accept*float64(judged))
		}
		if float64(found) < 0.9*float64(judged) {
			t.Errorf("%d of %d weeks that moved by .7 sd are found", found, judged)
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

func TestCleanCategoriesAreFlaggedNoMoreOftenThanStated(t *testing.T) {
	const accept, days = 0.01, 28
	shares := []float64{0.5, 0.2, 0.12, 0.08, 0.05, 0.03, 0.015, 0.005}
	for _, rows := range []float64{200, 20000} {
		rng := rand.New(rand.NewPCG(uint64(rows), 17))
		flagged, judged := 0, 0
		for range 60 {
			day := func() map[string]int64 {
				counts := map[string]int64{}
				lean := 0.05 * rng.NormFloat64()
				for i, p := range shares {
					counts[fmt.Sprint(i)] = int64(distuv.Poisson{Lambda: rows * p * math.Exp(lean*float64(i-1)), Src: rng}.Rand())
				}
				return counts
			}
			var reference []map[string]int64
			known := map[string]int64{}
			for range days {
				one := day()
				for word, n := range one {
					if n > 0 {
						known[word] += n
					}
				}
				reference = append(reference, one)
			}
			l := WordLayout(Category, known, false)
			counted := func(words map[string]int64) Counts {
				c := NewCounts(l)
				for word, n := range words {
					if n > 0 {
						c.Words(l, word, n)
					}
				}
				return c
			}
			var blocks []Counts
			for _, one := range reference {
				blocks = append(blocks, counted(one))
			}
			r := NewReference(l, blocks)
			for range 10 {
				c := counted(day())
				if v := Judge(&r, &c, accept); v.State == Over {
					flagged++
				}
				judged++
			}
		}
		t.Logf("%g rows: %d of %d flagged", rows, flagged, judged)
		if most := accept*float64(judged) + 3*math.Sqrt(accept*float64(judged)); float64(flagged) > most {
			t.Errorf("%g rows a day: %d of %d clean days flagged", rows, flagged, judged)
		}
	}
}

func TestAwkwardFeaturesAreJudgedForWhatTheyAre(t *testing.T) {
	rng := rand.New(rand.NewPCG(12, 1))
	numbers := func(n int, draw func() float64) []float64 {
		list := make([]float64, n)
		for i := range list {
			list[i] = draw()
		}
		return list
	}
	normal, constant, null := rng.NormFloat64, func() float64 { return 7 }, math.NaN
	mixed := func() float64 { // half of the values are no numbers
		if rng.IntN(2) == 0 {
			return math.Inf(1)
		}
		return rng.NormFloat64()
	}
	for name, c := range map[string]struct {
		reference, period []float64
		state, by, why    string
	}{
		"three rows":           {numbers(500, normal), numbers(3, normal), TooFew, "", "3 rows; a verdict needs 30"},
		"a reference of three": {numbers(3, normal), numbers(500, normal), TooFew, "", "the reference has 3 rows; a verdict needs 30"},
		"no reference":         {nil, numbers(500, normal), NotComparable, "", "the reference has no rows"},
		"always null": {numbers(500, null), numbers(500, null), TooFew, "",
			"the reference has 0 values: only what is missing is judged"},
		"null no more":          {numbers(500, null), numbers(500, normal), Over, MeasurePresent, ""},
		"all null now":          {numbers(500, normal), numbers(500, null), Over, MeasureMissing, ""},
		"constant as ever":      {numbers(500, constant), numbers(500, constant), AsExpected, "", ""},
		"constant no more":      {numbers(500, constant), numbers(500, normal), Over, MeasureShare, ""},
		"constant now":          {numbers(500, normal), numbers(500, constant), Over, "", ""},
		"half unreadable":       {numbers(500, normal), numbers(500, mixed), Over, MeasureMissing, ""},
		"half unreadable, ever": {numbers(500, mixed), numbers(500, mixed), AsExpected, "", ""},
	} {
		l := &Layout{Kind: Number}
		if finite := slices.DeleteFunc(slices.Clone(c.reference), func(x float64) bool { return x-x != 0 }); len(finite) > 0 {
			l = layoutOf(finite...)
		}
		r := NewReference(l, []Counts{countAll(l, c.reference...)})
		period := countAll(l, c.period...)
		v := Judge(&r, &period, DefaultAccept)
		if v.State != c.state || c.by != "" && v.By != c.by || c.why != "" && v.Why != c.why {
			t.Errorf("%s: %s by %s at %.2f of its limit (%s); wanted %s by %s (%s)", name, v.State, v.By, v.Ratio, v.Why, c.state,
				c.by, c.why)
		}
		for _, m := range v.Measures {
			if math.IsNaN(m.Value) || math.IsInf(m.Value, 0) || math.IsNaN(m.Limit) {
				t.Errorf("%s: %s is %g, limit %g", name, m.Name, m.Value, m.Limit)
			}
		}
	}
}

func TestNewAndVanishedCategoriesAreNamed(t *testing.T) {
	l := WordLayout(Category, map[string]int64{"web": 600, "kiosk": 300, "agent": 100}, false)
	count := func(words map[string]int64) Counts {
		c := NewCounts(l)
		for word, n := range words {
			c.Words(l, word, n)
		}
		return c
	}
	r := NewReference(l, []Counts{count(map[string]int64{"web": 600, "kiosk": 300, "agent": 100})})
	period := count(map[string]int64{"web": 600, "kiosk": 300, "pigeon": 60, "raven": 40})
	v := Judge(&r, &period, DefaultAccept)
	if v.State != Over || !slices.Equal(v.New, []string{"pigeon", "raven"}) || !slices.Equal(v.Vanished, []string{"agent"}) {
		t.Errorf("%s by %s; new %v, gone %v", v.State, v.By, v.New, v.Vanished)
	}
	if m, _ := v.Measure(MeasureNew); math.Abs(m.Value-0.1) > 1e-12 || !m.Over() {
		t.Errorf("a tenth of the rows is new, it says %+v", m)
	}

	// Of very many categories only the largest are told apart, and it says so.
	many := map[string]int64{}
	for i := range 5000 {
		many[fmt.Sprint("booking ", i)] = 1 + int64(i%3)
	}
	crowd := WordLayout(Category, many, true)
	part := NewCounts(crowd)
	for word, n := range many {
		part.Words(crowd, word, n)
	}
	if len(crowd.Words) != 0 {
		t.Errorf("%d of the names that came once to three times are told apart", len(crowd.Words))
	}
	many["web"], many["kiosk"] = 9000, 900
	if l := WordLayout(Category, many, true); !slices.Equal(l.Words, []string{"web", "kiosk"}) || l.Rest != nil {
		t.Errorf("of very many categories those told apart are %v", l.Words)
	}
	whole := NewReference(crowd, []Counts{part})
	later := NewCounts(crowd)
	for i := range 3000 {
		later.Words(crowd, fmt.Sprint("another ", i), 1)
	}
	if v := Judge(&whole, &later, DefaultAccept); v.State == Over || len(v.New) > 0 || v.Why == "" {
		t.Errorf("categories without number: %s, new %v, %q", v.State, v.New, v.Why)
	}
}

func TestRareEventsHaveTheLimitsThatChanceGives(t *testing.T) {
	// The largest of n values is exceeded by r or more of another n with a chance
	// of 2^-r (Wilks 1942): of one in a thousand by 10.
	if rows := beyond(0, 1000, 1000, 1, 1.001/1024); rows != 9 {
		t.Errorf("%g rows beyond the range are allowed", rows)
	}
	// Beta-binomial limits against a simulation.
	rng := rand.New(rand.NewPCG(3, 3))
	const a, b, m, tail = 6, 294, 500, 0.01
	limits := betaBinomial(m, a, b)
	low, high := limits.least(tail)/m, limits.most(tail)/m
	beta := distuv.Beta{Alpha: a, Beta: b, Src: rng}
	over, under := 0, 0
	const rounds = 40000
	for range rounds {
		x := distuv.Binomial{N: m, P: beta.Rand(), Src: rng}.Rand() / m
		if x > high {
			over++
		}
		if x < low {
			under++
		}
	}
	if over > rounds*tail*1.2 || over < rounds*tail*0.5 || under > rounds*tail*1.2 {
		t.Errorf("of %d counts %d are above %.3f and %d under %.3f; stated is %.0f a side", rounds, over, high, under, low, rounds*tail)
	}
}
