package drift

import (
	"fmt"
	"math"
	"slices"
	"strings"

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
	MeasureWasserstein = "wasserstein"
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
	P       float64 `json:"p,omitempty"` // chance of a value as large by sampling alone
	Decides bool    `json:"decides"`     // the verdict follows from it
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

// Floors of limits where nothing is known of a reference's wobble.
const (
	floorPSI     = 0.1
	floorKS      = 0.1
	floorMissing = 0.02
)

// Judge compares a period with a reference. Of clean periods a share of at most
// accept is over: the deciding measures share it among them. A limit is what
// sampling explains at these numbers of rows, and on top of it what the reference
// wobbles from block to block; where fewer than five blocks tell that, limits
// have floors.
func Judge(r *Reference, period *Counts, accept float64) Verdict {
	v := Verdict{State: AsExpected, WasMissing: gone(&r.Whole), Unreadable: period.Unreadable, Reference: moments(r.Layout, &r.Whole), Period: moments(r.Layout, period)}
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
	parts := 1.0 // deciding measures
	switch {
	case n < MinRows || m < MinRows:
	case r.Layout.Kind.Numeric():
		parts = 4
	case len(r.Layout.Rest) == 0 && !r.Layout.Many:
		parts = 3
	default:
		parts = 2
	}
	j.accept /= parts
	if n >= MinRows && m >= MinRows {
		j.shape()
		if r.Layout.Kind.Numeric() {
			j.order()
		} else {
			j.words()
		}
	}
	j.missing()
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
	if v.State == AsExpected && v.Why != "" {
		v.State = TooFew
	}
	return v
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

// quantile of chi-square that clean periods are under.
func (j *judging) quantile(freedom float64) float64 {
	return distuv.ChiSquared{K: freedom}.Quantile(1 - j.accept)
}

// shape compares shares of bins.
func (j *judging) shape() {
	group, k := j.groups(min(j.n, j.m))
	if k < 2 {
		return // one value only: what is new, missing or outside is told below
	}
	a, b := gather(j.Whole.Bins, group, k), gather(j.period.Bins, group, k)
	limit := j.quantile(float64(k-1))*j.sampling() + j.Wobble.allows(func(w *Wobble) float64 { return w.PSI }, j.accept)
	if j.Wobble.Blocks == 0 {
		limit = max(limit, floorPSI)
	}
	statistic, _, p := ChiSquare(a, b)
	j.add(Measured{Name: MeasurePSI, Value: PSI(a, b), Limit: limit, Decides: true})
	j.add(Measured{Name: MeasureJS, Value: JensenShannon(a, b), Limit: math.Sqrt(limit / (8 * math.Ln2))})
	j.add(Measured{Name: MeasureChiSquare, Value: statistic, Limit: limit / j.sampling(), P: p})
}

// order compares what only numbers have: the two distribution functions, how far
// values moved, and the range.
func (j *judging) order() {
	d, p := KolmogorovSmirnov(j.Whole.Bins, j.period.Bins)
	critical := -math.Log(j.accept/2) / 2
	limit := math.Sqrt(critical*j.sampling() + j.Wobble.allows(func(w *Wobble) float64 { return w.KS }, j.accept))
	if j.Wobble.Blocks == 0 {
		limit = max(limit, floorKS)
	}
	j.add(Measured{Name: MeasureKS, Value: d, Limit: limit, P: p, Decides: true})
	moved := Measured{Name: MeasureWasserstein, Value: Wasserstein(j.Layout, &j.Whole, j.period)}
	if j.Wobble.Blocks > 0 {
		n := float64(j.Wobble.Blocks)
		moved.Limit = j.Wobble.Moved + distuv.StudentsT{Sigma: 1, Nu: n - 1}.Quantile(1-j.accept)*math.Sqrt(1+1/n)*j.Wobble.Spread
	}
	j.add(moved)
	last := len(j.period.Bins) - 1
	j.v.Below, j.v.Above = j.period.Bins[0], j.period.Bins[last]
	outside := float64(j.v.Below + j.v.Above)
	tails := max(1, j.Wobble.Tails*j.Wobble.Tails) // the farther out, the more a tail wobbles
	if j.Wobble.Blocks == 0 {
		tails = 3
	}
	most := beyond(j.Whole.Bins[0], j.n, j.m, tails, j.accept/2) + beyond(j.Whole.Bins[last], j.n, j.m, tails, j.accept/2)
	j.add(Measured{Name: MeasureOutside, Value: outside / float64(j.m), Limit: most / float64(j.m), Decides: true})
}

// beyond is the number of rows beyond an edge that a clean period of m has more
// of with a chance of at most p, where a reference of n had k of them: negative
// binomial, for an extreme itself (m/(n+m))^rows. Tails is by how much more rows
// a stretch's tail may have.
func beyond(k, n, m int64, tails, p float64) float64 {
	r, odds := float64(k)+1, float64(m)*tails/(float64(n)+float64(m)*tails)
	if mean := r * odds / (1 - odds); mean > 5000 {
		return math.Ceil(mean + distuv.UnitNormal.Quantile(1-p)*math.Sqrt(mean/(1-odds)))
	}
	term := math.Exp(r * math.Log1p(-odds))
	below, rows := term, 0.0
	for 1-below > p && rows < 1e6 {
		rows++
		term *= odds * (r + rows - 1) / rows
		below += term
	}
	return rows + 1
}

// words compares what only categories have: those that are new, those that are
// gone.
func (j *judging) words() {
	l := j.Layout
	j.v.New = j.period.NewWords()
	seldom := 0 // categories that the reference has once: a measure of what it may not know (Good 1953)
	for i := range l.Words {
		c := j.Whole.Bins[i]
		if c == 1 {
			seldom++
		}
		if j.period.Bins[i] == 0 && float64(j.m)*math.Log1p(-float64(c)/float64(j.n)) < math.Log(j.accept) {
			j.v.Vanished = append(j.v.Vanished, l.Words[i])
		}
	}
	expected := float64(j.m) * (float64(seldom) + 1) / float64(j.n)
	few := len(l.Rest) == 0 && !l.Many
	share := Measured{Name: MeasureNew, Value: float64(j.period.Fresh) / float64(j.m), Decides: few}
	if few {
		share.Limit = (poissonUpper(expected, j.accept) + 1) / float64(j.m)
	}
	j.add(share)
	j.add(Measured{Name: MeasureVanished, Value: float64(len(j.v.Vanished))})
	if l.Many {
		j.v.Why = fmt.Sprintf("more than %d categories: all but %d large ones are taken together, and new ones cannot be told", knownWords, len(l.Words))
	}
}

// poissonUpper is the number that a Poisson count exceeds with a chance of at
// most p.
func poissonUpper(mean, p float64) float64 {
	term := math.Exp(-mean)
	below, k := term, 0.0
	for 1-below > p && k < 1e6 {
		k++
		term *= mean / k
		below += term
	}
	return k
}

// missing compares the share of rows without a usable value.
func (j *judging) missing() {
	m, r := float64(j.period.Rows), float64(j.Whole.Rows)
	was, is := gone(&j.Whole), gone(j.period)
	low, high := j.missingLimits(was, r, m)
	one := Measured{Name: MeasureMissing, Value: is, Limit: high, Decides: true}
	if is < low {
		// Fewer missing than ever is a change too: told as one over its limit.
		j.v.Why = strings.TrimSpace(fmt.Sprintf("%.3g %% missing, where %.3g %% were", is*100, was*100))
		one.Limit = 0
		j.add(one)
		j.add(Measured{Name: MeasurePresent, Value: 1 - is, Limit: 1 - low, Decides: true})
		return
	}
	j.add(one)
}

// missingLimits are the shares that a clean period of m rows stays between: the
// share of the reference is taken as known up to sampling and wobble (a beta
// distribution), the period's count then as beta-binomial.
func (j *judging) missingLimits(share, n, m float64) (low, high float64) {
	p := (share*n + 0.5) / (n + 1)
	spread := p * (1 - p)
	certain := n
	z := distuv.UnitNormal.Quantile(1 - j.accept/2)
	if wobble := j.Wobble.allows(func(w *Wobble) float64 { return w.Missing }, j.accept) / z / z; wobble > 0 {
		certain = spread / (spread/n + wobble)
	}
	a, b := p*certain+1e-9, (1-p)*certain+1e-9
	tail := j.accept / 2
	sd := math.Sqrt(spread * (1/m + 1/(certain+1)))
	low, high = p-z*sd, p+z*sd
	if m*p < 400 || m*(1-p) < 400 {
		low, high = betaBinomial(a, b, m, tail)
	}
	if j.Wobble.Blocks == 0 {
		low, high = min(low, share-floorMissing), max(high, share+floorMissing)
	}
	return low, min(high, 1)
}

// betaBinomial gives the shares of m that a beta-binomial count is below or above
// with a chance of at most tail each.
func betaBinomial(a, b, m, tail float64) (low, high float64) {
	lbeta := func(x, y float64) float64 {
		p, _ := math.Lgamma(x)
		q, _ := math.Lgamma(y)
		s, _ := math.Lgamma(x + y)
		return p + q - s
	}
	flip := a > b // sums the shorter tail
	if flip {
		a, b = b, a
	}
	base := lbeta(a, b)
	at := func(k float64) float64 {
		lm, _ := math.Lgamma(m + 1)
		lk, _ := math.Lgamma(k + 1)
		lr, _ := math.Lgamma(m - k + 1)
		return math.Exp(lm - lk - lr + lbeta(a+k, b+m-k) - base)
	}
	below, lowest := 0.0, -1.0
	k := 0.0
	for ; k < m && k < 20000; k++ {
		below += at(k)
		if below > tail && lowest < 0 {
			lowest = k
		}
		if 1-below <= tail {
			break
		}
	}
	low, high = lowest/m, k/m
	if flip {
		low, high = 1-high, 1-low
	}
	return low, high
}
