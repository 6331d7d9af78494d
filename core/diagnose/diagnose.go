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
	p := Part{Pairs: pairs, Observed: e.figure(now), Expected: e.figure(was), Rows: now.Rows, Usually: was.Rows,
		New: was.Rows == 0 && now.Rows > 0, Gone: now.Rows == 0 && was.Rows > 0}
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
