package drift

import (
	"math"
	"math/rand/v2"
	"testing"
)

// side is made-up rows: an amount, a category and a flag that depend on one another.
func side(rng *rand.Rand, rows int, spread, lean, bind float64) Sample {
	amount, word, flag := make([]float64, rows), make([]int32, rows), make([]int32, rows)
	for i := range rows {
		x := rng.NormFloat64()
		amount[i] = spread * x
		if word[i] = int32(rng.IntN(3)); rng.Float64() < lean {
			word[i] = 3
		}
		if rng.Float64() < 1/(1+math.Exp(2-bind*x-0.5*float64(word[i]))) {
			flag[i] = 1
		}
	}
	return Sample{Features: []Values{{Kind: Number, Numbers: amount}, {Kind: Category, Codes: word}, {Kind: Boolean, Codes: flag}}}
}

func TestWhatChangesAloneIsNoChangeOfAPair(t *testing.T) {
	for name, c := range map[string]struct {
		spread, lean, bind float64
		changed            bool
	}{
		"nothing":                        {1, 0.01, 1, false},
		"a category from 1 to 40 %":      {1, 0.4, 1, false},
		"a spread of 3":                  {3, 0.01, 1, false},
		"how the flag follows the other": {1, 0.01, 0, true},
	} {
		found := 0
		for seed := range uint64(40) {
			rng := rand.New(rand.NewPCG(seed, 77))
			was, is := side(rng, 3000, 1, 0.01, 1), side(rng, 3000, c.spread, c.lean, c.bind)
			for _, p := range Pairs(was, is, 0.01, nil, 6) {
				// The category and the flag follow each other, the flag and the amount do.
				if p.Beyond > p.Limit && (p.A == 0 && p.B == 2 || !c.changed) {
					found++
					break
				}
			}
		}
		if c.changed && found < 38 || !c.changed && found > 3 {
			t.Errorf("%s: a pair is found changed in %d of 40", name, found)
		}
	}
}
