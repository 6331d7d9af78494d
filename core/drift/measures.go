package drift

import (
	"math"

	"gonum.org/v1/gonum/mathext"
)

// PSI is the population stability index of two counts over the same bins, n and
// m values in all: the sum of (q-p) ln(q/p), shares smoothed by half a value a
// bin. Without drift it is distributed about as chi-square with K-1 degrees of
// freedom, times 1/n + 1/m (Yurdakul 2018).
func PSI(a, b []int64) float64 {
	sum := 0.0
	each(a, b, func(p, q float64) { sum += (q - p) * math.Log(q/p) })
	return sum
}

// JensenShannon is the Jensen-Shannon distance of two counts over the same bins,
// to base 2: 0 for equal shares, 1 for shares without overlap (Endres and
// Schindelin 2003).
func JensenShannon(a, b []int64) float64 {
	sum := 0.0
	each(a, b, func(p, q float64) {
		m := (p + q) / 2
		sum += (p*math.Log2(p/m) + q*math.Log2(q/m)) / 2
	})
	return math.Sqrt(max(0, sum))
}

// each hands over the smoothed shares of the bins.
func each(a, b []int64, do func(p, q float64)) {
	k, n, m := float64(len(a)), 0.0, 0.0
	for i := range a {
		n, m = n+float64(a[i]), m+float64(b[i])
	}
	for i := range a {
		do((float64(a[i])+0.5)/(n+0.5*k), (float64(b[i])+0.5)/(m+0.5*k))
	}
}

// ChiSquare is Pearson's statistic of homogeneity of two counts over the same
// bins, its degrees of freedom, and the chance of one as large without drift.
// Bins that are empty in both are passed over.
func ChiSquare(a, b []int64) (statistic float64, freedom int, p float64) {
	var n, m float64
	for i := range a {
		n, m = n+float64(a[i]), m+float64(b[i])
	}
	if n == 0 || m == 0 {
		return 0, 0, 1
	}
	freedom = -1
	for i := range a {
		both := float64(a[i] + b[i])
		if both == 0 {
			continue
		}
		freedom++
		d := float64(a[i])*math.Sqrt(m/n) - float64(b[i])*math.Sqrt(n/m)
		statistic += d * d / both
	}
	if freedom < 1 {
		return 0, 0, 1
	}
	return statistic, freedom, mathext.GammaIncRegComp(float64(freedom)/2, statistic/2)
}

// KolmogorovSmirnov is the largest difference of the two shares below any edge of
// the bins, and the chance of one as large without drift (the limiting
// distribution, with Stephens' correction of 1970). Between edges the true
// difference may be larger by the share of one bin; with one bin for each value
// it is exact.
func KolmogorovSmirnov(a, b []int64) (d, p float64) {
	var n, m, below, beneath float64
	for i := range a {
		n, m = n+float64(a[i]), m+float64(b[i])
	}
	if n == 0 || m == 0 {
		return 0, 1
	}
	for i := range a {
		below, beneath = below+float64(a[i]), beneath+float64(b[i])
		d = max(d, math.Abs(below/n-beneath/m))
	}
	root := math.Sqrt(n * m / (n + m))
	return d, kolmogorov((root + 0.12 + 0.11/root) * d)
}

// kolmogorov is the upper tail of Kolmogorov's distribution.
func kolmogorov(x float64) float64 {
	if x < 0.2 {
		return 1
	}
	sum, sign := 0.0, 1.0
	for j := 1.0; j <= 100; j++ {
		term := math.Exp(-2 * j * j * x * x)
		sum += sign * term
		if term < 1e-12 {
			break
		}
		sign = -sign
	}
	return min(1, max(0, 2*sum))
}

// Wasserstein is the first Wasserstein distance of two numeric counts over a
// layout, in the feature's unit: how far values moved on average. Within a bin
// values are taken as evenly spread; beyond the reference's range how far they
// lie outside is counted.
func Wasserstein(l *Layout, a, b *Counts) float64 {
	n, m := float64(a.Values()), float64(b.Values())
	if n == 0 || m == 0 {
		return 0
	}
	sum := math.Abs(a.Below/n-b.Below/m) + math.Abs(a.Above/n-b.Above/m)
	below, beneath := float64(a.Bins[0])/n, float64(b.Bins[0])/m
	for i := 1; i < len(l.Edges); i++ {
		from := below - beneath
		below, beneath = below+float64(a.Bins[i])/n, beneath+float64(b.Bins[i])/m
		to := below - beneath
		width := l.Edges[i] - l.Edges[i-1]
		switch {
		case l.Discrete:
			sum += math.Abs(to) * width
		case from*to >= 0:
			sum += math.Abs(from+to) / 2 * width
		default:
			sum += (from*from + to*to) / 2 / (math.Abs(from) + math.Abs(to)) * width
		}
	}
	return sum
}
