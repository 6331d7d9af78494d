package trend

import (
	"math"
	"math/rand/v2"
)

// bootstrap draws series that change by chance alone and owe as much to their past, and
// counts how often each test is as surprised by one of them: a sieve of order one
// (Buhlmann 1997). The tests are compared by their analytic p, which allows for what each
// drawn series seems to owe, so that only what that allowance lacks is left to chance.
func (s series) bootstrap(r *Result, a analysis, o Options) {
	draws := o.Draws
	if draws == 0 {
		draws = 999
	}
	rng := rand.New(rand.NewPCG(o.Seed, 0x7e5d))
	n := len(s.y)
	innovations := make([]float64, 0, n)
	mean := 0.0
	for i := 1; i < n; i++ {
		e := a.residual[i]
		if s.t[i] == s.t[i-1]+1 {
			e -= a.rho * a.residual[i-1]
		}
		innovations = append(innovations, e)
		mean += e / float64(n-1)
	}
	span := int(s.t[n-1]) + 1
	drawn := series{t: s.t, y: make([]float64, n)}
	const warm = 50
	var rarer [6]int
	for range draws {
		v, k := 0.0, 0
		for i := -warm; i < span; i++ {
			v = a.rho*v + innovations[rng.IntN(len(innovations))] - mean
			if k < n && float64(i) == s.t[k] {
				drawn.y[k] = v
				k++
			}
		}
		b := drawn.analyse(o.Independent)
		for i := range rarer {
			if b.p[i] <= a.p[i] {
				rarer[i]++
			}
		}
	}
	for i := range r.Tests {
		r.Tests[i].Bootstrap = float64(rarer[i]+1) / float64(draws+1)
		if math.IsNaN(r.Tests[i].P) {
			r.Tests[i].P = 1
		}
	}
}
