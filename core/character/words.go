package character

import (
	"fmt"
	"strings"
	"time"
)

func (c *Character) say(format string, args ...any) {
	c.Sentences = append(c.Sentences, fmt.Sprintf(format, args...))
}

// oftenOf says a share as people do: "1 of 20", "9 of 10".
func oftenOf(share float64) string {
	switch rare := 1 / max(min(share, 1-share), 1e-9); {
	case share > 0.995:
		return "nearly all"
	case share > 0.9:
		return fmt.Sprintf("%.0f of %.0f", rare-1, rare)
	case share > 0.2:
		return fmt.Sprintf("%.0f of 10", share*10)
	default:
		return fmt.Sprintf("1 of %.0f", rare)
	}
}

func capital(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

func daysOf(days float64) string {
	if days < 1.5 {
		return "a day"
	}
	return fmt.Sprintf("%.0f days", days)
}

func hoursOf(hours float64) string {
	if hours > 48 {
		return fmt.Sprintf("%.3g days", hours/24)
	}
	return fmt.Sprintf("%.3g hours", hours)
}

func timesOf(ratio float64) string {
	if ratio > 100 {
		return "next to nothing then"
	}
	return fmt.Sprintf("%.2g times as high", ratio)
}

func partOf(r float64) string {
	switch {
	case r < 0.6 && r > 0.4:
		return "half as much"
	case r < 1:
		return fmt.Sprintf("%.0f %% as much", 100*r)
	}
	return fmt.Sprintf("%.2g times as much", r)
}

func weekdays(days []time.Weekday) string {
	names := make([]string, len(days))
	for i, d := range days {
		names[i] = d.String() + "s"
	}
	// Sunday is the first of time's and the last of people's.
	if n := len(names); days[0] == time.Sunday && days[n-1] == time.Saturday {
		names = append(names[1:], names[0])
	}
	return listOf(names)
}

// listOf says one or more: a, b and c.
func listOf(names []string) string {
	last := len(names) - 1
	if last == 0 {
		return names[0]
	}
	return strings.Join(names[:last], ", ") + " and " + names[last]
}

func closedOn(days []time.Weekday, skipped int) string {
	switch {
	case len(days) == 0 && skipped == 0:
		return ""
	case len(days) == 0 && skipped == 1:
		return ", closed on one day"
	case len(days) == 0:
		return fmt.Sprintf(", closed on %d days", skipped)
	}
	return ", closed on " + weekdays(days) + alsoSkipped(skipped)
}

func alsoSkipped(n int) string {
	switch n {
	case 0:
		return ""
	case 1:
		return " and on one other day"
	}
	return fmt.Sprintf(" and on %d other days", n)
}

func (b *Batches) words() string {
	often := fmt.Sprintf("about %.0f a week", b.PerWeek)
	night := b.From != b.To && (b.From >= 20 || b.From < 6) && b.To <= 7
	switch {
	case b.PerWeek > 10:
		often = fmt.Sprintf("about %.0f a day", b.PerWeek/7)
	case b.PerWeek > 6.3:
		often = "about one a day"
		if night {
			often = "about every night"
		}
	case b.PerWeek < 0.8:
		often = fmt.Sprintf("about one in %.0f days", 7/b.PerWeek)
	case b.PerWeek < 1.5:
		often = "about one a week"
	case night:
		often = fmt.Sprintf("about %.0f nights a week", b.PerWeek)
	}
	if b.From == b.To {
		return often + ", at any hour"
	}
	return fmt.Sprintf("%s, mostly begun between %d and %d", often, b.From, b.To)
}
