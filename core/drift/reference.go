package drift

import (
	"cmp"
	"math"
	"slices"

	"gonum.org/v1/gonum/stat/distuv"
)

// MinBlocks is the least number of blocks (days, or spans as long as a period)
// of a reference that tell how much it wobbles by itself.
const MinBlocks = 5

// Reference is one feature of a reference: its counts, as a whole, and how much
// it wobbles from block to block.
type Reference struct {
	Layout *Layout
	Whole  Counts
	Wobble Wobble
}

// Wobble is how much more a feature differs from block to block of its own
// reference than sampling explains: the mean excess of each figure.
type Wobble struct {
	Blocks  int     `json:"blocks"` // that it was taken from; 0: not known
	PSI     float64 `json:"psi"`
	KS      float64 `json:"ks"`      // of its square
	Missing float64 `json:"missing"` // variance of the share
	Moved   float64 `json:"moved"`   // mean Wasserstein distance of a block
	Spread  float64 `json:"spread"`  // standard deviation of that
	Tails   float64 `json:"tails"`   // the most that a block's tail held, over the mean: 1 or more

	// Finer is the wobble of shorter blocks. A longer stretch wobbles no more than
	// those it is made of, and there are more of them to tell how much.
	Finer *Wobble `json:"finer,omitempty"`
}

// allows is the excess that a clean stretch stays under with a chance of 1 - p. The
// excess of one that wobbles in one way is a chi-square of one degree of freedom
// times its mean, and the mean is taken from few blocks around their own middle:
// together an F distribution, here by Student's t. Of very few blocks whose wobble
// is about as large as sampling, the mean may come out as none: there clean
// stretches were found over at up to twice p.
func (w *Wobble) allows(excess func(*Wobble) float64, p float64) float64 {
	least := math.Inf(1)
	for ; w != nil && w.Blocks > 0; w = w.Finer {
		t := distuv.StudentsT{Sigma: 1, Nu: float64(w.Blocks - 1)}.Quantile(1 - p/2)
		least = min(least, excess(w)*t*t)
	}
	if math.IsInf(least, 1) {
		return 0
	}
	return least
}

// NewReference adds up the blocks of a reference, as long as a period each, and
// takes each against the others: what its figures exceed their expectation by is
// the wobble.
func NewReference(l *Layout, blocks []Counts) Reference {
	r := Reference{Layout: l, Whole: Total(l, blocks)}
	r.Wobble = r.wobble(blocks)
	return r
}

// Refine lets shorter blocks of the same rows tell of the wobble too.
func (r *Reference) Refine(blocks []Counts) {
	if w := r.wobble(blocks); w.Blocks > r.Wobble.Blocks {
		r.Wobble.Finer = &w
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
	var psi, ks, missing, moved, squares float64
	tails, bridge := 1.0, r.bridge()
	for _, b := range kept {
		rest := r.without(b)
		n, m := float64(rest.Values()), float64(b.Values())
		groups, k := r.groups(min(rest.Values(), b.Values()))
		psi += PSI(gather(rest.Bins, groups, k), gather(b.Bins, groups, k)) - float64(k-1)*(1/n+1/m)
		if r.Layout.Kind.Numeric() {
			d, _ := KolmogorovSmirnov(rest.Bins, b.Bins)
			ks += d*d - bridge*(1/n+1/m)
			w := Wasserstein(r.Layout, &rest, b)
			moved, squares = moved+w, squares+w*w
			tails = max(tails, r.tail(b)/r.tail(&r.Whole))
		}
		p, q := gone(&rest), gone(b)
		d := q - p
		missing += d*d - p*(1-p)*(1/float64(rest.Rows)+1/float64(b.Rows))
	}
	n := float64(len(kept))
	return Wobble{Blocks: len(kept), PSI: max(0, psi/n), KS: max(0, ks/n), Missing: max(0, missing/n),
		Moved: moved / n, Spread: math.Sqrt(max(0, squares/n-moved/n*moved/n) * n / (n - 1)), Tails: tails}
}

// bridge is the expected square of the Kolmogorov-Smirnov distance that sampling
// alone makes, times nm/(n+m): that of the largest value of a Brownian bridge. Of
// single values, where the bridge is seen at a few points, at least that of the
// point where it varies most.
func (r *Reference) bridge() float64 {
	if !r.Layout.Discrete {
		return math.Pi * math.Pi / 12
	}
	below, most, total := 0.0, 0.0, float64(r.Whole.Values())
	for _, n := range r.Whole.Bins {
		below += float64(n) / total
		most = max(most, below*(1-below))
	}
	return most
}

// tail is the share of values in the outermost bins of the reference's range,
// smoothed.
func (r *Reference) tail(c *Counts) float64 {
	last := len(c.Bins) - 1
	n := c.Bins[0] + c.Bins[min(1, last)] + c.Bins[last] + c.Bins[max(0, last-1)]
	return (float64(n) + 1) / (float64(c.Values()) + 1)
}

// gone is the share of rows without a value that can be counted.
func gone(c *Counts) float64 { return float64(c.Missing+c.Unreadable) / float64(max(c.Rows, 1)) }

// without is the reference without one of its blocks.
func (r *Reference) without(b *Counts) Counts {
	rest := r.Whole
	rest.Bins = slices.Clone(r.Whole.Bins)
	for i, n := range b.Bins {
		rest.Bins[i] -= n
	}
	rest.Rows, rest.Missing, rest.Unreadable = rest.Rows-b.Rows, rest.Missing-b.Missing, rest.Unreadable-b.Unreadable
	rest.Below, rest.Above = max(0, rest.Below-b.Below), max(0, rest.Above-b.Above)
	return rest
}

// groups joins the layout's bins to those that PSI, the Jensen-Shannon distance
// and chi-square compare: tenths of the reference for numbers, else single
// values, those too rare to be expected five times among that many rows
// together. It gives each bin's group and how many groups there are.
func (r *Reference) groups(rows int64) (group []int, k int) {
	bins, total := r.Whole.Bins, float64(r.Whole.Values())
	group = make([]int, len(bins))
	if r.Layout.Kind.Numeric() && !r.Layout.Discrete {
		parts := float64(min(10, max(2, rows/5)))
		below, last := 0.0, -1
		for i, n := range bins {
			at := int(min(parts-1, (below+float64(n)/2)/total*parts))
			if at != last {
				last = at
				k++
			}
			group[i] = k - 1
			below += float64(n)
		}
		return group, k
	}
	order := make([]int, len(bins))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(bins[b], bins[a]) })
	expected := func(n float64) float64 { return n / total * float64(rows) }
	left := total
	for _, i := range order {
		if k > 0 && expected(float64(bins[i])) < 5 {
			break
		}
		group[i] = k
		left -= float64(bins[i])
		k++
	}
	single, others := k, k-1
	if expected(left) >= 5 {
		others, k = k, k+1
	}
	for _, i := range order[single:] {
		group[i] = others
	}
	return group, k
}

// gather adds up bins by group.
func gather(bins []int64, group []int, k int) []int64 {
	sums := make([]int64, k)
	for i, n := range bins {
		sums[group[i]] += n
	}
	return sums
}
