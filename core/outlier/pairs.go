package outlier

import (
	"cmp"
	"math"
	"slices"

	"gonum.org/v1/gonum/stat/distuv"
)

// Pair is two categories that go together less often than their shares make likely.
type Pair struct {
	A, B     string
	Rows     int
	Expected float64 // if they were independent
	P        float64 // of so few, for all the pairs that were looked at (Bonferroni)
	First    int     // index of the first such row
}

// Pairs finds rows whose two categories meet at most half as often as how common each is
// makes likely: the chance of so few if they were independent, by Poisson's law, times the
// number of pairs that were looked at, is at most so much. Pairs that never meet have no
// row to show.
func Pairs(a, b []string, most float64) []Pair {
	type pair struct{ a, b string }
	first, rows := map[pair]int{}, map[pair]int{}
	ofA, ofB := map[string]int{}, map[string]int{}
	n := min(len(a), len(b))
	for i := range n {
		p := pair{a[i], b[i]}
		if rows[p] == 0 {
			first[p] = i
		}
		rows[p]++
		ofA[a[i]]++
		ofB[b[i]]++
	}
	looked := float64(len(ofA) * len(ofB))
	var list []Pair
	for p, count := range rows {
		expected := float64(ofA[p.a]) * float64(ofB[p.b]) / float64(n)
		if 2*float64(count) > expected {
			continue // a little fewer is no rarity, however sure
		}
		chance := distuv.Poisson{Lambda: expected}.CDF(float64(count))
		if p2 := math.Min(chance*looked, 1); p2 <= most {
			list = append(list, Pair{p.a, p.b, count, expected, p2, first[p]})
		}
	}
	slices.SortFunc(list, func(x, y Pair) int {
		return cmp.Or(cmp.Compare(x.P, y.P), cmp.Compare(y.Expected, x.Expected), cmp.Compare(x.A, y.A), cmp.Compare(x.B, y.B))
	})
	return list
}
