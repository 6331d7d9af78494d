package cli

import (
	"fmt"
	"strings"
	"time"

	"tinbell/internal/collect"
	"tinbell/internal/record"
	"tinbell/internal/scorecard"
	"tinbell/internal/words"
)

// local writes a time in a dataset's zone, or in the one that was asked for.
func (a *app) local(t time.Time, zone string) string {
	zone = or(a.zone, zone)
	if z, err := time.LoadLocation(zone); err == nil {
		t = t.In(z)
	}
	return t.Format("2 Jan 15:04 MST")
}

// dated is local where a period of so many seconds begins; of one longer than a day the
// date with its year, since such series go back for years.
func (a *app) dated(t time.Time, zone string, period int64) string {
	if time.Duration(period)*time.Second <= 24*time.Hour {
		return a.local(t, zone)
	}
	if z, err := time.LoadLocation(or(a.zone, zone)); err == nil {
		t = t.In(z)
	}
	return t.Format("2 Jan 2006")
}

func (a *app) optional(t *time.Time, zone, otherwise string) string {
	if t == nil {
		return otherwise
	}
	return a.local(*t, zone)
}

// figure writes an estimate with its interval.
func figure(f scorecard.Figure, digits int) string {
	if f.Estimate == nil {
		return "–"
	}
	text := fmt.Sprintf("%.*f", digits, *f.Estimate)
	if f.Low != nil && f.High != nil {
		text += fmt.Sprintf(" (%.*f–%.*f)", digits, *f.Low, digits, *f.High)
	}
	return text
}

func delay(f scorecard.Figure) string {
	if f.Estimate == nil {
		return "–"
	}
	return words.Seconds(*f.Estimate)
}

// achieved writes how often a monitor has cried wolf, with its 95 % interval.
func achieved(a scorecard.Achieved) string {
	switch {
	case a.Shortest == nil:
		return "–"
	case a.Seconds == nil:
		return "none; 1 in over " + words.Seconds(*a.Shortest)
	}
	return fmt.Sprintf("1 in %s (%s–%s)", words.Seconds(*a.Seconds), words.Seconds(*a.Shortest), words.Seconds(*a.Longest))
}

// atWorst writes how often it would have cried wolf if what nobody labelled were noise.
func atWorst(a scorecard.Achieved) string {
	if a.Least == nil {
		return "–"
	}
	return "1 in " + words.Seconds(*a.Least)
}

// rare says a return period in words.
func rare(seconds float64) string {
	if seconds == 0 {
		return "–" // nothing was measured that could be rare
	}
	return words.Rare(seconds)
}

func amount(v *float64) string {
	if v == nil {
		return "–"
	}
	return words.Number(*v)
}

// verdict writes the label in force.
func verdict(a record.Alert) string {
	switch {
	case a.Verdict != "":
		return string(a.Verdict)
	case a.ClosedAt == nil:
		return "open"
	}
	return "unlabelled"
}

// ago reads a time as people give it: RFC 3339, or how long ago (60d).
func ago(text string, now time.Time) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if at, err := time.Parse(time.RFC3339, text); err == nil {
		return at, nil
	}
	d, err := collect.ParsePeriod(text)
	if err != nil {
		return time.Time{}, wrongUsage{fmt.Errorf("%q is neither a time (2026-06-18T09:00:00Z) nor how long ago (60d)", text)}
	}
	return now.Add(-d), nil
}

func seconds(text string) (int64, error) {
	d, err := collect.ParsePeriod(text)
	if err != nil {
		return 0, wrongUsage{err}
	}
	return int64(d.Seconds()), nil
}

func orNone(s string) string {
	if strings.TrimSpace(s) == "" {
		return "–"
	}
	return s
}
