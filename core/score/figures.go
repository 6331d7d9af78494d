package score

import (
	"math"
	"sort"

	"gonum.org/v1/gonum/stat/distuv"
)

// Interval is an estimate with its 95 % bounds. N is what it was counted from;
// with N = 0 the estimate is NaN and the bounds say nothing.
type Interval struct {
	Estimate  float64
	Low, High float64
	K, N      int
}

// Wilson is the score interval of a proportion (Wilson 1927).
func Wilson(k, n int) Interval { return wilson(float64(k), float64(n), float64(n), 1.959964, k, n) }

func wilson(k, n, effective, z float64, ki, ni int) Interval {
	if n == 0 {
		return Interval{Estimate: math.NaN(), Low: 0, High: 1}
	}
	p := k / n
	z2 := z * z / effective
	centre := (p + z2/2) / (1 + z2)
	half := z / (1 + z2) * math.Sqrt(p*(1-p)/effective+z2/(4*effective))
	return Interval{Estimate: p, Low: max(centre-half, 0), High: min(centre+half, 1), K: ki, N: ni}
}

// Clustered is Wilson's interval with a design effect for outcomes that come in
// clusters (here: series), and Student's t for few clusters. hits[i] of n[i]
// are the successes of cluster i (Kish 1965 for the design effect of a ratio).
func Clustered(hits, n []int) Interval {
	k, total, clusters := 0, 0, 0
	for i := range n {
		k, total = k+hits[i], total+n[i]
		if n[i] > 0 {
			clusters++
		}
	}
	if clusters < 2 {
		return Wilson(k, total)
	}
	p := float64(k) / float64(total)
	d := 0.0
	for i := range n {
		r := float64(hits[i]) - p*float64(n[i])
		d += r * r
	}
	d *= float64(clusters) / float64(clusters-1)
	effect := 1.0
	if p > 0 && p < 1 {
		effect = max(1, d/(float64(total)*p*(1-p)))
	}
	t := distuv.StudentsT{Mu: 0, Sigma: 1, Nu: float64(clusters - 1)}.Quantile(0.975)
	return wilson(float64(k), float64(total), float64(total)/effect, min(t, 6), k, total)
}

// PoissonRate is the exact interval of a rate: k events in exposure units
// (Garwood 1936).
func PoissonRate(k int, exposure float64) Interval {
	if exposure <= 0 {
		return Interval{Estimate: math.NaN(), Low: 0, High: math.Inf(1)}
	}
	low := 0.0
	if k > 0 {
		low = distuv.ChiSquared{K: 2 * float64(k)}.Quantile(0.025) / 2
	}
	high := distuv.ChiSquared{K: 2 * float64(k+1)}.Quantile(0.975) / 2
	return Interval{Estimate: float64(k) / exposure, Low: low / exposure, High: high / exposure, K: k, N: k}
}

// MedianDelay is the median of delays with a distribution-free 95 % interval
// from order statistics. Negative delays (missed) are left out.
func MedianDelay(delays []int64) Interval {
	var d []float64
	for _, v := range delays {
		if v >= 0 {
			d = append(d, float64(v))
		}
	}
	sort.Float64s(d)
	n := len(d)
	if n == 0 {
		return Interval{Estimate: math.NaN(), Low: math.NaN(), High: math.NaN()}
	}
	middle := d[n/2]
	if n%2 == 0 {
		middle = (d[n/2-1] + d[n/2]) / 2
	}
	b := distuv.Binomial{N: float64(n), P: 0.5}
	r := 0
	for r < n/2 && b.CDF(float64(r)) <= 0.025 {
		r++
	}
	lo := max(r-1, 0)
	return Interval{Estimate: middle, Low: d[lo], High: d[n-1-lo], N: n}
}

// F1 is the harmonic mean of precision and recall, NaN if either is unknown.
func F1(precision, recall float64) float64 {
	if precision+recall == 0 {
		return 0
	}
	return 2 * precision * recall / (precision + recall)
}

// UpperShare is the one-sided exact 95 % upper bound of a share, k of n (Clopper
// and Pearson 1934).
func UpperShare(k, n int) float64 {
	if k >= n {
		return 1
	}
	return distuv.Beta{Alpha: float64(k + 1), Beta: float64(n - k)}.Quantile(0.95)
}
