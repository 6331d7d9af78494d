package standard

import (
	"math"

	"gonum.org/v1/gonum/optimize"
)

// Holt is exponential smoothing with a damped trend (Gardner and McKenzie 1985): level
// l = αy + (1−α)(l+φb), trend b = β(l−l') + (1−β)φb, forecast l + (φ+…+φʰ)b.
type Holt struct {
	Alpha, Beta, Phi float64
	Level, Trend     float64 // at the end
	SSE              float64 // of the one-step forecasts
}

// Smooth runs Holt's recursion from a first level and trend.
func Smooth(y []float64, alpha, beta, phi, level, trend float64) Holt {
	h := Holt{Alpha: alpha, Beta: beta, Phi: phi, Level: level, Trend: trend}
	for _, v := range y {
		expected := h.Level + phi*h.Trend
		off := v - expected
		h.SSE += off * off
		before := h.Level
		h.Level = alpha*v + (1-alpha)*expected
		h.Trend = beta*(h.Level-before) + (1-beta)*phi*h.Trend
	}
	return h
}

// Ahead is the forecast so many steps ahead.
func (h Holt) Ahead(steps int) float64 {
	sum, power := 0.0, 1.0
	for range steps {
		power *= h.Phi
		sum += power
	}
	return h.Level + sum*h.Trend
}

// FitHolt finds the parameters with the least sum of squares of one-step forecasts,
// 0 < α < 1, 0 < β < 1, .8 ≤ φ ≤ .98, with the first level and trend (Nelder and Mead).
// Ours projects a median level and slope instead, which single odd days leave alone.
func FitHolt(y []float64) (Holt, bool) {
	if len(y) < 6 {
		return Holt{}, false
	}
	unit := func(x, low, high float64) float64 { return low + (high-low)/(1+math.Exp(-x)) }
	spread := 0.0
	for i := 1; i < len(y); i++ {
		spread += math.Abs(y[i]-y[i-1]) / float64(len(y)-1)
	}
	if spread == 0 {
		return Smooth(y, 0.5, 0.1, 0.9, y[0], 0), true
	}
	run := func(x []float64) Holt {
		return Smooth(y, unit(x[0], 1e-4, 0.9999), unit(x[1], 1e-4, 0.9999), unit(x[2], 0.8, 0.98), y[0]+spread*x[3], spread*x[4])
	}
	problem := optimize.Problem{Func: func(x []float64) float64 { return run(x).SSE / (spread * spread) }}
	best, found := Holt{SSE: math.Inf(1)}, false
	for _, first := range []float64{-1.5, 1} {
		r, err := optimize.Minimize(problem, []float64{first, -2, 1, 0, (y[len(y)-1] - y[0]) / float64(len(y)-1) / spread},
			&optimize.Settings{FuncEvaluations: 4000}, &optimize.NelderMead{})
		if r == nil || err != nil && r.X == nil {
			continue
		}
		if h := run(r.X); h.SSE < best.SSE {
			best, found = h, true
		}
	}
	return best, found
}

// Pareto is a generalised Pareto tail above a threshold: P(X > x) = share ·
// (1 + ξ(x−u)/σ)^(−1/ξ).
type Pareto struct {
	Threshold, Scale, Shape float64
	Share                   float64 // of the values that lie above
	Above                   int
}

// FitPareto fits the values above the q-quantile by probability-weighted moments (Hosking
// and Wallis 1987). It takes twenty; ok is false below.
func FitPareto(sorted []float64, q float64) (Pareto, bool) {
	u := Quantile(sorted, q, 7)
	var over []float64
	for _, v := range sorted {
		if v > u {
			over = append(over, v-u)
		}
	}
	n := float64(len(over))
	if n < 20 {
		return Pareto{Threshold: u, Above: len(over)}, false
	}
	var a0, a1 float64 // E X and E X(1−F), by plotting positions (i−.35)/n
	for i, v := range over {
		a0 += v / n
		a1 += v * (1 - (float64(i)+0.65)/n) / n
	}
	if a0-2*a1 <= 0 {
		return Pareto{Threshold: u, Above: len(over)}, false
	}
	k := a0/(a0-2*a1) - 2
	return Pareto{Threshold: u, Scale: 2 * a0 * a1 / (a0 - 2*a1), Shape: -k, Share: n / float64(len(sorted)), Above: len(over)}, true
}

// Beyond is the chance of a value above x, x at or above the threshold.
func (p Pareto) Beyond(x float64) float64 {
	z := max(x-p.Threshold, 0) / p.Scale
	if math.Abs(p.Shape) < 1e-9 {
		return p.Share * math.Exp(-z)
	}
	return p.Share * math.Pow(max(1+p.Shape*z, 0), -1/p.Shape)
}

// Level is the value that is passed with a chance, at most that of the threshold.
func (p Pareto) Level(chance float64) float64 {
	ratio := chance / p.Share
	if math.Abs(p.Shape) < 1e-9 {
		return p.Threshold - p.Scale*math.Log(ratio)
	}
	return p.Threshold + p.Scale/p.Shape*(math.Pow(ratio, -p.Shape)-1)
}
