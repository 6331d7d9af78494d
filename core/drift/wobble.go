package drift

import (
	"math"

	"gonum.org/v1/gonum/stat"
	"gonum.org/v1/gonum/stat/distuv"
)

// Wobble is how much a feature differs from block to block of its own reference: the
// mean excess of each figure over what sampling explains, and the variances of two
// means as they are.
type Wobble struct {
	Blocks  int       `json:"blocks"`           // that it was taken from; 0: not known
	Size    float64   `json:"size"`             // values of a block, harmonic mean
	Shape   float64   `json:"shape"`            // of chi-square times 1/n + 1/m
	Groups  float64   `json:"groups"`           // degrees of freedom of that, mean
	KS      float64   `json:"ks"`               // of its square
	Missing float64   `json:"missing"`          // variance of the share
	Shares  []float64 `json:"shares,omitempty"` // variance of each value's share
	Rank    float64   `json:"rank"`             // variance of a block's mean rank, sampling included
	Depth   float64   `json:"depth"`            // … of the mean distance of its ranks from the middle
	Moved   float64   `json:"moved"`            // mean Wasserstein distance of a block
	Spread  float64   `json:"spread"`           // standard deviation of that
	Bend    float64   `json:"bend"`             // by how much the depth changes with the square of a move of the mean rank
	Moves   Spread    `json:"moves"`            // those squares
	Tails   float64   `json:"tails"`            // the most that a block's tail held, over the mean: 1 or more
	Lowest  Edge      `json:"lowest"`           // of the range
	Highest Edge      `json:"highest"`

	// Finer is the wobble of shorter blocks. A longer stretch wobbles no more than
	// those it is made of, and there are more of them to tell how much.
	Finer *Wobble `json:"finer,omitempty"`
}

// Spread is the mean of some values and the sum of their squared distances from it.
type Spread struct {
	Mean    float64 `json:"mean"`
	Squares float64 `json:"squares"`
}

// Edge is where blocks end: the mean and standard deviation of their extremes, and
// whether the outermost rows of the whole are those of few blocks, so that the edge
// itself moves from block to block.
type Edge struct {
	Mean  float64 `json:"mean"`
	SD    float64 `json:"sd"`
	Moves bool    `json:"moves"`
}

// within tells that an extreme is one that a further block might have: of an edge that
// moves. Whatever lies beyond an edge that does not is judged by how much it is.
func (e Edge) within(extreme float64, blocks int, p float64) bool {
	n := float64(blocks)
	t := distuv.StudentsT{Sigma: 1, Nu: max(n-1, 1)}.Quantile(1 - p)
	return e.Moves && math.Abs(extreme-e.Mean) <= t*e.SD*math.Sqrt(1+1/n)
}

// edge takes the blocks' extremes and how many rows each has in the outermost bin.
func edge(extremes, outermost, sizes []float64) Edge {
	e := Edge{Mean: stat.Mean(extremes, nil), SD: math.Sqrt(variance(extremes))}
	all, rows, dispersion, freedom := 0.0, 0.0, 0.0, float64(len(sizes)-1)
	for i, n := range outermost {
		all, rows = all+n, rows+sizes[i]
	}
	if all == 0 || freedom < 1 {
		return e
	}
	for i, n := range outermost {
		expected := all * sizes[i] / rows
		dispersion += (n - expected) * (n - expected) / expected / freedom
	}
	each := all / float64(len(sizes)) // beyond chance, and shares differ by 70 % and more
	e.Moves = dispersion-1 > 5*math.Sqrt(2/freedom) && (dispersion-1)/each > 0.5
	return e
}

// trusted is how many blocks tell of a wobble by themselves. Of fewer, where it is about
// as large as sampling, it comes out as none too often to be believed beside shorter
// blocks.
const trusted = 10

// least is the smallest of what each length of blocks says; other where none tells.
func (w *Wobble) least(of func(*Wobble) float64, other float64) float64 {
	least := math.Inf(1)
	for ; w != nil && w.Blocks > 0; w = w.Finer {
		if w.Blocks >= trusted || w.Finer == nil {
			least = min(least, of(w))
		}
	}
	if math.IsInf(least, 1) {
		return other
	}
	return least
}

// allows is the excess that a clean stretch stays under with a chance of 1 - p. The
// excess of one that wobbles in one way is a chi-square of one degree of freedom
// times its mean, and the mean is taken from few blocks around their own middle:
// together an F distribution, here by Student's t. Of very few blocks whose wobble
// is about as large as sampling, the mean may come out as none: there clean
// stretches were found over at up to twice p.
func (w *Wobble) allows(excess func(*Wobble) float64, p float64) float64 {
	return w.least(func(w *Wobble) float64 {
		t := distuv.StudentsT{Sigma: 1, Nu: float64(w.Blocks - 1)}.Quantile(1 - p/2)
		return excess(w) * t * t
	}, 0)
}

// share is by how much the share of a bin differs from block to block, as far as that
// is known.
func (w *Wobble) share(bin int) float64 {
	if bin < len(w.Shares) {
		return w.Shares[bin]
	}
	return 0
}

// shape is the limit of chi-square, times 1/n + 1/m, of so many degrees of freedom. The
// wobble is taken to go one way, which is the widest: one of the degrees then weighs
// more than the others. The weighted sum is approximated by a scaled and moved
// chi-square of the same mean, variance and skewness (Pearson, after Imhof 1961), and
// as its scale is known as well as the blocks tell it, by an F distribution.
func (w *Wobble) shape(freedom, sampling, p float64) float64 {
	alone := distuv.ChiSquared{K: freedom}.Quantile(1-p) * sampling
	return w.least(func(w *Wobble) float64 {
		raise := func(each float64, power float64) float64 {
			return (freedom-1)*math.Pow(each, power) + math.Pow(each+w.Shape, power)
		}
		squares, cubes := raise(sampling, 2), raise(sampling, 3)
		scale, own := cubes/squares, squares*squares*squares/cubes/cubes
		block := raise(float64(w.Blocks)/float64(w.Blocks-1)/w.Size, 2)
		known := own * own * scale * scale * float64(w.Blocks) / block
		return max(freedom*sampling+w.Shape+own*scale*(fisher(own, max(known, 1), p)-1), alone)
	}, alone)
}

// fisher is the value that an F variable exceeds with a chance of p.
func fisher(a, b, p float64) float64 {
	if b > 1e6 {
		return distuv.ChiSquared{K: a}.Quantile(1-p) / a
	}
	return distuv.F{D1: a, D2: b}.Quantile(1 - p)
}

// mean is how far the mean of a period of m values may be from the reference's of n,
// one value's variance given: Student's t of the period against the blocks of the
// reference, which differ by sampling and by their wobble at once. Of a period longer
// than a block at least what independent blocks leave.
// Fitted says what else was fitted to the blocks: what the place of the period adds to
// 1/blocks (its leverage), and how many degrees of freedom went with it.
func (w *Wobble) mean(blocks func(*Wobble) float64, fitted func(*Wobble) (leverage, lost float64), variance, n, m, p float64) float64 {
	alone := distuv.UnitNormal.Quantile(1-p/2) * math.Sqrt(variance*(1/n+1/m))
	return w.least(func(w *Wobble) float64 {
		between, b := blocks(w), float64(w.Blocks)
		own := max(between-variance*(1/w.Size-1/m), between*min(1, w.Size/m))
		leverage, lost := fitted(w)
		unsure := 1/b + leverage
		all := own + between*unsure
		freedom := b - 1 - lost
		if m < w.Size { // more of it is sampling, which is known
			freedom *= math.Pow(all/max(between*(1+unsure), 1e-300), 2)
		}
		if !(all > 0) {
			return alone
		}
		return distuv.StudentsT{Sigma: 1, Nu: min(freedom, 1e6)}.Quantile(1-p/2) * math.Sqrt(all)
	}, alone)
}

// level is of a mean that nothing is taken out of.
func level(*Wobble) (leverage, lost float64) { return 0, 0 }

// along is of a mean that the square of a move is taken out of.
func along(moved float64) func(*Wobble) (leverage, lost float64) {
	return func(w *Wobble) (leverage, lost float64) {
		if w.Moves.Squares == 0 {
			return 0, 0
		}
		return (moved - w.Moves.Mean) * (moved - w.Moves.Mean) / w.Moves.Squares, 1
	}
}

func (r *Reference) wobble(blocks []Counts) Wobble {
	var kept []*Counts
	for i := range blocks {
		if blocks[i].Values() >= MinRows {
			kept = append(kept, &blocks[i])
		}
	}
	if len(kept) < MinBlocks {
		return Wobble{}
	}
	l := r.Layout
	var shape, groups, ks, missing, moved, squares, inverse float64
	var ranks, depths, lows, highs, bottom, top, sizes []float64
	var shares []float64
	if !l.Kind.Numeric() || l.Discrete {
		shares = make([]float64, len(r.Whole.Bins))
	}
	tails, bridge := 1.0, r.bridge()
	for _, b := range kept {
		rest := r.without(b)
		n, m := float64(rest.Values()), float64(b.Values())
		inverse += 1 / m
		group, k := r.groups(&rest, b)
		if k > 1 {
			statistic, freedom, _ := ChiSquare(gather(rest.Bins, group, k), gather(b.Bins, group, k))
			shape += (statistic - float64(freedom)) * (1/n + 1/m)
			groups += float64(freedom)
		}
		for i := range shares {
			p, q := float64(rest.Bins[i])/n, float64(b.Bins[i])/m
			shares[i] += (q-p)*(q-p) - p*(1-p)*(1/n+1/m)
		}
		if l.Kind.Numeric() {
			d, _ := KolmogorovSmirnov(rest.Bins, b.Bins)
			ks += d*d - bridge*(1/n+1/m)
			w := Wasserstein(l, &rest, b)
			moved, squares = moved+w, squares+w*w
			tails = max(tails, r.tail(b)/r.tail(&r.Whole))
			ranks, depths = append(ranks, r.rank(b)), append(depths, r.depth(b))
			last := len(b.Bins) - 1
			lows, highs = append(lows, b.Min), append(highs, b.Max)
			bottom, top = append(bottom, float64(b.Bins[min(1, last)])), append(top, float64(b.Bins[max(0, last-1)]))
			sizes = append(sizes, m)
		}
		p, q := gone(&rest), gone(b)
		d := q - p
		missing += d*d - p*(1-p)*(1/float64(rest.Rows)+1/float64(b.Rows))
	}
	n := float64(len(kept))
	for i := range shares {
		shares[i] /= n
	}
	r.borrow(shares, inverse/n, n)
	w := Wobble{Blocks: len(kept), Size: n / inverse, Shape: max(0, shape/n), Groups: groups / n, KS: max(0, ks/n),
		Missing: max(0, missing/n), Shares: shares,
		Moved: moved / n, Spread: math.Sqrt(max(0, squares/n-moved/n*moved/n) * n / (n - 1)), Tails: tails}
	if len(ranks) > 0 {
		w.Lowest, w.Highest = edge(lows, bottom, sizes), edge(highs, top, sizes)
		w.Rank, w.Depth = variance(ranks), variance(depths)
		w.bend(ranks, depths, r.rank(&r.Whole))
	}
	return w
}

// borrow lets each value's share learn of its wobble from the others', as far as its own
// blocks do not tell: where sampling is as large as the wobble, half of them tell of none.
// What is borrowed is the square of the coefficient of variation, and it is only ever
// added (random effects, DerSimonian and Laird 1986). Sampled is 1/n of a block.
func (r *Reference) borrow(shares []float64, sampled, blocks float64) {
	total := float64(r.Whole.Values())
	var own, noise []float64
	var of []int
	mean, weights := 0.0, 0.0
	for i := range shares {
		if p := float64(r.Whole.Bins[i]) / total; p > 0 {
			of, own, noise = append(of, i), append(own, shares[i]/p/p), append(noise, sampled*(1-p)/p)
			weight := p * p
			mean, weights = mean+weight*shares[i]/p/p, weights+weight
		}
	}
	common := max(0, mean/max(weights, 1e-300))
	sum, squares := 0.0, 0.0
	mean = 0
	for i := range own {
		noise[i] = 2 / blocks * math.Pow(noise[i]+common, 2)
		w := 1 / max(noise[i], 1e-300)
		mean, sum, squares = mean+w*own[i], sum+w, squares+w*w
	}
	mean /= max(sum, 1e-300)
	apart := 0.0
	for i := range own {
		apart += (own[i] - mean) * (own[i] - mean) / max(noise[i], 1e-300)
	}
	between := max(0, (apart-float64(len(own)-1))/max(sum-squares/max(sum, 1e-300), 1e-300))
	for i, bin := range of {
		p := float64(r.Whole.Bins[bin]) / total
		shrunk := (own[i]*between + mean*noise[i]) / max(between+noise[i], 1e-300)
		shares[bin] = max(0, own[i], shrunk) * p * p
	}
	for i := range shares {
		shares[i] = max(0, shares[i])
	}
}

// bend takes out of the depths what follows from moves of the mean rank: one way or the
// other, a move takes more values to one side of the middle than it takes away from the
// other. Left in, it makes the depths of blocks that move skewed, and their limit too low.
func (w *Wobble) bend(ranks, depths []float64, middle float64) {
	if w.Blocks < trusted {
		return
	}
	moves := make([]float64, len(ranks))
	for i, rank := range ranks {
		moves[i] = (rank - middle) * (rank - middle)
	}
	w.Moves.Mean = stat.Mean(moves, nil)
	w.Moves.Squares = variance(moves) * float64(len(moves)-1)
	if w.Moves.Squares == 0 {
		return
	}
	start, bend := stat.LinearRegression(moves, depths, nil, false)
	left := 0.0
	for i, depth := range depths {
		left += math.Pow(depth-start-bend*moves[i], 2)
	}
	w.Bend, w.Depth = bend, left/float64(len(depths)-2)
}

// variance of some values around their mean; 0 of fewer than two.
func variance(list []float64) float64 {
	if len(list) < 2 {
		return 0
	}
	return stat.Variance(list, nil)
}
