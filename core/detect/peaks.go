package detect

import (
	"math"
	"slices"
	"time"
)

// peaks are a statistic's largest values of the last blocks (days, or weeks for
// daily series) in order of time. Every rule's limit follows from its own.
type peaks struct {
	Values  []float32
	Current float64 // of the block that is not over
	Whole   bool    // no value is left out

	sorted []float32
	fit    tail // of the values without their one odd episode
}

func (p *peaks) see(v float64) { p.Current = max(p.Current, v) }

// close ends a block; the oldest beyond keep is forgotten.
func (p *peaks) close(keep int) {
	if n := len(p.sorted); n == keep && p.sorted[n-1] == 0 && p.Current == 0 {
		return // nothing before, nothing now
	}
	if n := len(p.Values); n >= keep {
		i, _ := slices.BinarySearch(p.sorted, p.Values[0])
		p.sorted = slices.Delete(p.sorted, i, i+1)
		copy(p.Values, p.Values[1:])
		p.Values = p.Values[:n-1]
	}
	v := float32(p.Current)
	p.Values = append(p.Values, v)
	i, _ := slices.BinarySearch(p.sorted, v)
	p.sorted = slices.Insert(p.sorted, i, v)
	p.Current = 0
}

// restore recomputes what is not stored.
func (p *peaks) restore() {
	p.sorted = append(p.sorted[:0], p.Values...)
	slices.Sort(p.sorted)
}

// largest is the largest of all blocks.
func (p *peaks) largest() float64 {
	if n := len(p.sorted); n > 0 {
		return max(float64(p.sorted[n-1]), p.Current)
	}
	return p.Current
}

// settle fits the tail anew, without the one odd episode, unless somebody has called
// the largest ordinary.
func (p *peaks) settle(prior slopePrior, odd *[]float32) {
	if n := len(p.sorted); n > 0 && p.sorted[n-1] == 0 {
		p.fit = tailOfNothing(n, prior)
		return
	}
	if p.Whole {
		p.fit = fitTail(p.Values, p.sorted, prior)
		return
	}
	p.fit = fitWithoutOne(p.Values, p.sorted, prior, odd)
}

// The stated budget is spent by all rules together.
const (
	deviationShare = 0.85
	silenceShare   = 0.05
	missingShare   = 0.05
	stuckShare     = 0.05
	stepShare      = 0.9 // a stepped series has no windows
	overdueShare   = 1   // nor have loads anything but their times
)

// Share is the part of the budget that a rule may spend.
func Share(cause Cause) float64 {
	switch cause {
	case Silence:
		return silenceShare
	case Missing:
		return missingShare
	case Stuck:
		return stuckShare
	case Step:
		return stepShare
	case Overdue:
		return overdueShare
	}
	return deviationShare
}

const month = 30 * 24 * time.Hour

// Budget is the number of false alarms one series may raise in 30 days so that
// its monitor as a whole, with that many series, raises one in returnPeriod.
func Budget(returnPeriod time.Duration, series int) float64 {
	return month.Seconds() / (returnPeriod.Seconds() * float64(max(series, 1)))
}

// longerRun is how much more unlikely than any before a run must be.
const longerRun = 1.5

// surpriseLimit is how unlikely a run must be, as −ln of its probability, to be
// told about once for so many in 30 days: at least what the probability itself
// says, and what runs of this series have reached without anything being wrong.
func (p *peaks) surpriseLimit(each float64, step int64, blockDays int) float64 {
	limit := leastLimit(each, step)
	if len(p.Values) > 0 {
		limit = max(limit, p.fit.level(min(each*float64(blockDays)/30, 0.95)), longerRun*p.fit.top)
	}
	return limit
}

// leastLimit is how unlikely a run must be by its probability alone.
func leastLimit(each float64, step int64) float64 {
	return -math.Log(min(each*float64(step)/month.Seconds(), 1))
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

// maxima are a side's largest window statistics: of all windows, and of those
// whose effect was large enough to tell.
type maxima struct {
	All         peaks
	Told        []float32
	CurrentTold float64
	Alone       bool // thresholds lean on no pool

	share float64 // of high values that are told
}

func (m *maxima) see(v *verdict, side int) {
	m.All.see(v.u[side])
	m.CurrentTold = max(m.CurrentTold, v.told[side])
}

func (m *maxima) close(keep int) {
	m.All.close(keep)
	if n := len(m.Told); n >= keep {
		copy(m.Told, m.Told[1:])
		m.Told = m.Told[:n-1]
	}
	m.Told = append(m.Told, float32(m.CurrentTold))
	m.CurrentTold = 0
}

// windowPrior is the slope of the block maxima of a window's statistic that
// behaves as standard normal ones do, and windowBase where its upper third begins.
const (
	windowPrior = 0.45
	windowBase  = 2.5
)

func (m *maxima) settle(prior slopePrior, odd *[]float32) {
	m.All.settle(prior, odd)
	high, told := 1.0, 1.0
	for i, v := range m.All.Values {
		if float64(v) > m.All.fit.base {
			high++
			if float64(m.Told[i]) > m.All.fit.base {
				told++
			}
		}
	}
	m.share = told / high
}

// threshold is the return level of the block maxima at the budget, pulled
// towards the pooled threshold while there are few blocks. Where only a share
// of high values is told, the rest of the budget is free. sides is how many
// directions share the budget, blockDays a block's length.
func (m *maxima) threshold(budget float64, sides, blockDays int) float64 {
	pool, t := pooledThreshold(budget), &m.All.fit
	if t.n < 5 {
		return pool
	}
	exceed := min(max(deviationShare*budget*float64(blockDays)/(30*float64(sides)*m.share), 1e-12), 0.95)
	own := max(t.level(exceed), 0.5)
	if !m.Alone {
		own = math.Exp((t.n*math.Log(max(own, 1.5)) + 14*math.Log(pool)) / (t.n + 14))
	}
	if due := exceed * t.n; due < 1 {
		own = max(own, t.top+t.slope()*min(1, -math.Log(due)))
	}
	return own
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
