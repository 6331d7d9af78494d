package detect

import (
	"fmt"
	"math"
	"time"
)

// Severity of an alert.
type Severity string

const (
	Warning  Severity = "warning"
	Critical Severity = "critical"
)

// Cause names the rule that opened an alert.
type Cause string

const (
	Deviation Cause = "deviation" // leave-worst-out windows
	Silence   Cause = "silence"   // zeros where rows were due
	Stuck     Cause = "stuck"     // the same value again and again
	Missing   Cause = "missing"   // periods that were due and did not come
	Step      Cause = "step"      // a stepped series jumped
	Overdue   Cause = "overdue"   // a load that was due did not arrive
	Bound     Cause = "bound"     // beyond what a person allows
)

// Rule says when deviations become alerts. Return periods are of the monitor
// as a whole: all its series together raise one alert by chance in that time.
type Rule struct {
	Direction  Direction
	Warn       time.Duration
	Critical   time.Duration
	Series     int // how many series share the budget
	Persist    int // m of n periods must alarm; 0 means 1 of 1
	Of         int
	MinEffect  float64       // absolute, in units of the series; 0 for none
	AdoptAfter time.Duration // unanswered change adopted after; 0 for the default, <0 never
	Smooth     int           // periods of a moving median before detection: 0 or 1 for none
	SmoothMean bool          // of a moving mean instead
	Spikes     bool          // one period alone may alarm
	Sustained  Sustained     // how long the longest window is
	Merge      int           // periods between alerts that are told as one; 0 for the default, <0 none
	Missing    int           // periods in a row that must be missing; 0 learned, <0 never tells
	StuckOff   bool          // do not tell of values that repeat
	SilenceOff bool          // do not tell of zeros where rows were due
	KeepWorst  bool          // windows keep their worst period: only to measure what leaving it out is worth
	BandOnly   bool          // readings without alerts
	Bounds     Bounds
	Caution    Caution
	Kin        Kinship
}

// Caution is by how much each rule's limit is raised over what the series itself
// gives, because on the past of its monitor it rang more than stated. 0 counts as
// 1: not at all.
type Caution struct{ Deviation, Silence, Missing, Stuck, Step, Overdue float64 }

// Of is the factor for a rule, at least 1.
func (c Caution) Of(cause Cause) float64 { return max(*c.at(cause), 1) }

// With gives the caution with a rule's factor set.
func (c Caution) With(cause Cause, factor float64) Caution {
	*c.at(cause) = factor
	return c
}

func (c *Caution) at(cause Cause) *float64 {
	switch cause {
	case Silence:
		return &c.Silence
	case Missing:
		return &c.Missing
	case Stuck:
		return &c.Stuck
	case Step:
		return &c.Step
	case Overdue:
		return &c.Overdue
	}
	return &c.Deviation
}

// Sustained says how small and slow a shift is looked for.
type Sustained uint8

const (
	SustainedLong  Sustained = iota // windows of all lengths
	SustainedShort                  // up to 12
	SustainedOff                    // up to 6
)

// windows is how many of so many window lengths that uses.
func (s Sustained) windows(all int) int {
	switch s {
	case SustainedShort:
		return min(all, 4)
	case SustainedOff:
		return min(all, 3)
	}
	return all
}

// MaxSmooth is the longest smoothing: a day of minutes.
const MaxSmooth = 1440

// Default return periods.
const (
	Year            = 365 * 24 * time.Hour
	DefaultWarn     = Year
	DefaultCritical = 10 * Year
)

// Normal fills in defaults.
func (r Rule) Normal() Rule {
	if r.Warn <= 0 {
		r.Warn = DefaultWarn
	}
	if r.Critical <= 0 {
		r.Critical = max(DefaultCritical, r.Warn)
	}
	r.Series = max(r.Series, 1)
	r.Persist = max(r.Persist, 1)
	r.Of = max(r.Of, r.Persist)
	return r
}

// Check refuses what no evaluator could follow.
func (r Rule) Check() error {
	n := r.Normal()
	switch {
	case n.Warn < 24*time.Hour:
		return fmt.Errorf("warn %s: a return period is at least 1d", n.Warn)
	case n.Critical < n.Warn:
		return fmt.Errorf("critical %s is shorter than warn %s: critical must be the rarer one", n.Critical, n.Warn)
	case n.Of > 64:
		return fmt.Errorf("persist %d of %d: at most 64 periods", n.Persist, n.Of)
	case n.Smooth < 0 || n.Smooth > MaxSmooth:
		return fmt.Errorf("smoothing over %d periods: allowed are 1 to a day of periods", n.Smooth)
	case n.Merge > 1000 || n.Missing > 1000:
		return fmt.Errorf("merge %d, missing %d periods: at most 1000", n.Merge, n.Missing)
	case n.MinEffect < 0 || math.IsNaN(n.MinEffect):
		return fmt.Errorf("smallest effect %g: must be 0 or more", n.MinEffect)
	}
	return r.Bounds.Check()
}

// Alert is one unbroken claim that a series is wrong. Times are Unix seconds.
type Alert struct {
	Cause        Cause
	Direction    Direction
	Severity     Severity
	Since        int64 // start of the first deviating period
	Raised       int64 // end of the period that opened it
	End          int64 // where the deviation ended, once closed
	Closed       int64 // end of the period that closed it; 0 while open
	Window       int   // periods of the window that told
	PeakAt       int64
	Peak         float64    // largest deviation in band half-widths
	Onset        Onset      // where it likely began, and how large it is
	Rang         Stretch    // that rang: from the onset until it was raised
	Worst        Stretch    // the worst so far, about as long
	Recent       Stretch    // the newest, while it lasts
	Total        Stretch    // since it was raised
	ReturnPeriod float64    // seconds, of the monitor as a whole
	Reason       string     // why it closed: recovered, level_adopted, changed
	Active       int64      // end of the last period that deviated
	Lost         float64    // of counts: most rows that were missing so far
	Strength     float64    // largest statistic over its limit
	Returns      int        // how often it has come back since, without being told
	Returned     int64      // when it last had
	Quiet        bool       // not told: what an alert told before comes back
	Evidence     Evidence   // so far
	Looks        []Evidence // as it was at the ages of Looks
}

// lost is how many rows were missing at most, so far.
func (a *Alert) lost() float64 { return max(a.Lost, a.Total.Expected-a.Total.Observed) }

// Change says what a step did to the series' alert.
type Change uint8

const (
	None Change = iota
	Opened
	Updated
	Reopened
	Closed
	Recurred // something told before came back and went, without being told
)

// Reading is what is said of one period.
type Reading struct {
	At           int64
	Observed     float64 // NaN if missing
	Rows         float64
	Expected     float64
	Low, High    float64
	Deviation    float64 // 0 as expected, ±1 at the band's edge
	ReturnPeriod float64 // seconds between values this unusual, of this series
	Masked       bool
	Change       Change
}
