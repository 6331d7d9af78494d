package timeline

import (
	"fmt"
	"math"
	"slices"
	"time"
)

// Recurrence is a happening that comes back: each day, week or month at the same
// time of the day.
type Recurrence struct {
	Rule   string        // as iCalendar's RRULE has it (RFC 5545)
	First  time.Time     // the first time that it was seen, local
	Length time.Duration // the middle one of those seen
	Seen   int           // how many times it was seen
	Due    int           // how many times it would have come since the first

	every step
}

// After gives the first time that it comes after an instant.
func (r Recurrence) After(at time.Time) time.Time {
	for n := 0; ; n++ {
		if next := r.every.on(r.First, n); next.After(at) && r.every.fits(r.First, next) {
			return next
		}
	}
}

const (
	recurTolerance = 2 * time.Hour
	recurSeen      = 3 // at least so often
)

var icalDays = [7]string{"SU", "MO", "TU", "WE", "TH", "FR", "SA"}

// Recur finds what comes back among happenings, in the zone whose clocks people
// plan by: those within two hours of the same time of the day on the same
// weekday, on the same day of the month, or each day, seen at least three times
// and at least every other time. Each happening counts once, for the rule that
// takes in most of them; the rule seen most often comes first.
func Recur(happenings []Span, zone *time.Location) []Recurrence {
	left := slices.Clone(happenings)
	slices.SortFunc(left, func(a, b Span) int { return int(a.From - b.From) })
	var found []Recurrence
	for {
		best, taken := Recurrence{}, []Span(nil)
		for _, seed := range left {
			start := time.Unix(seed.From, 0).In(zone)
			for _, every := range []step{daily, weekly, monthly} {
				if r, used := every.follow(left, start); len(used) > len(taken) {
					best, taken = r, used
				}
			}
		}
		if taken == nil {
			return found
		}
		found = append(found, best)
		left = slices.DeleteFunc(left, func(s Span) bool { return slices.Contains(taken, s) })
	}
}

// step goes to the day after a number of turns, and says so as a rule.
type step struct {
	on   func(first time.Time, n int) time.Time
	rule func(first time.Time) string

	sameDay bool // of the month
}

var (
	daily = step{
		on:   func(first time.Time, n int) time.Time { return first.AddDate(0, 0, n) },
		rule: func(time.Time) string { return "FREQ=DAILY" },
	}
	weekly = step{
		on:   func(first time.Time, n int) time.Time { return first.AddDate(0, 0, 7*n) },
		rule: func(first time.Time) string { return "FREQ=WEEKLY;BYDAY=" + icalDays[first.Weekday()] },
	}
	monthly = step{
		on:      func(first time.Time, n int) time.Time { return first.AddDate(0, n, 0) },
		rule:    func(first time.Time) string { return fmt.Sprintf("FREQ=MONTHLY;BYMONTHDAY=%d", first.Day()) },
		sameDay: true,
	}
)

// fits tells whether a turn comes at all: February has no 31st.
func (s step) fits(first, at time.Time) bool {
	return !s.sameDay || at.Day() == first.Day()
}

// follow takes the happenings that come at each turn from the first on.
func (s step) follow(happenings []Span, first time.Time) (Recurrence, []Span) {
	last := happenings[len(happenings)-1].From
	var used []Span
	var lengths []int64
	due := 0
	for n := 0; ; n++ {
		at := s.on(first, n)
		if at.Unix() > last+int64(recurTolerance.Seconds()) {
			break
		}
		i := slices.IndexFunc(happenings, func(x Span) bool {
			return math.Abs(float64(x.From-at.Unix())) <= recurTolerance.Seconds()
		})
		if i < 0 || !s.fits(first, at) {
			continue
		}
		used = append(used, happenings[i])
		lengths = append(lengths, happenings[i].To-happenings[i].From)
		due = n + 1
	}
	if len(used) < recurSeen || 2*len(used) < due {
		return Recurrence{}, nil
	}
	slices.Sort(lengths)
	return Recurrence{Rule: s.rule(first), First: first, Length: time.Duration(lengths[len(lengths)/2]) * time.Second,
		Seen: len(used), Due: due, every: s}, used
}
