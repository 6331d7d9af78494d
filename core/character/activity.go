package character

import (
	"fmt"
	"math"
	"slices"
	"time"

	"tinbell/core/robust"
	"tinbell/core/timeline"
)

// still tells whether the values hardly ever change, and how often they did.
func (s *series) still() (changes int, is bool) {
	last, n := math.NaN(), 0
	for i := range s.periods {
		if p := &s.periods[i]; p.came {
			if n > 0 && p.value != last {
				changes++
			}
			last, n = p.value, n+1
		}
	}
	return changes, n >= 10 && last != 0 && changes*10 < n && s.Kind != timeline.Share
}

// describeActivity says when anything comes at all.
func (s *series) describeActivity(c *Character) {
	idle := 1 - c.Active
	switch {
	case c.Active == 0:
		c.say("Nothing has come in %d days.", s.days)
		return
	case idle < 0.01:
		return
	case s.Daily() && s.Kind == timeline.Count:
		s.sayDays(c)
		return
	case s.Daily():
		c.say("%s days never come.", capital(oftenOf(idle)))
		return
	}
	if from, to, is := s.openHours(); is {
		closed, skipped := s.closedDays()
		c.Open = &Open{From: from, To: to, Closed: closed, Skipped: skipped}
		c.say("Open from %d to %d%s.", from, to, closedOn(closed, skipped))
		return
	}
	if c.Batches = s.batches(); c.Batches != nil {
		c.say("Comes in batches, %s.", c.Batches.words())
		return
	}
	when := ""
	if from, to, is := s.idleHours(); is {
		when = fmt.Sprintf(", mostly between %d and %d", from, to)
	}
	switch {
	case s.Kind != timeline.Count:
		c.say("%s periods never come%s.", capital(oftenOf(idle)), when)
	case idle > 0.5:
		c.say("Comes now and then: nothing in %s periods, else about %.3g.", oftenOf(idle), robust.Quantile(s.values(), 0.5))
	default:
		c.say("Nothing comes in %s periods%s.", oftenOf(idle), when)
	}
}

// idleHours are the fewest hours in a row, at most eight, in which four in five empty periods lie.
func (s *series) idleHours() (from, to int, is bool) {
	var idle [24]float64
	all := 0.0
	for i := range s.periods {
		if p := &s.periods[i]; !p.away && !p.active {
			idle[p.hour]++
			all++
		}
	}
	for long := 1; long <= 8; long++ {
		most := 0.0
		for h := range 24 {
			sum := 0.0
			for k := range long {
				sum += idle[(h+k)%24]
			}
			if sum > most {
				most, from = sum, h
			}
		}
		if most >= 0.8*all {
			return from, (from+long-1)%24 + 1, true
		}
	}
	return 0, 0, false
}

// closedDays are the days of the week on which nothing comes, and how many other days had
// nothing.
func (s *series) closedDays() (closed []time.Weekday, skipped int) {
	busy, away, of := make([]bool, s.days), make([]bool, s.days), make([]int, s.days)
	away[0], away[s.days-1] = !s.whole(0), !s.whole(len(s.periods)-1)
	for i := range s.periods {
		p := &s.periods[i]
		busy[p.date], away[p.date], of[p.date] = busy[p.date] || p.active, away[p.date] || p.away, p.day
	}
	var days, active [7]int
	for d, b := range busy {
		if away[d] {
			continue
		}
		days[of[d]]++
		if b {
			active[of[d]]++
		}
	}
	closed = []time.Weekday{}
	for d := range 7 {
		if days[d] >= 2 && active[d]*10 <= days[d] {
			closed = append(closed, time.Weekday(d))
		}
	}
	for d, b := range busy {
		if !b && !away[d] && !slices.Contains(closed, time.Weekday(of[d])) {
			skipped++
		}
	}
	return closed, skipped
}

// whole tells whether all of the day that a period at an end lies in was seen, but for the hour that
// a change of clocks takes.
func (s *series) whole(at int) bool {
	n := 0
	for i := range s.periods {
		if s.periods[i].date == s.periods[at].date {
			n++
		}
	}
	return n*25 >= 23*s.PerDay()
}

func (s *series) units() string {
	if s.Dated() {
		return s.Unit() + "s"
	}
	return "periods"
}

func (s *series) sayDays(c *Character) {
	closed, skipped := s.closedDays()
	switch {
	case len(closed) > 0:
		c.say("Nothing comes on %s%s.", weekdays(closed), alsoSkipped(skipped))
	case skipped > 0:
		c.say("On %s days nothing comes.", oftenOf(float64(skipped)/float64(s.days)))
	}
}

// openHours are the hours of a day outside of which next to nothing comes and inside of which
// nearly always something does, over days with anything.
func (s *series) openHours() (from, to int, is bool) {
	busy := make([]bool, s.days)
	for i := range s.periods {
		busy[s.periods[i].date] = busy[s.periods[i].date] || s.periods[i].active
	}
	var n, active [24]float64
	for i := range s.periods {
		if p := &s.periods[i]; busy[p.date] && !p.away {
			n[p.hour]++
			if p.active {
				active[p.hour]++
			}
		}
	}
	open := func(h int) bool { h = (h + 24) % 24; return n[h] > 0 && active[h] >= 0.5*n[h] }
	runs, hours := 0, 0
	for h := range 24 {
		if open(h) {
			hours++
			if !open(h - 1) {
				runs, from = runs+1, h
			}
		}
	}
	if runs != 1 || hours < 3 || hours > 21 {
		return 0, 0, false
	}
	var inside, outside [2]float64
	for h := range 24 {
		sum := &outside
		if open(h) {
			sum = &inside
		}
		sum[0], sum[1] = sum[0]+active[h], sum[1]+n[h]
	}
	to = (from+hours-1)%24 + 1
	return from, to, inside[0] >= 0.8*inside[1] && outside[0] <= 0.1*outside[1]
}

// batches are bursts of activity with waits between that are several times as long; nil where
// there are none.
func (s *series) batches() *Batches {
	var begins []float64 // hours of the day
	var lengths, waits []float64
	idle, length := 0, 0
	quiet := max(2, s.PerDay()/12) // two hours end a batch
	for i := range s.periods {
		p := &s.periods[i]
		if !p.active {
			idle++
			continue
		}
		if idle >= quiet || len(begins) == 0 {
			if len(begins) > 0 {
				waits, lengths = append(waits, float64(idle)), append(lengths, float64(length))
			}
			begins, length = append(begins, float64(p.hour)), 0
		}
		length, idle = length+1, 0
	}
	if len(waits) < 5 || robust.Quantile(waits, 0.5) < 3*robust.Quantile(lengths, 0.5) ||
		robust.Quantile(waits, 0.5) < float64(s.PerDay())/4 {
		return nil
	}
	b := &Batches{PerWeek: 7 * float64(len(begins)) / float64(s.days)}
	var x, y float64
	for _, h := range begins {
		x, y = x+math.Cos(h/12*math.Pi), y+math.Sin(h/12*math.Pi)
	}
	n := float64(len(begins))
	if math.Hypot(x, y) < 0.6*n {
		return b // at any hour
	}
	mean := math.Atan2(y, x) / math.Pi * 12
	off := make([]float64, len(begins))
	for i, h := range begins {
		off[i] = math.Mod(h-mean+36+24, 24) - 12
	}
	hour := func(q float64) int { return (int(math.Round(mean+robust.Quantile(off, q))) + 48) % 24 }
	b.From, b.To = hour(0.1), (hour(0.9)+1)%24
	return b
}
