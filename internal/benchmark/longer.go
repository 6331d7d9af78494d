package benchmark

import (
	"context"
	"math"
	"time"

	"tinbell/core/timeline"
)

// LongerBudget is what is stated of weeks and months: one false alarm a series in three years.
const LongerBudget = 30.0 / (3 * 365)

// longerStretches are three years of weeks to learn from and three to judge, six and six of
// months.
var longerStretches = []stretch{{Period: timeline.Week, Learn: 3 * 365, Judge: 3 * 365},
	{Period: timeline.Month, Learn: 6 * 365, Judge: 6 * 365}}

// Longer judges everyday series that are summed up by week and by month: what happens day by
// day knows nothing of the weeks and months that it is counted in.
func (p Plan) Longer(ctx context.Context) ([]Generality, error) {
	var list []Generality
	for k, st := range longerStretches {
		for i := range everydays {
			sort := &everydays[i]
			if !sort.Daily || sort.Kind == timeline.Share {
				continue
			}
			if err := ctx.Err(); err != nil {
				return nil, err
			}
			g, err := p.generality(sort, st, LongerBudget, newLonger)
			if err != nil {
				return nil, err
			}
			list = append(list, g)
		}
		p.Progress(k+1, len(longerStretches))
	}
	return list, nil
}

// newLonger makes a series of a sort by day and sums it up: counts are added, of anything else
// the mean is taken. Periods that were not seen whole are left out.
func newLonger(sort *everyday, seed uint64, st stretch, index int, faults bool) Scene {
	days := sort.grown(seed, stretch{Period: 24 * time.Hour, Learn: st.Learn, Judge: st.Judge}, index)
	long := *days
	long.grid = timeline.Grid{Period: st.Period, Zone: days.grid.Zone}
	long.at, long.value, long.rows = nil, nil, nil
	n := 0.0
	for i, at := range days.at {
		start := long.grid.Floor(time.Unix(at, 0))
		if k := len(long.at); k == 0 || long.at[k-1] != start.Unix() {
			long.at, long.value, long.rows, n = append(long.at, start.Unix()), append(long.value, 0), append(long.rows, 0), 0
		}
		if math.IsNaN(days.value[i]) {
			continue // a day that did not come
		}
		n++
		if last := &long.value[len(long.value)-1]; sort.Kind == timeline.Count {
			*last += days.value[i]
		} else {
			*last += (days.value[i] - *last) / n
		}
	}
	whole := len(long.at) - 1 // the last one is cut off, perhaps the first too
	long.at, long.value, long.rows = long.at[1:whole], long.value[1:whole], long.rows[1:whole]
	return long.scene(sort, st, faults)
}
