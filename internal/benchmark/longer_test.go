package benchmark

import (
	"math"
	"testing"
	"time"

	"tinbell/core/timeline"
)

// A week is what its seven days came to, and a month its days, whatever sort they are of.
func TestLongerPeriodsAreTheSumOfTheirDays(t *testing.T) {
	t.Parallel()
	for _, st := range longerStretches {
		st.Learn, st.Judge = 200, 200
		for i := range everydays {
			sort := &everydays[i]
			if !sort.Daily || sort.Kind != timeline.Count {
				continue
			}
			days := sort.grown(7, stretch{Period: 24 * time.Hour, Learn: st.Learn, Judge: st.Judge}, 2)
			scene := newLonger(sort, 7, st, 2, false)
			grid := scene.Config.Grid
			for _, x := range scene.History {
				sum, n := 0.0, 0
				for k, at := range days.at {
					if at >= x.At && at < grid.End(x.At) {
						n++
						if v := days.value[k]; !math.IsNaN(v) {
							sum += v
						}
					}
				}
				whole := int(math.Round(float64(grid.End(x.At)-x.At) / 86400))
				if n != whole || math.Abs(sum-x.Value) > 1e-6*math.Abs(sum) {
					t.Errorf("%s of %s: %g of %d days, want %g of %d", grid.Unit(), sort.Name, x.Value, n, sum, whole)
				}
			}
			if spoilt := newLonger(sort, 7, st, 2, true); len(spoilt.Faults) != 3 || len(spoilt.History) != len(scene.History) {
				t.Errorf("%s: %d faults in %d periods", sort.Name, len(spoilt.Faults), len(spoilt.History))
			}
		}
	}
}
