package drift

import (
	"math"
	"math/rand/v2"
)

// sketched is how many values of a numeric feature its edges are taken from.
const sketched = 1 << 15

// Sketch looks at a reference's values, one after another, in memory that does
// not grow with them, and makes a layout: from a uniform sample of the numbers
// (reservoir sampling with skips, Li 1994), or from counted categories.
type Sketch struct {
	kind      Kind
	rng       *rand.Rand
	sample    []float64
	low, high float64
	seen      int64
	next      int64 // which value is taken into the full sample next
	w         float64
	words     map[string]*int64
	many      bool
}

// NewSketch begins the sketch of a feature; the same seed and values give the
// same layout.
func NewSketch(kind Kind, seed uint64) *Sketch {
	return &Sketch{kind: kind, rng: rand.New(rand.NewPCG(seed, 0x5eed)), low: math.Inf(1), high: math.Inf(-1), w: 1,
		words: map[string]*int64{}}
}

// Number takes a value; what is not finite is passed over.
func (s *Sketch) Number(x float64) {
	if x-x != 0 {
		return
	}
	s.low, s.high = min(s.low, x), max(s.high, x)
	s.seen++
	if len(s.sample) < sketched {
		s.sample = append(s.sample, x)
		if len(s.sample) == sketched {
			s.skip()
		}
		return
	}
	if s.seen == s.next {
		s.sample[s.rng.IntN(sketched)] = x
		s.skip()
	}
}

func (s *Sketch) skip() {
	s.w *= math.Exp(math.Log(1-s.rng.Float64()) / sketched)
	s.next = s.seen + int64(math.Log(1-s.rng.Float64())/math.Log(1-s.w)) + 1
}

// Word takes a category.
func (s *Sketch) Word(word []byte) {
	n := s.words[string(word)]
	if n == nil {
		if len(s.words) >= wordsCounted {
			s.many = true
			return
		}
		n = new(int64)
		s.words[string(word)] = n
	}
	*n++
}

// Layout is what the values come to.
func (s *Sketch) Layout() *Layout {
	if s.kind.Numeric() {
		return NumberLayout(s.kind, s.sample, s.low, s.high)
	}
	counts := make(map[string]int64, len(s.words))
	for word, n := range s.words {
		counts[word] = *n
	}
	return WordLayout(s.kind, counts, s.many)
}
