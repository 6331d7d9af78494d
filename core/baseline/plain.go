package baseline

import (
	"fmt"
	"math"
	"slices"

	"tinbell/core/robust"
)

// Name of a baseline method.
type Name string

const (
	Seasonal Name = "seasonal" // level and weekly shape, learned
	Fixed    Name = "fixed"    // bounds a person gives
	Change   Name = "change"   // against the value one lag earlier
	Rolling  Name = "rolling"  // centre and spread of the last periods
	ZScore   Name = "zscore"   // mean and standard deviation of the history
	Modified Name = "modified" // median and MAD of the history (Iglewicz and Hoaglin 1993)
	Fences   Name = "fences"   // quartiles of the history (Tukey 1977)
	Siblings Name = "siblings" // the other segments of the metric at the same time
)

// Method is how a baseline is made; the zero value is Seasonal.
type Method struct {
	Name      Name
	Low, High float64 // Fixed; ±Inf where open
	Lag       int     // Change: periods back
	Window    int     // Rolling, Siblings: periods remembered
	Robust    bool    // Rolling: median and MAD instead of mean and standard deviation
	// Width is how many spreads away the band ends: standard deviations, MADs in
	// units of one, interquartile ranges beyond the quartiles, or for Change the
	// relative change. 0 takes it from the budget.
	Width float64
}

// Plain tells whether the method is one of the simple ones.
func (m Method) Plain() bool { return m.Name != "" && m.Name != Seasonal }

// Told says in words what is expected.
func (m Method) Told() string {
	switch m.Name {
	case Fixed:
		return "bounds"
	case Change:
		return "value before"
	case Rolling:
		if m.Robust {
			return "median of the last periods"
		}
		return "mean of the last periods"
	case ZScore:
		return "mean of the history"
	case Siblings:
		return "what the other segments suggest"
	}
	return "median of the history"
}

// Check refuses what cannot be followed.
func (m Method) Check() error {
	switch m.Name {
	case "", Seasonal, ZScore, Modified, Fences:
	case Fixed:
		if math.IsInf(m.Low, -1) && math.IsInf(m.High, 1) {
			return fmt.Errorf("fixed bounds: give at least one of low and high")
		}
		if !(m.Low < m.High) {
			return fmt.Errorf("fixed bounds %g to %g: low must lie under high", m.Low, m.High)
		}
	case Change:
		if m.Lag < 1 || m.Lag > maxMemory {
			return fmt.Errorf("change against %d periods earlier: allowed are 1 to %d", m.Lag, maxMemory)
		}
	case Rolling, Siblings:
		if m.Window < 3 || m.Window > maxMemory {
			return fmt.Errorf("window of %d periods: allowed are 3 to %d", m.Window, maxMemory)
		}
	default:
		return fmt.Errorf("method %q is not known", m.Name)
	}
	if m.Width < 0 || m.Width > 1000 {
		return fmt.Errorf("width %g: allowed are 0 (from the budget) to 1000", m.Width)
	}
	return nil
}

const maxMemory = 20000 // two weeks of minutes

// Plain is the state of a simple baseline: what it remembers of the past. Its
// readings come from values before the one that is judged.
type Plain struct {
	Ring   []float64 // last values, NaN where there was none
	Next   int
	Seen   int
	Centre float64    // of the history, where it stays fixed until the next fit
	Inner  [2]float64 // where distance begins
	Spread float64
	Unit   float64 // usual size of a distance, in spreads
	Floor  float64 // least spread where widths follow from the budget

	sorted []float64
}

// NewPlain learns what a method needs from a history of values on the judged
// scale, ascending in time, NaN where missing.
func NewPlain(m Method, history []float64) *Plain {
	p := &Plain{Unit: 1, Floor: floorOf(m, history)}
	switch m.Name {
	case Change:
		p.Ring = nans(m.Lag)
	case Rolling, Siblings:
		p.Ring = nans(m.Window)
	default:
		p.learn(m, history)
	}
	return p
}

// floorOf keeps a spread from vanishing where most values are the same, and a
// change from being measured against next to nothing. Widths that people give are
// taken as they are.
func floorOf(m Method, history []float64) float64 {
	if m.Width > 0 || m.Name == Fixed || m.Name == Siblings || m.Name == ZScore {
		return 0
	}
	values := make([]float64, 0, len(history))
	for _, v := range history {
		if !math.IsNaN(v) {
			values = append(values, v)
		}
	}
	if len(values) == 0 {
		return 0
	}
	centre := 0.0
	if m.Name != Change {
		centre = robust.Median(values)
	}
	sum, same := 0.0, 0
	for _, v := range values {
		sum += math.Abs(v - centre)
		if v == centre {
			same++
		}
	}
	// Robust spreads may lie well under the mean distance, unless much is the same.
	share := 0.1
	if m.Name == Change || 4*same > len(values) {
		share = 0.3
	}
	floor := share * sum / float64(len(values))
	if math.IsInf(floor, 0) {
		return 0
	}
	return floor
}

func nans(n int) []float64 {
	list := make([]float64, n)
	for i := range list {
		list[i] = math.NaN()
	}
	return list
}

func (p *Plain) learn(m Method, history []float64) {
	values := make([]float64, 0, len(history))
	for _, v := range history {
		if !math.IsNaN(v) {
			values = append(values, v)
		}
	}
	p.Seen = len(values)
	if len(values) == 0 {
		values = append(values, 0)
	}
	p.Centre = robust.Median(values)
	p.Inner = [2]float64{p.Centre, p.Centre}
	switch m.Name {
	case ZScore:
		p.Centre = robust.Mean(values)
		p.Inner = [2]float64{p.Centre, p.Centre}
		p.Spread = deviationOf(values, p.Centre)
	case Modified:
		p.Spread = madOf(values, p.Centre)
	case Fences:
		p.Inner = [2]float64{robust.Quantile(values, 0.25), robust.Quantile(values, 0.75)}
		p.Spread = p.Inner[1] - p.Inner[0]
	}
}

// deviationOf is the standard deviation around a centre.
func deviationOf(values []float64, centre float64) float64 {
	sum := 0.0
	for _, v := range values {
		sum += (v - centre) * (v - centre)
	}
	return math.Sqrt(sum / float64(max(len(values)-1, 1)))
}

// madOf is the median absolute deviation in units of a standard deviation;
// where more than half of the values are equal, the mean absolute deviation
// takes its place.
func madOf(values []float64, centre float64) float64 {
	distances := make([]float64, len(values))
	sum := 0.0
	for i, v := range values {
		distances[i] = math.Abs(v - centre)
		sum += distances[i]
	}
	if mad := robust.Median(distances); mad > 0 {
		return mad / 0.6745
	}
	return 1.2533 * sum / float64(max(len(values), 1))
}

// Around says what is expected now: the centre, where distance begins on each
// side, and the spread it is measured in. known is false while too little was
// seen.
func (p *Plain) Around(m Method) (centre float64, inner [2]float64, spread float64, known bool) {
	switch m.Name {
	case Fixed:
		return p.fixed(m)
	case Change:
		before := p.Ring[p.Next]
		return before, [2]float64{before, before}, max(math.Abs(before), p.Floor), !math.IsNaN(before)
	case Rolling, Siblings:
		n := len(p.sorted)
		if n < 3 || 2*n < min(len(p.Ring), p.Seen) {
			return math.NaN(), inner, 0, false
		}
		if m.Robust || m.Name == Siblings {
			centre = (p.sorted[(n-1)/2] + p.sorted[n/2]) / 2
			spread = madOf(p.sorted, centre)
		} else {
			centre = robust.Mean(p.sorted)
			spread = deviationOf(p.sorted, centre)
		}
		return centre, [2]float64{centre, centre}, max(spread, p.Floor), true
	}
	return p.Centre, p.Inner, max(p.Spread, p.Floor), p.Seen > 0
}

// fixed expects what was usual, inside the bounds; distance begins there and
// ends at the bound.
func (p *Plain) fixed(m Method) (centre float64, inner [2]float64, spread float64, known bool) {
	centre = p.Centre
	switch {
	case math.IsInf(m.High, 1):
		centre = max(centre, m.Low)
	case math.IsInf(m.Low, -1):
		centre = min(centre, m.High)
	case p.Seen == 0:
		centre = (m.Low + m.High) / 2
	}
	return clamp(centre, m.Low, m.High), [2]float64{m.Low, m.High}, 0, true
}

// Learn takes a judged value into memory; NaN where none came.
func (p *Plain) Learn(v float64) {
	if len(p.Ring) == 0 {
		return
	}
	if old := p.Ring[p.Next]; !math.IsNaN(old) {
		if i, found := slices.BinarySearch(p.sorted, old); found {
			p.sorted = slices.Delete(p.sorted, i, i+1)
		}
	}
	p.Ring[p.Next] = v
	p.Next = (p.Next + 1) % len(p.Ring)
	p.Seen++
	if !math.IsNaN(v) {
		i, _ := slices.BinarySearch(p.sorted, v)
		p.sorted = slices.Insert(p.sorted, i, v)
	}
}

// Keep takes the place of a value that must not be learned: what was expected.
func (p *Plain) Keep(m Method) {
	if centre, _, _, known := p.Around(m); known {
		p.Learn(centre)
		return
	}
	p.Learn(math.NaN())
}

// Forget takes the last n values out of memory: they turned out to be a fault.
func (p *Plain) Forget(n int) {
	for k := 1; k <= min(n, len(p.Ring)); k++ {
		i := (p.Next - k + len(p.Ring)) % len(p.Ring)
		if at, found := slices.BinarySearch(p.sorted, p.Ring[i]); found {
			p.sorted = slices.Delete(p.sorted, at, at+1)
		}
		p.Ring[i] = math.NaN()
	}
}

// Renew empties the memory: what it held is no longer normal.
func (p *Plain) Renew() {
	p.Forget(len(p.Ring))
	p.Seen = 0
}

// Restore recomputes what is not stored, after decoding.
func (p *Plain) Restore() {
	p.sorted = p.sorted[:0]
	for _, v := range p.Ring {
		if !math.IsNaN(v) {
			p.sorted = append(p.sorted, v)
		}
	}
	slices.Sort(p.sorted)
}

// Distance is how many spreads a value lies beyond the inner edges, signed. A
// spread of nothing makes any other value infinitely far, within reason.
func Distance(v float64, inner [2]float64, spread float64) float64 {
	d := 0.0
	switch {
	case v < inner[0]:
		d = v - inner[0]
	case v > inner[1]:
		d = v - inner[1]
	default:
		return 0
	}
	if spread <= 0 {
		return math.Copysign(99, d)
	}
	return clamp(d/spread, -99, 99)
}
