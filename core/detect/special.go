package detect

import (
	"math"

	"tinbell/core/baseline"
	"tinbell/core/timeline"
)

// silence tests runs of zeros where rows were due: the probability of all of
// them being zero by chance, under a negative binomial with the model's spread.
type silence struct {
	Since int64
	LogP  float64
	Zeros int
}

const silenceLogP = -14

func (s *silence) clear() { *s = silence{} }

func (s *silence) see(e *Evaluator, pt *baseline.Point, ex *baseline.Expectation) bool {
	if e.cfg.Kind != timeline.Count || pt.X != 0 {
		s.clear()
		return false
	}
	if ex.Mu <= 0.5 {
		return false
	}
	if s.Zeros == 0 {
		s.Since = pt.At
	}
	phi := max((ex.Sigma*ex.Sigma-ex.Mu)/(ex.Mu*ex.Mu), 1e-6)
	s.LogP -= math.Log1p(phi*ex.Mu) / phi
	s.Zeros++
	return s.Zeros >= e.cadence.zeros && s.LogP < silenceLogP
}

// stuck tests runs of equal values against how often values repeat by chance.
type stuck struct {
	Ties        float64 // share of repeats in training, runs counted once
	EqualShare  float64 // share of equal neighbours
	First       int     // longest run in training
	Second      int     // second longest
	Common      []float64
	CommonShare []float64
	Total       float64

	Last  float64
	Run   int
	Since int64
	LogP  float64
}

func (k *stuck) clear() { k.Run, k.LogP = 0, 0 }

func (k *stuck) forget() { k.clear(); k.Last = math.NaN() }

// train counts runs and common values in a history; of counts, which have a
// probability of their own, only zeros.
func (k *stuck) train(points []baseline.Point, mult bool) {
	counts := map[float64]float64{}
	zeros := 0.0
	runs, equal, pairs, run := 0, 0, 0, 1
	last := math.NaN()
	end := func() {
		if run > k.First {
			k.First, k.Second = run, k.First
		} else if run > k.Second {
			k.Second = run
		}
	}
	for i := range points {
		if !points[i].Usable() {
			continue
		}
		x := points[i].X
		if !mult {
			counts[x]++
		} else if x == 0 {
			zeros++
		}
		k.Total++
		if !math.IsNaN(last) {
			pairs++
			if x == last {
				equal++
				if run == 1 {
					runs++
				}
				run++
			} else {
				end()
				run = 1
			}
		}
		last = x
	}
	end()
	k.Ties = float64(runs+1) / float64(pairs+2)
	k.EqualShare = float64(equal) / float64(max(pairs, 1))
	if zeros > 0 {
		counts[0] = zeros
	}
	for x, n := range counts {
		if n >= 0.02*k.Total {
			k.Common, k.CommonShare = append(k.Common, x), append(k.CommonShare, n/k.Total)
		}
	}
	k.Last = math.NaN()
}

func (k *stuck) share(x float64) float64 {
	for i, v := range k.Common {
		if v == x {
			return k.CommonShare[i]
		}
	}
	return 1 / max(k.Total, 1)
}

func (e *Evaluator) stuckTells(pt *baseline.Point, ex *baseline.Expectation) bool {
	return e.Stuck.see(e, pt, ex) && !e.rule.StuckOff
}

func (k *stuck) see(e *Evaluator, pt *baseline.Point, ex *baseline.Expectation) bool {
	if pt.X != k.Last {
		k.Last, k.Run, k.LogP, k.Since = pt.X, 1, 0, pt.At
		return false
	}
	k.Run++
	k.LogP += math.Log(max(k.Ties, k.chance(e.Model.Family, pt.X, ex), 1e-9))
	if e.cfg.Kind != timeline.Count && (pt.X == 0 || (e.cfg.Kind == timeline.Share && e.Model.Back(pt.X, pt.Rows) == 1)) {
		return false
	}
	long := max(4, 2*k.Second)
	if k.EqualShare >= 0.3 {
		long = 3 * k.First
	}
	return k.Run >= long && k.LogP < math.Log(1e-6)
}

// chance is how likely this very value was.
func (k *stuck) chance(family baseline.Family, x float64, ex *baseline.Expectation) float64 {
	if family != baseline.Mult {
		return k.share(x)
	}
	z := (x - ex.Mu) / ex.Sigma
	p := 0.4 / ex.Sigma * math.Exp(-min(z*z, 8)/2)
	if ex.Mu < 10 {
		logGamma, _ := math.Lgamma(x + 1)
		p = max(p, math.Exp(x*math.Log(max(ex.Mu, 1e-9))-ex.Mu-logGamma))
	}
	if x == 0 {
		p = max(p, k.share(0))
	}
	return min(p, 1)
}

// absence tests periods that were due and did not come, against how often the
// same period of day (of daily series, the same weekday) goes missing. Slots
// with few visits lean on the overall share.
type absence struct {
	Missed [2][]float64
	Seen   [2][]float64
	All    float64 // share missing overall
	Since  int64
	LogP   float64
	Run    int // of them where one is rare
	InRow  int
}

func (a *absence) clear() { a.LogP, a.Run, a.InRow = 0, 0, 0 }

// settle keeps the overall share of a history that has been gone through.
func (a *absence) settle(share float64) { a.All = share }

// cell is where a slot is counted.
func (a *absence) cell(slot *timeline.Slot, perDay int) (missed, seen *float64) {
	c, h, n := int(slot.Class), int(slot.Hour), perDay
	if perDay == 1 {
		c, h, n = 0, int(slot.Day), 7
	}
	if a.Seen[0] == nil {
		for c := range 2 {
			a.Missed[c], a.Seen[c] = make([]float64, n), make([]float64, n)
		}
	}
	return &a.Missed[c][h], &a.Seen[c][h]
}

func (a *absence) arrived(pt *baseline.Point, perDay int) {
	_, seen := a.cell(&pt.Slot, perDay)
	*seen++
	a.clear()
}

// chance that the slot's period does not come. The prior is worth two and a
// half visits, of daily series ten.
func (a *absence) chance(slot *timeline.Slot, perDay int) float64 {
	missed, seen := a.cell(slot, perDay)
	if perDay == 1 {
		all, n := 0.1, 1.0
		for d := range a.Seen[0] {
			all, n = all+a.Missed[0][d], n+a.Seen[0][d]
		}
		return (*missed + 10*all/n) / (*seen + 10)
	}
	return (*missed + 2*min(a.All, 0.5) + 0.1) / (*seen + 2.5)
}

func (e *Evaluator) judgeAbsence(pt *baseline.Point) Change {
	a := &e.Absence
	if a.Seen[0] == nil {
		return None
	}
	chance := a.chance(&pt.Slot, e.Model.PerDay)
	if e.calibrating {
		missed, seen := a.cell(&pt.Slot, e.Model.PerDay)
		*missed++
		*seen++
		return None
	}
	if e.rule.Missing < 0 || e.rule.BandOnly {
		return None
	}
	if a.InRow == 0 {
		a.Since = pt.At
	}
	a.InRow++
	a.LogP += math.Log(min(chance, 1))
	if chance < 0.05 {
		a.Run++
	}
	tells := a.InRow >= e.rule.Missing
	if e.rule.Missing == 0 {
		tells = a.Run >= e.cadence.absences && a.LogP < math.Log(0.1*Budget(e.rule.Warn, e.rule.Series)*float64(e.step)/month.Seconds())
	}
	if e.Open || !tells {
		return None
	}
	r := Reading{Observed: math.NaN()}
	return e.open(pt, &r, Alert{Cause: Missing, Severity: Warning, Since: a.Since})
}

// steps follows a stepped series: a jump is a change larger than any before. A
// change that was taken back within a week was a fault or a slip, and is not
// one to measure by.
type steps struct {
	Value   float64
	Known   bool
	Largest float64
	Seen    int

	history []step // while learning
}

type step struct {
	at       int64
	from, to float64
}

// settle finds the largest change that lasted.
func (k *steps) settle() {
	for i, s := range k.history {
		back := false
		for j, other := range k.history {
			if j != i && max(other.at-s.at, s.at-other.at) <= 7*86400 && (j > i && undone(s.from, other.to) || j < i && undone(other.from, s.to)) {
				back = true
			}
		}
		if jump := leap(s.from, s.to); !back && !math.IsInf(jump, 1) {
			k.Largest = max(k.Largest, jump)
		}
	}
	k.history = nil
}

// undone tells whether the value is about the same again.
func undone(before, after float64) bool { return leap(before, after) < 0.15 }

func leap(from, to float64) float64 {
	if from > 0 && to > 0 {
		return math.Abs(math.Log(to / from))
	}
	if from == to {
		return 0
	}
	return math.Inf(1)
}

func (e *Evaluator) takeStepped(pt *baseline.Point, observed float64) Reading {
	k := &e.Steps
	e.Last = pt.At
	r := Reading{At: pt.At, Observed: observed, Rows: pt.Rows, Masked: pt.Masked, ReturnPeriod: float64(e.step)}
	reach := math.Exp(e.stepLimit())
	r.Expected, r.Low, r.High = k.Value, k.Value/reach, k.Value*reach
	if !k.Known {
		r.Expected, r.Low, r.High = pt.X, pt.X, pt.X
	}
	if !pt.Known || pt.Masked {
		if !pt.Known {
			r.Observed = math.NaN()
			if !pt.Masked && !pt.Holiday {
				r.Change = e.judgeAbsence(pt)
			}
		}
		return r
	}
	missing := e.Open && e.Alert.Cause == Missing
	e.Absence.arrived(pt, e.Model.PerDay)
	defer func() { k.Value, k.Known = pt.X, true; k.Seen++ }()
	if missing {
		r.Change = e.close(pt, pt.At, "recovered")
	}
	if !k.Known || missing {
		return r
	}
	r.Deviation = deviation(observed, r.Expected, r.Low, r.High)
	if pt.X == k.Value {
		if e.Open {
			e.weigh(pt, &r)
		}
		return r
	}
	if e.calibrating {
		k.history = append(k.history, step{pt.At, k.Value, pt.X})
		return r
	}
	if e.Open {
		r.Change = e.close(pt, pt.At, "changed")
		return r
	}
	if jump := leap(k.Value, pt.X); jump <= e.stepLimit() {
		k.Largest = max(k.Largest, jump)
		return r
	}
	if e.rule.BandOnly {
		return r
	}
	d := High
	if pt.X < k.Value {
		d = Low
	}
	if e.rule.Direction == Both || e.rule.Direction == d {
		r.Change = e.open(pt, &r, Alert{Cause: Step, Direction: d, Severity: Warning, Since: pt.At})
	}
	return r
}

func (e *Evaluator) stepLimit() float64 { return max(0.4, 3*e.Steps.Largest) }
