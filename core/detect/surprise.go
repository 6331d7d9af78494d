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

	warn, critical float64
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

// settle derives the limits from the peaks.
func (s *surprise) settle(e *Evaluator, share float64) {
	s.Peaks.settle(surprisePrior, &e.odd)
	s.warn = s.Peaks.surpriseLimit(share*Budget(e.rule.Warn, e.rule.Series), e.step, e.cadence.block)
	s.critical = max(s.Peaks.surpriseLimit(share*Budget(e.rule.Critical, e.rule.Series), e.step, e.cadence.block), s.warn)
}

// rarity is how many times rarer than asked for the run is, by its own tail.
func (s *surprise) excess() float64 { return s.S / s.warn }
