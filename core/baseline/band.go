package baseline

import (
	"math"

	"tinbell/core/robust"
)

// Residual is the variance-stabilised residual of x: near standard normal for
// clean data of any level. Mult: 2(√(x/D+⅜) − √(mu/D+⅜)) with D the variance to
// mean ratio (Anscombe 1948); Add: the standardised residual.
func (m *Model) Residual(e *Expectation, x float64) float64 {
	if m.Family == Mult {
		d := e.dispersion()
		return 2 * (math.Sqrt(x/d+0.375) - math.Sqrt(e.Mu/d+0.375))
	}
	return (x - e.Mu) / e.Sigma
}

func (e *Expectation) dispersion() float64 {
	return max(e.Sigma*e.Sigma/max(e.Mu, 0.3), 1)
}

// quantile maps a residual quantile back onto the model's scale.
func (m *Model) quantile(e *Expectation, q float64) float64 {
	if m.Family == Mult {
		d := e.dispersion()
		root := max(q/2+math.Sqrt(e.Mu/d+0.375), 0)
		return max(d*(root*root-0.375), 0)
	}
	return e.Mu + q*e.Sigma
}

const (
	// BandMemory is how many residuals a band remembers.
	BandMemory = 1000
	bandBins   = 400 // over ±10 in steps of a twentieth
	binWidth   = 0.05
)

// Band holds the last residuals of a series and the two tail levels that are
// steered so that the stated coverage is met (split conformal prediction with
// online adaption: Gibbs and Candès 2021). Residuals are kept as bin numbers.
type Band struct {
	Coverage  float64
	Ring      []int16
	Next      int
	Counts    []uint16
	TailLow   float64
	TailHigh  float64
	Low, High float64    // residual quantiles as of the last refresh
	Tails     [2]float64 // those at 1 % and 99 %
	Stale     int        // residuals since

	first, last int // bins that may hold something
}

// NewBand makes an empty band with the stated coverage, for example 0.99.
func NewBand(coverage float64) *Band {
	tail := (1 - coverage) / 2
	b := &Band{Coverage: coverage, Counts: make([]uint16, bandBins), TailLow: tail, TailHigh: tail, first: bandBins, last: -1}
	b.refresh()
	return b
}

func bin(residual float64) int {
	return int(clamp(math.Floor(residual/binWidth)+bandBins/2, 0, bandBins-1))
}

// Add takes the residual of a clean sample and steers the tails. A step is no
// larger than a tail, so that it can be taken back.
func (b *Band) Add(residual float64) {
	target := (1 - b.Coverage) / 2
	speed := min(target, 0.005)
	b.TailLow = clamp(b.TailLow+speed*(target-above(b.Low, residual)), 0.0005, 0.2)
	b.TailHigh = clamp(b.TailHigh+speed*(target-above(residual, b.High)), 0.0005, 0.2)
	k := bin(residual)
	if len(b.Ring) < BandMemory {
		b.Ring = append(b.Ring, int16(k))
	} else {
		b.Counts[b.Ring[b.Next]]--
		b.Ring[b.Next] = int16(k)
		if b.Next++; b.Next == BandMemory {
			b.Next = 0
		}
	}
	b.Counts[k]++
	b.first, b.last = min(b.first, k), max(b.last, k)
	if b.Stale++; b.Stale >= 24 {
		b.refresh()
	}
}

func above(a, b float64) float64 {
	if a > b {
		return 1
	}
	return 0
}

// refresh finds the residual quantiles at the current tail levels. Short
// histories fall back on the normal quantile, which the residuals are near to.
func (b *Band) refresh() {
	b.Stale = 0
	b.Low, b.High = b.tail(b.TailLow, false), b.tail(b.TailHigh, true)
	b.Tails = [2]float64{b.tail(0.01, false), b.tail(0.01, true)}
}

func (b *Band) tail(level float64, upper bool) float64 {
	n := len(b.Ring)
	rank := level * float64(n+1)
	if n < 100 || rank < 1 {
		// Too few to have seen this tail: extrapolate from the deepest level seen.
		if n < 100 {
			return signed(-1.15*robust.NormalQuantile(level), upper)
		}
		seen := 4 / float64(n+1)
		return b.tail(seen, upper) * robust.NormalQuantile(level) / robust.NormalQuantile(seen)
	}
	cum := 0
	at, step := b.first, 1
	if upper {
		at, step = b.last, -1
	}
	for ; at >= b.first && at <= b.last; at += step {
		count := int(b.Counts[at])
		if count > 0 && float64(cum+count) >= rank {
			within := (rank - float64(cum)) / float64(count) * binWidth
			edge := float64(at-bandBins/2) * binWidth
			if upper {
				return edge + binWidth - within
			}
			return edge + within
		}
		cum += count
	}
	return signed(-robust.NormalQuantile(level), upper)
}

func signed(v float64, upper bool) float64 {
	if upper {
		return math.Abs(v)
	}
	return -math.Abs(v)
}

// Edges gives low and high of the band on the model's scale, stretched by a
// factor of at least one while the model is young. Counts end on whole numbers,
// so that the band is never narrower than stated.
func (b *Band) Edges(m *Model, e *Expectation, stretch float64) (low, high float64) {
	low, high = m.quantile(e, min(b.Low, 0)*stretch), m.quantile(e, max(b.High, 0)*stretch)
	if m.Family == Mult {
		low, high = math.Floor(low), math.Ceil(high)
	}
	return low, high
}

// TailProbability estimates how likely a residual at least this far out, on
// either side, is: a normal tail scaled to the residuals' own first and last
// percent.
func (b *Band) TailProbability(residual float64) float64 {
	edge := b.Tails[0]
	if residual >= 0 {
		edge = b.Tails[1]
	}
	scaled := residual / max(math.Abs(edge), 0.5) * 2.3263
	return max(math.Erfc(math.Abs(scaled)/math.Sqrt2), 1e-300)
}

// Restore recomputes what is not stored, after decoding.
func (b *Band) Restore() {
	b.first, b.last = bandBins, -1
	for k, n := range b.Counts {
		if n > 0 {
			b.first, b.last = min(b.first, k), max(b.last, k)
		}
	}
}
