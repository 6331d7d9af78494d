package record

import (
	"database/sql/driver"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"tinbell/core/baseline"
	"tinbell/core/detect"
	"tinbell/core/timeline"
)

// Settings of a monitor: its baseline and its alert rule.
type Settings struct {
	Method   string   `json:"method" enum:"seasonal,fixed,change,rolling,zscore,modified,fences,siblings,arrival" default:"seasonal" doc:"seasonal: level and weekly shape, learned; fixed: bounds; change: against an earlier period; rolling: the last periods; zscore, modified, fences: mean and standard deviation, median and MAD, quartiles of the history; siblings: the other segments; arrival: learned load times"`
	Low      *float64 `json:"low,omitempty" doc:"fixed: lowest value allowed"`
	High     *float64 `json:"high,omitempty" doc:"fixed: highest value allowed"`
	Against  string   `json:"against,omitempty" enum:"previous,day,week," doc:"change: the period before, the same time a day or a week ago"`
	Window   int      `json:"window,omitempty" minimum:"0" doc:"rolling, siblings: how many periods are remembered; 0: a week"`
	Robust   bool     `json:"robust,omitempty" doc:"rolling: median and MAD instead of mean and standard deviation"`
	Width    float64  `json:"width,omitempty" minimum:"0" doc:"simple methods: how many spreads away the band ends; 0: from the return period"`
	Coverage float64  `json:"coverage" default:"0.99" doc:"share of clean values inside the drawn band"`

	Direction         string   `json:"direction" enum:"low,high,both" default:"both"`
	WarnSeconds       int64    `json:"warn_seconds" default:"31536000" doc:"return period: by chance the monitor as a whole raises one alert in this time"`
	CriticalSeconds   int64    `json:"critical_seconds" default:"315360000"`
	Persist           int      `json:"persist" default:"1" doc:"m of n periods must alarm"`
	Of                int      `json:"of" default:"1"`
	MinEffect         float64  `json:"min_effect" default:"0" doc:"smallest absolute effect worth an alert, in units of the metric"`
	Smooth            int      `json:"smooth,omitempty" minimum:"0" maximum:"1440" doc:"periods that are smoothed before detection, up to a day of them; 0 or 1: none"`
	SmoothBy          string   `json:"smooth_by,omitempty" enum:"median,mean," doc:"a moving median, which single spikes pass unseen, or a moving mean; empty: median"`
	Sustained         string   `json:"sustained,omitempty" enum:"off,short,long," doc:"small shifts are looked for over the shortest windows, over up to 12 periods or over all lengths, up to three days; empty: long"`
	Spikes            bool     `json:"spikes,omitempty" doc:"one period alone may alarm"`
	Merge             int      `json:"merge,omitempty" doc:"alerts this many periods apart are one; 0: by the period's length, -1: never"`
	Missing           int      `json:"missing,omitempty" doc:"alarm after this many missing periods in a row; 0: as learned, -1: never"`
	StuckOff          bool     `json:"stuck_off,omitempty" doc:"do not tell of a value that repeats again and again"`
	SilenceOff        bool     `json:"silence_off,omitempty" doc:"do not tell of zeros where rows were due"`
	Lowest            *float64 `json:"lowest,omitempty" doc:"a value below rings at once, however usual it is; beside a learned band"`
	Highest           *float64 `json:"highest,omitempty" doc:"a value above rings at once"`
	Fall              float64  `json:"fall,omitempty" minimum:"0" maximum:"1" doc:"a value that lies more than this share below an earlier one rings at once; 0: none"`
	Rise              float64  `json:"rise,omitempty" minimum:"0" doc:"or above it"`
	Than              string   `json:"than,omitempty" enum:"previous,day,week," doc:"which one: the period before, the same time the day or the week before; empty: the day"`
	Quiet             Strings  `json:"quiet,omitempty" doc:"hours in the dataset's zone in which only critical alerts are told, as 'mon-fri 22:00-06:00'; the others when they end, if they still last"`
	AdoptAfterSeconds int64    `json:"adopt_after_seconds" default:"0" doc:"when an unanswered change becomes the new normal; 0: after three days, -1: never"`

	Segments []SegmentSettings `json:"segments,omitempty" doc:"what differs for some segments"`
}

// MethodArrival judges load times instead of values.
const MethodArrival = "arrival"

// methods are the baselines a monitor may have.
var methods = []string{"seasonal", "fixed", "change", "rolling", "zscore", "modified", "fences", "siblings", MethodArrival}

// DefaultSettings are those of a monitor nobody has touched.
func DefaultSettings() Settings {
	return Settings{Method: "seasonal", Coverage: 0.99, Direction: "both", Persist: 1, Of: 1,
		WarnSeconds: int64(detect.DefaultWarn / time.Second), CriticalSeconds: int64(detect.DefaultCritical / time.Second)}
}

func (s Settings) Value() (driver.Value, error) {
	b, err := json.Marshal(s)
	return string(b), err
}

func (s *Settings) Scan(v any) error { return scanJSON(v, s) }

// Rule is the alert rule of the settings for a monitor of that many series.
func (s Settings) Rule(series int) detect.Rule {
	direction := detect.Both
	switch s.Direction {
	case "low":
		direction = detect.Low
	case "high":
		direction = detect.High
	}
	sustained := detect.SustainedLong
	switch s.Sustained {
	case "short":
		sustained = detect.SustainedShort
	case "off":
		sustained = detect.SustainedOff
	}
	return detect.Rule{
		Direction: direction, Series: series, Persist: s.Persist, Of: s.Of, MinEffect: s.MinEffect,
		Warn: time.Duration(s.WarnSeconds) * time.Second, Critical: time.Duration(s.CriticalSeconds) * time.Second,
		AdoptAfter: time.Duration(s.AdoptAfterSeconds) * time.Second,
		Smooth:     s.Smooth, SmoothMean: s.SmoothBy == "mean", Spikes: s.Spikes, Sustained: sustained, Merge: s.Merge, Missing: s.Missing,
		StuckOff: s.StuckOff, SilenceOff: s.SilenceOff, BandOnly: s.Method == MethodArrival,
	}
}

// Baseline is the method of the settings on a grid of periods.
func (s Settings) Baseline(g timeline.Grid) baseline.Method {
	m := baseline.Method{Name: baseline.Name(s.Method), Low: math.Inf(-1), High: math.Inf(1), Robust: s.Robust, Width: s.Width,
		Window: s.Window}
	switch s.Method {
	case MethodArrival:
		m.Name = baseline.Seasonal
	case "fixed":
		if s.Low != nil {
			m.Low = *s.Low
		}
		if s.High != nil {
			m.High = *s.High
		}
	case "change":
		m.Lag = back(g, s.Against, "week")
	}
	switch {
	case m.Window > 0:
	case g.Long():
		m.Window = 12
	default:
		m.Window = 7 * g.PerDay()
	}
	return m
}

// back is how many periods back what is compared with lies; usual is what is meant where
// nothing is said. Of periods longer than a day it is the one before.
func back(g timeline.Grid, than, usual string) int {
	if than == "" {
		than = usual
	}
	switch {
	case than == "previous" || g.Long():
		return 1
	case than == "week":
		return 7 * g.PerDay()
	}
	return g.PerDay()
}

// checkBack refuses a comparison with a day or week before where periods are longer.
func checkBack(g timeline.Grid, field, than string) error {
	if g.Long() && than != "" && than != "previous" {
		return fmt.Errorf("%s %q: allowed is previous, since a period is longer than a day", field, than)
	}
	return nil
}

// Check refuses settings that cannot be followed on a grid.
func (s Settings) Check(g timeline.Grid) error {
	if !slices.Contains(methods, s.Method) {
		return fmt.Errorf("method %q: allowed are %s", s.Method, strings.Join(methods, ", "))
	}
	if !slices.Contains([]string{"low", "high", "both"}, s.Direction) {
		return fmt.Errorf("direction %q: allowed are low, high and both", s.Direction)
	}
	if !slices.Contains([]string{"", "previous", "day", "week"}, s.Against) {
		return fmt.Errorf("against %q: allowed are previous, day and week", s.Against)
	}
	if err := errors.Join(checkBack(g, "against", s.Against), checkBack(g, "than", s.Than)); err != nil {
		return err
	}
	if !slices.Contains([]string{"", "median", "mean"}, s.SmoothBy) {
		return fmt.Errorf("smooth_by %q: allowed are median and mean", s.SmoothBy)
	}
	if most := max(g.PerDay(), 9); s.Smooth < 0 || s.Smooth > most {
		return fmt.Errorf("smooth %d periods: allowed are 0 to %d, a day of them or 9", s.Smooth, most)
	}
	if !slices.Contains([]string{"", "off", "short", "long"}, s.Sustained) {
		return fmt.Errorf("sustained %q: allowed are off, short and long", s.Sustained)
	}
	if !slices.Contains([]string{"", "previous", "day", "week"}, s.Than) {
		return fmt.Errorf("than %q: allowed are previous, day and week", s.Than)
	}
	if s.Method == MethodArrival && (s.Lowest != nil || s.Highest != nil || s.Fall != 0 || s.Rise != 0) {
		return errors.New("lowest, highest, fall and rise bound values; the method arrival judges load times")
	}
	if s.Coverage < 0.5 || s.Coverage > 0.9999 {
		return fmt.Errorf("coverage %g: allowed are 0.5 to 0.9999", s.Coverage)
	}
	if s.Persist < 1 || s.Of < s.Persist {
		return fmt.Errorf("persist %d of %d: m must be at least 1 and at most n", s.Persist, s.Of)
	}
	if s.Method != "fixed" && (s.Low != nil || s.High != nil) {
		return fmt.Errorf("low and high are bounds of the method fixed, not of %s: lowest and highest bound any method", s.Method)
	}
	for _, hours := range s.Quiet {
		if _, err := timeline.ParseHours(hours); err != nil {
			return fmt.Errorf("quiet: %w", err)
		}
	}
	if err := s.Baseline(g).Check(); err != nil {
		return err
	}
	if err := s.bounds(g).Check(); err != nil {
		return err
	}
	if err := s.Rule(1).Check(); err != nil {
		return err
	}
	return s.checkSegments(g)
}
