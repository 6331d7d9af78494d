package timeline

import (
	"errors"
	"fmt"
	"strings"
	"time"
)

// Hours is a stretch of the local week that comes back on some of its days:
// from a minute of the day to another, over midnight where the end is not later
// than the start. The zero value holds no time.
type Hours struct {
	days     [7]bool // on which it begins, Sunday first
	from, to int     // minutes of the day
}

var weekdays = [7]string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// ErrHours is wrapped by the errors of ParseHours.
var ErrHours = errors.New("no hours of the week: write days and times, as 'mon-fri 22:00-06:00', 'sat,sun 00:00-24:00' or '22:00-06:00'")

// ParseHours reads days and a span of times, as "mon-fri 22:00-06:00"; without
// days, every day.
func ParseHours(text string) (Hours, error) {
	fields := strings.Fields(strings.ToLower(text))
	var h Hours
	switch len(fields) {
	case 1:
		h.days = [7]bool{true, true, true, true, true, true, true}
	case 2:
		var err error
		if h.days, err = ParseDays(fields[0]); err != nil {
			return Hours{}, fmt.Errorf("%q: %w", text, ErrHours)
		}
		fields = fields[1:]
	default:
		return Hours{}, fmt.Errorf("%q: %w", text, ErrHours)
	}
	from, to, found := strings.Cut(fields[0], "-")
	var ok [2]bool
	h.from, ok[0] = minute(from)
	h.to, ok[1] = minute(to)
	if !found || !ok[0] || !ok[1] || h.from == 24*60 {
		return Hours{}, fmt.Errorf("%q: %w", text, ErrHours)
	}
	return h, nil
}

// ParseDays reads days of the week, Sunday first: "mon-fri", "sat,sun".
func ParseDays(text string) (days [7]bool, err error) {
	for _, part := range strings.Split(strings.ToLower(text), ",") {
		first, last, isRange := strings.Cut(part, "-")
		if !isRange {
			last = first
		}
		a, b := weekday(first), weekday(last)
		if a < 0 || b < 0 {
			return days, fmt.Errorf("%q names no days: write mon, tue, wed, thu, fri, sat, sun, as 'mon-fri' or 'sat,sun'", text)
		}
		for d := a; ; d = (d + 1) % 7 {
			days[d] = true
			if d == b {
				break
			}
		}
	}
	return days, nil
}

func weekday(name string) int {
	for i, w := range weekdays {
		if w == name {
			return i
		}
	}
	return -1
}

// ParseMinute reads a time of day, 00:00 to 24:00, as minutes.
func ParseMinute(text string) (int, error) {
	m, ok := minute(text)
	if !ok {
		return 0, fmt.Errorf("%q is no time of day: write 06:30", text)
	}
	return m, nil
}

func minute(text string) (int, bool) {
	if text == "24:00" {
		return 24 * 60, true
	}
	t, err := time.Parse("15:04", text)
	return t.Hour()*60 + t.Minute(), err == nil
}

// Holds tells whether a local time lies in the hours.
func (h Hours) Holds(local time.Time) bool { return !h.End(local).IsZero() }

// End gives when the stretch that a local time lies in is over; zero if it lies
// in none. On the days when clocks change it ends by the clock on the wall.
func (h Hours) End(local time.Time) time.Time {
	y, m, d := local.Date()
	for back := range 2 {
		begin := time.Date(y, m, d-back, h.from/60, h.from%60, 0, 0, local.Location())
		if !h.days[time.Date(y, m, d-back, 12, 0, 0, 0, local.Location()).Weekday()] {
			continue
		}
		over := 0
		if h.to <= h.from {
			over = 1
		}
		end := time.Date(y, m, d-back+over, h.to/60, h.to%60, 0, 0, local.Location())
		if !local.Before(begin) && local.Before(end) {
			return end
		}
	}
	return time.Time{}
}

// QuietUntil gives when a local time is out of all the hours, following one
// stretch into the next; the time itself if it lies in none. Hours that never
// end are followed for eight days.
func QuietUntil(hours []Hours, local time.Time) time.Time {
	at := local
	for at.Sub(local) < 8*day {
		moved := false
		for _, h := range hours {
			if end := h.End(at); !end.IsZero() {
				at, moved = end, true
			}
		}
		if !moved {
			break
		}
	}
	return at
}
