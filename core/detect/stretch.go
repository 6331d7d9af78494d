package detect

import (
	"math"

	"tinbell/core/baseline"
	"tinbell/core/timeline"
)

// Stretch is a part of a series and what came in it: sums of counts, means of
// everything else.
type Stretch struct {
	From, To           int64 // Unix seconds, half open
	Periods            int   // of them, those that came
	Observed, Expected float64
}

// Off is how far it lies off, towards a direction.
func (s *Stretch) Off(d Direction) float64 {
	off := s.Observed - s.Expected
	if d == Both {
		return math.Abs(off)
	}
	return off * float64(d)
}

// add takes in a period.
func (s *Stretch) add(kind timeline.Kind, at, step int64, observed, expected float64) {
	if s.Periods == 0 {
		s.From = at
	}
	s.From, s.To, s.Periods = min(s.From, at), max(s.To, at+step), s.Periods+1
	if kind == timeline.Count {
		s.Observed, s.Expected = s.Observed+observed, s.Expected+expected
		return
	}
	n := float64(s.Periods)
	s.Observed, s.Expected = s.Observed+(observed-s.Observed)/n, s.Expected+(expected-s.Expected)/n
}

// Onset is where a deviation likely began and how large it is.
type Onset struct {
	At     int64
	Spread float64 // standard deviation of At, seconds
	Effect float64 // change against what was expected, as a share of it; of shares the change itself
	Error  float64 // standard deviation of Effect
}

// before is how many periods before the window that told a deviation may begin.
const before = 6

// began estimates from when on, within the window that told or a little before, the
// residuals speak most for a change of one size: the largest S²/2N over all beginnings, S the
// residuals and N the squares of what a change of one unit would add to them (a
// likelihood ratio; Page 1955). Its spread is that of the likelihood. A beginning
// from which less came in the alert's direction than was expected is none.
func (e *Evaluator) began(d Direction, window int, at int64) (Onset, Stretch) {
	type from struct {
		at   int64
		gain float64
		sum  float64
		unit float64
		rang Stretch
	}
	var all []from
	best, sum, squares := -1, 0.0, 0.0
	var rang Stretch
	for k := range min(window+before, e.Recent.Valid) {
		p := e.Recent.last(k)
		if !p.OK {
			continue
		}
		unit := 1.0
		if e.Model.Family == baseline.Mult {
			unit = max(p.expected(e.Model), 1e-9) / math.Sqrt(p.Var)
		}
		begin := e.ago(at, k)
		rang.add(e.cfg.Kind, begin, e.length(begin), e.natural(p.X), e.natural(p.expected(e.Model)))
		sum, squares = sum+min(max(p.Z, -8), 8)*float64(d)*unit, squares+unit*unit
		if sum <= 0 || rang.Off(d) <= 0 {
			continue
		}
		all = append(all, from{begin, sum * sum / (2 * squares), sum, squares, rang})
		if best < 0 || all[len(all)-1].gain >= all[best].gain {
			best = len(all) - 1
		}
	}
	if best < 0 {
		return Onset{At: at, Spread: float64(e.step)}, Stretch{}
	}
	b := &all[best]
	o := Onset{At: b.at}
	weight, off, square := 0.0, 0.0, 0.0
	for i := range all {
		w, far := math.Exp((all[i].gain-b.gain)/2), float64(all[i].at-b.at)
		weight, off, square = weight+w, off+w*far, square+w*far*far
	}
	mean := off / weight
	o.Spread = 0.5*float64(e.step) + math.Sqrt(max(square/weight-mean*mean, 0)+mean*mean)
	o.Effect, o.Error = e.change(&b.rang), 1/math.Sqrt(b.unit)
	if e.Model.Family != baseline.Mult || e.cfg.Kind == timeline.Share {
		o.Error = math.Abs(o.Effect) * math.Sqrt(b.unit) / b.sum
	}
	return o, b.rang
}

// natural is a judged value as people know it.
func (e *Evaluator) natural(y float64) float64 { return e.Model.Back(y, e.Model.MeanRows) }

// change is by how much a stretch differs from what was expected.
func (e *Evaluator) change(s *Stretch) float64 {
	if e.cfg.Kind == timeline.Share {
		return s.Observed - s.Expected
	}
	return min(max((s.Observed-s.Expected)/max(math.Abs(s.Expected), 1e-9), -100), 100)
}

// locate gives an alert that begins with a period the stretch that rang, and where
// it likely began if its rule did not say so.
func (e *Evaluator) locate(a *Alert, pt *baseline.Point, r *Reading) {
	if a.Rang.Periods == 0 && e.windowed() {
		for k := range min(e.between(a.Since, pt.At)+1, e.Recent.Valid) {
			if p := e.Recent.last(k); p.OK {
				a.Rang.add(e.cfg.Kind, e.ago(pt.At, k), e.length(e.ago(pt.At, k)), e.natural(p.X), e.natural(p.expected(e.Model)))
			}
		}
	}
	if (a.Rang.Periods == 0 || a.Cause == Deviation && a.Rang.Off(a.Direction) <= 0) && !math.IsNaN(r.Observed) {
		a.Rang = Stretch{}
		a.Rang.add(e.cfg.Kind, pt.At, e.length(pt.At), r.Observed, r.Expected)
	}
	a.Rang.To = max(a.Rang.To, e.after(pt.At))
	if a.Rang.From == 0 {
		a.Rang.From = a.Since
	}
	a.Worst = a.Rang
	if a.Onset.At == 0 {
		a.Onset = Onset{At: a.Since, Spread: 0.5 * float64(e.step)}
		if a.Cause == Missing {
			a.Onset.Effect = -1
		} else if a.Rang.Periods > 0 {
			a.Onset.Effect = e.change(&a.Rang)
		}
	}
}

// worsen keeps the stretch that lies farthest off since the alert was raised, as
// long as the one that rang.
func (e *Evaluator) worsen(a *Alert, r *Reading) {
	length := max(e.between(a.Rang.From, a.Rang.To), 1)
	if a.Recent.Periods >= length {
		a.Recent = Stretch{}
	}
	a.Recent.add(e.cfg.Kind, r.At, e.length(r.At), r.Observed, r.Expected)
	if 2*a.Recent.Periods >= length && a.Recent.Off(a.Direction) > max(a.Worst.Off(a.Direction), 0) {
		a.Worst = a.Recent
	}
}
