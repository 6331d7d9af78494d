package detect

import (
	"math"
	"math/rand/v2"
	"testing"
)

func TestTheLastDayIsComparedWithThePastsOwnDays(t *testing.T) {
	var readings []Reading
	for day := range 29 {
		for range 24 {
			v := 100 + 5*float64(day%3-1)
			if day == 28 {
				v = 60
			}
			readings = append(readings, Reading{Observed: v, Expected: 100})
		}
	}
	if low := LastDays(readings, 24); low.Day != 1440 || low.Expected != 2400 || low.Deviation > -2 || low.Lowest != 1440 || low.Highest != 2520 {
		t.Errorf("forty percent lost: %+v", low)
	}
	if calm := LastDays(readings[:28*24], 24); math.Abs(calm.Deviation) > 1 || calm.Week < 16000 {
		t.Errorf("an ordinary day deviates by %.2f, week %.0f", calm.Deviation, calm.Week)
	}
	if young := LastDays(readings[:48], 24); !math.IsNaN(young.Deviation) || young.Month != 4680 {
		t.Errorf("two days of history say nothing of the third: %+v", young)
	}
	if half := LastDays(readings[:12], 24); !math.IsNaN(half.Lowest) || half.Day != 1140 {
		t.Errorf("half a day is no lowest day: %+v", half)
	}
	if none := LastDays(nil, 24); none.Day != 0 || !math.IsNaN(none.Expected) {
		t.Errorf("of nothing: %+v", none)
	}
}

// Of clean days 1 % lie beyond ±1, at every spread; drawn by a law that the code does not know.
func TestOneOfAHundredCleanDaysIsBeyondItsEdges(t *testing.T) {
	for _, spread := range []float64{0.02, 0.1} {
		rng := rand.New(rand.NewPCG(uint64(1000*spread), 9))
		beyond, days := 0, 4000
		for range days {
			var readings []Reading
			for range 29 {
				share := 1 + spread*rng.NormFloat64()
				for range 4 {
					readings = append(readings, Reading{Observed: 1e5 * share, Expected: 1e5})
				}
			}
			if math.Abs(LastDays(readings, 4).Deviation) > 1 {
				beyond++
			}
		}
		// 28 days tell their spread to an eighth, which lets a few more through.
		if share := float64(beyond) / float64(days); share < 0.005 || share > 0.035 {
			t.Errorf("spread %g: %.3f of clean days are beyond", spread, share)
		}
	}
}
