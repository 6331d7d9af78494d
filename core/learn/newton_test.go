package learn

import (
	"math/rand/v2"
	"testing"

	"tinbell/core/detect"
	"tinbell/core/timeline"
)

// Labels that contradict what the prior is sure of lead no further from it than
// the penalty allows: the fit ends where no step makes it better.
func TestLabelsAgainstThePriorDoNotThrowTheFitOff(t *testing.T) {
	for seed := range uint64(30) {
		rng := rand.New(rand.NewPCG(seed, 8))
		var cases []Labelled
		var rows [][]row
		for range 120 {
			fault := rng.IntN(4) == 0
			c := Case{Budget: 0.1, Kind: timeline.Count, Cause: detect.Deviation, Direction: detect.Direction(1 - 2*rng.IntN(2)), Recent: rng.IntN(5), Company: rng.IntN(6)}
			// Strong evidence is called noise, weak evidence a fault.
			strength := 6 + 20*rng.Float64()
			if fault {
				strength = 1
			}
			for k := range 1 + rng.IntN(3) {
				c.Looks = append(c.Looks, detect.Evidence{Periods: 1 + k, Age: 1 + k, Rarity: 1 + 1e4*rng.Float64(), Excess: 1 + strength/4, Z: 3 * strength, Worst: strength, Last: strength, Expected: 1e3 * rng.Float64(), Ratio: 3 * rng.Float64()})
			}
			cases, rows = append(cases, Labelled{Case: c, Fault: fault}), append(rows, c.rows())
		}
		every := func(int) bool { return true }
		w := fitWeights(rows, cases, ShippedPrior.Weights, every)
		before, after := loss(rows, cases, &ShippedPrior.Weights, every, &ShippedPrior.Weights), loss(rows, cases, &ShippedPrior.Weights, every, &w)
		if after > before {
			t.Errorf("seed %d: the fit is worse than where it began: %g, was %g", seed, after, before)
		}
		for j := range w {
			for _, d := range []float64{-0.05, 0.05} {
				moved := w
				moved[j] += d
				if l := loss(rows, cases, &ShippedPrior.Weights, every, &moved); l < after-1e-6 {
					t.Fatalf("seed %d: %s moved by %g makes it better by %g", seed, Features[j], d, after-l)
				}
			}
		}
	}
}
