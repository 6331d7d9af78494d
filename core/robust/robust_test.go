package robust

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
)

func TestQuantileGivesPublishedValues(t *testing.T) {
	// Hyndman and Fan 1996, type 7; the values follow from the definition.
	v := []float64{7, 1, 3, 9, 5}
	for q, want := range map[float64]float64{0: 1, 0.25: 3, 0.5: 5, 0.6: 5.8, 1: 9} {
		if got := Quantile(slices.Clone(v), q); math.Abs(got-want) > 1e-12 {
			t.Errorf("quantile %g = %g, want %g", q, got, want)
		}
	}
	if !math.IsNaN(Quantile(nil, 0.5)) {
		t.Error("no values have no quantile")
	}
}

func TestQuantileAgreesWithSorting(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	for range 200 {
		v := make([]float64, 1+rng.IntN(60))
		for i := range v {
			v[i] = float64(rng.IntN(12))
		}
		sorted := slices.Clone(v)
		slices.Sort(sorted)
		k := rng.IntN(len(v))
		if got := selectKth(v, k); got != sorted[k] {
			t.Fatalf("%d-th smallest %g, want %g", k, got, sorted[k])
		}
	}
}

func TestNormalQuantileGivesTableValues(t *testing.T) {
	for p, want := range map[float64]float64{0.5: 0, 0.975: 1.959964, 0.99: 2.326348, 0.001: -3.090232} {
		if got := NormalQuantile(p); math.Abs(got-want) > 1e-6 {
			t.Errorf("z(%g) = %g, want %g", p, got, want)
		}
	}
}
