// Package consistency holds a week, a month or a year of a series against the same one
// of earlier years or weeks, and against what the series was of late.
package consistency

import (
	"cmp"
	"math"
	"slices"
	"time"

	"gonum.org/v1/gonum/stat/distuv"
)

// History is a series by local days.
type History struct {
	First   int            // the first day, counted from 1 January 1970
	Value   []float64      // of each day, NaN where there is none that counts
	Holiday map[int]string // days that are one, by name
	Ratio   bool           // changes are shares of what was before (counts, durations); else differences
}

// at is the value of a day; NaN outside of what is known.
func (h History) at(day int) float64 {
	if k := day - h.First; k >= 0 && k < len(h.Value) {
		return h.Value[k]
	}
	return math.NaN()
}

// Span is days [From, To).
type Span struct{ From, To int }

// Kinds of spans.
const (
	Week  = "week"
	Month = "month"
	Year  = "year"
)

// DayOf counts the day of a date from 1 January 1970.
func DayOf(year int, month time.Month, day int) int {
	return int(time.Date(year, month, day, 0, 0, 0, 0, time.UTC).Unix() / 86400)
}

// Date is the date of a day.
func Date(day int) time.Time { return time.Unix(int64(day)*86400, 0).UTC() }

// Around gives the span of a kind that a day lies in; weeks begin on Mondays (ISO 8601).
func Around(kind string, day int) Span {
	d := Date(day)
	switch kind {
	case Month:
		return Span{DayOf(d.Year(), d.Month(), 1), DayOf(d.Year(), d.Month()+1, 1)}
	case Year:
		return Span{DayOf(d.Year(), 1, 1), DayOf(d.Year()+1, 1, 1)}
	}
	monday := day - (int(d.Weekday())+6)%7
	return Span{monday, monday + 7}
}

// Before gives so many spans of a kind before one, newest first.
func Before(kind string, s Span, n int) []Span {
	list := make([]Span, n)
	for i := range list {
		s = Around(kind, s.From-1)
		list[i] = s
	}
	return list
}

// Change is a span beside an earlier one, day by day.
type Change struct {
	Against       Span
	Pairs         int     // days that both have
	Left          int     // days without a counterpart
	Now, Then     float64 // means of the paired days
	Change        float64 // a share of Then, or a difference
	Low, High     float64 // 95 % of the change
	Interval      bool    // there are days enough for one
	MovedHolidays int     // pairs of a holiday on other dates
}

// leastPairs is from how many pairs on a change has an interval.
const leastPairs = 4

// YearsBack holds a span against the one so many years before. A day is held against the
// nearest of the same weekday, a holiday against that of the same name (within 45 days,
// as Easter moves by 35), and a day whose counterpart is a holiday is left out.
func (h History) YearsBack(s Span, years int) Change {
	return h.against(s, func(day int) int {
		d := Date(day)
		to := DayOf(d.Year()-years, d.Month(), d.Day())
		off := (day - to) % 7 // days on to the same weekday
		if off > 3 {
			off -= 7
		}
		return to + off
	}, years)
}

// WeeksBack holds a span against the one so many weeks before.
func (h History) WeeksBack(s Span, weeks int) Change {
	return h.against(s, func(day int) int { return day - 7*weeks }, 0)
}

func (h History) against(s Span, counterpart func(int) int, years int) Change {
	c := Change{Against: Span{counterpart(s.From), counterpart(s.To-1) + 1}}
	for day := s.From; day < s.To; day++ {
		now, then, moved, both := h.pair(day, counterpart(day), years)
		if !both {
			c.Left++
			continue
		}
		c.Pairs++
		if moved {
			c.MovedHolidays++
		}
		c.Now, c.Then = c.Now+now, c.Then+then
	}
	if c.Pairs == 0 {
		c.Now, c.Then, c.Change, c.Low, c.High = math.NaN(), math.NaN(), math.NaN(), math.NaN(), math.NaN()
		return c
	}
	c.Now, c.Then = c.Now/float64(c.Pairs), c.Then/float64(c.Pairs)
	scale := 1.0
	if h.Ratio {
		scale = c.Then
	}
	c.Change, c.Low, c.High = (c.Now-c.Then)/scale, math.Inf(-1), math.Inf(1)
	// A week alone says little of how its days wander: those before it say it with it.
	var off []float64
	for day := min(s.From, s.To-wandering); day < s.To; day++ {
		if now, then, _, both := h.pair(day, counterpart(day), years); both {
			off = append(off, now-then)
		}
	}
	if c.Interval = c.Pairs >= leastPairs && len(off) >= 2*leastPairs && scale > 0; c.Interval {
		half := meanHalf(off, c.Pairs) / scale
		c.Low, c.High = c.Change-half, c.Change+half
	}
	return c
}

// wandering is of how many days it is taken how pairs wander.
const wandering = 63

// pair gives a day's value and that of its counterpart; both is false where there is none.
func (h History) pair(day, to, years int) (now, then float64, moved, both bool) {
	if name := h.Holiday[day]; name != "" {
		same, there := h.holiday(name, to, years)
		if !there {
			return 0, 0, false, false
		}
		moved, to = same != to, same
	} else if h.Holiday[to] != "" {
		return 0, 0, false, false
	}
	now, then = h.at(day), h.at(to)
	return now, then, moved, !math.IsNaN(now) && !math.IsNaN(then)
}

// holiday finds the day of a holiday's name nearest to a day. Of weeks of the same year
// there is none: a holiday comes once.
func (h History) holiday(name string, near, years int) (day int, there bool) {
	if years == 0 {
		return 0, false
	}
	for off := range 46 {
		for _, day := range []int{near - off, near + off} {
			if h.Holiday[day] == name {
				return day, true
			}
		}
	}
	return 0, false
}

// meanHalf is the half-width of the 95 % interval of the mean of n values that wander as
// those given, with what a value owes to the one before allowed for: n values that owe
// rho tell as much as n(1−rho)/(1+rho).
func meanHalf(x []float64, n int) float64 {
	all := float64(len(x))
	mean := 0.0
	for _, v := range x {
		mean += v / all
	}
	square, lag := 0.0, 0.0
	for i, v := range x {
		square += (v - mean) * (v - mean)
		if i > 0 {
			lag += (v - mean) * (x[i-1] - mean)
		}
	}
	if square == 0 {
		return 0
	}
	rho := lag / square
	rho = min(max(rho+(1+4*rho)/all, 0), 0.9) // of few values it comes out too low (Kendall 1954)
	tell := func(values float64) float64 { return max(values*(1-rho)/(1+rho), 1) }
	return distuv.StudentsT{Sigma: 1, Nu: max(tell(all)-1, 1)}.Quantile(0.975) * math.Sqrt(square/(all-1)/tell(float64(n)))
}

// Verdicts of a place in the corridor.
const (
	Inside = "inside"
	Above  = "above"
	Below  = "below"
	Little = "too little" // to say
)

// Place is where a span lies beside what its series was in the spans before.
type Place struct {
	Days      int     // of the span that count
	Spans     int     // before it that count
	Now       float64 // mean of its days
	Usual     float64 // what its weekdays usually have
	Change    float64 // a share of Usual, or a difference
	Low, High float64 // of Now, from where on it lies outside
	Wanders   float64 // by how much a span strays by itself, once in a hundred, in units of Change
	Verdict   string
}

// leastSpans is from how many spans on a series' own wandering is known.
const leastSpans = 3

// Corridor holds a span against the spans before, each day against the mean of its
// weekday there. It lies outside where it strays farther than the tolerance and farther
// than such spans stray by themselves once in a hundred (Student's t of their spread).
// A span counts from half of its days on; two are needed.
func (h History) Corridor(s Span, before []Span, tolerance float64) Place {
	p := Place{Verdict: Little, Now: math.NaN(), Usual: math.NaN(), Change: math.NaN(), Low: math.NaN(), High: math.NaN(),
		Wanders: math.NaN()}
	var sum, n [7]float64
	var counted []Span
	for _, b := range before {
		if _, days := h.mean(b); 2*days < b.To-b.From {
			continue
		}
		counted = append(counted, b)
		for day := b.From; day < b.To; day++ {
			if v := h.at(day); !math.IsNaN(v) && h.Holiday[day] == "" {
				w := weekday(day)
				sum[w], n[w] = sum[w]+v, n[w]+1
			}
		}
	}
	p.Now, p.Days = h.mean(s)
	p.Spans = len(counted)
	if 2*p.Days < s.To-s.From || p.Spans < 2 {
		return p
	}
	// usual is the mean that the weekdays of a span's days have.
	usual := func(of Span) float64 {
		total, days := 0.0, 0.0
		for day := of.From; day < of.To; day++ {
			if w := weekday(day); !math.IsNaN(h.at(day)) && h.Holiday[day] == "" && n[w] > 0 {
				total, days = total+sum[w]/n[w], days+1
			}
		}
		return total / days
	}
	change := func(now, usual float64) float64 {
		if h.Ratio {
			return now/usual - 1
		}
		return now - usual
	}
	p.Usual = usual(s)
	if math.IsNaN(p.Usual) || h.Ratio && p.Usual <= 0 {
		return p
	}
	p.Change = change(p.Now, p.Usual)
	wide := tolerance
	if !h.Ratio {
		wide *= math.Abs(p.Usual)
	}
	if k := float64(p.Spans); p.Spans >= leastSpans {
		square := 0.0
		for _, b := range counted {
			now, _ := h.mean(b)
			c := change(now, usual(b))
			square += c * c // they stray from their own mean, about 0
		}
		p.Wanders = distuv.StudentsT{Sigma: 1, Nu: k - 1}.Quantile(0.995) * math.Sqrt(square/(k-1)*(1+1/k))
		wide = max(wide, p.Wanders)
	}
	p.Low, p.High = p.Usual-wide, p.Usual+wide
	if h.Ratio {
		p.Low, p.High = p.Usual*(1-min(wide, 1)), p.Usual*(1+wide)
	}
	switch {
	case p.Now > p.High:
		p.Verdict = Above
	case p.Now < p.Low:
		p.Verdict = Below
	default:
		p.Verdict = Inside
	}
	return p
}

// mean is that of a span's days, holidays left out.
func (h History) mean(s Span) (mean float64, days int) {
	sum := 0.0
	for day := s.From; day < s.To; day++ {
		if v := h.at(day); !math.IsNaN(v) && h.Holiday[day] == "" {
			sum, days = sum+v, days+1
		}
	}
	return sum / float64(days), days
}

func weekday(day int) int { return ((day+4)%7 + 7) % 7 }

// Farthest orders places by how far they lie outside, those that say too little last.
func Farthest(a, b Place) int { return cmp.Compare(b.Off(), a.Off()) }

// Off is how many widths of its corridor a place is off; −1 where it says too little.
func (p Place) Off() float64 {
	wide := p.High - p.Usual
	switch {
	case p.Verdict == Little:
		return -1
	case p.Now < p.Usual:
		wide = p.Usual - p.Low
	}
	if wide <= 0 {
		if p.Now == p.Usual {
			return 0
		}
		return math.Inf(1)
	}
	return math.Abs(p.Now-p.Usual) / wide
}

// Sorted gives the numbers of places, farthest outside first.
func Sorted(places []Place) []int {
	order := make([]int, len(places))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return Farthest(places[a], places[b]) })
	return order
}

// With gives a history that also has the days of an earlier one.
func (h History) With(earlier History) History {
	if len(earlier.Value) == 0 || earlier.First >= h.First {
		return h
	}
	joined := h
	joined.First = earlier.First
	joined.Value = make([]float64, h.First+len(h.Value)-earlier.First)
	for i := range joined.Value {
		joined.Value[i] = math.NaN()
	}
	copy(joined.Value, earlier.Value)
	copy(joined.Value[h.First-earlier.First:], h.Value)
	return joined
}
