package diagnose

import (
	"cmp"
	"math"
	"slices"
	"strings"
)

// Prices of a segment in the deviance, by its number of columns.
var prices = [...]float64{8, 14, 22}

const (
	mostParts = 5
	leastZ    = 4.0
)

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
