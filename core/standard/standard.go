// Package standard has figures as the literature defines them, beside which ours can be
// checked: where the service smooths, caps or allows for something, it says so, and this
// is what it says it differs from.
package standard

import (
	"math"
	"slices"

	"gonum.org/v1/gonum/mathext"
)

// Quantile is the q-quantile of sorted values by a definition of Hyndman and Fan (1996):
// 2, the inverse of the empirical distribution with averages at its steps; 6, by (n+1)q,
// as Weibull has it; 7, by (n−1)q+1, which ours is. NaN for no values or another number.
func Quantile(sorted []float64, q float64, definition int) float64 {
	n := len(sorted)
	if n == 0 || q < 0 || q > 1 {
		return math.NaN()
	}
	at := func(k int) float64 { return sorted[min(max(k, 1), n)-1] }
	position := 0.0
	switch definition {
	case 2:
		np := q * float64(n)
		whole := math.Round(np)
		if math.Abs(np-whole) > 4*np*0x1p-52 { // as near as the product is known
			return at(int(math.Floor(np)) + 1)
		}
		return (at(int(whole)) + at(int(whole)+1)) / 2
	case 6:
		position = q * float64(n+1)
	case 7:
		position = q*float64(n-1) + 1
	default:
		return math.NaN()
	}
	k := math.Floor(position)
	low, high := at(int(k)), at(int(k)+1)
	if low == high {
		return low
	}
	return low + (position-k)*(high-low)
}

// MAD is the median of the distances from the median, as Hampel (1974) has it. Times
// 1.4826 it estimates the standard deviation of normal values, and so ours use it.
func MAD(values []float64) float64 {
	sorted := slices.Sorted(slices.Values(values))
	middle := Quantile(sorted, 0.5, 7)
	for i, v := range sorted {
		sorted[i] = math.Abs(v - middle)
	}
	slices.Sort(sorted)
	return Quantile(sorted, 0.5, 7)
}

// HodgesLehmann is the median of the means of all pairs of values, each with itself too
// (Hodges and Lehmann 1963).
func HodgesLehmann(values []float64) float64 {
	sorted := slices.Sorted(slices.Values(values))
	n := len(sorted)
	if n == 0 {
		return math.NaN()
	}
	// Sums x_i + x_j, i ≤ j, at most v: counted along a staircase.
	atMost := func(v float64) int {
		count, j := 0, n-1
		for i := range n {
			for j >= 0 && sorted[i]+sorted[j] > v {
				j--
			}
			if j < i {
				break
			}
			count += j - i + 1
		}
		return count
	}
	return middleOf(n*(n+1)/2, 2*sorted[0], 2*sorted[n-1], atMost) / 2
}

// Shift is the median of all differences of a value of b from one of a: by how much b
// lies above a (Hodges and Lehmann 1963).
func Shift(a, b []float64) float64 {
	if len(a) == 0 || len(b) == 0 {
		return math.NaN()
	}
	x, y := slices.Sorted(slices.Values(a)), slices.Sorted(slices.Values(b))
	atMost := func(v float64) int {
		count, i := 0, 0
		for _, last := range y { // y − x ≤ v where x ≥ y − v
			for i < len(x) && last-x[i] > v {
				i++
			}
			count += len(x) - i
		}
		return count
	}
	return middleOf(len(x)*len(y), y[0]-x[len(x)-1], y[len(y)-1]-x[0], atMost)
}

// middleOf is the median of so many values between two, of which only how many are at
// most a bound can be asked.
func middleOf(count int, low, high float64, atMost func(float64) int) float64 {
	kth := func(k int) float64 {
		lo, hi := low, high
		if atMost(lo) >= k {
			return lo
		}
		for {
			between := lo + (hi-lo)/2
			if between <= lo || between >= hi {
				return hi
			}
			if atMost(between) >= k {
				hi = between
			} else {
				lo = between
			}
		}
	}
	if count%2 == 1 {
		return kth(count/2 + 1)
	}
	return (kth(count/2) + kth(count/2+1)) / 2
}

// ClopperPearson is the exact two-sided interval of a share, k of n, at a level such as
// .95 (Clopper and Pearson 1934). Ours is Wilson's, which is narrower and holds on average.
func ClopperPearson(k, n int, level float64) (low, high float64) {
	if n <= 0 || k < 0 || k > n {
		return math.NaN(), math.NaN()
	}
	tail := (1 - level) / 2
	low, high = 0, 1
	if k > 0 {
		low = mathext.InvRegIncBeta(float64(k), float64(n-k+1), tail)
	}
	if k < n {
		high = mathext.InvRegIncBeta(float64(k+1), float64(n-k), 1-tail)
	}
	return low, high
}

// PSI is the population stability index of two counts over the same bins, as defined:
// infinite where a bin is empty in one of them alone. Ours adds half a value to each bin.
func PSI(a, b []int64) float64 {
	sum := 0.0
	shares(a, b, func(p, q float64) {
		if p != q {
			sum += (q - p) * math.Log(q/p)
		}
	})
	return sum
}

// JensenShannon is the divergence of two counts over the same bins in bits (Lin 1991),
// 0 to 1. Ours is its root, a distance, with half a value added to each bin.
func JensenShannon(a, b []int64) float64 {
	sum := 0.0
	part := func(p, m float64) float64 {
		if p == 0 {
			return 0
		}
		return p * math.Log2(p/m) / 2
	}
	shares(a, b, func(p, q float64) { sum += part(p, (p+q)/2) + part(q, (p+q)/2) })
	return sum
}

func shares(a, b []int64, do func(p, q float64)) {
	n, m := 0.0, 0.0
	for i := range a {
		n, m = n+float64(a[i]), m+float64(b[i])
	}
	for i := range a {
		do(float64(a[i])/n, float64(b[i])/m)
	}
}

// exactCells is up to which product of sizes the p of Smirnov's test is counted.
const exactCells = 4_000_000

// Smirnov is the largest distance of the empirical distributions of two samples and the
// chance of one as large if both come from one distribution: counted over all ways in
// which the values could have been shared out, ties among them kept (Hodges 1958;
// Schroer and Trenkler 1995), or for large samples by Kolmogorov's limit; exact tells.
func Smirnov(a, b []float64) (d, p float64, exact bool) {
	x, y := slices.Sorted(slices.Values(a)), slices.Sorted(slices.Values(b))
	n, m := len(x), len(y)
	if n == 0 || m == 0 {
		return math.NaN(), math.NaN(), false
	}
	// ends[k]: after k values of both together, the next differs from the last.
	ends := make([]bool, n+m+1)
	far := int64(0) // |i·m − j·n|, exact
	for i, j := 0, 0; i < n || j < m; {
		v := math.Inf(1)
		if i < n {
			v = x[i]
		}
		if j < m {
			v = min(v, y[j])
		}
		for i < n && x[i] == v {
			i++
		}
		for j < m && y[j] == v {
			j++
		}
		ends[i+j] = true
		far = max(far, abs(int64(i)*int64(m)-int64(j)*int64(n)))
	}
	d = float64(far) / float64(n) / float64(m)
	if n*m > exactCells {
		return d, limit(d * math.Sqrt(float64(n)*float64(m)/float64(n+m))), false
	}
	// The share of paths from (0,0) to (n,m) that never stray so far where a tie ends.
	// Each step is weighed by the chance that it is taken.
	stays := make([]float64, m+1)
	for i := 0; i <= n; i++ {
		for j := 0; j <= m; j++ {
			chance := 0.0
			switch {
			case i == 0 && j == 0:
				chance = 1
			default:
				left := float64(n + m - i - j + 1)
				if i > 0 { // from (i−1, j): one of the n−i+1 values of a still left
					chance += stays[j] * float64(n-i+1) / left
				}
				if j > 0 {
					chance += stays[j-1] * float64(m-j+1) / left
				}
			}
			if ends[i+j] && abs(int64(i)*int64(m)-int64(j)*int64(n)) >= far && far > 0 {
				chance = 0
			}
			stays[j] = chance
		}
	}
	if far == 0 {
		return 0, 1, true
	}
	return d, min(max(1-stays[m], 0), 1), true
}

func abs(v int64) int64 {
	if v < 0 {
		return -v
	}
	return v
}

// limit is Kolmogorov's (1933).
func limit(x float64) float64 {
	if x < 0.2 {
		return 1
	}
	sum := 0.0
	for k := 1.0; k < 100; k++ {
		term := 2 * math.Exp(-2*k*k*x*x)
		if math.Mod(k, 2) == 0 {
			term = -term
		}
		sum += term
		if math.Abs(term) < 1e-16 {
			break
		}
	}
	return min(max(sum, 0), 1)
}
