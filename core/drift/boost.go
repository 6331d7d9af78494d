package drift

import (
	"math"
	"math/rand/v2"
)

// The classifier: gradient boosting of trees of depth two on the logistic loss
// (Friedman 2001, with Newton leaves and row sampling). Two splits in a tree are
// the least that sees a change of how two features go together.
const (
	trees     = 60
	rate      = 0.15
	rowShare  = 0.7
	codes     = 64 // most bins of a feature, a power of two
	leastRows = 10 // of a leaf
)

// node of a tree of depth two: node 0 asks first, 1 and 2 after it.
type node struct {
	feature int
	upto    uint8 // codes up to this go left
}

type tree struct {
	nodes [3]node
	leaf  [4]float64
}

func (t *tree) at(columns [][]uint8, row int32) float64 {
	side := 0
	if columns[t.nodes[0].feature][row] > t.nodes[0].upto {
		side = 1
	}
	next := t.nodes[1+side]
	leaf := 2 * side
	if columns[next.feature][row] > next.upto {
		leaf++
	}
	return t.leaf[leaf]
}

type slope struct{ g, h, n float64 }

func (s *slope) add(o slope) { s.g += o.g; s.h += o.h; s.n += o.n }

func (s slope) less(o slope) slope { return slope{s.g - o.g, s.h - o.h, s.n - o.n} }

func (s slope) gain() float64 { return s.g * s.g / (s.h + 1) }

func (s slope) leaf() float64 { return -rate * s.g / (s.h + 1) }

// booster fits trees to the rows given of coded columns.
type booster struct {
	columns [][]uint8
	y       []bool
	score   []float64
	g, h    []float64
	hist    [][codes]slope
	other   [][codes]slope
}

// boost fits a classifier; columns are codes by feature and row.
func boost(columns [][]uint8, y []bool, rows []int32, rng *rand.Rand) []tree {
	b := &booster{columns: columns, y: y, score: make([]float64, len(y)), g: make([]float64, len(y)), h: make([]float64, len(y)),
		hist: make([][codes]slope, len(columns)), other: make([][codes]slope, len(columns))}
	forest := make([]tree, 0, trees)
	picked, left, right := make([]int32, 0, len(rows)), make([]int32, 0, len(rows)), make([]int32, 0, len(rows))
	for range trees {
		picked, left, right = picked[:0], left[:0], right[:0]
		for _, i := range rows {
			p := 1 / (1 + math.Exp(-b.score[i]))
			b.g[i], b.h[i] = p, p*(1-p)
			if y[i] {
				b.g[i]--
			}
			if rng.Float64() < rowShare {
				picked = append(picked, i)
			}
		}
		var t tree
		b.count(b.hist, picked)
		_, _, first, ok := best(b.hist)
		if !ok {
			break
		}
		t.nodes[0] = first
		for _, i := range picked {
			if columns[first.feature][i] <= first.upto {
				left = append(left, i)
			} else {
				right = append(right, i)
			}
		}
		few, many := left, right
		if len(few) > len(many) {
			few, many = many, few
		}
		b.count(b.other, few)
		for f := range b.hist {
			for c := range b.hist[f] {
				b.hist[f][c] = b.hist[f][c].less(b.other[f][c])
			}
		}
		sides := [2][][codes]slope{b.other, b.hist}
		if len(left) > len(right) {
			sides[0], sides[1] = sides[1], sides[0]
		}
		for side, hist := range sides {
			all, low, split, ok := best(hist)
			if !ok { // one leaf
				split, low = node{first.feature, codes - 1}, all
			}
			t.nodes[1+side] = split
			t.leaf[2*side], t.leaf[2*side+1] = low.leaf(), all.less(low).leaf()
		}
		forest = append(forest, t)
		for _, i := range rows {
			b.score[i] += t.at(columns, i)
		}
	}
	return forest
}

func (b *booster) count(hist [][codes]slope, rows []int32) {
	for f, column := range b.columns {
		cells := &hist[f]
		*cells = [codes]slope{}
		for _, i := range rows {
			c := &cells[column[i]&(codes-1)]
			c.g += b.g[i]
			c.h += b.h[i]
			c.n++
		}
	}
}

// best finds the split of the largest gain; low is what lies left of it.
func best(hist [][codes]slope) (all, low slope, at node, ok bool) {
	gain := 1e-9
	for f := range hist {
		var total, sum slope
		for c := range hist[f] {
			total.add(hist[f][c])
		}
		all = total
		for c := range codes - 1 {
			if hist[f][c].n == 0 {
				continue
			}
			sum.add(hist[f][c])
			rest := total.less(sum)
			if sum.n < leastRows || rest.n < leastRows {
				continue
			}
			if v := sum.gain() + rest.gain() - total.gain(); v > gain {
				gain, low, at, ok = v, sum, node{f, uint8(c)}, true
			}
		}
	}
	return all, low, at, ok
}

func predict(forest []tree, columns [][]uint8, row int32) float64 {
	sum := 0.0
	for i := range forest {
		sum += forest[i].at(columns, row)
	}
	return sum
}
