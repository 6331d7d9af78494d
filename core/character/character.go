// Package character says what a series is like in words that people use of one: open from 8
// to 18, in batches about three nights a week, up and down every 12.4 hours, in lots of 144. It
// describes and decides nothing: how a series is judged follows from its own past elsewhere.
package character

import (
	"math"
	"time"

	"tinbell/core/robust"
	"tinbell/core/timeline"
)

// Character is what a series has been like lately. What is not so is left out.
type Character struct {
	Sentences []string `json:"sentences" doc:"what the series is like, in words"`
	Days      int      `json:"days" doc:"local days that this is read off"`
	Active    float64  `json:"active" doc:"share of periods in which anything came"`
	Open      *Open    `json:"open,omitempty"`
	Batches   *Batches `json:"batches,omitempty"`
	Rhythm    *Rhythm  `json:"rhythm,omitempty"`
	Dates     []int    `json:"dates,omitempty" doc:"of a month, of daily series: those on which it is always more, or always less, than on other days"`
	Lots      int      `json:"lots,omitempty" doc:"all counts are a multiple of it"`
	Noise     *float64 `json:"noise,omitempty" doc:"how far four in five periods stay within, relative to what is usual at their hour and day"`
	Growth    *float64 `json:"growth,omitempty" doc:"relative change in 30 days"`
}

// Open are opening hours by the series' clocks.
type Open struct {
	From    int            `json:"from" doc:"hour"`
	To      int            `json:"to" doc:"hour at which it closes"`
	Closed  []time.Weekday `json:"closed" doc:"days of the week on which it is (0 is Sunday)"`
	Skipped int            `json:"skipped" doc:"other days on which nothing came"`
}

// Batches are what comes at once, with much longer waits between.
type Batches struct {
	PerWeek float64 `json:"per_week"`
	From    int     `json:"from" doc:"hour from which most of them begin; with to the same, at any hour"`
	To      int     `json:"to"`
}

// Rhythm is a period that is none of a day or week.
type Rhythm struct {
	Hours float64 `json:"hours"`
	Share float64 `json:"share" doc:"of the variation around hour and day that it foretells in a half it was not found in"`
}

// most is how far back a series is looked at: beyond, it may have been another.
const (
	most      = 84 // days
	mostDaily = 728
	leastDays = 14
)

// Of describes a dense history; what the mask covers (known faults, planned stretches) is looked
// away from.
func Of(history []timeline.Sample, g timeline.Grid, kind timeline.Kind, away timeline.Mask) Character {
	s := look(history, g, kind, away)
	c := Character{Sentences: []string{}, Days: s.days}
	if g.Long() {
		s.describeLong(&c)
		return c
	}
	if s.days < leastDays {
		c.say("It is %d days old: too young to say what it is like.", s.days)
		return c
	}
	c.Active = s.share(func(p *period) bool { return p.active })
	if changes, still := s.still(); still {
		if changes == 0 {
			c.say("It has stayed the same for %d days.", s.days)
		} else {
			c.say("It stays the same and changes by steps, about once in %s.", daysOf(float64(s.days)/float64(changes)))
		}
		return c
	}
	s.describeActivity(&c)
	s.describeShape(&c)
	s.describeDates(&c)
	s.describeRhythm(&c)
	s.describeValues(&c)
	return c
}

// period is one of a series, by its own clocks.
type period struct {
	away         bool // not looked at
	came, active bool
	value        float64
	hour, day    int // 0 … 23; day of the week, 0 Sunday
	date         int // days since the first
	ofMonth      int // 1 … 31
}

// series is what is looked at.
type series struct {
	timeline.Grid
	Kind    timeline.Kind
	periods []period
	days    int
}

func look(history []timeline.Sample, g timeline.Grid, kind timeline.Kind, away timeline.Mask) *series {
	back := most * g.PerDay()
	if g.Dated() {
		back = mostDaily
	}
	history = history[max(0, len(history)-back):]
	s := &series{Grid: g, Kind: kind, periods: make([]period, len(history))}
	date, last := -1, 0
	for i, x := range history {
		at := time.Unix(x.At, 0).In(g.Zone)
		if d := at.YearDay() + 400*at.Year(); d != last {
			date, last = date+1, d
		}
		p := period{away: away.Covers(x.At), value: x.Value, hour: at.Hour(), day: int(at.Weekday()), date: date, ofMonth: at.Day()}
		p.came = !p.away && !x.Missing()
		p.active = p.came && (kind != timeline.Count || x.Value != 0)
		s.periods[i] = p
	}
	s.days = date + 1
	return s
}

func (s *series) share(is func(*period) bool) float64 {
	n, all := 0, 0
	for i := range s.periods {
		if p := &s.periods[i]; !p.away {
			all++
			if is(p) {
				n++
			}
		}
	}
	return float64(n) / float64(max(all, 1))
}

// values of active periods.
func (s *series) values() (list []float64) {
	for i := range s.periods {
		if s.periods[i].active {
			list = append(list, s.periods[i].value)
		}
	}
	return list
}

// describeValues says what the values themselves are like.
func (s *series) describeValues(c *Character) {
	values := s.values()
	if len(values) < 20 {
		return
	}
	if s.Kind == timeline.Count {
		if n := lots(values); n > 1 {
			c.Lots = n
			c.say("All its counts are lots of %d.", c.Lots)
		}
	}
	if s.Kind == timeline.Share {
		for _, end := range []float64{0, 1} {
			at := 0
			for _, v := range values {
				if v == end {
					at++
				}
			}
			if n := len(values); at*10 >= n*7 {
				c.say("It is almost always %g: in %s %s.", end, oftenOf(float64(at)/float64(n)), s.units())
			}
		}
	}
	if s.Kind == timeline.Duration || s.Kind == timeline.Value {
		usual, rare := robust.Quantile(values, 0.5), robust.Quantile(values, 0.99)
		if usual > 0 && rare > 6*usual {
			c.say("It has a heavy tail: one in a hundred is %.0f times the usual.", rare/usual)
		}
	}
}

// lots is the largest number that all but a few in a hundred counts are multiples of.
func lots(values []float64) int {
	best := 1
	for i := range 7 {
		// Of a few pairs, so that single odd counts do not hide it.
		a, b := values[(i*31)%len(values)], values[(i*57+11)%len(values)]
		g := gcd(math.Round(a), math.Round(b))
		if g <= float64(best) || g > 1e9 {
			continue
		}
		fits, distinct := 0, map[float64]bool{}
		for _, v := range values {
			if math.Mod(math.Round(v), g) == 0 {
				fits++
				distinct[v] = true
			}
		}
		if float64(fits) >= 0.97*float64(len(values)) && len(distinct) >= 3 {
			best = int(g)
		}
	}
	return best
}

func gcd(a, b float64) float64 {
	for b > 0 {
		a, b = b, math.Mod(a, b)
	}
	return a
}
