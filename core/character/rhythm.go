package character

import (
	"math"

	"gonum.org/v1/gonum/dsp/fourier"

	"tinbell/core/robust"
)

// describeShape says how hour and day of the week count, what is left beside them, and growth.
func (s *series) describeShape(c *Character) {
	usual, hours, days := s.usual()
	var off []float64
	for i := range s.periods {
		if p := &s.periods[i]; p.active && usual[i] > 0 {
			off = append(off, math.Abs(p.value/usual[i]-1))
		}
	}
	noise := robust.Quantile(off, 0.8)
	if !s.Daily() && c.Open == nil && c.Batches == nil && c.Active > 0.5 && len(off) > 0 {
		lo, hi := s.periods[0].hour, s.periods[0].hour
		for i := range s.periods { // not every hour begins a period
			if h := s.periods[i].hour; hours[h] < hours[lo] {
				lo = h
			} else if hours[h] > hours[hi] {
				hi = h
			}
		}
		// Of two dozen means the largest and the smallest are some four errors apart by chance.
		chance := 1.15 + 4*noise/math.Sqrt(float64(len(off))/24)
		if ratio := hours[hi] / max(hours[lo], 1e-300); hours[lo] < 0 || ratio < chance {
			c.say("It is much the same at every hour.")
		} else {
			c.say("Over a day it is highest about %d o'clock and lowest about %d, %s.", hi, lo, timesOf(ratio))
		}
	}
	working, weekend := (days[1]+days[2]+days[3]+days[4]+days[5])/5, (days[0]+days[6])/2
	if closed, _ := s.closedDays(); working > 0 && weekend > 0 && len(closed) == 0 {
		if r := weekend / working; r < 0.85 || r > 1.18 {
			c.say("At weekends it is %s as on other days.", partOf(r))
		}
	}
	if len(off) >= 20 && noise < 0.95 { // more is no figure: mostly nothing
		c.Noise = &noise
		which, usual := "periods", "at their hour and day"
		if s.Daily() {
			which, usual = "days", "on their day of the week"
		}
		switch {
		case noise < 0.0005:
			c.say("Four in five %s are just what is usual %s.", which, usual)
		case noise < 0.02:
			c.say("Four in five %s lie within %.1f %% of what is usual %s.", which, 100*noise, usual)
		default:
			c.say("Four in five %s lie within %.0f %% of what is usual %s.", which, 100*noise, usual)
		}
	}
	s.describeGrowth(c)
}

// usual is what each period has at its hour on working days or weekends, times what its day of the
// week has of that; and the means of hours and of days.
func (s *series) usual() (list []float64, hours [24]float64, days [7]float64) {
	var cells [2][24]mean
	var byHour [24]mean
	var byDay [7]mean
	for i := range s.periods {
		if p := &s.periods[i]; p.active {
			cells[p.class()][p.hour].add(p.value)
			byHour[p.hour].add(p.value)
			byDay[p.day].add(p.value)
		}
	}
	for h := range hours {
		hours[h] = byHour[h].of()
	}
	for d := range days {
		days[d] = byDay[d].of()
	}
	var part [7]mean // of what the cells have
	for i := range s.periods {
		if p := &s.periods[i]; p.active {
			part[p.day].add(cells[p.class()][p.hour].of())
		}
	}
	list = make([]float64, len(s.periods))
	for i := range s.periods {
		if p := &s.periods[i]; part[p.day].of() != 0 {
			list[i] = cells[p.class()][p.hour].of() * days[p.day] / part[p.day].of()
		}
	}
	return list, hours, days
}

type mean struct{ sum, n float64 }

func (m *mean) add(v float64) { m.sum, m.n = m.sum+v, m.n+1 }

func (m *mean) of() float64 { return m.sum / max(m.n, 1) }

// class is 1 at weekends.
func (p *period) class() int {
	if p.day == 0 || p.day == 6 {
		return 1
	}
	return 0
}

// describeGrowth takes the median slope of the logarithms of weeks (Theil 1950), told where nearly
// all pairs of weeks agree.
func (s *series) describeGrowth(c *Character) {
	var weeks []float64
	for i := 0; i < s.days/7; i++ {
		sum, n := 0.0, 0.0
		for k := range s.periods {
			if p := &s.periods[k]; p.active && p.date/7 == i {
				sum, n = sum+p.value, n+1
			}
		}
		if n > 0 && sum > 0 {
			weeks = append(weeks, math.Log(sum/n))
		}
	}
	if len(weeks) < 6 {
		return
	}
	var slopes []float64
	agree := 0.0
	for i := range weeks {
		for j := range i {
			slope := (weeks[i] - weeks[j]) / float64(i-j)
			slopes = append(slopes, slope)
			agree += math.Copysign(1, slope)
		}
	}
	growth := math.Expm1(robust.Median(slopes) * 30 / 7)
	if size := math.Abs(growth); math.Abs(agree) < 0.7*float64(len(slopes)) || !(size >= 0.02 && size < 1000) {
		return
	}
	c.Growth = &growth
	word := "grows"
	if growth < 0 {
		word = "shrinks"
	}
	c.say("It %s by about %.2g %% in 30 days.", word, 100*math.Abs(growth))
}

// describeRhythm looks for a period that is none of a day or a week: the strongest line of the
// spectrum of what hour and day leave, whose wave, fitted to one half, foretells the other.
func (s *series) describeRhythm(c *Character) {
	if s.Daily() || c.Batches != nil || c.Open != nil || c.Active < 0.5 {
		return
	}
	left := s.left()
	hours, found := line(left, s.Period.Hours())
	if !found {
		return
	}
	half, periods := len(left)/2, hours/s.Period.Hours()
	share := min(foretold(left, 0, half, periods), foretold(left, half, len(left), periods))
	if share < 0.1 {
		return
	}
	c.Rhythm = &Rhythm{Hours: hours, Share: share}
	c.say("It goes up and down every %s besides.", hoursOf(hours))
}

// left is what hour and day leave, each bounded.
func (s *series) left() []float64 {
	usual, _, _ := s.usual()
	left := make([]float64, len(s.periods))
	for i := range s.periods {
		if p := &s.periods[i]; p.came && usual[i] != 0 {
			left[i] = min(max(p.value/usual[i]-1, -1), 1)
		}
	}
	return left
}

// line is the strongest line of a spectrum away from those of days and weeks; found tells whether
// it stands out of its neighbours.
func line(x []float64, hours float64) (period float64, found bool) {
	n := len(x)
	if n < 48 {
		return 0, false
	}
	tapered, mean := make([]float64, n), 0.0
	for _, v := range x {
		mean += v / float64(n)
	}
	for i, v := range x {
		tapered[i] = (v - mean) * (1 - math.Cos(2*math.Pi*float64(i)/float64(n-1)))
	}
	spectrum := fourier.NewFFT(n).Coefficients(nil, tapered)
	power := make([]float64, len(spectrum))
	for k, v := range spectrum {
		power[k] = real(v)*real(v) + imag(v)*imag(v)
	}
	total := float64(n) * hours
	beside := func(k int, every float64) bool { // near a multiple of 1/every
		f := float64(k) / total * every
		return math.Abs(f-math.Round(f)) < 1.5*every/total && math.Round(f) > 0
	}
	best := 0
	for k := 4; k < len(power)-2; k++ { // four times in what is seen, at least
		if beside(k, 24) || float64(k)/total < 8.0/168 && beside(k, 168) {
			continue
		}
		if best == 0 || power[k] > power[best] {
			best = k
		}
	}
	if best == 0 {
		return 0, false
	}
	around := make([]float64, 0, 64)
	for k := max(2, best*2/3); k < min(len(power), best*3/2+6); k++ {
		if k < best-3 || k > best+3 {
			around = append(around, power[k])
		}
	}
	if len(around) < 4 || power[best] < 20*robust.Median(around) {
		return 0, false
	}
	a, b, d := math.Log(power[best-1]+1e-300), math.Log(power[best]+1e-300), math.Log(power[best+1]+1e-300)
	shift := min(max((a-d)/2/(a-2*b+d), -0.5), 0.5)
	return total / (float64(best) + shift), true
}

// foretold is what share of the variation outside of [from, to) a wave of about so many periods
// foretells that was fitted inside.
func foretold(x []float64, from, to int, periods float64) float64 {
	best := math.Inf(-1)
	for step := -8; step <= 8; step++ { // the phase far off tells a period better than its own part
		w := 2 * math.Pi / (periods * (1 + float64(step)*0.0004))
		var c, s, n float64
		for i := from; i < to; i++ {
			c, s, n = c+x[i]*math.Cos(w*float64(i)), s+x[i]*math.Sin(w*float64(i)), n+1
		}
		c, s = 2*c/n, 2*s/n
		var before, after float64
		for i, v := range x {
			if i < from || i >= to {
				e := v - c*math.Cos(w*float64(i)) - s*math.Sin(w*float64(i))
				before, after = before+v*v, after+e*e
			}
		}
		if before > 0 {
			best = max(best, 1-after/before)
		}
	}
	return best
}
