package baseline

import (
	"math"
	"slices"

	"tinbell/core/timeline"
)

// Beside sets the Rows of every sample to the median of the other series'
// values at the same time, which Siblings compares with; 0 where fewer than
// three others came, for then one of them could pull the median along. Series
// may start and end at different times.
func Beside[K comparable](series map[K][]timeline.Sample) {
	at := map[int64][]float64{}
	for _, list := range series {
		for _, s := range list {
			if !s.Missing() {
				at[s.At] = append(at[s.At], s.Value)
			}
		}
	}
	for _, values := range at {
		slices.Sort(values)
	}
	for _, list := range series {
		for i := range list {
			list[i].Rows = medianWithout(at[list[i].At], list[i].Value)
		}
	}
}

// medianWithout is the median of sorted values without one that equals v; NaN
// takes none away.
func medianWithout(sorted []float64, v float64) float64 {
	skip := len(sorted)
	if !math.IsNaN(v) {
		skip, _ = slices.BinarySearch(sorted, v)
	}
	n := len(sorted)
	if skip < n {
		n--
	}
	if n < 3 {
		return 0
	}
	pick := func(k int) float64 {
		if k >= skip {
			k++
		}
		return sorted[k]
	}
	return (pick((n-1)/2) + pick(n/2)) / 2
}
