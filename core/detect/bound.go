package detect

import (
	"errors"
	"fmt"
	"math"

	"tinbell/core/baseline"
	"tinbell/core/timeline"
)

// Bounds are what a person does not allow beside a learned band: a value beyond them
// rings at once, however usual it is. They spend nothing of the budget. The zero value
// allows everything.
type Bounds struct {
	Lowest, Highest *float64 // in units of the series
	Fall, Rise      float64  // shares of an earlier value by which a value may lie below and above it; 0: any
	Back            int      // how many periods ago that was
}

// none tells that everything is allowed.
func (b Bounds) none() bool { return b.Lowest == nil && b.Highest == nil && b.Fall == 0 && b.Rise == 0 }

// Check refuses bounds that nothing could lie between.
func (b Bounds) Check() error {
	switch {
	case b.Lowest != nil && b.Highest != nil && *b.Lowest > *b.Highest:
		return fmt.Errorf("lowest %g lies above highest %g", *b.Lowest, *b.Highest)
	case b.Fall < 0 || b.Fall > 1:
		return fmt.Errorf("fall %g: allowed is a share, 0 to 1", b.Fall)
	case b.Rise < 0 || math.IsInf(b.Rise, 0):
		return fmt.Errorf("rise %g: allowed is a share, 0 or more", b.Rise)
	case (b.Fall > 0 || b.Rise > 0) && b.Back < 1:
		return errors.New("fall and rise need the value that they are against")
	}
	return nil
}

// Around gives what a value must lie between, an earlier value given; NaN where that is
// not known.
func (b Bounds) Around(before float64) (low, high float64) {
	low, high = math.Inf(-1), math.Inf(1)
	if b.Lowest != nil {
		low = *b.Lowest
	}
	if b.Highest != nil {
		high = *b.Highest
	}
	if b.Fall > 0 && !math.IsNaN(before) {
		low = max(low, before-b.Fall*math.Abs(before))
	}
	if b.Rise > 0 && !math.IsNaN(before) {
		high = min(high, before+b.Rise*math.Abs(before))
	}
	return low, high
}

// beyond is the side of the bounds that a value lies on; 0 between them.
func (b Bounds) beyond(value, before float64) Direction {
	switch low, high := b.Around(before); {
	case value < low:
		return Low
	case value > high:
		return High
	}
	return 0
}

// earlier are the last values of a series whose bounds lie around one of them.
type earlier struct {
	Values []float64
	Next   int
}

// turn keeps a value and gives the one so many periods before it; NaN while there is
// none.
func (b *earlier) turn(value float64, back int) (before float64) {
	if len(b.Values) != back {
		b.Values, b.Next = make([]float64, back), 0
		for i := range b.Values {
			b.Values[i] = math.NaN()
		}
	}
	if back == 0 {
		return math.NaN()
	}
	before, b.Values[b.Next] = b.Values[b.Next], value
	b.Next = (b.Next + 1) % back
	return before
}

// recall takes the last values of a history.
func (e *Evaluator) recall(history []timeline.Sample) {
	if e.rule.Bounds.Fall > 0 || e.rule.Bounds.Rise > 0 {
		for _, s := range history[max(0, len(history)-e.rule.Bounds.Back):] {
			e.Earlier.turn(s.Value, e.rule.Bounds.Back)
		}
	}
}

// bounded looks at what lies beyond the bounds that a person gave, before the period is
// judged by the band; ring opens an alert about it afterwards, if nothing else has.
func (e *Evaluator) bounded(s timeline.Sample, mark timeline.Mark) {
	e.beyond = 0
	b := e.rule.Bounds
	if b.none() {
		return
	}
	back := 0
	if b.Fall > 0 || b.Rise > 0 {
		back = b.Back
	}
	before := e.Earlier.turn(s.Value, back)
	if mark == timeline.Judged && !math.IsNaN(s.Value) && !e.rule.BandOnly {
		e.beyond = b.beyond(s.Value, before)
	}
}

func (e *Evaluator) ring(pt *baseline.Point, r *Reading) {
	if e.beyond == 0 || r.Change != None || e.Open && !e.Alert.Quiet {
		return
	}
	e.Open = false // what is known and not told again gives way
	a := Alert{Cause: Bound, Direction: e.beyond, Severity: Warning, Since: pt.At}
	a.Rang.add(e.cfg.Kind, pt.At, e.length(pt.At), r.Observed, r.Expected)
	r.Change = e.open(pt, r, a)
}
