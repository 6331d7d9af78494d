package detect

import (
	"math"
	"slices"
	"time"
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

var pooledLog = func() (logs [len(pooled)]float64) {
	for i, p := range pooled {
		logs[i] = math.Log(p[0])
	}
	return logs
}()

func pooledThreshold(budget float64) float64 {
	x := math.Log(budget)
	i := 1
	for i < len(pooled)-1 && budget > pooled[i][0] {
		i++
	}
	x0, x1 := pooledLog[i-1], pooledLog[i]
	y0, y1 := pooled[i-1][1], pooled[i][1]
	return max(y0+(y1-y0)*(x-x0)/(x1-x0), 1.5)
}

// maxima are the largest statistics of the last blocks (days, or weeks for
// daily series) on one side: of all windows, and of those whose effect was
// large enough to tell. What thresholds follow from is settled from them.
type maxima struct {
	Values []float64
	Told   []float64
	Next   int

	Current, CurrentTold float64

	Alone bool // thresholds lean on no pool

	sorted        []float64
	median, upper float64
	n             float64 // blocks that count
	share         float64 // of high values that are told
}

func (m *maxima) see(v *verdict, side int) {
	m.Current, m.CurrentTold = max(m.Current, v.u[side]), max(m.CurrentTold, v.told[side])
}

func (m *maxima) close(keep int) {
	if len(m.Values) < keep {
		m.Values, m.Told = append(m.Values, m.Current), append(m.Told, m.CurrentTold)
	} else {
		if i, found := slices.BinarySearch(m.sorted, m.Values[m.Next]); found {
			m.sorted = slices.Delete(m.sorted, i, i+1)
		}
		m.Values[m.Next], m.Told[m.Next] = m.Current, m.CurrentTold
		m.Next = (m.Next + 1) % keep
	}
	i, _ := slices.BinarySearch(m.sorted, m.Current)
	m.sorted = slices.Insert(m.sorted, i, m.Current)
	m.settle()
}

func (m *maxima) open() { m.Current, m.CurrentTold = 0, 0 }

// restore sorts what was stored.
func (m *maxima) restore() {
	m.sorted = append(make([]float64, 0, len(m.Values)+1), m.Values...)
	slices.Sort(m.sorted)
	m.settle()
}

// settle takes the median and the 80 % quantile of the blocks without those
// that stick out: faults that nobody labelled must not raise thresholds. A
// block sticks out if a clean history this long would hold one like it once in
// twenty times; at most a quarter do.
func (m *maxima) settle() {
	values := m.sorted
	for range 3 {
		n := len(values)
		if n < 2 {
			break
		}
		m.median, m.upper = quantileOf(values, 0.5), quantileOf(values, 0.8)
		limit := m.level(1 - 1/(20*float64(n)))
		for len(values) > 0 && values[len(values)-1] > limit {
			values = values[:len(values)-1]
		}
		if len(values) == n || 4*len(values) < 3*len(m.sorted) {
			break
		}
	}
	m.n = float64(len(values))
	high, told := 1.0, 1.0
	for i, v := range m.Values {
		if v > m.upper {
			high++
			if m.Told[i] > m.upper {
				told++
			}
		}
	}
	m.share = told / high
}

// quantileOf sorted values, linear between order statistics.
func quantileOf(sorted []float64, q float64) float64 {
	at := q * float64(len(sorted)-1)
	k := int(at)
	if k+1 >= len(sorted) {
		return sorted[k]
	}
	return sorted[k] + (at-float64(k))*(sorted[k+1]-sorted[k])
}

// level is the value that a share p of the blocks stays under: a straight line
// on Gumbel paper through the median and the 80 % quantile (Gumbel 1958).
func (m *maxima) level(p float64) float64 {
	slope := max(m.upper-m.median, 1e-6) / (gumbelUpper - gumbelMedian)
	return m.median + slope*(gumbel(p)-gumbelMedian)
}

var gumbelMedian, gumbelUpper = gumbel(0.5), gumbel(0.8)

func gumbel(p float64) float64 { return -math.Log(-math.Log(p)) }

// threshold is the return level of the block maxima at the budget, pulled
// towards the pooled threshold while there are few blocks. Where only a share
// of high values is told, the rest of the budget is free. sides is how many
// directions share the budget, blockDays a block's length.
func (m *maxima) threshold(budget float64, sides, blockDays int) float64 {
	pool := pooledThreshold(budget)
	if m.n < 5 {
		return pool
	}
	exceed := budget * float64(blockDays) / float64(30*sides) / m.share
	own := m.level(min(max(1-exceed, 0.05), 1-1e-12))
	if m.Alone {
		return max(own, 0.5)
	}
	own = max(own, 1.5)
	return math.Exp((m.n*math.Log(own) + 14*math.Log(pool)) / (m.n + 14))
}

// budgetOf inverts threshold: the budget at which u would just alarm.
func (m *maxima) budgetOf(u float64, sides, blockDays int) float64 {
	lo, hi := math.Log(1e-9), math.Log(30.0)
	for range 24 {
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
