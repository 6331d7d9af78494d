package drift

import (
	"fmt"
	"math"
	"slices"

	"gonum.org/v1/gonum/stat/distuv"
)

// States of a feature in a period.
const (
	AsExpected    = "as expected"
	Over          = "over"           // a measure that decides is over its limit
	TooFew        = "too few rows"   // fewer than MinRows values to judge
	NotComparable = "not comparable" // why is said
)

// Names of measures.
const (
	MeasurePSI         = "psi"
	MeasureJS          = "jensen_shannon"
	MeasureKS          = "ks"
	MeasureChiSquare   = "chi_square"
	MeasureCramer      = "cramers_v"
	MeasureWasserstein = "wasserstein"
	MeasureRank        = "mean_rank"
	MeasureDepth       = "rank_spread"
	MeasureShare       = "share_moved"
	MeasureMissing     = "missing_share"
	MeasureNew         = "new_share"
	MeasureOutside     = "outside_share"
	MeasureVanished    = "vanished"
	MeasurePresent     = "present_share"
)

// Measured is one figure of a feature beside the limit that clean periods stay
// under; a limit of 0 means that there is none.
type Measured struct {
	Name    string  `json:"name"`
	Value   float64 `json:"value"`
	Limit   float64 `json:"limit"`
	P       float64 `json:"p,omitempty"`  // chance of a value as large by sampling alone
	Decides bool    `json:"decides"`      // the verdict follows from it
	Of      string  `json:"of,omitempty"` // the value whose share is meant
}

// Over tells whether the measure is over its limit.
func (m Measured) Over() bool { return m.Limit > 0 && m.Value > m.Limit }

// Moments are a stretch's values in a few numbers.
type Moments struct {
	Rows   int64   `json:"rows"`
	Mean   float64 `json:"mean"`
	SD     float64 `json:"sd"`
	Min    float64 `json:"min"`
	Median float64 `json:"median"`
	Max    float64 `json:"max"`
}

// Verdict is what is found of one feature in a period.
type Verdict struct {
	State    string     `json:"state"`
	Why      string     `json:"why,omitempty"`
	Ratio    float64    `json:"ratio"` // the largest of the deciding measures over its limit: 1 is the limit
	By       string     `json:"by"`    // that measure
	Measures []Measured `json:"measures"`

	WasMissing float64 `json:"was_missing"` // share of the reference's rows without a usable value
	Unreadable int64   `json:"unreadable"`  // rows whose value is not of the feature's kind; they count as missing

	Reference Moments  `json:"reference"`
	Period    Moments  `json:"period"`
	Below     int64    `json:"below"` // rows below the reference's range
	Above     int64    `json:"above"`
	New       []string `json:"new,omitempty"`      // categories that the reference does not know
	Vanished  []string `json:"vanished,omitempty"` // categories that should have come and did not
	Gained    *Shift   `json:"gained,omitempty"`   // of a feature that is over: where more values are
	Lost      *Shift   `json:"lost,omitempty"`     // and where fewer
}

// Measure gives a measure by its name.
func (v Verdict) Measure(name string) (Measured, bool) {
	i := slices.IndexFunc(v.Measures, func(m Measured) bool { return m.Name == name })
	if i < 0 {
		return Measured{}, false
	}
	return v.Measures[i], true
}

// DefaultAccept is the share of clean features and periods that may be flagged.
const DefaultAccept = 0.001

// The stated share of clean features that are over is shared out among the deciding
// measures, more to what finds more.
var (
	ofNumbers  = spending{rank: 0.35, depth: 0.25, ks: 0.07, shape: 0.16, outside: 0.07, missing: 0.1}
	ofValues   = spending{rank: 0.25, depth: 0.2, ks: 0.05, shape: 0.13, share: 0.2, outside: 0.07, missing: 0.1}
	ofWords    = spending{shape: 0.3, share: 0.35, fresh: 0.2, missing: 0.15}
	ofFlags    = spending{share: 0.65, fresh: 0.15, missing: 0.2}
	ofCrowds   = spending{shape: 0.4, share: 0.4, missing: 0.2}
	ofMissings = spending{missing: 1}
)

type spending struct{ rank, depth, ks, shape, share, fresh, outside, missing float64 }

// Judge compares a period with a reference. Of clean periods a share of at most
// accept is over: the deciding measures share it among them. A limit follows from
// sampling at these numbers of rows and from how much the reference differs from
// block to block, the two put together. Where fewer than five blocks tell that, it is
// sampling alone: the share is then kept where rows are independent, and only there.
func Judge(r *Reference, period *Counts, accept float64) Verdict {
	v := Verdict{State: AsExpected, WasMissing: gone(&r.Whole), Unreadable: period.Unreadable,
		Reference: moments(r.Layout, &r.Whole), Period: moments(r.Layout, period)}
	n, m := r.Whole.Values(), period.Values()
	switch {
	case r.Whole.Rows == 0:
		return v.without(NotComparable, "the reference has no rows")
	case period.Rows < MinRows:
		return v.without(TooFew, fmt.Sprintf("%d rows; a verdict needs %d", period.Rows, MinRows))
	case r.Whole.Rows < MinRows:
		return v.without(TooFew, fmt.Sprintf("the reference has %d rows; a verdict needs %d", r.Whole.Rows, MinRows))
	}
	j := judging{r, period, &v, accept, n, m}
	if n >= MinRows && m >= MinRows {
		s := j.spending()
		j.shape(accept * s.shape)
		if r.Layout.Kind.Numeric() {
			j.order(accept, s)
		} else {
			j.words(accept * s.fresh)
		}
		if s.share > 0 {
			j.shares(accept * s.share)
		}
		j.missing(accept * s.missing)
	} else {
		j.missing(accept)
	}
	for _, one := range v.Measures {
		if one.Decides && one.Limit > 0 && one.Value/one.Limit > v.Ratio {
			v.Ratio, v.By = one.Value/one.Limit, one.Name
		}
	}
	switch {
	case v.Ratio > 1:
		v.State = Over
		if n >= MinRows && m >= MinRows {
			v.Gained, v.Lost = Shifts(r.Layout, Histogram(r.Layout, &r.Whole, period))
		}
	case n < MinRows:
		v.Why = fmt.Sprintf("the reference has %d values: only what is missing is judged", n)
	case m < MinRows:
		v.Why = fmt.Sprintf("%d values: only what is missing is judged", m)
	}
	if v.State == AsExpected && v.Why != "" && min(n, m) < MinRows {
		v.State = TooFew
	}
	return v
}

// spending is how the stated share is spent on this feature's measures.
func (j *judging) spending() spending {
	l := j.Layout
	switch {
	case l.Kind.Numeric() && l.Discrete:
		return ofValues
	case l.Kind.Numeric():
		return ofNumbers
	case l.Kind == Boolean:
		return ofFlags
	case l.Many || len(l.Rest) > 0:
		return ofCrowds
	}
	return ofWords
}

func (v Verdict) without(state, why string) Verdict {
	v.State, v.Why, v.Measures = state, why, []Measured{}
	return v
}

func moments(l *Layout, c *Counts) Moments {
	m := Moments{Rows: c.Rows}
	if l.Kind.Numeric() && c.Values() > 0 {
		m.Mean, m.SD = c.Mean(l)
		m.Min, m.Median, m.Max = c.Min, c.Quantile(l, 0.5), c.Max
	}
	return m
}

// judging is one comparison under way: n values of the reference, m of the period.
type judging struct {
	*Reference
	period *Counts
	v      *Verdict
	accept float64
	n, m   int64
}

func (j *judging) add(m Measured) { j.v.Measures = append(j.v.Measures, m) }

// sampling is 1/n + 1/m.
func (j *judging) sampling() float64 { return 1/float64(j.n) + 1/float64(j.m) }

// shape compares shares of bins, by chi-square, told as Cramér's V (1946, ch. 21); PSI
// and the Jensen-Shannon distance are given with the limits that follow from its.
func (j *judging) shape(p float64) {
	group, k := j.groups(&j.Whole, j.period)
	if k < 2 {
		return // one value only: what is new, missing or outside is told below
	}
	a, b := gather(j.Whole.Bins, group, k), gather(j.period.Bins, group, k)
	statistic, freedom, chance := ChiSquare(a, b)
	told := p
	if told == 0 {
		told = j.accept
	}
	limit, all := j.Wobble.shape(float64(max(freedom, 1)), j.sampling(), told), float64(j.n+j.m)
	j.add(Measured{Name: MeasureCramer, Value: math.Sqrt(statistic / all), Limit: math.Sqrt(limit / j.sampling() / all),
		P: chance, Decides: p > 0})
	j.add(Measured{Name: MeasureChiSquare, Value: statistic, Limit: limit / j.sampling(), P: chance})
	j.add(Measured{Name: MeasurePSI, Value: PSI(a, b), Limit: limit})
	j.add(Measured{Name: MeasureJS, Value: JensenShannon(a, b), Limit: math.Sqrt(limit / (8 * math.Ln2))})
}

// order compares what only numbers have: where values lie by rank and how far from
// the middle, the two distribution functions, how far values moved, and the range.
func (j *judging) order(accept float64, s spending) {
	n, m := float64(j.n), float64(j.m)
	moved := j.rank(j.period) - j.rank(&j.Whole)
	if variance := j.varianceOf(MeasureRank); variance > 0 { // else one value only
		limit := j.Wobble.mean(func(w *Wobble) float64 { return w.Rank }, level, variance, n, m, accept*s.rank)
		j.add(Measured{Name: MeasureRank, Value: math.Abs(moved), Limit: limit, Decides: true})
		moved = min(moved*moved, limit*limit)
	}
	if variance := j.varianceOf(MeasureDepth); variance > 0 {
		deeper := j.depth(j.period) - j.depth(&j.Whole) - j.Wobble.Bend*(moved-j.Wobble.Moves.Mean)
		limit := j.Wobble.mean(func(w *Wobble) float64 { return w.Depth }, along(moved), variance, n, m, accept*s.depth)
		j.add(Measured{Name: MeasureDepth, Value: math.Abs(deeper), Limit: limit, Decides: true})
	}
	d, p := KolmogorovSmirnov(j.Whole.Bins, j.period.Bins)
	critical := -math.Log(accept*s.ks/2) / 2
	limit := math.Sqrt(critical*j.sampling() + j.Wobble.allows(func(w *Wobble) float64 { return w.KS }, accept*s.ks))
	j.add(Measured{Name: MeasureKS, Value: d, Limit: limit, P: p, Decides: true})
	far := Measured{Name: MeasureWasserstein, Value: Wasserstein(j.Layout, &j.Whole, j.period)}
	if blocks := float64(j.Wobble.Blocks); blocks > 0 {
		far.Limit = j.Wobble.Moved + distuv.StudentsT{Sigma: 1, Nu: blocks - 1}.Quantile(1-accept*s.ks)*math.Sqrt(1+
			1/blocks)*j.Wobble.Spread
	}
	j.add(far)
	j.outside(accept * s.outside)
}

// outside judges how many rows lie beyond the reference's range. Where the edge itself
// moves from block to block, those up to where a further block might end are none.
func (j *judging) outside(p float64) {
	last := len(j.period.Bins) - 1
	j.v.Below, j.v.Above = j.period.Bins[0], j.period.Bins[last]
	below, above := j.v.Below, j.v.Above
	if j.Wobble.Lowest.within(j.period.Min, j.Wobble.Blocks, p/2) {
		below = 0
	}
	if j.Wobble.Highest.within(j.period.Max, j.Wobble.Blocks, p/2) {
		above = 0
	}
	outside := float64(below + above)
	tails := max(1, j.Wobble.Tails*j.Wobble.Tails) // the farther out, the more a tail wobbles
	most := beyond(j.Whole.Bins[0], j.n, j.m, tails, p/2) + beyond(j.Whole.Bins[last], j.n, j.m, tails, p/2)
	j.add(Measured{Name: MeasureOutside, Value: outside / float64(j.m), Limit: (most + 0.5) / float64(j.m), Decides: true})
}

// varianceOf is the variance of one value's rank, or of how far that is from the
// middle.
func (j *judging) varianceOf(name string) float64 {
	sum, squares, total := 0.0, 0.0, float64(j.n)
	j.ranks(func(bin int, rank float64) {
		if name == MeasureDepth {
			rank = math.Abs(rank - 0.5)
		}
		share := float64(j.Whole.Bins[bin]) / total
		sum, squares = sum+share*rank, squares+share*rank*rank
	})
	if v := squares - sum*sum; v > 1e-12 {
		return v
	}
	return 0
}

// beyond is the number of rows beyond an edge that a clean period of m has more
// of with a chance of at most p, where a reference of n had k of them: negative
// binomial, for an extreme itself (m/(n+m))^rows. Tails is by how much more rows
// a stretch's tail may have.
func beyond(k, n, m int64, tails, p float64) float64 {
	r := float64(k) + 1
	return min(negativeBinomial(r, r*float64(m)*tails/float64(n)).most(p), float64(m))
}
