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
// reference than sampling explains: upper estimates (80 %) of the excess mean of
// each figure, for limits that real days do not cross.
type Wobble struct {
	Blocks  int     `json:"blocks"` // that it was taken from; 0: not known
	Freedom float64 `json:"freedom"`
	PSI     float64 `json:"psi"`     // for each of two degrees of freedom
	KS      float64 `json:"ks"`      // of its square
	Missing float64 `json:"missing"` // variance of the share
	Moved   float64 `json:"moved"`   // mean Wasserstein distance of a block
	Spread  float64 `json:"spread"`  // standard deviation of that
	Tails   float64 `json:"tails"`   // the most that a block's tail held, over the mean: 1 or more
}

// NewReference adds up the blocks of a reference and takes each against the
// others: what its figures exceed their expectation by is the wobble.
func NewReference(l *Layout, blocks []Counts) Reference {
	r := Reference{Layout: l, Whole: Total(l, blocks)}
	var kept []*Counts
	for i := range blocks {
		if blocks[i].Values() >= MinRows {
			kept = append(kept, &blocks[i])
		}
	}
	if len(kept) < MinBlocks {
		return r
	}
	var psi, ks, missing, moved, squares float64
	tails := 1.0
	for _, b := range kept {
		rest := r.without(b)
		n, m := float64(rest.Values()), float64(b.Values())
		groups, k := r.groups(min(rest.Values(), b.Values()))
		psi += PSI(gather(rest.Bins, groups, k), gather(b.Bins, groups, k)) - float64(k-1)*(1/n+1/m)
		if l.Kind.Numeric() {
			d, _ := KolmogorovSmirnov(rest.Bins, b.Bins)
			ks += d*d - math.Pi*math.Pi/12*(1/n+1/m)
			w := Wasserstein(l, &rest, b)
			moved, squares = moved+w, squares+w*w
			tails = max(tails, r.tail(b)/r.tail(&r.Whole))
		}
		p, q := gone(&rest), gone(b)
		d := q - p
		missing += d*d - p*(1-p)*(1/float64(rest.Rows)+1/float64(b.Rows))
	}
	days := float64(len(kept))
	upper := func(excess, freedom float64) float64 {
		return max(0, excess/days) * freedom / distuv.ChiSquared{K: freedom}.Quantile(0.2)
	}
	r.Wobble = Wobble{Blocks: len(kept), Freedom: days, PSI: upper(psi, 2*days) / 2, KS: upper(ks, days), Missing: upper(missing, days),
		Moved: moved / days, Spread: math.Sqrt(max(0, squares/days-moved/days*moved/days) * days / (days - 1)), Tails: tails}
	return r
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
