package record

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"tinbell/core/detect"
	"tinbell/core/timeline"
)

// SegmentSettings are what differs for some segments from the settings of their
// monitor. What is left out is the monitor's.
type SegmentSettings struct {
	Segment         string   `json:"segment" minLength:"1" doc:"a segment, or a pattern of segments in which * stands for any characters; of several that fit, the later goes before the earlier"`
	Direction       string   `json:"direction,omitempty" enum:"low,high,both,"`
	WarnSeconds     int64    `json:"warn_seconds,omitempty" minimum:"0" doc:"return period of each of these segments by itself: by chance it raises one alert in this time"`
	CriticalSeconds int64    `json:"critical_seconds,omitempty" minimum:"0"`
	Persist         int      `json:"persist,omitempty" minimum:"0"`
	Of              int      `json:"of,omitempty" minimum:"0"`
	MinEffect       *float64 `json:"min_effect,omitempty"`
	Smooth          *int     `json:"smooth,omitempty"`
	SmoothBy        string   `json:"smooth_by,omitempty" enum:"median,mean,"`
	Sustained       string   `json:"sustained,omitempty" enum:"off,short,long,"`
	Spikes          *bool    `json:"spikes,omitempty"`
	Missing         *int     `json:"missing,omitempty"`
	StuckOff        *bool    `json:"stuck_off,omitempty"`
	SilenceOff      *bool    `json:"silence_off,omitempty"`
	Lowest          *float64 `json:"lowest,omitempty"`
	Highest         *float64 `json:"highest,omitempty"`
	Fall            *float64 `json:"fall,omitempty"`
	Rise            *float64 `json:"rise,omitempty"`
	Muted           bool     `json:"muted,omitempty" doc:"it has a band and never an alert"`
	Owner           string   `json:"owner,omitempty" doc:"of its alerts"`
	Note            string   `json:"note,omitempty" doc:"why"`
}

// fits tells whether a segment is meant.
func (v SegmentSettings) fits(segment string) bool {
	parts := strings.Split(v.Segment, "*")
	rest, begins := strings.CutPrefix(segment, parts[0])
	if !begins {
		return false
	}
	if len(parts) == 1 {
		return rest == ""
	}
	last := len(parts) - 1
	for _, part := range parts[1:last] {
		i := strings.Index(rest, part)
		if i < 0 {
			return false
		}
		rest = rest[i+len(part):]
	}
	return strings.HasSuffix(rest, parts[last])
}

// Own are the settings of one segment, and what only segments have.
type Own struct {
	Settings
	Muted bool
	Owner string
	alone bool // its return period is its own
}

// set takes a value over where there is one.
func set[T any](into *T, from *T) {
	if from != nil {
		*into = *from
	}
}

// some is a value that is not left out.
func some[T comparable](v T) *T {
	var zero T
	if v == zero {
		return nil
	}
	return &v
}

// For gives the settings of a segment.
func (s Settings) For(segment string) Own {
	own := Own{Settings: s}
	own.Segments = nil
	for _, v := range s.Segments {
		if !v.fits(segment) {
			continue
		}
		set(&own.Direction, some(v.Direction))
		set(&own.WarnSeconds, some(v.WarnSeconds))
		set(&own.CriticalSeconds, some(v.CriticalSeconds))
		set(&own.Persist, some(v.Persist))
		set(&own.Settings.Of, some(v.Of))
		set(&own.MinEffect, v.MinEffect)
		set(&own.Smooth, v.Smooth)
		set(&own.SmoothBy, some(v.SmoothBy))
		set(&own.Sustained, some(v.Sustained))
		set(&own.Spikes, v.Spikes)
		set(&own.Missing, v.Missing)
		set(&own.StuckOff, v.StuckOff)
		set(&own.SilenceOff, v.SilenceOff)
		set(&own.Lowest, some(v.Lowest))
		set(&own.Highest, some(v.Highest))
		set(&own.Fall, v.Fall)
		set(&own.Rise, v.Rise)
		own.Muted = v.Muted
		set(&own.Owner, some(v.Owner))
		own.alone = own.alone || v.WarnSeconds > 0
	}
	if own.alone {
		own.CriticalSeconds = max(own.CriticalSeconds, own.WarnSeconds)
	}
	own.Settings.Of = max(own.Settings.Of, own.Persist)
	return own
}

// Rule is the alert rule of the settings for a segment of so many on a grid.
func (o Own) Rule(g timeline.Grid, series int) detect.Rule {
	if o.alone {
		series = 1
	}
	rule := o.Settings.Rule(series)
	rule.BandOnly = rule.BandOnly || o.Muted
	rule.Bounds = o.bounds(g)
	return rule
}

// bounds are the bounds of the settings on a grid.
func (s Settings) bounds(g timeline.Grid) detect.Bounds {
	return detect.Bounds{Lowest: s.Lowest, Highest: s.Highest, Fall: s.Fall, Rise: s.Rise, Back: back(g, s.Than, "day")}
}

// RuleOf is the alert rule in force for one segment of so many: its settings, and what
// keeps the monitor to the stated budget.
func (m Monitor) RuleOf(segment string, g timeline.Grid, series int) detect.Rule {
	return m.Budget.Keep(m.Settings.For(segment).Rule(g, series))
}

// ArrivalRule is the rule in force for the loads of a dataset.
func (m Monitor) ArrivalRule() detect.Rule { return m.Budget.Keep(m.Settings.Rule(1)) }

// WithSegment gives the settings with those of a segment put in the place of what it
// had, or taken away.
func (s Settings) WithSegment(v SegmentSettings, gone bool) Settings {
	s.Segments = slices.DeleteFunc(slices.Clone(s.Segments), func(old SegmentSettings) bool { return old.Segment == v.Segment })
	if !gone {
		s.Segments = append(s.Segments, v)
	}
	return s
}

// Segmented tells of a segment or pattern whether it has settings.
func (s Settings) Segmented(segment string) bool {
	return slices.ContainsFunc(s.Segments, func(v SegmentSettings) bool { return v.Segment == segment })
}

// checkSegments refuses segment settings that cannot be followed.
func (s Settings) checkSegments(g timeline.Grid) error {
	seen := map[string]bool{}
	for _, v := range s.Segments {
		switch {
		case strings.TrimSpace(v.Segment) == "":
			return fmt.Errorf("segments: one has no segment; * stands for any characters")
		case seen[v.Segment]:
			return fmt.Errorf("segments: %q is there twice", v.Segment)
		case v.WarnSeconds != 0 && v.WarnSeconds < int64(24*time.Hour/time.Second):
			return fmt.Errorf("segment %q: a return period is at least 1d", v.Segment)
		}
		seen[v.Segment] = true
		one := s
		one.Segments = []SegmentSettings{v}
		own := one.For(v.sample())
		if err := own.Settings.Check(g); err != nil {
			return fmt.Errorf("segment %q: %w", v.Segment, err)
		}
	}
	return nil
}

// sample is a segment that the pattern fits.
func (v SegmentSettings) sample() string { return strings.ReplaceAll(v.Segment, "*", "") }
