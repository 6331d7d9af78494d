package arrival

import (
	"fmt"
	"sort"
	"time"
)

// Promise is a delivery that was promised: at least so much between two times
// of the day, on some days of the week. To may lie past midnight.
type Promise struct {
	AtLeast  float64
	Days     [7]bool // Sunday first
	From, To int     // minutes of the local day; To after From, at most a day later
	Zone     *time.Location
	Off      func(day time.Time) bool // days on which nothing is due, by their local midnight; nil: none
}

// Check refuses promises that cannot be kept or broken.
func (p Promise) Check() error {
	switch {
	case !(p.AtLeast > 0):
		return fmt.Errorf("at least %g: must be more than 0", p.AtLeast)
	case p.From < 0 || p.From >= 24*60 || p.To <= p.From || p.To > p.From+24*60:
		return fmt.Errorf("window from minute %d to %d: it must begin within the day, end after it begins and last a day at most",
			p.From, p.To)
	case p.Days == [7]bool{}:
		return fmt.Errorf("no day of the week is chosen")
	}
	return nil
}

// Delivered is an amount that came at an instant, Unix seconds.
type Delivered struct {
	At     int64
	Amount float64
}

// Standing says how a promise stands.
type Standing string

const (
	Idle   Standing = "not due" // nothing is due on this day
	OnPace Standing = "on pace"
	Behind Standing = "behind"
	Met    Standing = "met"
	Missed Standing = "missed"
)

// Pace is how the promise of one day stands.
type Pace struct {
	Day         time.Time // local midnight
	From, To    int64     // the window, Unix seconds
	Standing    Standing
	Have        float64
	MetAt       int64   // 0 while it is not met
	Probability float64 // of meeting it; 1 once met, 0 once missed
	Days        int     // comparable days that the probability was learned from
}

const (
	paceMemory   = 8 * 7 // days that the rest of a day is learned from
	paceEnough   = 10    // comparable days of the same weekday class
	paceDoubtful = 0.5   // less likely than this is behind
)

// window gives the window that begins on a local day, in Unix seconds.
func (p Promise) window(day time.Time) (from, to int64) {
	y, m, d := day.Date()
	at := func(minute int) int64 {
		return time.Date(y, m, d+minute/(24*60), minute%(24*60)/60, minute%60, 0, 0, p.Zone).Unix()
	}
	return at(p.From), at(p.To)
}

// due tells whether something is promised for a local day.
func (p Promise) due(day time.Time) bool {
	return p.Days[day.Weekday()] && (p.Off == nil || !p.Off(day))
}

// Now gives how the promise stands at an instant: of the window that is open, or
// of the last one that was. Deliveries are ascending and hold the past that the
// pace is learned from. Within lead of the window's end, a promise less likely
// than not to be met is behind; before that it is on pace.
//
// The rest of a day is what came from this time of the day on, on comparable
// days of the last eight weeks, scaled by how today compares with them so far;
// that ratio is drawn towards 1 by a quarter of what is usual in a day.
func (p Promise) Now(now int64, lead time.Duration, deliveries []Delivered) Pace {
	local := time.Unix(now, 0).In(p.Zone)
	today := midnight(local)
	for back := range 8 {
		day := today.AddDate(0, 0, -back)
		if from, _ := p.window(day); from <= now && p.due(day) {
			return p.judge(day, now, lead, deliveries)
		}
	}
	from, to := p.window(today)
	return Pace{Day: today, From: from, To: to, Standing: Idle, Probability: 1}
}

// Past gives how the promise stood at the end of each window that began from one
// instant and ended by another, oldest first.
func (p Promise) Past(from, to int64, deliveries []Delivered) []Pace {
	var list []Pace
	for day := midnight(time.Unix(from, 0).In(p.Zone)); day.Unix() < to; day = day.AddDate(0, 0, 1) {
		if begin, end := p.window(day); begin >= from && end <= to && p.due(day) {
			list = append(list, p.judge(day, end, 0, deliveries))
		}
	}
	return list
}

// Next gives the window that is open or comes next after an instant; ok is false
// where none comes within a fortnight.
func (p Promise) Next(now int64) (from, to int64, ok bool) {
	today := midnight(time.Unix(now, 0).In(p.Zone))
	for ahead := -1; ahead < 15; ahead++ {
		day := today.AddDate(0, 0, ahead)
		if from, to = p.window(day); to > now && p.due(day) {
			return from, to, true
		}
	}
	return 0, 0, false
}

func (p Promise) judge(day time.Time, now int64, lead time.Duration, deliveries []Delivered) Pace {
	from, to := p.window(day)
	v := Pace{Day: day, From: from, To: to, Standing: OnPace, Probability: 1}
	for _, d := range between(deliveries, from, min(now+1, to)) {
		v.Have += d.Amount
		if v.Have >= p.AtLeast && v.MetAt == 0 {
			v.MetAt = d.At
		}
	}
	switch {
	case v.MetAt != 0:
		v.Standing = Met
	case now >= to:
		v.Standing, v.Probability = Missed, 0
	default:
		v.Probability, v.Days = p.probability(day, now-from, v.Have, deliveries)
		if v.Days > 0 && v.Probability < paceDoubtful && to-now <= int64(lead.Seconds()) {
			v.Standing = Behind
		}
	}
	return v
}

// probability of meeting the promise when so much of the window is over. Without
// a comparable day it is 1: nothing speaks against it.
func (p Promise) probability(day time.Time, gone int64, have float64, deliveries []Delivered) (float64, int) {
	type past struct {
		before, after float64
		alike         bool
	}
	var all []past
	alike := 0
	for back := 1; back <= paceMemory; back++ {
		other := day.AddDate(0, 0, -back)
		from, to := p.window(other)
		if len(deliveries) == 0 || from < deliveries[0].At-86400 || !p.due(other) {
			continue
		}
		d := past{alike: weekend(other) == weekend(day)}
		for _, x := range between(deliveries, from, to) {
			if x.At <= from+gone {
				d.before += x.Amount
			} else {
				d.after += x.Amount
			}
		}
		if d.alike {
			alike++
		}
		all = append(all, d)
	}
	if alike >= paceEnough {
		kept := all[:0]
		for _, d := range all {
			if d.alike {
				kept = append(kept, d)
			}
		}
		all = kept
	}
	n := float64(len(all))
	if n == 0 {
		return 1, 0
	}
	soFar, total := 0.0, 0.0
	for _, d := range all {
		soFar, total = soFar+d.before/n, total+(d.before+d.after)/n
	}
	pace := 1.0
	if prior := total / 4; prior > 0 {
		pace = (have + prior) / (soFar + prior)
	}
	kept := 0.0
	for _, d := range all {
		if have+d.after*pace >= p.AtLeast {
			kept++
		}
	}
	return (kept + 1) / (n + 2), len(all)
}

func weekend(day time.Time) bool {
	return day.Weekday() == time.Saturday || day.Weekday() == time.Sunday
}

// between gives the deliveries in [from, to).
func between(deliveries []Delivered, from, to int64) []Delivered {
	a := sort.Search(len(deliveries), func(i int) bool { return deliveries[i].At >= from })
	b := sort.Search(len(deliveries), func(i int) bool { return deliveries[i].At >= to })
	return deliveries[a:max(a, b)]
}
