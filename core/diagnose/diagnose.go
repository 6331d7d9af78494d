// Package diagnose finds which segments are behind a change, and what the series
// that broke together have in common.
//
// A change is explained by the fewest segments whose own change, one factor or one
// shift each, leaves the cells of a grouped aggregate as they usually are: forward
// steps of a weighted regression with a price for each segment, the effects of all
// fitted again at each step (a form of stepwise quasi-likelihood; McCullagh and
// Nelder 1989, ch. 9).
package diagnose

import (
	"cmp"
	"math"
	"slices"
	"strings"
)

// Measure is what changed.
type Measure uint8

const (
	Rows  Measure = iota // a count of rows: segments change by a factor
	Sum                  // a sum of values: the same, with the values' own spread
	Share                // a share of rows: by a shift of the share
	Mean                 // a mean of values: by a shift of the mean
)

// Amount is what one stretch of time had in a cell.
type Amount struct {
	Rows  float64 // all rows; of means, those with a value
	Value float64 // of shares the rows that count, of means and sums the sum of values
}

// Cell is a combination of values of the columns, with what came and what the same
// stretch of earlier weeks had. An absent week is zero.
type Cell struct {
	Values []string
	Now    Amount
	Before []Amount
}

// Pair is a column, by its place, and its value.
type Pair struct {
	Column int
	Value  string
}

// Part is a segment and what it contributes to the change.
type Part struct {
	Pairs    []Pair
	Observed float64 // rows, share or mean of the segment
	Expected float64
	Rows     float64 // of the segment now
	Usually  float64 // rows it usually has
	Change   float64 // in the figure of the whole
	Share    float64 // of all that its column's values changed in the whole's direction
	Z        float64 // standard deviations
	New      bool    // it never was there before
	Gone     bool    // it is not there any more
}

// Explained is what a change comes down to.
type Explained struct {
	Observed, Expected float64
	Parts              []Part   // the fewest that explain it, largest first; one without pairs: the whole
	Share              float64  // what they have of all that changed in the whole's direction, at most 1
	By                 []Column // the values of each column, the most telling column first
	Mix                float64  // of shares and means: how much of the change is another mix of rows, by the first column
}

// Column is what its values contribute.
type Column struct {
	Column int
	Values []Part
	Rate   float64 // part of the change from rates within values
	Mix    float64 // part from how rows are spread over values
}

// Prices of a segment in the deviance, by its number of columns.
var prices = [...]float64{8, 14, 22}

const (
	mostParts = 5
	leastZ    = 4.0
	enough    = 0.8 // of a change explained
)

// Explain finds the segments behind a change. Towards is −1 or 1 where what is to be
// explained is a fall or a rise, whatever the whole did; 0 takes the whole's.
func Explain(m Measure, columns int, cells []Cell, towards int) Explained {
	e := newModel(m, columns, cells)
	x := Explained{Observed: e.whole(nowOf), Expected: e.whole(e.usual)}
	if towards == 0 {
		towards = cmp.Compare(x.Observed, x.Expected)
	}
	if len(cells) == 0 || len(cells[0].Before) == 0 {
		return x
	}
	e.steps()
	moved := make([]float64, columns)
	for c := range columns {
		by := e.column(c)
		for _, v := range by.Values {
			if v.Change*float64(towards) > 0 {
				moved[c] += v.Change
			}
		}
		for i := range by.Values {
			by.Values[i].Share = ratioOf(by.Values[i].Change, moved[c])
		}
		x.By = append(x.By, by)
	}
	for _, c := range e.chosen {
		p := e.part(c.pairs)
		if p.Share = 1; len(c.pairs) > 0 {
			p.Share = ratioOf(p.Change, moved[c.pairs[0].Column])
		}
		if p.Change*float64(towards) > 0 { // what moved the other way explains nothing
			x.Share = min(x.Share+p.Share, 1)
			x.Parts = append(x.Parts, p)
		}
	}
	slices.SortFunc(x.Parts, func(a, b Part) int { return cmp.Compare(b.Change*float64(towards), a.Change*float64(towards)) })
	slices.SortStableFunc(x.By, func(a, b Column) int { return cmp.Compare(concentration(b), concentration(a)) })
	if len(x.By) > 0 {
		x.Mix = x.By[0].Mix
	}
	return x
}

func ratioOf(part, whole float64) float64 {
	if whole == 0 {
		return 0
	}
	return part / whole
}

// concentration is how much of a column's changes its one or two largest hold,
// against how much of its rows these have.
func concentration(c Column) float64 {
	total, most, rows, own := 0.0, 0.0, 0.0, 0.0
	for i, v := range c.Values {
		total, rows = total+math.Abs(v.Change), rows+v.Usually
		if i == 0 {
			most, own = math.Abs(v.Change), v.Usually
		}
	}
	if total == 0 || rows == 0 || len(c.Values) < 2 {
		return 0
	}
	return most/total - own/rows
}

// model holds the cells as a regression: of each cell by how much it is off, what a
// change of one unit of its segment would add, and its variance.
type model struct {
	measure  Measure
	columns  int
	cells    []Cell
	usually  []Amount
	residual []float64
	unit     []float64
	variance []float64
	left     []float64 // residuals that the chosen leave
	wobble   float64   // variance of a segment's effect from week to week, beyond that of its cells
	members  map[string][]int
	keys     map[string][]Pair
	chosen   []*choice
}

type choice struct {
	key    string
	pairs  []Pair
	cells  []int
	effect float64
}

func nowOf(i int, e *model) Amount            { return e.cells[i].Now }
func (e *model) usual(i int, _ *model) Amount { return e.usually[i] }

func newModel(m Measure, columns int, cells []Cell) *model {
	e := &model{measure: m, columns: columns, cells: cells, members: map[string][]int{}, keys: map[string][]Pair{}}
	n := len(cells)
	e.usually, e.residual, e.unit, e.variance = make([]Amount, n), make([]float64, n), make([]float64, n), make([]float64, n)
	for i, c := range cells {
		for _, b := range c.Before {
			e.usually[i].Rows += b.Rows / float64(len(c.Before))
			e.usually[i].Value += b.Value / float64(len(c.Before))
		}
	}
	phi := e.dispersion()
	weeks := 1.0
	if n > 0 {
		weeks = float64(max(len(cells[0].Before), 1))
	}
	var whole Amount
	for _, u := range e.usually {
		whole.Rows, whole.Value = whole.Rows+u.Rows, whole.Value+u.Value
	}
	for i, c := range cells {
		u := e.usually[i]
		switch m {
		case Rows:
			e.residual[i], e.unit[i] = c.Now.Rows-u.Rows, u.Rows
			e.variance[i] = phi * max(u.Rows, 0.5) * (1 + 1/weeks)
		case Sum:
			e.residual[i], e.unit[i] = c.Now.Value-u.Value, u.Value
			e.variance[i] = phi * max(math.Abs(u.Value), 1e-9) * (1 + 1/weeks)
		default:
			rate := ratio(u, ratio(whole, 0))
			e.residual[i], e.unit[i] = c.Now.Value-c.Now.Rows*rate, c.Now.Rows
			spread := phi
			if m == Share {
				q := (c.Now.Value + u.Value + 0.5) / (c.Now.Rows + u.Rows + 1)
				spread = phi * q * (1 - q)
			}
			e.variance[i] = max(spread*c.Now.Rows*(1+c.Now.Rows/max(weeks*u.Rows, c.Now.Rows/4+1)), 1e-12)
		}
	}
	e.left = slices.Clone(e.residual)
	e.list()
	e.wobble = e.wobbles(phi)
	return e
}

// ratio is value by rows; other where there are none.
func ratio(a Amount, other float64) float64 {
	if a.Rows <= 0 {
		return other
	}
	return a.Value / a.Rows
}

// dispersion is how much wider cells vary from week to week than by chance alone:
// of means, the variance of a value.
func (e *model) dispersion() float64 {
	var sizes []float64
	weight := 0.0
	for i, c := range e.cells {
		u, n := e.usually[i], float64(len(c.Before))
		if n < 2 || u.Rows < 1 {
			continue
		}
		sum := 0.0
		for _, b := range c.Before {
			switch e.measure {
			case Rows:
				sum += (b.Rows - u.Rows) * (b.Rows - u.Rows) / u.Rows
			case Sum:
				sum += (b.Value - u.Value) * (b.Value - u.Value) / max(math.Abs(u.Value), 1e-9)
			case Share:
				q := min(max(u.Value/u.Rows, 0.5/u.Rows), 1-0.5/(u.Rows+1))
				if d := b.Value - b.Rows*u.Value/u.Rows; b.Rows > 0 {
					sum += d * d / (b.Rows * q * (1 - q))
				}
			case Mean:
				if d := b.Value - b.Rows*u.Value/u.Rows; b.Rows > 0 {
					sum += d * d / b.Rows
				}
			}
		}
		sizes, weight = append(sizes, sum/(n-1)), weight+1
	}
	if len(sizes) == 0 {
		return 1
	}
	mean := 0.0
	slices.Sort(sizes)
	for _, s := range sizes[:max(len(sizes)*9/10, 1)] {
		mean += s / float64(max(len(sizes)*9/10, 1))
	}
	if e.measure == Rows || e.measure == Share {
		return max(mean, 1)
	}
	return max(mean, 1e-12)
}

// list gathers the candidates: the whole, each value of each column, and each pair
// of them.
func (e *model) list() {
	add := func(i int, pairs ...Pair) {
		var b strings.Builder
		for _, p := range pairs {
			b.WriteByte(byte('0' + p.Column))
			b.WriteString(p.Value)
			b.WriteByte(0)
		}
		key := b.String()
		if e.keys[key] == nil {
			e.keys[key] = append([]Pair{}, pairs...)
		}
		e.members[key] = append(e.members[key], i)
	}
	for i, c := range e.cells {
		add(i)
		for a := range e.columns {
			add(i, Pair{a, c.Values[a]})
			for b := a + 1; b < e.columns; b++ {
				add(i, Pair{a, c.Values[a]}, Pair{b, c.Values[b]})
			}
		}
	}
}

// wobbles estimates how much more the segments of one column vary from week to week
// than their cells do by themselves: what moves all rows of a port on a day moves
// them together. It is the mean excess of the squared effects of each week, without
// the largest tenth.
func (e *model) wobbles(phi float64) float64 {
	var excess []float64
	for key, cells := range e.members {
		if len(e.keys[key]) != 1 {
			continue
		}
		weeks := len(e.cells[cells[0]].Before)
		for w := range weeks {
			num, den := 0.0, 0.0
			for _, i := range cells {
				b, u := e.cells[i].Before[w], e.usually[i]
				residual, unit, variance := b.Rows-u.Rows, u.Rows, phi*max(u.Rows, 0.5)
				switch e.measure {
				case Sum:
					residual, unit, variance = b.Value-u.Value, u.Value, phi*max(math.Abs(u.Value), 1e-9)
				case Share, Mean:
					q := ratio(u, 0)
					residual, unit, variance = b.Value-b.Rows*q, b.Rows, phi*max(b.Rows, 1e-9)
					if e.measure == Share {
						variance *= max(q*(1-q), 0.5/(u.Rows+1))
					}
				}
				num, den = num+residual*unit/variance, den+unit*unit/variance
			}
			if den > 0 && weeks > 1 {
				effect := num / den
				excess = append(excess, effect*effect*float64(weeks)/float64(weeks-1)-1/den)
			}
		}
	}
	if len(excess) == 0 {
		return 0
	}
	slices.Sort(excess)
	kept := excess[:max(len(excess)*9/10, 1)]
	mean := 0.0
	for _, x := range kept {
		mean += x / float64(len(kept))
	}
	return max(mean, 0)
}

// gain is what a segment's own effect takes off the deviance, and its z.
func (e *model) gain(cells []int, residual []float64) (gain, z float64) {
	num, den := 0.0, 0.0
	for _, i := range cells {
		num += residual[i] * e.unit[i] / e.variance[i]
		den += e.unit[i] * e.unit[i] / e.variance[i]
	}
	if den <= 0 {
		// Rows where there never were any: all that came is news.
		for _, i := range cells {
			num += residual[i]
			den += e.variance[i]
		}
		if den <= 0 {
			return 0, 0
		}
	}
	z = num / den / math.Sqrt(1/den+e.wobble*1.25)
	return z * z, z
}

// steps chooses segments one after another.
func (e *model) steps() {
	keys := make([]string, 0, len(e.keys))
	for k := range e.keys {
		keys = append(keys, k)
	}
	slices.SortFunc(keys, func(a, b string) int {
		return cmp.Or(cmp.Compare(len(e.keys[a]), len(e.keys[b])), cmp.Compare(a, b))
	})
	for len(e.chosen) < mostParts {
		best, bestGain := "", 0.0
		for _, k := range keys {
			pairs, cells := e.keys[k], e.members[k]
			if slices.ContainsFunc(e.chosen, func(c *choice) bool { return c.key == k }) || len(pairs) > 0 && len(cells) == len(e.cells) {
				continue
			}
			gain, z := e.gain(cells, e.left)
			if gain -= prices[len(pairs)]; math.Abs(z) >= leastZ && gain > bestGain {
				best, bestGain = k, gain
			}
		}
		if bestGain <= 0 {
			break
		}
		e.chosen = append(e.chosen, &choice{key: best, pairs: e.keys[best], cells: e.members[best]})
		e.fit()
		e.prune()
	}
}

// fit estimates the effects of all chosen segments together, in turns.
func (e *model) fit() {
	for _, c := range e.chosen {
		c.effect = 0
	}
	copy(e.left, e.residual)
	for range 30 {
		for _, c := range e.chosen {
			num, den := 0.0, 0.0
			for _, i := range c.cells {
				num += (e.left[i] + c.effect*e.unit[i]) * e.unit[i] / e.variance[i]
				den += e.unit[i] * e.unit[i] / e.variance[i]
			}
			next := 0.0
			if den > 0 {
				next = num / den
			}
			for _, i := range c.cells {
				if e.unit[i] == 0 && den == 0 {
					e.left[i] = 0 // news, wholly explained
				} else {
					e.left[i] += (c.effect - next) * e.unit[i]
				}
			}
			c.effect = next
		}
	}
}

// deviance is what the chosen leave unexplained.
func (e *model) deviance() float64 {
	d := 0.0
	for i, r := range e.left {
		d += r * r / e.variance[i]
	}
	return d
}

// prune drops what is not worth its price any more beside the others.
func (e *model) prune() {
	for len(e.chosen) > 1 {
		now := e.deviance()
		worst, least := -1, 0.0
		all := e.chosen
		for k, c := range all {
			e.chosen = slices.Delete(slices.Clone(all), k, k+1)
			e.fit()
			if gain := e.deviance() - now - prices[len(c.pairs)]; gain < least {
				worst, least = k, gain
			}
		}
		e.chosen = all
		if worst >= 0 {
			e.chosen = slices.Delete(slices.Clone(all), worst, worst+1)
		}
		e.fit()
		if worst < 0 {
			return
		}
	}
}

// whole is the figure of all cells.
func (e *model) whole(of func(int, *model) Amount) float64 {
	var sum Amount
	for i := range e.cells {
		a := of(i, e)
		sum.Rows, sum.Value = sum.Rows+a.Rows, sum.Value+a.Value
	}
	return e.figure(sum)
}

func (e *model) figure(a Amount) float64 {
	switch e.measure {
	case Rows:
		return a.Rows
	case Sum:
		return a.Value
	}
	return ratio(a, 0)
}

// part is what a segment says for itself.
func (e *model) part(pairs []Pair) Part {
	var now, was, allNow Amount
	residual, variance := 0.0, 0.0
	for i, c := range e.cells {
		allNow = plus(allNow, c.Now)
		if slices.ContainsFunc(pairs, func(p Pair) bool { return c.Values[p.Column] != p.Value }) {
			continue
		}
		now, was = plus(now, c.Now), plus(was, e.usually[i])
		residual, variance = residual+e.residual[i], variance+e.variance[i]
	}
	p := Part{Pairs: pairs, Observed: e.figure(now), Expected: e.figure(was), Rows: now.Rows, Usually: was.Rows, New: was.Rows == 0 && now.Rows > 0, Gone: now.Rows == 0 && was.Rows > 0}
	p.Z = residual / math.Sqrt(max(variance, 1e-12))
	p.Change = residual
	if e.measure == Share || e.measure == Mean {
		p.Change = residual / max(allNow.Rows, 1e-12)
	}
	return p
}

func plus(a, b Amount) Amount { return Amount{a.Rows + b.Rows, a.Value + b.Value} }

// column is what the values of a column contribute, and how much of the change is
// rates and how much another mix: exact and symmetric, at the midpoint of both
// stretches (Oaxaca 1973). A value of one stretch alone has the whole's rate in the
// other.
func (e *model) column(c int) Column {
	type both struct{ now, was Amount }
	by := map[string]*both{}
	var order []string
	var whole both
	for i, cell := range e.cells {
		v := by[cell.Values[c]]
		if v == nil {
			v = &both{}
			by[cell.Values[c]] = v
			order = append(order, cell.Values[c])
		}
		v.now, v.was = plus(v.now, cell.Now), plus(v.was, e.usually[i])
		whole.now, whole.was = plus(whole.now, cell.Now), plus(whole.was, e.usually[i])
	}
	out := Column{Column: c}
	r0, r1 := ratio(whole.was, 0), ratio(whole.now, 0)
	for _, value := range order {
		v := by[value]
		p := e.part([]Pair{{c, value}})
		if e.measure == Share || e.measure == Mean {
			w0, w1 := v.was.Rows/max(whole.was.Rows, 1e-12), v.now.Rows/max(whole.now.Rows, 1e-12)
			q0, q1 := ratio(v.was, r0), ratio(v.now, r1)
			rate, mix := (w0+w1)/2*(q1-q0), (w1-w0)*((q0+q1)/2-(r0+r1)/2)
			out.Rate, out.Mix = out.Rate+rate, out.Mix+mix
			p.Change = rate + mix
		}
		out.Values = append(out.Values, p)
	}
	slices.SortStableFunc(out.Values, func(a, b Part) int { return cmp.Compare(math.Abs(b.Change), math.Abs(a.Change)) })
	return out
}
