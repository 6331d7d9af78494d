package drift

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"gonum.org/v1/gonum/stat/distuv"
)

// shares compares the share of each value by itself, rare ones too, each by its own
// beta-binomial law. The one that moved most for what it may is told.
func (j *judging) shares(p float64) {
	type one struct {
		bin   int
		score float64
	}
	last := len(j.Whole.Bins) - 2 // what is new, or above the range, has its own measure
	from := 0
	if j.Layout.Kind.Numeric() {
		from = 1
	}
	var list []one
	for i := from; i <= last; i++ {
		if j.Whole.Bins[i]+j.period.Bins[i] > 0 && j.settled(&j.Whole, j.period, i) {
			list = append(list, one{i, j.strength(i)})
		}
	}
	if len(list) == 0 {
		return
	}
	p /= float64(len(list))
	const looked = 4 // the rest moved less by any reckoning
	slices.SortFunc(list, func(a, b one) int { return cmp.Or(cmp.Compare(b.score, a.score), cmp.Compare(a.bin, b.bin)) })
	var worst Measured
	for _, v := range list[:min(len(list), looked)] {
		k, x := float64(j.Whole.Bins[v.bin]), float64(j.period.Bins[v.bin])
		low, high := j.stays(k, float64(j.n), float64(j.m), func(w *Wobble) float64 { return w.share(v.bin) }, p)
		m := Measured{Name: MeasureShare, Value: math.Abs(x/float64(j.m) - k/float64(j.n)), Decides: true, Of: j.Layout.name(v.bin)}
		if m.Limit = high - k/float64(j.n); x/float64(j.m) < k/float64(j.n) {
			m.Limit = k/float64(j.n) - low
		}
		if worst.Name == "" || m.Value/m.Limit > worst.Value/worst.Limit {
			worst = m
		}
	}
	j.add(worst)
}

// strength is about how many standard deviations a bin's share moved: the signed root
// of its deviance, over what samples and blocks differ by.
func (j *judging) strength(bin int) float64 {
	n, m, k, x := float64(j.n), float64(j.m), float64(j.Whole.Bins[bin]), float64(j.period.Bins[bin])
	q := (k + 0.5) / (n + 1)
	part := func(x, mean float64) float64 {
		if x == 0 {
			return mean
		}
		return x*math.Log(x/mean) - (x - mean)
	}
	deviance := part(x, m*q) + part(m-x, m*(1-q))
	return math.Sqrt(2 * max(deviance, 0) / (1 + m/n + m*j.Wobble.share(bin)/(q*(1-q))))
}

// stays gives the shares between which clean periods of m rows stay but with a chance
// of p, where k of a reference's n have something: half a row beyond the least and the
// most. The share is taken as known up to sampling and to what it differs by from
// block to block (a beta distribution), the period's count then as beta-binomial.
func (j *judging) stays(k, n, m float64, excess func(*Wobble) float64, p float64) (low, high float64) {
	z := distuv.UnitNormal.Quantile(1 - p/2)
	wobble := j.Wobble.allows(excess, p) / z / z
	law := func(q, wider float64) law {
		certain := n + 1
		if wobble > 0 {
			certain = q * (1 - q) / (q*(1-q)/certain + wobble*wider)
		}
		return betaBinomial(m, q*certain, (1-q)*certain)
	}
	high, low = 1+0.5/m, -0.5/m
	if k < n {
		q := (k + 1) / (n + 1)
		high = (law(q, rises(math.Sqrt(wobble)/q, z)).most(p/2) + 0.5) / m
	}
	if k > 0 {
		low = (law(k/(n+1), 1).least(p/2) - 0.5) / m
	}
	return low, high
}

// rises is by how much more the variance of a share is to be reckoned upwards, z standard
// deviations out, where it goes up by a factor as often as down (lognormal): a beta
// variable, about a gamma one while the share is small (its quantile after Wilson and
// Hilferty 1931), rises less. Of a share with a small coefficient of variation: 1.
func rises(variation, z float64) float64 {
	if variation < 1e-3 {
		return 1
	}
	s := math.Sqrt(math.Log1p(variation * variation))
	gamma := math.Pow(1-variation*variation/9+z*variation/3, 3) - 1
	return max(1, math.Pow(math.Expm1(z*s-s*s/2)/gamma, 2))
}

// name is the value that a bin holds.
func (l *Layout) name(bin int) string {
	switch {
	case l.Kind.Numeric() && bin > 0 && bin <= len(l.Edges):
		return strconv.FormatFloat(l.Edges[bin-1], 'g', 6, 64)
	case !l.Kind.Numeric() && bin < len(l.Words):
		return l.Words[bin]
	}
	return "all others"
}

// words compares what only categories have: those that are new, those that are
// gone.
func (j *judging) words(p float64) {
	l := j.Layout
	j.v.New = j.period.NewWords()
	seldom, twice := 0.0, 0.0 // categories that the reference has once: a measure of what it may not know (Good 1953)
	for i := range l.Words {
		c := j.Whole.Bins[i]
		switch c {
		case 1:
			seldom++
		case 2:
			twice++
		}
		if j.period.Bins[i] == 0 && float64(j.m)*math.Log1p(-float64(c)/float64(j.n)) < math.Log(j.accept/float64(len(l.Words))) {
			j.v.Vanished = append(j.v.Vanished, l.Words[i])
		}
	}
	share := Measured{Name: MeasureNew, Value: float64(j.period.Fresh) / float64(j.m), Decides: p > 0}
	if p > 0 {
		// How well that is known: the variance of Good's estimate (Robbins 1968).
		shape := (seldom + 1) * (seldom + 1) / (seldom + 1 + 2*twice)
		mean := float64(j.m) * (seldom + 1) / float64(j.n)
		share.Limit = min((negativeBinomial(shape, mean).most(p)+0.5)/float64(j.m), 1)
	}
	j.add(share)
	j.add(Measured{Name: MeasureVanished, Value: float64(len(j.v.Vanished))})
	if l.Many {
		j.v.Why = fmt.Sprintf("more than %d categories: all but %d large ones are taken together, and new ones cannot be told",
			knownWords, len(l.Words))
	}
}

// missing compares the share of rows without a usable value.
func (j *judging) missing(p float64) {
	m, n := float64(j.period.Rows), float64(j.Whole.Rows)
	was, is := gone(&j.Whole), gone(j.period)
	low, high := j.stays(float64(j.Whole.Missing+j.Whole.Unreadable), n, m, func(w *Wobble) float64 { return w.Missing }, p)
	one := Measured{Name: MeasureMissing, Value: is, Limit: min(high, 1), Decides: true}
	if is < low {
		// Fewer missing than ever is a change too: told as one over its limit.
		j.v.Why = strings.TrimSpace(fmt.Sprintf("%.3g %% missing, where %.3g %% were", is*100, was*100))
		one.Limit = 0
		j.add(one)
		j.add(Measured{Name: MeasurePresent, Value: 1 - is, Limit: 1 - low, Decides: true})
		return
	}
	j.add(one)
}
