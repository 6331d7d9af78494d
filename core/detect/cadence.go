// Package detect turns samples and a baseline into alerts.
//
// One Evaluator judges one series. Its Step is the only evaluation there is:
// the live service, the replay of history, the rehearsal of a setting and the
// backtest all call it. Step takes constant time and does not allocate.
package detect

import (
	"time"

	"tinbell/core/timeline"
)

// cadence holds the constants that depend on how long a period is. Days are the series'
// own (timeline.Grid.Day).
type cadence struct {
	windows   [maxWindows]int // lengths in periods, ascending
	count     int             // how many of them are used
	drop      int             // worst points left out of a window
	dropFrom  int             // … of windows of at least this many periods
	minEffect float64         // smallest share of a day's level worth an alert (counts)
	quiet     int             // quiet periods that close an alert
	gap       int             // periods within which a new alert continues the last
	zeros     int             // zero periods a silence needs
	absences  int             // missing periods a missing-data alert needs
	coldDays  float64         // age until which thresholds are raised
	block     int             // days per block of maxima
	blocks    int             // blocks remembered
	bucket    time.Duration
	adopt     time.Duration
	settle    int // days that a new level settles
	regime    int // days after which a series that became another one is fitted by itself
	told      int // days within which the same again is no news
}

func cadenceOf(g timeline.Grid) cadence {
	c := cadence{
		windows: [maxWindows]int{2, 3, 6, 12, 24, 72}, count: 6, drop: 1, minEffect: 0.08,
		quiet: 24, gap: 3, zeros: 2, absences: 2, coldDays: 28, block: 1, blocks: 112,
		bucket: 24 * time.Hour, adopt: 72 * time.Hour, settle: 7, regime: 14, told: 1,
	}
	switch {
	case g.Long():
		c.windows, c.count, c.dropFrom, c.minEffect = [maxWindows]int{1, 2, 3, 6, 12}, 5, 6, 0
		c.quiet, c.gap, c.zeros, c.absences = 2, 0, 1, 1
		c.coldDays, c.block, c.blocks = 24, 3, 104
		c.bucket, c.adopt, c.settle, c.regime, c.told = 2*g.Day(), 4*g.Day(), 4, 12, 3
		if g.Period == timeline.Week {
			c.coldDays = 78 // what a year does to it is not known before
		}
	case g.Daily():
		c.windows, c.count, c.dropFrom, c.minEffect = [maxWindows]int{1, 2, 3, 5, 7, 14, 28}, 7, 5, 0
		c.quiet, c.gap, c.zeros, c.absences = 5, 0, 1, 1
		c.coldDays, c.block, c.blocks = 56, 7, 104
		c.bucket, c.adopt, c.settle, c.regime, c.told = 72*time.Hour, 144*time.Hour, 28, 42, 7
	case g.Period < 5*time.Minute:
		// No longer window: its memory would be three times as much a series.
		c.windows, c.count, c.drop, c.minEffect = [maxWindows]int{5, 15, 30, 90, 240}, 5, 2, 0.016
		c.quiet, c.gap, c.zeros, c.absences = 60, 10, 3, 3
	case g.Period < 15*time.Minute:
		c.windows, c.drop, c.minEffect = [maxWindows]int{3, 7, 12, 36, 144, 288}, 2, 0.016
		c.quiet, c.gap, c.zeros, c.absences = 36, 6, 3, 3
	case g.Period < 30*time.Minute:
		c.windows, c.minEffect = [maxWindows]int{2, 4, 8, 16, 48, 96}, 0.03
	case g.Period > 3*time.Hour:
		c.windows, c.quiet = [maxWindows]int{2, 3, 4, 6, 8, 16}, 8
	}
	return c
}

func (c *cadence) dropped(window int) int {
	if window < c.dropFrom {
		return 0
	}
	return c.drop
}
