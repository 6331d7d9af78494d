package trend

import (
	"math"
	"slices"

	"gonum.org/v1/gonum/stat/distuv"

	"tinbell/core/robust"
)

// trimmed is the share at either end in which no change is looked for (Andrews 1993).
const trimmed = 0.15

func sign(x float64) float64 {
	switch {
	case x > 0:
		return 1
	case x < 0:
		return -1
	}
	return 0
}

// line fits a line by least squares; residuals, slope and the sum of squares left.
func (s series) line() (residual []float64, slope, rss float64) {
	mt, my := robust.Mean(s.t), robust.Mean(s.y)
	var sxy, sxx float64
	for i, t := range s.t {
		sxy, sxx = sxy+(t-mt)*(s.y[i]-my), sxx+(t-mt)*(t-mt)
	}
	slope = sxy / sxx
	residual = make([]float64, len(s.y))
	for i, t := range s.t {
		residual[i] = s.y[i] - my - slope*(t-mt)
		rss += residual[i] * residual[i]
	}
	return residual, slope, math.Max(rss, 1e-300)
}

// spread is the sum of squares of the times.
func (s series) spread() float64 {
	mt, sum := robust.Mean(s.t), 0.0
	for _, t := range s.t {
		sum += (t - mt) * (t - mt)
	}
	return sum
}

// steps fits a step at every place but the ends: the residuals of the best one, its
// place, the sum of squares left, and the largest F (Chow 1960, Andrews 1993).
func (s series) steps() (residual []float64, at int, rss, most float64) {
	n := len(s.y)
	mean := robust.Mean(s.y)
	var total, all float64
	for _, v := range s.y {
		total, all = total+(v-mean)*(v-mean), all+v-mean
	}
	margin := max(int(math.Ceil(trimmed*float64(n))), 2)
	rss, at = math.Inf(1), margin
	head := 0.0
	for k := 1; k < n; k++ {
		head += s.y[k-1] - mean
		if k < margin || k > n-margin {
			continue
		}
		a, b := float64(k), float64(n-k)
		gain := head*head/a + (all-head)*(all-head)/b
		if left := math.Max(total-gain, 1e-300); left < rss {
			rss, at = left, k
		}
	}
	most = (total - rss) / (rss / float64(n-2))
	residual = make([]float64, n)
	before, after := robust.Mean(s.y[:at]), robust.Mean(s.y[at:])
	for i, v := range s.y {
		if residual[i] = v - before; i >= at {
			residual[i] = v - after
		}
	}
	return residual, at, rss, most
}

// found says where a step is: 95 % of the time its place is known to 11 variances, those
// of the long run, over its square (Bai 1997).
func (s series) found(at int, variance float64) Step {
	before, after := robust.Mean(s.y[:at]), robust.Mean(s.y[at:])
	const reach = 11.03
	wide := reach * variance / math.Max((after-before)*(after-before), 1e-300)
	width := int(math.Min(math.Ceil(wide), float64(len(s.y))))
	place := func(i int) int { return int(s.t[min(max(i, 0), len(s.t)-1)]) }
	return Step{At: place(at), Low: place(at - width), High: place(at + width), Before: before, After: after}
}

// owed is the lag-1 autocorrelation of residuals of values that follow each other, bias
// corrected for so many parameters that were fitted.
func (s series) owed(residual []float64, fitted float64) float64 {
	var same, next float64
	n, pairs := 0.0, 0.0
	for i, r := range residual {
		same, n = same+r*r, n+1
		if i > 0 && s.t[i] == s.t[i-1]+1 {
			next, pairs = next+r*residual[i-1], pairs+1
		}
	}
	if same == 0 || pairs < 3 {
		return 0
	}
	r := next / pairs / (same / n)
	return robust.Clamp(r+(fitted-1+(fitted+1)*r)/n, 0, 0.97)
}

// kendall is Mann's sum of signs and its variance with ties (Mann 1945, Kendall 1975),
// counted in n log n by a tree of ranks (Fenwick 1994).
func (s series) kendall() (concordance, variance float64) {
	n := len(s.y)
	sorted := slices.Sorted(slices.Values(s.y))
	distinct := slices.Compact(slices.Clone(sorted))
	tree := make([]int, len(distinct)+1)
	upTo := func(k int) (sum int) {
		for ; k > 0; k -= k & -k {
			sum += tree[k]
		}
		return sum
	}
	for i, v := range s.y {
		k, _ := slices.BinarySearch(distinct, v)
		concordance += float64(upTo(k)) - float64(i-upTo(k+1))
		for j := k + 1; j < len(tree); j += j & -j {
			tree[j]++
		}
	}
	f := float64(n)
	variance = f * (f - 1) * (2*f + 5)
	for i := 0; i < n; {
		j := i
		for j < n && sorted[j] == sorted[i] {
			j++
		}
		ties := float64(j - i)
		variance -= ties * (ties - 1) * (2*ties + 5)
		i = j
	}
	return concordance, math.Max(variance/18, 1e-12)
}

// ranked is the autocorrelation of the ranks of normal values with one of rho.
func ranked(rho float64) float64 { return 6 / math.Pi * math.Asin(rho/2) }

// kendallInflation is by how much autocorrelation makes Kendall's variance larger (Hamed
// and Rao 1998), for an autoregression.
func kendallInflation(rho float64, n int) float64 {
	f, sum, power := float64(n), 0.0, 1.0
	for i := 1; i < n-2; i++ {
		if power *= rho; power < 1e-6 {
			break
		}
		k := float64(i)
		sum += (f - k) * (f - k - 1) * (f - k - 2) * ranked(power)
	}
	return 1 + 2/(f*(f-1)*(f-2))*sum
}

// ranks gives mean ranks, from 1.
func ranks(values []float64) []float64 {
	order := make([]int, len(values))
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(a, b int) int {
		switch {
		case values[a] < values[b]:
			return -1
		case values[a] > values[b]:
			return 1
		}
		return 0
	})
	list := make([]float64, len(values))
	for i := 0; i < len(order); {
		j := i
		for j < len(order) && values[order[j]] == values[order[i]] {
			j++
		}
		for k := i; k < j; k++ {
			list[order[k]] = float64(i+j+1) / 2
		}
		i = j
	}
	return list
}

// spearman is the correlation of the ranks with time.
func (s series) spearman() float64 {
	r := ranks(s.y)
	mean := float64(len(r)+1) / 2
	var xy, xx, yy float64
	for i, v := range r {
		x, y := float64(i+1)-mean, v-mean
		xy, xx, yy = xy+x*y, xx+x*x, yy+y*y
	}
	if yy == 0 {
		return 0
	}
	return xy / math.Sqrt(xx*yy)
}

// pettitt is the largest sum of signs between what lies before a place and after it
// (Pettitt 1979), from ranks.
func (s series) pettitt() float64 {
	n := float64(len(s.y))
	sum, most := 0.0, 0.0
	for k, r := range ranks(s.y) {
		sum += r
		most = math.Max(most, math.Abs(2*sum-float64(k+1)*(n+1)))
	}
	return most
}

// cusum is how far the sum of deviations from the mean strays, over its standard
// deviation (Ploberger and Kramer 1992).
func (s series) cusum() float64 {
	mean, n := robust.Mean(s.y), float64(len(s.y))
	sum, most, squares := 0.0, 0.0, 0.0
	for _, v := range s.y {
		sum += v - mean
		squares += (v - mean) * (v - mean)
		most = math.Max(most, math.Abs(sum))
	}
	return most / math.Sqrt(squares/(n-1)*n)
}

// slope is the median of the slopes between all pairs (Theil 1950, Sen 1968), with Sen's
// interval from Kendall's variance, autocorrelation allowed for. Of long series every
// pair of some thousand values counts.
func (s series) slope(rho float64) (slope, low, high float64) {
	n := len(s.y)
	stride := max(1, n/1000)
	var slopes []float64
	for i := 0; i < n; i += stride {
		for j := i + stride; j < n; j += stride {
			slopes = append(slopes, (s.y[j]-s.y[i])/(s.t[j]-s.t[i]))
		}
	}
	slices.Sort(slopes)
	_, variance := s.kendall()
	pairs := float64(n) * float64(n-1) / 2
	part := 1.96 * math.Sqrt(variance*kendallInflation(rho, n)) / pairs
	at := func(q float64) float64 { return robust.Quantile(slopes, robust.Clamp(q, 0, 1)) }
	return at(0.5), at(0.5 - part/2), at(0.5 + part/2)
}

// student is the two-sided chance of a value of Student's t.
func student(t, free float64) float64 {
	return min(1, 2*distuv.StudentsT{Mu: 0, Sigma: 1, Nu: free}.Survival(math.Abs(t)))
}

func normal(z float64) float64 { return min(1, 2*distuv.UnitNormal.Survival(math.Abs(z))) }

// bridge is the chance that a Brownian bridge strays as far (Kolmogorov).
func bridge(x float64) float64 {
	if x < 0.2 {
		return 1
	}
	sum := 0.0
	for k := 1.0; k <= 100; k++ {
		sum += 2 * math.Pow(-1, k+1) * math.Exp(-2*k*k*x*x)
	}
	return robust.Clamp(sum, 0, 1)
}

// supF is the chance of a largest F as large (DeLong 1981, as in Andrews 1993), for one
// parameter; it is exact in the tail and no more than 1 before.
func supF(f float64) float64 {
	if f <= 1 {
		return 1
	}
	lambda := (1 - trimmed) * (1 - trimmed) / (trimmed * trimmed)
	tail := math.Sqrt(f) * math.Exp(-f/2) / math.Sqrt(2*math.Pi) * ((1-1/f)*math.Log(lambda) + 2/f)
	return robust.Clamp(tail, 0, 1)
}
