package detect

import (
	"bytes"
	"encoding/gob"
	"math"
	"math/rand/v2"
	"slices"
	"testing"
)

// Medians and means of the last values are those of textbooks, through being stored and
// through a change of length.
func TestSmoothingIsTheMedianOrMeanOfTheLast(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 3))
	for _, mean := range []bool{false, true} {
		for _, n := range []int{2, 3, 9, 24, 288} {
			var l lately
			var all []float64
			for i := range 3 * n {
				z := math.Round(4*rng.NormFloat64()) / 2 // often the same
				all = append(all, z)
				if i == n+1 { // as after a restart
					var b bytes.Buffer
					if err := gob.NewEncoder(&b).Encode(&l); err != nil {
						t.Fatal(err)
					}
					l = lately{}
					if err := gob.NewDecoder(&b).Decode(&l); err != nil {
						t.Fatal(err)
					}
				}
				last := slices.Clone(all[max(0, len(all)-n):])
				want := 0.0
				for _, v := range last {
					want += v / float64(len(last))
				}
				if !mean {
					slices.Sort(last)
					want = (last[(len(last)-1)/2] + last[len(last)/2]) / 2
				}
				if got := l.take(z, n, mean); math.Abs(got-want) > 1e-12 {
					t.Fatalf("mean %v of %d after %d values: %g, want %g", mean, n, i+1, got, want)
				}
			}
			if got := l.take(5, n-1, mean); got != 5 {
				t.Errorf("a shorter window begins anew: %g", got)
			}
		}
	}
}
