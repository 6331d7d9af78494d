package detect

import (
	"math"

	"tinbell/core/baseline"
	"tinbell/core/timeline"
)

// stuck tests runs of equal values against how often values repeat by chance,
// and against how long runs of the series have been.
type stuck struct {
	Odds        surprise
	Ties        float64 // share of repeats in training, runs counted once
	EqualShare  float64 // share of equal neighbours
	First       int     // longest run in training
	Second      int     // second longest
	Common      []float64
	CommonShare []float64
	Total       float64

	Last  float64
	Run   int // equal values in a row
	Since int64
}

// clear ends the run without counting it.
func (k *stuck) clear() {
	k.Odds.end(false)
	k.Run = 0
}

func (k *stuck) forget() { k.clear(); k.Last = math.NaN() }

// train counts runs and common values in a history; of counts, which have a
// probability of their own, only zeros.
func (k *stuck) train(points []baseline.Point, mult bool) {
	counts := map[float64]float64{}
	zeros := 0.0
	runs, equal, pairs, run := 0, 0, 0, 1
	last := math.NaN()
	end := func() {
		if run > k.First {
			k.First, k.Second = run, k.First
		} else if run > k.Second {
			k.Second = run
		}
	}
	for i := range points {
		if !points[i].Usable() {
			continue
		}
		x := points[i].X
		if !mult {
			counts[x]++
		} else if x == 0 {
			zeros++
		}
		k.Total++
		if !math.IsNaN(last) {
			pairs++
			if x == last {
				equal++
				if run == 1 {
					runs++
				}
				run++
			} else {
				end()
				run = 1
			}
		}
		last = x
	}
	end()
	k.Ties = float64(runs+1) / float64(pairs+2)
	k.EqualShare = float64(equal) / float64(max(pairs, 1))
	if zeros > 0 {
		counts[0] = zeros
	}
	for x, n := range counts {
		if n >= 0.02*k.Total {
			k.Common, k.CommonShare = append(k.Common, x), append(k.CommonShare, n/k.Total)
		}
	}
	k.Last = math.NaN()
}

func (k *stuck) share(x float64) float64 {
	for i, v := range k.Common {
		if v == x {
			return k.CommonShare[i]
		}
	}
	return 1 / max(k.Total, 1)
}

// see takes a judged period.
func (k *stuck) see(e *Evaluator, pt *baseline.Point, ex *baseline.Expectation, counts bool) {
	if pt.X != k.Last || k.Run == 0 {
		k.Odds.end(counts)
		k.Last, k.Run, k.Since = pt.X, 1, pt.At
		return
	}
	k.Run++
	if e.cfg.Kind == timeline.Count && pt.X == 0 {
		return // that is silence
	}
	if pt.X == 0 || e.cfg.Kind == timeline.Share && e.Model.Back(pt.X, pt.Rows) == 1 {
		return
	}
	k.Odds.add(pt.At, -math.Log(max(k.Ties, k.chance(e.Model.Family, pt.X, ex), 1e-9)))
}

func (k *stuck) tells(e *Evaluator) bool {
	if e.rule.StuckOff || k.Odds.N == 0 {
		return false
	}
	long := max(4, 2*k.Second)
	if k.EqualShare >= 0.3 {
		long = 3 * k.First
	}
	return k.Run >= long && k.Odds.S > stuckNats && k.Odds.over(e, Stuck)
}

// stuckNats is the least odds against chance.
var stuckNats = -math.Log(1e-6)

// chance is how likely this very value was.
func (k *stuck) chance(family baseline.Family, x float64, ex *baseline.Expectation) float64 {
	if family != baseline.Mult {
		return k.share(x)
	}
	z := (x - ex.Mu) / ex.Sigma
	p := 0.4 / ex.Sigma * math.Exp(-min(z*z, 8)/2)
	if ex.Mu < 10 {
		logGamma, _ := math.Lgamma(x + 1)
		p = max(p, math.Exp(x*math.Log(max(ex.Mu, 1e-9))-ex.Mu-logGamma))
	}
	if x == 0 {
		p = max(p, k.share(0))
	}
	return min(p, 1)
}
