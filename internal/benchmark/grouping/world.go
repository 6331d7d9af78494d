// Package grouping measures which alerts are told as one: invented lineages whose
// tables lose, double, hollow out or hold back rows, judged by the same detection
// as any series, beside what really was the cause of each alert.
//
// The world knows nothing of the inference: rows flow from table to table cell by
// cell, and what a fault does downstream follows from that flow.
package grouping

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"time"
)

const (
	trained = 56 * 24 // hours of a past without faults
	judged  = 21 * 24
	hours   = trained + judged
)

// The two dimensions that all rows have. Cells are their combinations.
var dimensions = [2]struct {
	Column string
	Values []string
}{
	{"mill", []string{"north", "south", "east", "west", "weir"}},
	{"grain", []string{"rye", "oats", "spelt"}},
}

var cells = len(dimensions[0].Values) * len(dimensions[1].Values)

func valueOf(cell, dimension int) int {
	if dimension == 0 {
		return cell / len(dimensions[1].Values)
	}
	return cell % len(dimensions[1].Values)
}

// flow is what comes through a table in an hour and cell.
type flow struct{ rows, nulls, sum float64 }

// table of the world. Tables without inputs draw their rows; others take them from
// their inputs, some hours later.
type table struct {
	name    string
	inputs  []input
	split   []int // dimensions that its metrics are split by
	watched bool
	base    float64
	shares  []float64
	peak    float64 // local hour of most rows
	wobble  float64
	nulls   float64
	mean    float64
	metrics struct{ nulls, mean bool }
}

type input struct {
	table int
	lag   int // hours
	pass  float64
	heard bool // the lag was told by runs
}

// kind is a way in which rows go wrong.
type kind int

const (
	loss kind = iota
	double
	hollow // a column is empty
	shift  // a value changes
	hold   // rows come hours later
	wrongs
)

func (k kind) String() string {
	return [...]string{"loss", "double", "hollow", "shift", "hold"}[k]
}

// Fault is what happens to a table, or a segment of it.
type Fault struct {
	Table     int
	Dimension int // −1: the whole
	Value     int
	Kind      string
	From, To  int // hours
	Size      float64

	kind kind
}

func (f *Fault) touches(cell int) bool {
	return f.Dimension < 0 || valueOf(cell, f.Dimension) == f.Value
}

// World is one lineage with its faults.
type World struct {
	Tables []table
	Faults []Fault

	start time.Time
	drawn [][][]flow // by table, cell and hour: of tables without inputs
}

// NewWorld makes up a lineage of 8 to 20 tables and what happens to them: faults
// far apart or, where it is dense, two to five at a time in every third case, some
// on one table in other segments.
func NewWorld(seed uint64, dense bool) *World {
	rng := rand.New(rand.NewPCG(seed, 77))
	w := &World{start: time.Date(2026, 1, 5, 0, 0, 0, 0, time.UTC)}
	n := 8 + rng.IntN(13)
	roots := 2 + n/4
	for i := range n {
		t := table{name: fmt.Sprintf("t%02d", i), watched: rng.Float64() > 0.15, mean: math.Exp(2 + 2*rng.Float64()),
			nulls: 0.005 + 0.03*rng.Float64()}
		t.metrics.nulls, t.metrics.mean = rng.Float64() < 0.5, rng.Float64() < 0.4
		for d := range dimensions {
			if rng.Float64() < 0.75 {
				t.split = append(t.split, d)
			}
		}
		if i < roots {
			t.base, t.peak, t.wobble = math.Exp(5.5+2.5*rng.Float64()), 9+9*rng.Float64(), 0.03+0.09*rng.Float64()
			total := 0.0
			for range cells {
				share := math.Exp(1.1 * rng.NormFloat64())
				t.shares, total = append(t.shares, share), total+share
			}
			for c := range t.shares {
				t.shares[c] /= total
			}
		} else {
			for _, up := range rng.Perm(i)[:1+rng.IntN(min(2, i))] {
				t.inputs = append(t.inputs, input{up, rng.IntN(7), 0.35 + 0.6*rng.Float64(), rng.Float64() < 0.5})
			}
		}
		w.Tables = append(w.Tables, t)
	}
	for i := range w.Tables { // what nobody watches has readers whose alerts may betray it
		w.Tables[i].watched = w.Tables[i].watched || w.readers(i) < 2
	}
	w.draw(rng)
	w.plan(rng, dense)
	return w
}

func (w *World) readers(table int) int {
	n := 0
	for i := range w.Tables {
		if slices.ContainsFunc(w.Tables[i].inputs, func(in input) bool { return in.table == table }) {
			n++
		}
	}
	return n
}

func (w *World) draw(rng *rand.Rand) {
	w.drawn = make([][][]flow, len(w.Tables))
	for i := range w.Tables {
		t := &w.Tables[i]
		if len(t.inputs) > 0 {
			continue
		}
		w.drawn[i] = grid()
		slow := 0.0
		for h := range hours {
			day, hour := h/24, float64(h%24)
			slow = 0.9*slow + 0.3*t.wobble*rng.NormFloat64()
			mu := t.base * (0.15 + math.Exp(-math.Pow((hour-t.peak)/5, 2))) * math.Exp(slow)
			if day%7 >= 5 {
				mu *= 0.7
			}
			for c := range cells {
				rows := poisson(rng, mu*t.shares[c]*math.Exp(0.8*t.wobble*rng.NormFloat64()))
				w.drawn[i][c][h] = flow{rows, poisson(rng, rows*t.nulls), rows*t.mean + math.Sqrt(rows)*0.5*t.mean*rng.NormFloat64()}
			}
		}
	}
}

func grid() [][]flow {
	g := make([][]flow, cells)
	for c := range g {
		g[c] = make([]flow, hours)
	}
	return g
}

func poisson(rng *rand.Rand, mean float64) float64 {
	if mean > 60 {
		return math.Max(0, math.Round(mean+math.Sqrt(mean)*rng.NormFloat64()))
	}
	n, p, limit := 0.0, 1.0, math.Exp(-mean)
	for p *= rng.Float64(); p > limit; p *= rng.Float64() {
		n++
	}
	return n
}

// plan draws the faults.
func (w *World) plan(rng *rand.Rand, dense bool) {
	for at := trained + 12; at < hours-40; {
		n := 1
		if dense && rng.IntN(3) == 0 {
			n = 2 + rng.IntN(4)
		}
		var first *Fault
		for range n {
			f := w.fault(rng, at+rng.IntN(9))
			if first != nil {
				switch near := w.neighbours(first.Table); rng.IntN(3) {
				case 0: // on one table, elsewhere in it
					w.fit(rng, &f, first.Table)
				case 1:
					w.fit(rng, &f, near[rng.IntN(len(near))])
				}
			}
			if slices.ContainsFunc(w.Faults, func(o Fault) bool {
				return o.Table == f.Table && o.To > f.From-24 && (o.Dimension != f.Dimension || o.Dimension < 0 || o.Value == f.Value)
			}) {
				continue
			}
			w.Faults = append(w.Faults, f)
			first = &w.Faults[len(w.Faults)-1]
		}
		at += 72 + rng.IntN(30)
	}
}

// neighbours are the tables one step from a table, and itself.
func (w *World) neighbours(table int) []int {
	near := []int{table}
	for i := range w.Tables {
		for _, in := range w.Tables[i].inputs {
			if in.table == table {
				near = append(near, i)
			} else if i == table {
				near = append(near, in.table)
			}
		}
	}
	return near
}

func (w *World) fault(rng *rand.Rand, at int) Fault {
	f := Fault{From: at, To: at + 5 + rng.IntN(24)}
	w.fit(rng, &f, rng.IntN(len(w.Tables)))
	return f
}

// fit puts a fault to a table: to the whole of it, or to a segment that it is split
// by.
func (w *World) fit(rng *rand.Rand, f *Fault, table int) {
	t := &w.Tables[table]
	f.Table, f.Dimension, f.kind = table, -1, kind(rng.IntN(int(wrongs)))
	if n := len(t.split); n > 0 && rng.IntN(3) > 0 {
		f.Dimension = t.split[rng.IntN(n)]
		f.Value = rng.IntN(len(dimensions[f.Dimension].Values))
	}
	if f.kind == hollow && !t.metrics.nulls || f.kind == shift && !t.metrics.mean {
		f.kind = loss
	}
	switch f.kind {
	case loss:
		f.Size = 0.25 + 0.75*rng.Float64()
	case double:
		f.Size = 0.4 + 0.8*rng.Float64()
	case hollow:
		f.Size = 0.1 + 0.5*rng.Float64()
	case shift:
		f.Size = 0.2 + 0.8*rng.Float64()
	case hold:
		f.Size = float64(4 + rng.IntN(12))
	}
	f.Kind = f.kind.String()
}

// Flows lets rows flow through all tables, under all faults but one; −1 leaves none
// out. Every table keeps its own chance, so that worlds differ by the fault alone.
func (w *World) Flows(without int) [][][]flow {
	all := make([][][]flow, len(w.Tables))
	for i := range w.Tables {
		t := &w.Tables[i]
		rng := rand.New(rand.NewPCG(uint64(i)+1, 9))
		g := grid()
		for c := range cells {
			for h := range hours {
				if len(t.inputs) == 0 {
					g[c][h] = w.drawn[i][c][h]
				}
				for _, in := range t.inputs {
					noise := rng.NormFloat64()
					if h < in.lag {
						continue
					}
					from := all[in.table][c][h-in.lag]
					rows := math.Max(0, math.Round(from.rows*in.pass+noise*math.Sqrt(math.Max(from.rows*in.pass*(1-in.pass), 0))))
					if from.rows > 0 {
						g[c][h].rows += rows
						g[c][h].nulls += from.nulls / from.rows * rows
						g[c][h].sum += from.sum / from.rows * rows
					}
				}
			}
		}
		for k := range w.Faults {
			if f := &w.Faults[k]; f.Table == i && k != without {
				f.spoil(g)
			}
		}
		all[i] = g
	}
	return all
}

// spoil does to a table's rows what the fault is.
func (f *Fault) spoil(g [][]flow) {
	for c := range g {
		if !f.touches(c) {
			continue
		}
		for h := f.From; h < min(f.To, hours); h++ {
			x := &g[c][h]
			switch f.kind {
			case loss:
				k := 1 - f.Size
				*x = flow{math.Round(x.rows * k), x.nulls * k, x.sum * k}
			case double:
				k := 1 + f.Size
				*x = flow{math.Round(x.rows * k), x.nulls * k, x.sum * k}
			case hollow:
				x.nulls = math.Min(x.rows, x.nulls+f.Size*(x.rows-x.nulls))
			case shift:
				x.sum *= 1 + f.Size
			case hold:
				if late := h + int(f.Size); late < hours && late >= f.To {
					y := &g[c][late]
					y.rows, y.nulls, y.sum = y.rows+x.rows, y.nulls+x.nulls, y.sum+x.sum
				} else if f.To < hours {
					y := &g[c][f.To]
					y.rows, y.nulls, y.sum = y.rows+x.rows, y.nulls+x.nulls, y.sum+x.sum
				}
				*x = flow{}
			}
		}
	}
}
