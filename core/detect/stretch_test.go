package detect

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"tinbell/core/timeline"
)

// What a reader is told was measured where the alert rang, not over a stretch that
// had recovered by then.
func TestAnAlertStatesTheStretchThatRang(t *testing.T) {
	rng := rand.New(rand.NewPCG(41, 7))
	start := time.Date(2026, 3, 2, 0, 0, 0, 0, halifax)
	told := 0
	for range 40 {
		h := scene(rng, hourly(), start, 70, 900)
		from := 60*24 + 8 + rng.IntN(6)
		for i := from; i < from+5; i++ {
			h[i].Value = math.Round(h[i].Value * 0.5)
		}
		alerts, _ := run(t, config(timeline.Count, hourly()), Rule{Warn: Year}, h, 56*24)
		for _, a := range alerts {
			if a.Cause != Deviation || a.Raised < h[from].At || a.Raised > h[from+6].At {
				continue
			}
			told++
			ratio := a.Rang.Observed / a.Rang.Expected
			if a.Direction != Low || math.Abs(ratio-0.5) > 0.12 || a.Rang.From != a.Since {
				t.Errorf("half of the rows are lost and it rang for %.2f of them: %+v", ratio, a.Rang)
			}
			if math.Abs(a.Onset.Effect+0.5) > 0.12+3*a.Onset.Error {
				t.Errorf("the effect is %+.2f ± %.2f, planted was −0.50", a.Onset.Effect, a.Onset.Error)
			}
			if off := math.Abs(float64(a.Onset.At - h[from].At)); off > 3*a.Onset.Spread {
				t.Errorf("the onset is %.1f h off, its spread is %.1f h", off/3600, a.Onset.Spread/3600)
			}
		}
	}
	if told < 20 {
		t.Errorf("only %d of 40 faults rang", told)
	}
}
