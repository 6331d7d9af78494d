package drift

import (
	"cmp"
	"math"
	"slices"
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

// ranks hands over the middle rank of each bin of numbers, as a share of the
// reference's values.
func (r *Reference) ranks(do func(bin int, rank float64)) {
	below, total := 0.0, float64(r.Whole.Values())
	for i, n := range r.Whole.Bins {
		do(i, (below+float64(n)/2)/total)
		below += float64(n)
	}
}

// rank is the mean rank of a stretch's values among the reference's: Wilcoxon's
// statistic as a share.
func (r *Reference) rank(c *Counts) float64 {
	sum := 0.0
	r.ranks(func(bin int, rank float64) { sum += float64(c.Bins[bin]) * rank })
	return sum / float64(c.Values())
}

// depth is how far on average a stretch's ranks are from the middle (a scale test of
// Ansari and Bradley's kind).
func (r *Reference) depth(c *Counts) float64 {
	sum := 0.0
	r.ranks(func(bin int, rank float64) { sum += float64(c.Bins[bin]) * math.Abs(rank-0.5) })
	return sum / float64(c.Values())
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

// groups joins the layout's bins to those that chi-square, PSI and the Jensen-Shannon
// distance compare: tenths of the reference for numbers, else single values, those too
// rare to be expected five times on the smaller side together. Which are rare is told
// by both sides together: by one alone, its chance counts would choose. Categories that
// the reference does not know go with the rare ones, for more of them might be there.
// It gives each bin's group and how many groups there are.
func (r *Reference) groups(a, b *Counts) (group []int, k int) {
	rows := min(a.Values(), b.Values())
	bins, total := make([]int64, len(a.Bins)), float64(a.Values()+b.Values())
	for i := range bins {
		bins[i] = a.Bins[i] + b.Bins[i]
	}
	group = make([]int, len(bins))
	if r.Layout.Kind.Numeric() && !r.Layout.Discrete {
		bins, total = r.Whole.Bins, float64(r.Whole.Values())
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
	if !r.Layout.Kind.Numeric() {
		order = order[:len(order)-1]
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(bins[b], bins[a]) })
	expected := func(n float64) float64 { return n / total * float64(rows) }
	left := total
	for _, i := range order {
		if k > 0 && expected(float64(bins[i])) < 5 || !r.settled(a, b, i) {
			break
		}
		group[i] = k
		left -= float64(bins[i])
		k++
	}
	single, others := k, max(k-1, 0)
	if expected(left) >= 5 || k == 0 {
		others, k = k, k+1
	}
	for _, i := range order[single:] {
		group[i] = others
	}
	if !r.Layout.Kind.Numeric() {
		group[len(bins)-1] = others
	}
	return group, k
}

// settled tells that a category would have its bin whatever reference of this size had
// been drawn: by both sides together it is well beyond what that takes. Those at the
// edge have it because this reference happens to have more of them.
func (r *Reference) settled(a, b *Counts, bin int) bool {
	l := r.Layout
	if !l.Many || l.Kind.Numeric() {
		return true
	}
	least := max(l.Least, MinRows)
	share := float64(a.Bins[bin]+b.Bins[bin]) / float64(a.Values()+b.Values())
	return share*float64(r.Whole.Values()) >= least+5*math.Sqrt(least)
}

// gather adds up bins by group.
func gather(bins []int64, group []int, k int) []int64 {
	sums := make([]int64, k)
	for i, n := range bins {
		sums[group[i]] += n
	}
	return sums
}
