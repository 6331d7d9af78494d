// Package robust holds the order statistics that a few wild values leave alone, and
// what goes with them.
package robust

import "math"

// NormalQuantile is the quantile function of the standard normal distribution.
func NormalQuantile(p float64) float64 { return math.Sqrt2 * math.Erfinv(2*p-1) }

// Quantile gives the q-quantile of values by linear interpolation between
// order statistics (Hyndman and Fan 1996, type 7). It reorders values and
// returns NaN for none. Linear expected time.
func Quantile(values []float64, q float64) float64 {
	n := len(values)
	if n == 0 {
		return math.NaN()
	}
	position := q * float64(n-1)
	k := int(position)
	low := selectKth(values, k)
	if fraction := position - float64(k); fraction > 0 && k+1 < n {
		next := math.Inf(1)
		for _, v := range values[k+1:] {
			next = min(next, v)
		}
		return low + fraction*(next-low)
	}
	return low
}

// Median is Quantile at one half.
func Median(values []float64) float64 { return Quantile(values, 0.5) }

// selectKth puts the k-th smallest in place and returns it (Hoare 1961).
func selectKth(v []float64, k int) float64 {
	lo, hi := 0, len(v)-1
	for lo < hi {
		pivot := v[(lo+hi)/2]
		i, j := lo, hi
		for i <= j {
			for v[i] < pivot {
				i++
			}
			for v[j] > pivot {
				j--
			}
			if i <= j {
				v[i], v[j] = v[j], v[i]
				i, j = i+1, j-1
			}
		}
		if k <= j {
			hi = j
		} else if k >= i {
			lo = i
		} else {
			break
		}
	}
	return v[k]
}

// Mean of values; 0 of none.
func Mean(values []float64) float64 {
	sum := 0.0
	for _, v := range values {
		sum += v
	}
	return sum / float64(max(len(values), 1))
}

// Clamp brings a value between two bounds.
func Clamp(v, lo, hi float64) float64 { return min(max(v, lo), hi) }
