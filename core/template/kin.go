package template

import (
	"cmp"
	"math"
	"slices"
)

const (
	// mostLag is how many periods apart two sentences are looked for.
	mostLag = 12
	// leastKin is the least correlation that is told.
	leastKin = 0.25
	// mostKin is how many are told.
	mostKin = 8
)

// Kin is a sentence that rises and falls with another.
type Kin struct {
	ID          int
	Correlation float64 // Pearson's, of roots of counts without their daily course
	Lag         int     // in periods: it comes so much later; below 0 earlier
}

// Together ranks the sentences that rise and fall with one. Counts are by periods of five
// minutes, all over the same stretch. What both share by the clock is taken out; what is
// left is held against shifts of half a day and more, where nothing can belong together: only what is
// well beyond the greatest of those is told.
func Together(one []float64, others map[int][]float64) []Kin {
	a := apart(one)
	var list []Kin
	for id, counts := range others {
		if len(counts) != len(one) {
			continue
		}
		b := apart(counts)
		k := Kin{ID: id}
		for lag := -mostLag; lag <= mostLag; lag++ {
			if r := correlated(a, b, lag); math.Abs(r) > math.Abs(k.Correlation) || math.Abs(r) == math.Abs(k.Correlation) &&
				max(lag, -lag) < max(k.Lag, -k.Lag) {
				k.Correlation, k.Lag = r, lag
			}
		}
		chance := 0.0
		for shift := slotsADay / 2; shift < len(a)-slotsADay/2 && shift < 4*slotsADay; shift += 17 {
			chance = max(chance, math.Abs(correlated(a, b, shift)), math.Abs(correlated(a, b, -shift)))
		}
		if math.Abs(k.Correlation) >= max(leastKin, 1.5*chance) {
			list = append(list, k)
		}
	}
	slices.SortFunc(list, func(a, b Kin) int {
		return cmp.Or(cmp.Compare(math.Abs(b.Correlation), math.Abs(a.Correlation)), cmp.Compare(a.ID, b.ID))
	})
	return list[:min(mostKin, len(list))]
}

// apart gives roots of counts without their mean by the hour of the day, scaled to a sum
// of squares of one.
func apart(counts []float64) []float64 {
	var sums, n [24]float64
	out := make([]float64, len(counts))
	for i, v := range counts {
		out[i] = math.Sqrt(v)
		hour := i % slotsADay / window
		sums[hour], n[hour] = sums[hour]+out[i], n[hour]+1
	}
	square := 0.0
	for i := range out {
		hour := i % slotsADay / window
		out[i] -= sums[hour] / n[hour]
		square += out[i] * out[i]
	}
	if square == 0 {
		return out
	}
	for i := range out {
		out[i] /= math.Sqrt(square)
	}
	return out
}

// correlated is the correlation of a with what b is so many periods later.
func correlated(a, b []float64, lag int) float64 {
	sum := 0.0
	for i := max(0, -lag); i < len(a) && i+lag < len(b); i++ {
		sum += a[i] * b[i+lag]
	}
	return sum
}
