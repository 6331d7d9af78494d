package score

import (
	"math"
	"math/rand/v2"
	"testing"
)

func TestPairedIncidentsGiveTheExactProbability(t *testing.T) {
	var found [][2]bool
	for range 1 {
		found = append(found, [2]bool{true, false})
	}
	for range 7 {
		found = append(found, [2]bool{false, true})
	}
	for range 20 {
		found = append(found, [2]bool{true, true})
	}
	p := Compare(found, nil)
	// 2·P(Bin(8, ½) ≤ 1) = 2·9/256.
	if p.OnlyFirst != 1 || p.OnlySecond != 7 || math.Abs(p.RecallP-18.0/256) > 1e-12 {
		t.Errorf("%+v", p)
	}
	if math.Abs(p.Recall.Estimate-6.0/28) > 1e-12 || p.Recall.Low < 0 || p.Recall.High > 0.45 || p.Recall.Low >= p.Recall.High {
		t.Errorf("recall %+v", p.Recall)
	}
}

func TestPairedFalseAlarmsAreComparedBySeries(t *testing.T) {
	even := make([][2]Tally, 10)
	for i := range even {
		even[i] = [2]Tally{{Hits: 2, False: 3}, {Hits: 2, False: 1}}
	}
	p := Compare(nil, even)
	if p.False != -20 || p.FalseP > 0.01 || p.FalseHigh >= 0 {
		t.Errorf("two fewer on each of ten series: %+v", p)
	}
	if math.Abs(p.Precision.Estimate-(20.0/30-20.0/50)) > 1e-12 {
		t.Errorf("precision %+v", p.Precision)
	}
	lumped := make([][2]Tally, 10)
	lumped[3] = [2]Tally{{False: 20}, {}}
	if q := Compare(nil, lumped); q.FalseP < 0.4 || q.FalseHigh < 0 {
		t.Errorf("all twenty on one series may be chance: %+v", q)
	}
	if same := Compare(nil, [][2]Tally{{{False: 1}, {False: 1}}}); same.FalseP != 1 || same.RecallP != 1 || same.False != 0 {
		t.Errorf("no difference: %+v", same)
	}
	if q := Compare(nil, even); q != p {
		t.Error("the same comparison gives another answer")
	}
}

func TestTheUpperBoundOfAShareIsExact(t *testing.T) {
	// One-sided 95 % bounds: of none in n it is 1 − 0.05^(1/n); 59 faults without a
	// loss prove 5 %.
	for _, n := range []int{1, 10, 59} {
		if got, want := UpperShare(0, n), 1-math.Pow(0.05, 1/float64(n)); math.Abs(got-want) > 1e-9 {
			t.Errorf("0 of %d: %g, want %g", n, got, want)
		}
	}
	if UpperShare(0, 59) > 0.05 || UpperShare(0, 58) < 0.05 || UpperShare(3, 3) != 1 {
		t.Error("bounds")
	}
}

func TestAProbabilityAndItsIntervalSayTheSame(t *testing.T) {
	rng := rand.New(rand.NewPCG(6, 1))
	for round := range 60 {
		var tallies [][2]Tally
		var found [][2]bool
		for range 3 + rng.IntN(12) {
			tallies = append(tallies, [2]Tally{{False: rng.IntN(9)}, {False: rng.IntN(5)}})
			found = append(found, [2]bool{rng.IntN(2) == 0, rng.IntN(3) > 0})
		}
		c := Compare(found, tallies)
		for name, x := range map[string]struct{ p, low, high float64 }{"false alarms": {c.FalseP, c.FalseLow, c.FalseHigh},
			"recall": {c.RecallP, c.Recall.Low, c.Recall.High}} {
			if without := x.low > 0 || x.high < 0; without != (x.p < 0.05) && x.p != 0.05 {
				t.Errorf("round %d, %s: %g to %g, p = %.3f", round, name, x.low, x.high, x.p)
			}
		}
	}
}
