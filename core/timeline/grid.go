// Package timeline holds what the rest of the core agrees on about time: the
// grid of periods a series lives on, the slot of the local week a period falls
// into, spans of time, and the samples themselves.
//
// It knows nothing of baselines or storage and imports the standard library
// only.
package timeline

import (
	"errors"
	"fmt"
	"time"
)

// Periods longer than a day follow the calendar: weeks begin on Monday (ISO 8601), months
// and years with their first day. Their lengths as durations are nominal; a month is told
// from thirty days by nothing, since no series has such a period.
const (
	day   = 24 * time.Hour
	Week  = 7 * day
	Month = 30 * day
	Year  = 365 * day
	// MinPeriod is the shortest period a series may have.
	MinPeriod = time.Minute
)

// ErrPeriod is wrapped by the error for a period the grid cannot hold.
var ErrPeriod = errors.New("period not supported")

// Grid is the ladder of periods of a series: parts of a day of the same length, local
// days, or weeks, months or years of the calendar. Sub-daily periods are aligned to the
// hour in UTC; all others run from local midnight to local midnight, so that a day lasts
// 23 or 25 hours when the clocks change, and a month 28 to 31 days.
type Grid struct {
	Period time.Duration
	Zone   *time.Location
}

// NewGrid checks that period divides a day and is at least a minute, or is a week, a
// month or a year.
func NewGrid(period time.Duration, zone *time.Location) (Grid, error) {
	if zone == nil {
		zone = time.UTC
	}
	calendar := period == Week || period == Month || period == Year
	if period < MinPeriod || !calendar && (period > day || day%period != 0) {
		return Grid{}, fmt.Errorf("%w: %s; allowed are 1m to 24h that divide a day evenly, such as 5m, 15m, 1h or 24h, "+
			"and a week (1w), a month (1mo) or a year (1y) of the calendar", ErrPeriod, period)
	}
	return Grid{Period: period, Zone: zone}, nil
}

// PerDay is the number of periods in a day of 24 hours, and 1 where they are longer.
func (g Grid) PerDay() int { return max(int(day/g.Period), 1) }

// Daily tells whether a period is a whole local day.
func (g Grid) Daily() bool { return g.Period == day }

// Dated tells whether a period is a day or longer, and so begins at local midnight.
func (g Grid) Dated() bool { return g.Period >= day }

// Long tells whether a period is longer than a day.
func (g Grid) Long() bool { return g.Period > day }

// Day is what a series counts as one day: 24 hours, or its period where that is longer.
// What is remembered of a daily series for so many days is remembered of a monthly one for
// as many months.
func (g Grid) Day() time.Duration { return max(g.Period, day) }

// Unit names what the grid counts in: day, or the period where it is longer.
func (g Grid) Unit() string {
	switch g.Period {
	case Week:
		return "week"
	case Month:
		return "month"
	case Year:
		return "year"
	}
	return "day"
}

// Floor gives the start of the period that t lies in.
func (g Grid) Floor(t time.Time) time.Time {
	if !g.Dated() {
		return t.UTC().Truncate(g.Period)
	}
	local := t.In(g.Zone)
	y, m, d := local.Date()
	switch g.Period {
	case Week:
		d -= (int(local.Weekday()) + 6) % 7
	case Month:
		d = 1
	case Year:
		m, d = time.January, 1
	}
	return time.Date(y, m, d, 0, 0, 0, 0, g.Zone).UTC()
}

// Next gives the start of the period after the one that starts at t, which is
// also the end of that period: the moment its sample can first be known.
func (g Grid) Next(t time.Time) time.Time { return g.Add(t, 1) }

// Add moves a period start by n periods.
func (g Grid) Add(t time.Time, n int) time.Time {
	if !g.Dated() {
		return t.Add(time.Duration(n) * g.Period).UTC()
	}
	y, m, d := t.In(g.Zone).Date()
	switch g.Period {
	case Week:
		d += 7 * n
	case Month:
		m += time.Month(n)
	case Year:
		y += n
	default:
		d += n
	}
	return time.Date(y, m, d, 0, 0, 0, 0, g.Zone).UTC()
}

// End gives the end of the period that starts at a Unix second; of days the same time of
// day, whatever the clocks do.
func (g Grid) End(at int64) int64 {
	if g.Long() {
		return g.Next(time.Unix(at, 0)).Unix()
	}
	return at + int64(g.Period/time.Second)
}

// Back gives the start of the period that lies n days of 24 hours before t, or as many
// periods of a series whose periods are longer.
func (g Grid) Back(t time.Time, n int) time.Time {
	if g.Long() {
		return g.Add(g.Floor(t), -n)
	}
	return g.Floor(t.AddDate(0, 0, -n))
}

// Slot says where in the local week a period starts; of periods longer than a day where
// in the year. Its fields are narrow: a fit copies one for every period of the history,
// several times.
type Slot struct {
	Date   int32   // yyyymmdd
	Length float32 // of the period, 1 as usual: 23 of 24 hours, 28 of 30 days
	Week   uint16  // 0 … 7·PerDay−1, Sunday first; of weeks and months 0 … 11, the month of the year
	Hour   uint16  // 0 … PerDay−1, the period of the day
	// YearDay is 0 on 1 January … 365, the same for a date in every year.
	YearDay uint16
	Day     uint8 // 0 Sunday … 6 Saturday
	Class   uint8 // 0 weekday, 1 weekend
	// MonthDay is 0 on an ordinary day, 1 on the first working day of a month,
	// 2, 3 and 4 on the last, last but one and last but two.
	MonthDay  uint8
	MonthDate uint8 // 1 … 31, the date within its month
}

// Cell numbers the period of the day and class, of perDay periods and two
// classes.
func (s *Slot) Cell(perDay int) int { return int(s.Class)*perDay + int(s.Hour) }

// YearDays is how many values YearDay takes.
const YearDays = 366

// Slots is how many values Week takes in a series of so many periods a day.
func Slots(perDay int) int { return max(7*perDay, 12) }

// yearDay numbers a date as in a leap year.
func yearDay(m time.Month, d int) int {
	return [...]int{0, 31, 60, 91, 121, 152, 182, 213, 244, 274, 305, 335}[m-1] + d - 1
}

// MonthDays is how many values MonthDay takes, MonthDates one more than MonthDate.
const (
	MonthDays  = 5
	MonthDates = 32
)

// monthDay settles what a date is to its month. weekday is 0 on Sundays.
func monthDay(y int, m time.Month, d, weekday int) int {
	working := func(offset int) bool { w := (weekday + 35 + offset) % 7; return w != 0 && w != 6 }
	if !working(0) || d > 3 && d < 20 {
		return 0
	}
	if d <= 3 {
		for back := 1; back < d; back++ {
			if working(-back) {
				return 0
			}
		}
		return 1
	}
	after := 0
	for left := time.Date(y, m+1, 0, 0, 0, 0, 0, time.UTC).Day() - d; left > 0; left-- {
		if working(left) {
			after++
		}
	}
	if after < 3 {
		return 2 + after
	}
	return 0
}

// Slotter turns times into slots. It keeps the zone's offset between clock
// changes and what a date says, so a call costs a few nanoseconds. Not safe for
// concurrent use.
type Slotter struct {
	grid     Grid
	perDay   int64
	from, to int64 // Unix seconds between which offset holds
	offset   int64
	days     int64 // since 1970, local: the date that is kept
	date     Slot  // of its midnight
}

// NewSlotter makes a slotter for the grid.
func NewSlotter(g Grid) *Slotter {
	return &Slotter{grid: g, perDay: int64(g.PerDay()), from: 1, to: 0, days: -1 << 62}
}

// At gives the slot of the period that starts at the Unix second.
func (s *Slotter) At(unix int64) Slot {
	if unix < s.from || unix >= s.to {
		s.readZone(unix)
	}
	local := unix + s.offset
	days := floorDiv(local, 86400)
	if days != s.days {
		s.readDate(days)
	}
	slot := s.date
	slot.Hour = uint16((local - days*86400) * s.perDay / 86400)
	slot.Week += slot.Hour
	if s.grid.Dated() {
		start := time.Unix(unix, 0)
		slot.Length = float32(float64(s.grid.Next(start).Sub(start)) / float64(s.grid.Period))
	}
	if s.grid.Long() {
		return Slot{Date: slot.Date, Length: slot.Length, YearDay: slot.YearDay, Week: s.season(slot.Date)}
	}
	return slot
}

// season is the month of the year of a period longer than a day, that of a week's Thursday.
func (s *Slotter) season(date int32) uint16 {
	y, m, d := int(date/10000), time.Month(date/100%100), int(date%100)
	switch s.grid.Period {
	case Year:
		return 0
	case Week:
		m = time.Date(y, m, d+3, 0, 0, 0, 0, time.UTC).Month()
	}
	return uint16(m - 1)
}

func (s *Slotter) readDate(days int64) {
	y, m, d := time.Unix(days*86400, 0).UTC().Date()
	weekday := int((days%7 + 11) % 7) // 1970-01-01 was a Thursday
	s.days = days
	s.date = Slot{
		Date: int32(y*10000 + int(m)*100 + d), Length: 1,
		Week: uint16(weekday * int(s.perDay)), Day: uint8(weekday),
		MonthDay: uint8(monthDay(y, m, d, weekday)), YearDay: uint16(yearDay(m, d)), MonthDate: uint8(d),
	}
	if weekday == 0 || weekday == 6 {
		s.date.Class = 1
	}
}

func (s *Slotter) readZone(unix int64) {
	t := time.Unix(unix, 0).In(s.grid.Zone)
	_, offset := t.Zone()
	s.offset, s.from, s.to = int64(offset), -1<<62, 1<<62
	start, end := t.ZoneBounds()
	if !start.IsZero() {
		s.from = start.Unix()
	}
	if !end.IsZero() {
		s.to = end.Unix()
	}
}

func floorDiv(a, b int64) int64 {
	q := a / b
	if a%b < 0 {
		q--
	}
	return q
}

// Earlier gives the earlier of two instants.
func Earlier(a, b time.Time) time.Time {
	if b.Before(a) {
		return b
	}
	return a
}

// Later gives the later of two instants.
func Later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}
