package detect

import (
	"math"

	"tinbell/core/baseline"
	"tinbell/core/timeline"
)

// steps follows a stepped series: a jump is a change larger than those it has
// made. A change that was taken back within a week does not make larger ones
// usual, but counts as one that happened.
type steps struct {
	Value   float64
	Known   bool
	Largest float64 // that lasted
	Peaks   peaks
	Reach   float64 // a larger change tells

	history []step // while learning
}

type step struct {
	at, block int64
	from, to  float64
}

const (
	largestLeap = 6    // ln; from or to nothing counts as that
	stepPrior   = 0.13 // slope of the daily largest changes of price lists and reference tables
	leastStep   = 0.4
)

// settleLasting finds the largest change that lasted, and the largest of each
// block from the first to the last; one that takes another back is no change of
// its own.
func (k *steps) settleLasting(first, last, day int64, keep int) {
	k.Peaks = peaks{}
	largest := map[int64]float64{}
	for i, s := range k.history {
		back, undoes := false, false
		for j, other := range k.history {
			if j != i && max(other.at-s.at, s.at-other.at) <= 7*day {
				back = back || j > i && undone(s.from, other.to) || j < i && undone(other.from, s.to)
				undoes = undoes || j < i && undone(other.from, s.to)
			}
		}
		jump := leap(s.from, s.to)
		if !back && jump < largestLeap {
			k.Largest = max(k.Largest, jump)
		}
		if !undoes {
			largest[s.block] = max(largest[s.block], jump)
		}
	}
	for block := max(first, last-int64(keep)); block < last; block++ {
		k.Peaks.see(largest[block])
		k.Peaks.close(keep)
	}
	k.Peaks.see(largest[last])
	k.history = nil
}

func (k *steps) settle(e *Evaluator) {
	k.Reach = max(leastStep, 3*k.Largest)
	if len(k.Peaks.Values) > 0 {
		k.Peaks.settle(slopePrior{slope: stepPrior, worth: tailPrior}, &e.odd)
		each := stepShare * e.budget(e.rule.Warn) * float64(e.cadence.block) / 30
		k.Reach = max(k.Reach, k.Peaks.fit.level(min(each, 0.95)))
	}
	k.Reach *= e.rule.Caution.Of(Step)
}

// undone tells whether the value is about the same again.
func undone(before, after float64) bool { return leap(before, after) < 0.15 }

// leap is the size of a change in ln.
func leap(from, to float64) float64 {
	if from == to {
		return 0
	}
	if from > 0 && to > 0 {
		return min(math.Abs(math.Log(to/from)), largestLeap)
	}
	return largestLeap
}

// stepped judges a series that mostly repeats its last value.
type stepped struct{ *Evaluator }

func (e stepped) peek(pt *baseline.Point, s timeline.Sample) Reading {
	reach := math.Exp(e.Steps.Reach)
	return Reading{At: pt.At, Observed: s.Value, Expected: e.Steps.Value, Low: e.Steps.Value / reach, High: e.Steps.Value * reach}
}

func (e stepped) explain(timeline.Sample) []baseline.Part {
	return []baseline.Part{{Name: "last value", Amount: e.Steps.Value}}
}

func (e stepped) take(pt *baseline.Point, observed float64) Reading {
	e.turnBlock(pt)
	k := &e.Steps
	e.Last = pt.At
	r := Reading{At: pt.At, Observed: observed, Rows: pt.Rows, Masked: pt.Masked, ReturnPeriod: float64(e.step)}
	reach := math.Exp(k.Reach)
	r.Expected, r.Low, r.High = k.Value, k.Value/reach, k.Value*reach
	if !k.Known {
		r.Expected, r.Low, r.High = pt.X, pt.X, pt.X
	}
	if !pt.Known || pt.Masked {
		if !pt.Known {
			r.Observed = math.NaN()
			if !pt.Masked && !pt.Holiday {
				r.Change = e.miss(pt)
			}
		}
		return r
	}
	e.InBlock++
	missing := e.Open && e.Alert.Cause == Missing
	e.Absence.arrived(e.Evaluator, pt, e.learning(), !e.Open)
	defer func() { k.Value, k.Known = pt.X, true }()
	if missing {
		r.Change = e.shut(pt, pt.At, "recovered")
	}
	if !k.Known || missing {
		return r
	}
	r.Deviation = deviation(observed, r.Expected, r.Low, r.High)
	if pt.X == k.Value {
		if e.Open {
			e.weigh(pt, &r)
			if e.Alert.Quiet {
				r.Change = e.listen(pt, &r)
			}
		}
		return r
	}
	jump := leap(k.Value, pt.X)
	if e.calibrating {
		k.history = append(k.history, step{pt.At, e.Block, k.Value, pt.X})
		return r
	}
	if e.Open {
		r.Change = e.shut(pt, pt.At, "changed")
		return r
	}
	k.Peaks.see(jump)
	if jump <= k.Reach {
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
		r.Change = e.open(pt, &r, Alert{Cause: Step, Direction: d, Severity: Warning, Since: pt.At, Strength: jump / k.Reach})
	}
	return r
}
