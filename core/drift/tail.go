package drift

import "math"

// law is a distribution of counts with one mode.
type law struct {
	log      func(x float64) float64 // of the probability of x, for 0 <= x <= top
	mean, sd float64
	top      float64
}

// betaBinomial is how many of m rows have a property whose share is a beta variable
// with parameters a and b.
func betaBinomial(m, a, b float64) law {
	base := lgamma(m+1) - lbeta(a, b)
	p := a / (a + b)
	return law{
		log:  func(x float64) float64 { return base - lgamma(x+1) - lgamma(m-x+1) + lbeta(a+x, b+m-x) },
		mean: m * p, sd: math.Sqrt(m * p * (1 - p) * (a + b + m) / (a + b + 1)), top: m,
	}
}

// negativeBinomial is how often a property is seen whose rate is a gamma variable of
// shape r and of some mean.
func negativeBinomial(r, mean float64) law {
	odds := mean / (r + mean)
	base, per := r*math.Log1p(-odds)-lgamma(r), math.Log(odds)
	return law{
		log:  func(x float64) float64 { return base + lgamma(r+x) - lgamma(x+1) + x*per },
		mean: mean, sd: math.Sqrt(mean * (1 + mean/r)), top: math.MaxInt64,
	}
}

func lgamma(x float64) float64 {
	v, _ := math.Lgamma(x)
	return v
}

func lbeta(a, b float64) float64 { return lgamma(a) + lgamma(b) - lgamma(a+b) }

// each of the first terms is added by itself, then blocks an eighth as long as the way
// behind them, by Simpson's rule with the first term of Euler and Maclaurin's: within
// 1e-6 of the sum, at any number of rows.
const singly = 64

// above is the chance of x or more, for x beyond the mean.
func (l law) above(x float64) float64 {
	x = math.Ceil(max(x, 0))
	total := 0.0
	for j := x; j <= l.top && j < x+singly; j++ {
		term := math.Exp(l.log(j))
		if total += term; term < 1e-14*total {
			return min(total, 1)
		}
	}
	for j := x + singly; j <= l.top; {
		h := min(math.Floor((j-x)/8), l.top-j+1)
		first, last := math.Exp(l.log(j)), 0.0
		if j+h <= l.top {
			last = math.Exp(l.log(j + h))
		}
		block := h/6*(first+4*math.Exp(l.log(j+h/2))+last) + (first-last)/2
		if total += block; block < 1e-10*total || total == 0 {
			break
		}
		j += h
	}
	return min(total, 1)
}

// most is the largest count that is not exceeded but with a chance of at most p,
// p < 1/2.
func (l law) most(p float64) float64 {
	low := math.Floor(l.mean) // exceeded more often than p
	high := low + math.Ceil(4*l.sd) + 4
	for high < l.top && l.above(high+1) > p {
		low, high = high, low+2*(high-low)
	}
	high = min(high, l.top)
	for high-low > 1 {
		if middle := math.Floor((low + high) / 2); l.above(middle+1) > p {
			low = middle
		} else {
			high = middle
		}
	}
	if l.above(low+1) <= p {
		return low
	}
	return high
}

// turned is the law of what is not counted.
func (l law) turned() law {
	return law{log: func(x float64) float64 { return l.log(l.top - x) }, mean: l.top - l.mean, sd: l.sd, top: l.top}
}

// least is the smallest count that is not fallen short of but with a chance of at
// most p.
func (l law) least(p float64) float64 { return l.top - l.turned().most(p) }
