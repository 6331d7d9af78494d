package detect

// surprise follows runs of periods that are each unlikely: S is −ln of the
// probability of the run so far. How far runs of the series have gone by
// themselves, block by block, sets its limit: where the probabilities are too
// sure of themselves, their peaks fall off more slowly than those of a unit
// exponential, and the limit is higher.
type surprise struct {
	Since int64
	S     float64
	N     int // periods
	Peaks peaks

	least          float64 // what the probability alone asks for
	warn, critical float64
	settled        bool
}

// surprisePrior is the slope of peaks whose probabilities are right: −ln P of
// independent events is exponential with mean 1.
const surprisePrior = 1

// add takes a period of a run.
func (s *surprise) add(at int64, nats float64) {
	if s.N == 0 {
		s.Since = at
	}
	s.N++
	s.S += nats
}

// end finishes a run; where it counts, its peak goes into the block.
func (s *surprise) end(counts bool) {
	if s.N > 0 && counts {
		s.Peaks.see(s.S)
	}
	s.S, s.N = 0, 0
}

// settle derives the limits from the peaks, once they are asked for: few runs come
// near to what their probability alone allows.
func (s *surprise) settle(e *Evaluator, rule Cause) {
	s.least = leastLimit(Share(rule)*e.budget(e.rule.Warn), e.ownStep())
	s.settled = false
}

// limits are the statistic at which the rule tells, and at which it is critical.
func (s *surprise) limits(e *Evaluator, rule Cause) (warn, critical float64) {
	if !s.settled {
		share, caution := Share(rule), e.rule.Caution.Of(rule)
		s.Peaks.settle(e.rule.Kin.surprise(rule), &e.odd)
		s.warn = caution * s.Peaks.surpriseLimit(share*e.budget(e.rule.Warn), e.ownStep(), e.cadence.block)
		s.critical = max(caution*s.Peaks.surpriseLimit(share*e.budget(e.rule.Critical), e.ownStep(), e.cadence.block), s.warn)
		s.settled = true
	}
	return s.warn, s.critical
}

// over tells whether the run is beyond its limit.
func (s *surprise) over(e *Evaluator, rule Cause) bool {
	if s.S <= s.least {
		return false
	}
	warn, _ := s.limits(e, rule)
	return s.S > warn
}

// strength is how far the run lies over its limit, and whether over the critical
// one.
func (s *surprise) strength(e *Evaluator, rule Cause) (float64, bool) {
	warn, critical := s.limits(e, rule)
	return s.S / warn, s.S > critical
}
