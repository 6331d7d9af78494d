package detect

import (
	"math"
	"slices"
	"time"

	"tinbell/core/baseline"
)

const month = 30 * 24 * time.Hour

// Budget is the number of false alarms one series may raise in 30 days so that
// its monitor as a whole, with that many series, raises one in returnPeriod.
func Budget(returnPeriod time.Duration, series int) float64 {
	return month.Seconds() / (returnPeriod.Seconds() * float64(max(series, 1)))
}

// pooled are thresholds measured over many simulated series, for histories too
// young to have their own: ln budget → threshold.
var pooled = [...][2]float64{
	{0.001, 6.32}, {0.003, 5.86}, {0.01, 5.36}, {0.03, 4.9}, {0.1, 4.4}, {0.3, 3.85}, {1, 3.27}, {3, 2.7},
}

func pooledThreshold(budget float64) float64 {
	x := math.Log(budget)
	i := 1
	for i < len(pooled)-1 && budget > pooled[i][0] {
		i++
	}
	x0, x1 := math.Log(pooled[i-1][0]), math.Log(pooled[i][0])
	y0, y1 := pooled[i-1][1], pooled[i][1]
	return max(y0+(y1-y0)*(x-x0)/(x1-x0), 1.5)
}

// maxima are the largest statistics of the last blocks (days, or weeks for
// daily series) on one side, and the two quantiles thresholds follow from.
type maxima struct {
	Values  []float64
	Next    int
	Current float64
	median  float64
	upper   float64
}

func (m *maxima) close(keep int) {
	if len(m.Values) < keep {
		m.Values = append(m.Values, m.Current)
	} else {
		m.Values[m.Next] = m.Current
		m.Next = (m.Next + 1) % keep
	}
	m.Current = 0
	m.settle()
}

func (m *maxima) settle() {
	var buffer [64]float64
	sorted := buffer[:copy(buffer[:], m.Values)]
	slices.Sort(sorted)
	if len(sorted) > 0 {
		m.median, m.upper = baseline.Quantile(sorted, 0.5), baseline.Quantile(sorted, 0.8)
	}
}

func gumbel(p float64) float64 { return -math.Log(-math.Log(p)) }

// threshold is the return level of the block maxima: a straight line on Gumbel
// paper through their median and 80 % quantile (Gumbel 1958), extended to the
// budget and pulled towards the pooled threshold while there are few blocks.
// sides is how many directions share the budget, blockDays a block's length.
func (m *maxima) threshold(budget float64, sides, blockDays int) float64 {
	pool := pooledThreshold(budget)
	n := float64(len(m.Values))
	if n < 5 {
		return pool
	}
	exceed := budget * float64(blockDays) / float64(30*sides)
	p := min(max(1-exceed, 0.05), 1-1e-12)
	slope := max(m.upper-m.median, 1e-6) / (gumbel(0.8) - gumbel(0.5))
	own := max(m.median+slope*(gumbel(p)-gumbel(0.5)), 1.5)
	return math.Exp((n*math.Log(own) + 14*math.Log(pool)) / (n + 14))
}

// budgetOf inverts threshold: the budget at which u would just alarm.
func (m *maxima) budgetOf(u float64, sides, blockDays int) float64 {
	lo, hi := math.Log(1e-9), math.Log(30.0)
	for range 40 {
		mid := (lo + hi) / 2
		if m.threshold(math.Exp(mid), sides, blockDays) > u {
			lo = mid
		} else {
			hi = mid
		}
	}
	return math.Exp((lo + hi) / 2)
}

// clampReturnPeriod keeps extrapolation honest: nothing is said to be rarer
// than once in a hundred years.
func clampReturnPeriod(seconds float64) float64 {
	const century = 100 * 365.25 * 86400
	return min(max(seconds, 0), century)
}
