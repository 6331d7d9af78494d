package detect

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
)

// ofWindows is what is believed of windows before anything is seen.
var ofWindows = slopePrior{slope: windowPrior, worth: tailPrior}

func sortedOf(values []float32) []float32 {
	list := slices.Clone(values)
	slices.Sort(list)
	return list
}

func TestATailIsExceededAsOftenAsStated(t *testing.T) {
	// Exponential excesses: over many histories the level for a share p must be
	// exceeded by about that share of what comes, by its own distribution.
	rng := rand.New(rand.NewPCG(4, 17))
	for _, p := range []float64{0.1, 0.01, 0.001} {
		exceeded := 0.0
		const histories = 600
		for range histories {
			values := make([]float32, 90)
			for i := range values {
				values[i] = float32(2 + rng.ExpFloat64()*0.45)
			}
			fit := fitTail(values, sortedOf(values), ofWindows)
			exceeded += math.Exp(-(fit.inside(p) - 2) / 0.45)
		}
		if got := exceeded / histories; got > 1.5*p || got < p/2.5 {
			t.Errorf("stated %g, exceeded %g", p, got)
		}
	}
}

func TestExtremesThatComeTogetherCountAsFewer(t *testing.T) {
	together, apart := make([]float32, 60), make([]float32, 60)
	for i := range together {
		together[i], apart[i] = 1, 1
	}
	for k := range 18 {
		together[20+k] = 3 + float32(k%5)
		apart[3*k+1] = 3 + float32(k%5)
	}
	a, b := fitTail(together, sortedOf(together), ofWindows), fitTail(apart, sortedOf(apart), ofWindows)
	if a.above >= b.above/3 {
		t.Errorf("eighteen days in a row count as %.1f, apart as %.1f", a.above, b.above)
	}
}

func TestOneOddEpisodeIsLeftOutAndTwoAreNot(t *testing.T) {
	rng := rand.New(rand.NewPCG(9, 9))
	values := make([]float32, 60)
	for i := range values {
		values[i] = float32(2.5 + 0.4*rng.ExpFloat64())
	}
	var room []float32
	clean := fitWithoutOne(values, sortedOf(values), ofWindows, &room)
	values[30], values[31] = 40, 25
	one := fitWithoutOne(values, sortedOf(values), ofWindows, &room)
	if one.n != 58 || one.inside(0.001) > 1.15*clean.inside(0.001) {
		t.Errorf("one episode of two days: a limit of %.2f, without it %.2f", one.inside(0.001), clean.inside(0.001))
	}
	values[10] = 38
	if two := fitWithoutOne(values, sortedOf(values), ofWindows, &room); two.level(0.001) < 38 {
		t.Errorf("of what came twice the smaller lies beyond the limit of %.2f", two.level(0.001))
	}
}

func TestPeaksKeepTheirOrderAndForget(t *testing.T) {
	var p peaks
	for i := range 300 {
		p.see(float64((i * 37) % 101))
		p.close(112)
	}
	if len(p.Values) != 112 || len(p.sorted) != 112 || !slices.IsSorted(p.sorted) {
		t.Fatalf("%d values, %d sorted", len(p.Values), len(p.sorted))
	}
	if first := p.Values[0]; first != float32((188*37)%101) {
		t.Errorf("the oldest kept is %g", first)
	}
	again := peaks{Values: p.Values}
	again.restore()
	if !slices.Equal(again.sorted, p.sorted) {
		t.Error("what is sorted anew differs")
	}
}

func TestRunsAreLimitedByWhatTheSeriesHasDone(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 1))
	e := &Evaluator{rule: Rule{}.Normal(), cadence: cadenceOf(hourly()), step: 3600, day: daySeconds}
	limit := func(scale float64) float64 {
		s := surprise{}
		for range 112 {
			s.add(0, scale*rng.ExpFloat64())
			s.end(true)
			s.Peaks.close(112)
		}
		warn, critical := s.limits(e, Silence)
		if critical < warn {
			t.Errorf("critical %.1f lies under warn %.1f", critical, warn)
		}
		return warn
	}
	// Probabilities that are right give what they say; such that are too sure of
	// themselves are met with a higher limit.
	right, sure := limit(1), limit(8)
	least := leastLimit(silenceShare*Budget(Year, 1), 3600)
	if right < least || right > 1.6*least || sure < 3*right {
		t.Errorf("limit %.1f where they are right (they say %.1f), %.1f where not", right, least, sure)
	}
}
