package fault

import (
	"math"
	"slices"

	"tinbell/core/robust"
)

const (
	week       = 7 * 24 * hour
	leastWeeks = 3
	clipped    = 4.0 // median absolute deviations
	clearly    = 5.0 // standard errors that a correlation must be over none
)

// Learned is what the ordinary wobble of two series of rows says of the step
// between their datasets.
type Learned struct {
	Lag  Lag
	Pass float64 // share of the rows downstream that come from upstream
	R    float64 // correlation at the best lag
}

// Learn finds how long after up down shows the same wobbles, and how much of them:
// both lose what each hour of the week usually has, and the lag is that of the
// largest correlation (Box and Jenkins 1970, "Time Series Analysis", ch. 11), its
// range where the likelihood does not fall far below it. The values are of the same
// periods, of so many seconds each, NaN where missing. ok is false where too little
// is known or nothing stands out: among lags so far, or against the same lags the
// other way round.
func Learn(up, down []float64, period int64, furthest float64) (l Learned, ok bool) {
	slots := int(week) / int(max(period, 1))
	if len(up) != len(down) || slots < 1 || len(up) < leastWeeks*slots {
		return l, false
	}
	x, y := wobble(up, slots), wobble(down, slots)
	most := min(int(furthest)/int(period), len(x)/4)
	correlations := make([]float64, most+1)
	reverse, n := 0.0, 0.0
	best := 0
	for k := 0; k <= most; k++ {
		r, pairs := correlate(x, y, k)
		correlations[k], n = r, max(n, pairs)
		if r > correlations[best] {
			best = k
		}
		if k > 0 {
			back, _ := correlate(y, x, k)
			reverse = max(reverse, back)
		}
	}
	r := correlations[best]
	if n < float64(leastWeeks*slots)/2 || r < clearly/math.Sqrt(n) || r < reverse+2/math.Sqrt(n) {
		return l, false
	}
	weight, mean, square := 0.0, 0.0, 0.0
	low, high := best, best
	for k, c := range correlations {
		w := math.Exp(n / 2 * (math.Log1p(-r*r) - math.Log1p(-max(c, 0)*max(c, 0))))
		weight, mean, square = weight+w, mean+w*float64(k), square+w*float64(k*k)
		if w > 0.05 {
			low, high = min(low, k), max(high, k)
		}
	}
	mean /= weight
	p := float64(period)
	l.Lag = Lag{Low: float64(low) * p, High: float64(high) * p, Spread: p/2 + p*math.Sqrt(max(square/weight-mean*mean, 0))}
	l.R, l.Pass = r, min(max(slope(x, y, best), 0.02), 1)
	return l, true
}

// Observed is the lag of a step at which past faults showed so many seconds after
// they began upstream: three at least, their middle half and what lies beyond it.
func Observed(seconds []float64) (Lag, bool) {
	if len(seconds) < 3 {
		return Lag{}, false
	}
	s := slices.Sorted(slices.Values(seconds))
	least, most := s[0], s[len(s)-1]
	low, high := robust.Quantile(s, 0.25), robust.Quantile(s, 0.75)
	return Lag{Low: low, High: high, Spread: max(hour/2, (high-low)/1.35, (most-least)/4)}, true
}

// wobble is by which share each value differs from what its slot of the week
// usually has, bounded.
func wobble(values []float64, slots int) []float64 {
	usual := make([]float64, slots)
	for s := range usual {
		var all []float64
		for i := s; i < len(values); i += slots {
			if !math.IsNaN(values[i]) {
				all = append(all, values[i])
			}
		}
		usual[s] = math.NaN()
		if len(all) >= leastWeeks {
			usual[s] = robust.Quantile(all, 0.5)
		}
	}
	scale := 0.0
	for _, u := range usual {
		if !math.IsNaN(u) {
			scale = max(scale, math.Abs(u))
		}
	}
	out := make([]float64, len(values))
	var sizes []float64
	for i, v := range values {
		// Hours in which next to nothing is due say nothing.
		if u := usual[i%slots]; math.IsNaN(v) || !(math.Abs(u) > 0.02*scale) {
			out[i] = math.NaN()
		} else {
			out[i] = (v - u) / math.Abs(u)
			sizes = append(sizes, math.Abs(out[i]))
		}
	}
	if len(sizes) == 0 {
		return out
	}
	slices.Sort(sizes)
	limit := max(clipped*1.4826*sizes[len(sizes)/2], 1e-9)
	for i, v := range out {
		out[i] = min(max(v, -limit), limit)
		if math.IsNaN(v) {
			out[i] = v
		}
	}
	return out
}

// correlate is the correlation of x with y so many periods later.
func correlate(x, y []float64, lag int) (r, n float64) {
	var sx, sy, sxx, syy, sxy float64
	for i := 0; i+lag < len(y); i++ {
		a, b := x[i], y[i+lag]
		if math.IsNaN(a) || math.IsNaN(b) {
			continue
		}
		n, sx, sy, sxx, syy, sxy = n+1, sx+a, sy+b, sxx+a*a, syy+b*b, sxy+a*b
	}
	vx, vy := n*sxx-sx*sx, n*syy-sy*sy
	if n < 2 || vx <= 0 || vy <= 0 {
		return 0, n
	}
	return min((n*sxy-sx*sy)/math.Sqrt(vx*vy), 0.999), n
}

// slope is the least-squares slope of y, so many periods later, on x.
func slope(x, y []float64, lag int) float64 {
	var n, sx, sy, sxx, sxy float64
	for i := 0; i+lag < len(y); i++ {
		a, b := x[i], y[i+lag]
		if math.IsNaN(a) || math.IsNaN(b) {
			continue
		}
		n, sx, sy, sxx, sxy = n+1, sx+a, sy+b, sxx+a*a, sxy+a*b
	}
	return (n*sxy - sx*sy) / max(n*sxx-sx*sx, 1e-300)
}
