package detect

import (
	"math"
	"slices"
	"sort"
)

// tail is what the largest values of a series of maxima say of values that have
// not been seen yet: above base they fall off exponentially, by slope. The slope
// is a posterior mean under a gamma prior worth tailPrior values, so that few
// values give a wide tail (a Lomax predictive; Coles 2001, peaks over threshold).
type tail struct {
	n     float64 // values it is of
	base  float64
	above float64 // independent values above base, of n
	own   float64 // of their excesses
	sum   float64 // the same with the prior's
	worth float64 // of them, with the prior's
	top   float64
}

// slopePrior is what is believed of a slope before any value: it, and how many values
// the belief is worth. Where values are rare most blocks hold nothing, and the tail is of
// those that hold anything.
type slopePrior struct {
	slope, worth float64
	rare         bool
}

// tailPrior is how many values the prior slope is worth.
const tailPrior = 4

func (t *tail) slope() float64 { return t.sum / t.worth }

// fitTail takes values in order of time, the same sorted, and the prior slope.
// Extremes that come together count as fewer: the extremal index by runs
// (Leadbetter 1983).
func fitTail(values, sorted []float32, prior slopePrior) tail {
	n := len(values)
	t := tail{n: float64(n), sum: prior.worth * prior.slope, worth: prior.worth}
	if n == 0 {
		return t
	}
	k := upperThird(n)
	t.top = float64(sorted[n-1])
	if k < n {
		t.base = float64(sorted[n-1-k])
	}
	if t.base == 0 && prior.rare {
		if k = n - sort.Search(n, func(i int) bool { return sorted[i] > 0 }); k == 0 {
			return tailOfNothing(n, prior)
		}
	}
	sum := 0.0
	for _, v := range sorted[n-k:] {
		sum += float64(v) - t.base
	}
	theta := 1.0
	if k < n {
		runs, inside := 0, false
		for _, v := range values {
			above := float64(v) > t.base
			if above && !inside {
				runs++
			}
			inside = above
		}
		theta = min(max(float64(runs)/(float64(k)*(1-float64(k)/float64(n))), leastIndex), 1)
	}
	t.above = theta * float64(k)
	t.own = theta * sum
	t.sum, t.worth = t.own+prior.worth*prior.slope, t.above+prior.worth
	return t
}

func upperThird(n int) int { return min(max((n+2)/3, 3), n) }

// leastIndex is the least extremal index.
const leastIndex = 0.05

// tailOfNothing is the fit of so many zeros.
func tailOfNothing(n int, prior slopePrior) tail {
	k := leastIndex * float64(upperThird(n))
	return tail{n: float64(n), above: k, sum: prior.worth * prior.slope, worth: k + prior.worth}
}

// inside is the value that a share p of the maxima exceeds.
func (t *tail) inside(p float64) float64 {
	if p*t.n >= t.above {
		return t.base
	}
	return t.base + t.sum*(math.Pow(t.above/(t.n*p), 1/t.worth)-1)
}

// level is inside, and never below what was kept where fewer than one value that
// large is due in as many.
func (t *tail) level(p float64) float64 {
	l := t.inside(p)
	if due := p * t.n; due < 1 {
		l = max(l, t.top+t.slope()*min(1, -math.Log(due)))
	}
	return l
}

// fitWithoutOne fits the values without their largest episode if that sticks out
// of all others: one disturbance may be a fault that nobody labelled, two are
// what the series does. odd is room for what is left.
func fitWithoutOne(values, sorted []float32, prior slopePrior, odd *[]float32) tail {
	whole := fitTail(values, sorted, prior)
	n := len(values)
	if n < 5 || sorted[n-1] == 0 {
		return whole
	}
	at := slices.Index(values, sorted[n-1])
	rare := 1 / (20 * float64(n))
	left := append(append((*odd)[:0], values[:at]...), values[at+1:]...)
	*odd = left
	t := fitTail(left, sorted[:n-1], prior)
	limit := float32(t.inside(rare))
	if values[at] <= limit {
		return whole
	}
	from, to := at, at+1
	for from > 0 && values[from-1] > limit {
		from--
	}
	for to < n && values[to] > limit {
		to++
	}
	if gone := float64(to - from); gone > max(0.1*float64(n), 1) || n-(to-from) < 4 {
		return whole
	}
	if to-from > 1 {
		left = append(append(left[:0], values[:from]...), values[to:]...)
		rest := slices.Clone(left)
		slices.Sort(rest)
		t = fitTail(left, rest, prior)
	}
	if float64(values[at]) <= t.inside(rare) {
		return whole
	}
	return t
}
