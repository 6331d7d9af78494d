package character

import (
	"math"

	"tinbell/core/robust"
	"tinbell/core/timeline"
)

// leastLong is how many periods longer than a day are looked at at least.
const leastLong = 6

// describeLong describes a series of weeks, months or years, which has no hours or weekdays.
func (s *series) describeLong(c *Character) {
	c.Days = int(s.Period.Hours()/24) * len(s.periods)
	if len(s.periods) < leastLong {
		c.say("It is %d %s old: too young to say what it is like.", len(s.periods), s.units())
		return
	}
	c.Active = s.share(func(p *period) bool { return p.active })
	if changes, still := s.still(); still {
		if changes == 0 {
			c.say("It has stayed the same for %d %s.", len(s.periods), s.units())
		} else {
			c.say("It stays the same and changes by steps, %d times in %d %s.", changes, len(s.periods), s.units())
		}
		return
	}
	switch idle := 1 - c.Active; {
	case c.Active == 0:
		c.say("Nothing has come in %d %s.", len(s.periods), s.units())
		return
	case idle < 0.01:
	case s.Kind == timeline.Count:
		c.say("In %s %s nothing comes.", oftenOf(idle), s.units())
	default:
		c.say("%s %s never come.", capital(oftenOf(idle)), s.units())
	}
	s.sayChange(c)
	s.describeValues(c)
}

// sayChange says by how much four in five periods differ from the one before.
func (s *series) sayChange(c *Character) {
	var changes []float64
	last := math.NaN()
	for i := range s.periods {
		p := &s.periods[i]
		if !p.active {
			continue
		}
		if last != 0 && !math.IsNaN(last) {
			changes = append(changes, math.Abs(p.value/last-1))
		}
		last = p.value
	}
	if len(changes) < leastLong {
		return
	}
	noise := robust.Quantile(changes, 0.8)
	c.Noise = &noise
	c.say("Four in five %s differ by no more than %.2g %% from the one before.", s.units(), 100*noise)
}
