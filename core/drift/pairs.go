package drift

import (
	"cmp"
	"math"
	"slices"

	"gonum.org/v1/gonum/stat/distuv"
)

// Pair is two features together: shares of rows by the bins of both, in the
// reference and in the period, rows of the first feature's bins by columns of the
// second's.
type Pair struct {
	A, B       int         `json:"-"`
	Reference  [][]float64 `json:"reference"`
	Period     [][]float64 `json:"period"`
	Expected   [][]float64 `json:"expected"`         // the period's, had the two gone together as before
	AUpto      []float64   `json:"a_upto,omitempty"` // of numbers: the upper edges of all bins but the last
	BUpto      []float64   `json:"b_upto,omitempty"`
	ACodes     []int32     `json:"a_codes,omitempty"` // of categories: whose rows a bin holds; one more bin holds all others, if there are any
	BCodes     []int32     `json:"b_codes,omitempty"`
	Together   float64     `json:"together"` // PSI of both, less what chance adds
	Beyond     float64     `json:"beyond"`   // by how much they go together in another way, whatever each does alone, as a PSI
	Limit      float64     `json:"limit"`    // of Beyond
	Rows       int         `json:"rows"`     // of the smaller side with both values
	ReferenceN int         `json:"reference_rows"`
}

// Pairs compares how features go together, two by two, and gives the most that
// changed, largest first by Beyond over its limit. Rows without one of the two
// values are left out. The limit is that of chi-square with accept shared among
// all pairs, and on top of it what the pair wobbles in the reference itself (see
// PairWobble; nil if that is not known).
func Pairs(reference, period Sample, accept float64, wobble []float64, most int) []Pair {
	n := len(reference.Features)
	if n < 2 {
		return nil
	}
	accept /= float64(n * (n - 1) / 2)
	list := eachPair(reference, period, func(p *Pair, freedom, sampling float64) {
		p.Limit = distuv.ChiSquared{K: freedom}.Quantile(1-accept) * sampling
		if at := p.A*n + p.B; at < len(wobble) {
			p.Limit += wobble[at] * distuv.ChiSquared{K: 2}.Quantile(1-accept)
		}
	})
	slices.SortStableFunc(list, func(x, y Pair) int { return cmp.Compare(y.Beyond/y.Limit, x.Beyond/x.Limit) })
	return list[:min(len(list), most)]
}

// PairWobble is by how much more each pair of features differs from block to
// block of a reference than sampling explains: an upper estimate (80 %) for each
// of two degrees of freedom, at a*features+b. Blocks are as NullLimit has them;
// nil with fewer than five.
func PairWobble(reference Sample, blocks []Sample) []float64 {
	n := len(reference.Features)
	if len(blocks) < MinBlocks {
		return nil
	}
	excess, seen := make([]float64, n*n), make([]float64, n*n)
	for _, b := range blocks {
		for _, p := range eachPair(reference.without(b), b, func(p *Pair, freedom, sampling float64) { p.Limit = freedom * sampling }) {
			excess[p.A*n+p.B] += p.Beyond - p.Limit
			seen[p.A*n+p.B]++
		}
	}
	// Stretches may overlap: as much is known as from five that do not.
	upper := 2 * MinBlocks / distuv.ChiSquared{K: 2 * MinBlocks}.Quantile(0.2) / 2
	for i := range excess {
		excess[i] = max(0, excess[i]) / max(seen[i], 1) * upper
	}
	return excess
}

// eachPair compares all pairs of features; limited sets the limit of each.
func eachPair(reference, period Sample, limited func(p *Pair, freedom, sampling float64)) []Pair {
	n := len(reference.Features)
	if min(reference.Rows(), period.Rows()) < MinRows {
		return nil
	}
	k := 6
	switch rows := min(reference.Rows(), period.Rows()); {
	case rows < 500:
		k = 3
	case rows < 2000:
		k = 4
	}
	before, after := make([]coarse, n), make([]coarse, n)
	for f := range n {
		before[f], after[f] = coarsen(reference.Features[f], period.Features[f], k)
	}
	var list []Pair
	for a := range n {
		for b := a + 1; b < n; b++ {
			if before[a].k < 2 || before[b].k < 2 {
				continue
			}
			if p, freedom := pair(before[a], before[b], after[a], after[b]); freedom > 0 {
				p.A, p.B = a, b
				limited(&p, freedom, 1/float64(p.Rows)+1/float64(p.ReferenceN))
				list = append(list, p)
			}
		}
	}
	return list
}

// coarse is a feature's values in few bins; 255 is missing. Ranks are the same of
// the side's own quantiles: however the feature alone moves or spreads, its ranks
// stay as they were. Where values are too few for that, and of categories, they
// are the codes.
type coarse struct {
	k     int
	codes []uint8
	ranks []uint8
	upto  []float64
	words []int32
}

func coarsen(a, b Values, k int) (before, after coarse) {
	var code func(v Values, i int) uint8
	var c coarse
	if a.Kind.Numeric() {
		c.upto = parts(a.Numbers, k)
		l := Layout{Edges: c.upto}
		c.k = len(c.upto) + 1
		code = func(v Values, i int) uint8 {
			if x := v.Numbers[i]; x == x {
				return uint8(l.Bin(x))
			}
			return 255
		}
	} else {
		counts := map[int32]int{}
		for _, w := range a.Codes {
			if w >= 0 {
				counts[w]++
			}
		}
		for w := range counts {
			c.words = append(c.words, w)
		}
		slices.SortFunc(c.words, func(x, y int32) int { return cmp.Or(cmp.Compare(counts[y], counts[x]), cmp.Compare(x, y)) })
		c.words = c.words[:min(len(c.words), k-1)]
		c.k = len(c.words)
		for _, w := range slices.Concat(a.Codes, b.Codes) {
			if w >= 0 && !slices.Contains(c.words, w) {
				c.k = len(c.words) + 1 // one bin for all others
				break
			}
		}
		code = func(v Values, i int) uint8 {
			if v.Codes[i] < 0 {
				return 255
			}
			if at := slices.Index(c.words, v.Codes[i]); at >= 0 {
				return uint8(at)
			}
			return uint8(len(c.words))
		}
	}
	coded := func(v Values) coarse {
		one := c
		one.codes = make([]uint8, v.rows())
		for i := range one.codes {
			one.codes[i] = code(v, i)
		}
		one.ranks = one.codes
		return one
	}
	before, after = coded(a), coded(b)
	if a.Kind.Numeric() && c.k == k {
		if own := parts(b.Numbers, k); len(own) == len(c.upto) {
			l := Layout{Edges: own}
			after.ranks = make([]uint8, len(b.Numbers))
			for i, x := range b.Numbers {
				if after.ranks[i] = 255; x == x {
					after.ranks[i] = uint8(l.Bin(x))
				}
			}
		}
	}
	return before, after
}

// parts are the edges that part numbers into k parts of like size; fewer where
// values are the same.
func parts(numbers []float64, k int) (edges []float64) {
	sorted := slices.DeleteFunc(slices.Clone(numbers), math.IsNaN)
	slices.Sort(sorted)
	for i := 1; i < k && len(sorted) > 0; i++ {
		if v := sorted[i*len(sorted)/k]; v > sorted[0] && (len(edges) == 0 || v > edges[len(edges)-1]) {
			edges = append(edges, v)
		}
	}
	return edges
}

// pair compares two features of both sides; of no freedom where that cannot be.
func pair(a, b, c, d coarse) (p Pair, freedom float64) {
	was, n := joint(a.codes, b.codes, a.k, b.k)
	is, m := joint(c.codes, d.codes, a.k, b.k)
	if min(n, m) < MinRows {
		return Pair{}, 0
	}
	sampling := 1/float64(n) + 1/float64(m)
	together := PSI(was, is) - float64(a.k*b.k-1)*sampling
	ranksWas, _ := joint(a.ranks, b.ranks, a.k, b.k)
	ranksAre, _ := joint(c.ranks, d.ranks, a.k, b.k)
	interaction, freedom := interaction(ranksWas, ranksAre, a.k, b.k)
	fit := fitted(was, is, a.k, b.k)
	p = Pair{AUpto: a.upto, BUpto: b.upto, ACodes: a.words, BCodes: b.words, Rows: m, ReferenceN: n, Together: max(0, together),
		Beyond: interaction * sampling}
	p.Reference, p.Period, p.Expected = table(was, a.k, b.k, n), table(is, a.k, b.k, m), table(fit, a.k, b.k, 1)
	return p, freedom
}

// interaction is the likelihood ratio statistic of no interaction of three factors
// (Bartlett 1935): that rows of both sides follow the same odds ratios, whatever the
// shares of each feature on each side. Its expectations are fitted by proportions
// (Deming and Stephan 1940). Rows and columns that a side lacks tell nothing.
func interaction(was, is []int64, k, l int) (statistic, freedom float64) {
	counts := append(append([]float64{}, floats(was)...), floats(is)...)
	fit := make([]float64, len(counts))
	for i := range fit {
		fit[i] = 1
	}
	margins := []func(i int) int{
		func(i int) int { return i / l },           // side and row
		func(i int) int { return i/(k*l)*l + i%l }, // side and column
		func(i int) int { return i % (k * l) },     // row and column
	}
	has, due := make([]float64, 2*k*l), make([]float64, 2*k*l)
	for range 60 {
		off := 0.0
		for _, of := range margins {
			clear(has)
			clear(due)
			for i, n := range counts {
				has[of(i)] += fit[i]
				due[of(i)] += n
			}
			for i := range fit {
				if at := of(i); has[at] > 0 {
					off = max(off, math.Abs(has[at]-due[at]))
					fit[i] *= due[at] / has[at]
				}
			}
		}
		if off < 1e-3 {
			break
		}
	}
	for i, n := range counts {
		if n > 0 && fit[i] > 0 {
			statistic += 2 * n * math.Log(n/fit[i])
		}
	}
	full := func(n int, of func(i int) int) (full float64) {
		left, right := make([]int64, n), make([]int64, n)
		for i := range was {
			left[of(i)] += was[i]
			right[of(i)] += is[i]
		}
		for i := range n {
			if left[i] > 0 && right[i] > 0 {
				full++
			}
		}
		return full
	}
	rows, columns := full(k, func(i int) int { return i / l }), full(l, func(i int) int { return i % l })
	return max(statistic, 0), max(rows-1, 0) * max(columns-1, 0)
}

func floats(counts []int64) []float64 {
	list := make([]float64, len(counts))
	for i, n := range counts {
		list[i] = float64(n)
	}
	return list
}

func joint(a, b []uint8, k, l int) (counts []int64, n int) {
	counts = make([]int64, k*l)
	for i, x := range a {
		if y := b[i]; x != 255 && y != 255 {
			counts[int(x)*l+int(y)]++
			n++
		}
	}
	return counts, n
}

// fitted are the shares that the period would have, were its two features to go
// together as in the reference: the reference's shares, fitted to the period's of
// each feature alone (iterative proportional fitting, Deming and Stephan 1940).
func fitted(was, is []int64, k, l int) []float64 {
	shares := func(counts []int64) []float64 {
		list, total := make([]float64, len(counts)), 0.0
		for i, n := range counts {
			list[i] = float64(n) + 0.5
			total += list[i]
		}
		for i := range list {
			list[i] /= total
		}
		return list
	}
	fit, want := shares(was), shares(is)
	for range 30 {
		for _, side := range []struct {
			n  int
			of func(i int) int
		}{{k, func(i int) int { return i / l }}, {l, func(i int) int { return i % l }}} {
			has, due := make([]float64, side.n), make([]float64, side.n)
			for i := range fit {
				has[side.of(i)] += fit[i]
				due[side.of(i)] += want[i]
			}
			for i := range fit {
				fit[i] *= due[side.of(i)] / has[side.of(i)]
			}
		}
	}
	return fit
}

// table lays counts, or shares, out in rows, as shares of a total.
func table[T int64 | float64](counts []T, k, l, total int) [][]float64 {
	rows := make([][]float64, k)
	for i := range rows {
		rows[i] = make([]float64, l)
		for j := range l {
			rows[i][j] = float64(counts[i*l+j]) / float64(total)
		}
	}
	return rows
}
