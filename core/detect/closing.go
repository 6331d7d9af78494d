package detect

import (
	"math"

	"tinbell/core/baseline"
)

// closing gathers evidence of recovery while an alert is open: a sequential
// likelihood ratio (Wald 1945) of "back to expected" against "still as far off
// as the alert so far", which quiet night hours neither close nor prolong. Two
// alternating buckets of a day remember how far off the series was; two steady
// ones in a row, long enough, are a new level.
type closing struct {
	Started int64
	Turned  int64
	Bucket  [2]struct{ X, Mu, N float64 }
	Current int
	LLR     float64
	Quiet   int
	Good    int // ordinary periods in a row
}

func (c *closing) seed(e *Evaluator, at int64) {
	c.Started, c.Turned = at, at
	if e.Alert.Direction == High || e.Model.Family == baseline.Add {
		e.begins(e.Alert.Since)
	}
	for k := range min(max(e.Alert.Window, 1), e.Recent.Valid) {
		if p := e.Recent.last(k); p.OK {
			c.put(e.Model, p.X, p.expected(e.Model))
		}
	}
}

func (p *point) expected(m *baseline.Model) float64 {
	if m.Family == baseline.Mult {
		return p.Level * p.Part
	}
	return p.X - p.Z*math.Sqrt(p.Var)
}

func (c *closing) put(m *baseline.Model, x, mu float64) {
	b := &c.Bucket[c.Current]
	b.X, b.Mu, b.N = b.X+x, b.Mu+mu, b.N+1
}

// shift is how far off the alert is so far: a factor (Mult) or a distance.
func (c *closing) shift(mult bool) float64 {
	x, mu := c.Bucket[0].X+c.Bucket[1].X, c.Bucket[0].Mu+c.Bucket[1].Mu
	if mult {
		if mu <= 0 {
			return 1
		}
		return x / mu
	}
	return (x - mu) / max(c.Bucket[0].N+c.Bucket[1].N, 1)
}

func (c *closing) see(e *Evaluator, pt *baseline.Point, ex *baseline.Expectation) (over, adopted bool) {
	mult := e.Model.Family == baseline.Mult
	c.put(e.Model, pt.X, ex.Mu)
	z := (pt.X - ex.Mu) / ex.Sigma
	sign := float64(e.Alert.Direction)
	shift := c.shift(mult)
	delta := shift / ex.Sigma
	if mult {
		delta = (shift - 1) * ex.Mu / ex.Sigma
	}
	gain := delta*delta/2 - z*delta
	if mult {
		// Counts: the quasi-Poisson ratio, which a few empty periods cannot inflate.
		r := min(max(shift, 0.01), 100)
		gain = (ex.Mu*(r-1) - pt.X*math.Log(r)) / max(ex.Sigma*ex.Sigma/max(ex.Mu, 0.3), 1)
	}
	c.LLR = max(0, c.LLR+min(max(gain, -2), 2))
	switch {
	case z*sign > 1.5:
		c.LLR = min(c.LLR, 2)
		c.Quiet = 0
	case e.Silence.Odds.N > 0 && pt.X == 0:
		// Still nothing comes: a night in which little is due ends no silence.
	default:
		c.Quiet++
	}
	if e.comingUp() && !e.dated {
		// Nights in which little comes are part of it: a day without anything is its end.
		return c.Quiet >= max(e.Model.PerDay, e.cadence.quiet), c.turn(e, pt.At, mult)
	}
	if c.LLR >= 4 || c.Quiet >= e.cadence.quiet || (delta*sign < 0 && c.Quiet >= 3) {
		return true, false
	}
	return false, c.turn(e, pt.At, mult)
}

// turn closes a bucket each day; two steady ones after long enough adopt the
// new level. A standstill is never adopted.
func (c *closing) turn(e *Evaluator, at int64, mult bool) bool {
	if e.after(at)-c.Turned < int64(e.cadence.bucket.Seconds()) {
		return false
	}
	a, b := c.Bucket[0], c.Bucket[1]
	if wait := e.adoptAfter(); wait > 0 && e.after(at)-c.Started >= wait && a.N > 0 && b.N > 0 {
		switch {
		case e.comingUp():
			if !mult || a.X > 0 && b.X > 0 {
				e.leave(at)
				e.startOver(e.Alert.Since)
				e.settleDown(at, false)
				return true
			}
		case mult && a.X > 0 && b.X > 0 && a.Mu > 0 && b.Mu > 0:
			ra, rb := a.X/a.Mu, b.X/b.Mu
			if math.Abs(math.Log(ra/rb)) < 0.15 {
				e.leave(at)
				times := math.Sqrt(ra * rb)
				e.Model.SetLevel(e.Model.Level() * times)
				e.settleDown(at, math.Abs(math.Log(times)) > math.Log(5))
				return true
			}
		case !mult:
			ra, rb := (a.X-a.Mu)/a.N, (b.X-b.Mu)/b.N
			if math.Abs(ra-rb) < e.Model.Spread {
				e.leave(at)
				e.Model.SetLevel(e.Model.Level() + (ra+rb)/2)
				e.settleDown(at, false)
				return true
			}
		}
	}
	c.Turned = e.after(at)
	c.Current = 1 - c.Current
	c.Bucket[c.Current].X, c.Bucket[c.Current].Mu, c.Bucket[c.Current].N = 0, 0, 0
	return false
}

// settleDown begins a time in which deviations from a level that was just
// adopted are learned from and not told. One that is another series altogether
// has a history of its own from here on.
func (e *Evaluator) settleDown(at int64, another bool) {
	e.Probation = at + e.probation()
	if another {
		e.Probation, e.Regime = max(e.Probation, at+14*e.day), e.after(at)
	}
}

// probation is how long a new level settles, seconds.
func (e *Evaluator) probation() int64 { return int64(e.cadence.settle) * e.day }

// former is the level before one that was adopted. A fault that lasted until then
// ends with a return to it, which is no news.
type former struct {
	Level    float64
	Until    int64 // for how long a return to it is looked for
	Turned   int64
	X, Mu, N float64 // since then
}

// formerFor is for how many days a return is looked for.
const formerFor = 28

func (e *Evaluator) leave(at int64) {
	e.Former = former{Level: e.Model.Level(), Until: at + formerFor*e.day, Turned: e.after(at)}
}

// explained tells whether the last periods deviate no farther than to the level before
// the one that was adopted: what was taken for a new level ends.
func (e *Evaluator) explained(d Direction, periods int) bool {
	f := &e.Former
	if e.Last >= f.Until {
		return false
	}
	x, mu, n := 0.0, 0.0, 0.0
	for k := range min(periods, e.Recent.Valid) {
		if p := e.Recent.last(k); p.OK {
			x, mu, n = x+p.X, mu+p.expected(e.Model), n+1
		}
	}
	want, is := f.Level-e.Model.Level(), (x-mu)/max(n, 1)
	slack := e.Model.Spread
	if e.Model.Family == baseline.Mult {
		want, is, slack = math.Log(max(f.Level, 1e-9)/max(e.Model.Level(), 1e-9)), math.Log(max(x, 1e-9)/max(mu, 1e-9)), 0.1
	}
	return want*float64(d) > 0 && is/want < 1.3+slack/math.Abs(want)
}

// goBack takes up the former level again once a day (or so) of values fits it and
// not the one that was adopted.
func (e *Evaluator) goBack(pt *baseline.Point, mu float64) {
	f := &e.Former
	if pt.At >= f.Until || e.Open {
		return
	}
	f.X, f.Mu, f.N = f.X+pt.X, f.Mu+mu, f.N+1
	if e.after(pt.At)-f.Turned < int64(e.cadence.bucket.Seconds()) {
		return
	}
	fits := false
	if level := e.Model.Level(); e.Model.Family == baseline.Mult {
		if f.X > 0 && f.Mu > 0 && f.Level > 0 && level > 0 {
			want, is := math.Log(f.Level/level), math.Log(f.X/f.Mu)
			fits = math.Abs(want) > 0.1 && math.Abs(is-want) < max(0.1, math.Abs(want)/3)
		}
	} else {
		want, is := f.Level-level, (f.X-f.Mu)/f.N
		fits = math.Abs(want) > 0.5*e.Model.Spread && math.Abs(is-want) < max(0.3*e.Model.Spread, math.Abs(want)/3)
	}
	if fits {
		e.Model.SetLevel(f.Level)
		e.Recent.restart()
		e.settleDown(pt.At, false)
		f.Until = 0
	}
	f.Turned, f.X, f.Mu, f.N = e.after(pt.At), 0, 0, 0
}
