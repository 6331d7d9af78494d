package cli

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"tinbell/internal/collect"
	"tinbell/internal/improve"
	"tinbell/internal/record"
)

// local writes a time in a dataset's zone.
func local(t time.Time, zone string) string {
	if z, err := time.LoadLocation(zone); err == nil {
		t = t.In(z)
	}
	return t.Format("2 Jan 15:04")
}

func optional(t *time.Time, zone, otherwise string) string {
	if t == nil {
		return otherwise
	}
	return local(*t, zone)
}

// figure writes an estimate with its interval.
func figure(f improve.Figure, digits int) string {
	if f.Estimate == nil {
		return "–"
	}
	text := fmt.Sprintf("%.*f", digits, *f.Estimate)
	if f.Low != nil && f.High != nil {
		text += fmt.Sprintf(" (%.*f–%.*f)", digits, *f.Low, digits, *f.High)
	}
	return text
}

func delay(f improve.Figure) string {
	if f.Estimate == nil {
		return "–"
	}
	return long(time.Duration(*f.Estimate) * time.Second)
}

// long writes a duration with its two largest units.
func long(d time.Duration) string {
	switch {
	case d < 2*time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	case d < 2*time.Hour:
		return fmt.Sprintf("%.0f min", d.Minutes())
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h %02d min", int(d.Hours()), int(d.Minutes())%60)
	case d < 90*24*time.Hour:
		return fmt.Sprintf("%.0f d", d.Hours()/24)
	}
	return strconv.FormatFloat(math.Round(d.Hours()/24/36.5)/10, 'f', -1, 64) + " y"
}

// rare says a return period in words.
func rare(seconds float64) string {
	d := time.Duration(min(seconds, 9e9)) * time.Second
	switch days := d.Hours() / 24; {
	case days < 2:
		return "about once in " + long(d)
	case days < 730:
		return fmt.Sprintf("about once in %.0f days", days)
	default:
		return fmt.Sprintf("about once in %.0f years", days/365)
	}
}

func amount(v *float64) string {
	if v == nil {
		return "–"
	}
	return thousands(*v)
}

func thousands(v float64) string {
	digits := fmt.Sprintf("%.0f", math.Abs(v))
	for i := len(digits) - 3; i > 0; i -= 3 {
		digits = digits[:i] + "," + digits[i:]
	}
	if v < 0 {
		return "−" + digits
	}
	return digits
}

// verdict writes the label in force.
func verdict(a record.Alert) string {
	switch {
	case a.Verdict != "":
		return a.Verdict
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
