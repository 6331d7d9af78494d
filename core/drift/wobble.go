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
	Tails   float64   `json:"tails"`            // the most that a block's tail held, over the mean: 1 or more

	// Finer is the wobble of shorter blocks. A longer stretch wobbles no more than
	// those it is made of, and there are more of them to tell how much.
	Finer *Wobble `json:"finer,omitempty"`
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

// shape is the limit of chi-square, times 1/n + 1/m, of so many degrees of freedom:
// sampling and wobble put together as one scaled chi-square (Satterthwaite 1946), whose
// scale is known as well as the blocks tell it: an F distribution. The wobble is taken
// to go one way, which is the widest.
func (w *Wobble) shape(freedom, sampling, p float64) float64 {
	alone := distuv.ChiSquared{K: freedom}.Quantile(1-p) * sampling
	return w.least(func(w *Wobble) float64 {
		spread := func(sampled float64) float64 {
			return 2*sampled*sampled/freedom + 2*w.Shape*w.Shape + 4*sampled/freedom*w.Shape
		}
		mean := freedom*sampling + w.Shape
		block := freedom / w.Size * float64(w.Blocks) / float64(w.Blocks-1)
		own, known := 2*mean*mean/spread(freedom*sampling), 2*mean*mean*float64(w.Blocks)/spread(block)
		return max(mean*fisher(own, max(known, 1), p), alone)
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
func (w *Wobble) mean(blocks func(*Wobble) float64, variance, n, m, p float64) float64 {
	alone := distuv.UnitNormal.Quantile(1-p/2) * math.Sqrt(variance*(1/n+1/m))
	return w.least(func(w *Wobble) float64 {
		between, b := blocks(w), float64(w.Blocks)
		own := max(between-variance*(1/w.Size-1/m), between*min(1, w.Size/m))
		all := own + between/b
		freedom := b - 1
		if m < w.Size { // more of it is sampling, which is known
			freedom *= math.Pow(all/max(between*(1+1/b), 1e-300), 2)
		}
		if !(all > 0) {
			return alone
		}
		return distuv.StudentsT{Sigma: 1, Nu: min(freedom, 1e6)}.Quantile(1-p/2) * math.Sqrt(all)
	}, alone)
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
	var ranks, depths []float64
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
		}
		p, q := gone(&rest), gone(b)
		d := q - p
		missing += d*d - p*(1-p)*(1/float64(rest.Rows)+1/float64(b.Rows))
	}
	n := float64(len(kept))
	for i := range shares {
		shares[i] = max(0, shares[i]/n)
	}
	return Wobble{Blocks: len(kept), Size: n / inverse, Shape: max(0, shape/n), Groups: groups / n, KS: max(0, ks/n), Missing: max(0, missing/n), Shares: shares,
		Rank: variance(ranks), Depth: variance(depths),
		Moved: moved / n, Spread: math.Sqrt(max(0, squares/n-moved/n*moved/n) * n / (n - 1)), Tails: tails}
}

// variance of some values around their mean; 0 of fewer than two.
func variance(list []float64) float64 {
	if len(list) < 2 {
		return 0
	}
	return stat.Variance(list, nil)
}
