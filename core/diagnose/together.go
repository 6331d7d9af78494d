package diagnose

import (
	"cmp"
	"math"
	"slices"
)

// Moved is a series in the stretch of an alert beside its own past.
type Moved struct {
	ID      int64
	Z       float64 // how far off it is, in robust standard deviations of the same stretch of earlier days
	Rang    bool    // its own monitor told of it at the time
	Segment []Tag
}

// Tag is a column and its value, by name.
type Tag struct{ Column, Value string }

// Shared is a value that the broken series have and the sound ones do not.
type Shared struct {
	Tag
	Broken, Sound           int     // series with it
	OtherBroken, OtherSound int     // series with another value of the column
	Surprise                float64 // −log10 of the chance that so many of its series are broken
}

// From which distance on a series counts as broken, by itself and where its monitor
// tells of it too: an alert that lasts may be of something that is long over.
const (
	broken   = 4.0
	rangFrom = 2.0
)

// Broken tells whether a series counts as broken: far off by its weeks, or off by them
// and by what its monitor knows of it, which is more.
func (m Moved) Broken() bool {
	return math.Abs(m.Z) >= broken || m.Rang && math.Abs(m.Z) >= rangFrom
}

// Common finds the values that mark the broken series off from the sound ones: the
// hypergeometric chance that so many series of a value broke, of as many broken ones
// among all that have the column (Fisher's exact test, one-sided). Strongest first;
// those with a chance over one in a thousand are left out.
func Common(list []Moved) []Shared {
	type count struct{ broken, all int }
	byColumn := map[string]*count{}
	byTag := map[Tag]*count{}
	var order []Tag
	for _, m := range list {
		for _, t := range m.Segment {
			if byColumn[t.Column] == nil {
				byColumn[t.Column] = &count{}
			}
			if byTag[t] == nil {
				byTag[t] = &count{}
				order = append(order, t)
			}
			byColumn[t.Column].all++
			byTag[t].all++
			if m.Broken() {
				byColumn[t.Column].broken++
				byTag[t].broken++
			}
		}
	}
	var found []Shared
	for _, t := range order {
		own, all := byTag[t], byColumn[t.Column]
		if own.broken == 0 || own.all == all.all {
			continue
		}
		p := hypergeometricTail(all.all, all.broken, own.all, own.broken)
		if s := -math.Log10(max(p, 1e-300)); s >= 3 {
			found = append(found, Shared{t, own.broken, own.all - own.broken, all.broken - own.broken,
				all.all - own.all - all.broken + own.broken, s})
		}
	}
	slices.SortStableFunc(found, func(a, b Shared) int { return cmp.Compare(b.Surprise, a.Surprise) })
	return found
}

// Overlap is the chance that of so many hours (or other units) two kinds share with or more
// by chance (Fisher's exact test, one-sided).
func Overlap(all, one, other, shared int) float64 { return hypergeometricTail(all, one, other, shared) }

// hypergeometricTail is the chance of k or more marked among n drawn from all with
// so many marked.
func hypergeometricTail(all, marked, n, k int) float64 {
	sum := 0.0
	for i := k; i <= min(n, marked); i++ {
		sum += math.Exp(choose(marked, i) + choose(all-marked, n-i) - choose(all, n))
	}
	return math.Min(sum, 1)
}

// choose is the logarithm of a binomial coefficient.
func choose(n, k int) float64 {
	if k < 0 || k > n {
		return math.Inf(-1)
	}
	a, _ := math.Lgamma(float64(n + 1))
	b, _ := math.Lgamma(float64(k + 1))
	c, _ := math.Lgamma(float64(n - k + 1))
	return a - b - c
}

// ByChance is the standard deviation of a count, or of a share of so many rows, by
// chance alone.
func ByChance(usual, rows float64, count bool) float64 {
	if count {
		return math.Sqrt(math.Max(usual, 1))
	}
	rows = math.Max(rows, 1)
	q := math.Min(math.Max(usual, 0.5/rows), 1)
	return math.Sqrt(q * (1 - math.Min(q, 1-0.5/rows)) / rows)
}

// Surprise is how far a value lies from those of the same stretch before, in robust
// standard deviations that never vanish: at least that by chance, which is asked for
// the usual value; nil where there is none.
func Surprise(now float64, before []float64, chance func(usual float64) float64) float64 {
	if len(before) < 3 || math.IsNaN(now) {
		return 0
	}
	sorted := slices.Sorted(slices.Values(before))
	middle := median(sorted)
	deviations := make([]float64, len(sorted))
	for i, v := range sorted {
		deviations[i] = math.Abs(v - middle)
	}
	slices.Sort(deviations)
	spread := 1.4826 * median(deviations)
	spread = math.Max(spread, 0.02*math.Abs(middle))
	if chance != nil {
		spread = math.Max(spread, chance(middle))
	}
	// Of few values the median deviation is too small about as often as too large.
	spread *= 1 + 2/float64(len(sorted))
	if spread == 0 {
		spread = math.Max(math.Abs(now), 1e-9)
	}
	return (now - middle) / spread
}

func median(sorted []float64) float64 {
	n := len(sorted)
	return (sorted[(n-1)/2] + sorted[n/2]) / 2
}
