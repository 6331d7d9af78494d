package score

import (
	"cmp"
	"math"
	"math/rand/v2"
	"testing"
)

func everything(int64) bool { return true }

func TestMatchingPairsAlertsWithIncidents(t *testing.T) {
	only := func(s int64) func(int64) bool { return func(x int64) bool { return x == s } }
	incidents := []Incident{{Covers: only(1), Start: 100, End: 200}, {Covers: everything, Start: 500, End: 600},
		{Covers: only(2), Start: 900, End: 950}, {Covers: only(3), Start: 150, End: 0}}
	alerts := []Alert{
		{Series: 1, Start: 130, End: 180},                // hit
		{Series: 1, Start: 190, End: 210},                // repeat
		{Series: 1, Start: 225, End: 230, Slack: 30},     // within slack: repeat
		{Series: 1, Start: 240, End: 245, Slack: 30},     // too late: false
		{Series: 9, Start: 400, End: 0},                  // open across the second incident: hit, no delay
		{Series: 4, Start: 700, End: 710, Planned: true}, // under a planned event: neither
		{Series: 4, Start: 720, End: 730, Label: Planned},
		{Series: 1, Start: 910, End: 930}, // of another series: false
	}
	m := Match(alerts, incidents, 1000)
	want := []Outcome{Hit, Repeat, Repeat, FalseAlarm, Hit, Expected, Expected, FalseAlarm}
	for i, w := range want {
		if m.Outcomes[i] != w {
			t.Errorf("alert %d: %s, want %s", i, m.Outcomes[i], w)
		}
	}
	if !m.Found[0] || !m.Found[1] || m.Found[2] || m.Found[3] {
		t.Errorf("found: %v", m.Found)
	}
	if m.Delay[0] != 30 || m.Delay[1] != 0 || m.Delay[2] != -1 {
		t.Errorf("delays: %v", m.Delay)
	}
}

func TestOneAlertOverTwoIncidentsFindsBoth(t *testing.T) {
	m := Match([]Alert{{Start: 10, End: 100}}, []Incident{{Covers: everything, Start: 5, End: 20}, {Covers: everything, Start: 80,
		End: 120}}, 200)
	if !m.Found[0] || !m.Found[1] || m.Outcomes[0] != Hit {
		t.Errorf("%+v", m)
	}
}

// TestMatchingByTimeIsMatchingOfAllWithAll holds the sweep against comparing every alert
// with every incident, as the definition has it, over catalogues of all sorts: open, long,
// overlapping, in any order.
func TestMatchingByTimeIsMatchingOfAllWithAll(t *testing.T) {
	const now = 5000
	for seed := range uint64(200) {
		rng := rand.New(rand.NewPCG(seed, 77))
		sometime := func(from int64, most int) int64 { // or not over yet
			if rng.IntN(6) == 0 {
				return 0
			}
			return from + int64(rng.IntN(most))
		}
		incidents := make([]Incident, rng.IntN(30))
		for j := range incidents {
			start, on := int64(rng.IntN(now)), int64(rng.IntN(4))
			incidents[j] = Incident{Start: start, End: sometime(start, 1+rng.IntN(1500)), Covers: func(s int64) bool { return on == 0 || s == on }}
		}
		alerts := make([]Alert, rng.IntN(400))
		for i := range alerts {
			start := int64(rng.IntN(now))
			alerts[i] = Alert{Series: int64(rng.IntN(4)), Start: start, End: sometime(start, 900), Slack: int64(10 * rng.IntN(20)),
				Planned: rng.IntN(5) == 0}
		}
		m := Match(alerts, incidents, now)
		over := func(end int64) int64 { return cmp.Or(end, now) }
		for j, in := range incidents {
			first := -1
			for i, a := range alerts {
				if belongs := in.Covers(a.Series) && a.Start <= over(in.End)+a.Slack && over(a.End) >= in.Start; belongs &&
					(first < 0 || a.Start < alerts[first].Start) {
					first = i
				}
			}
			if m.First[j] != first || m.Found[j] != (first >= 0) {
				t.Fatalf("%d: incident %d is found by alert %d (%v), want %d", seed, j, m.First[j], m.Found[j], first)
			}
			if first >= 0 && m.Delay[j] != max(alerts[first].Start-in.Start, 0) {
				t.Fatalf("%d: incident %d after %d", seed, j, m.Delay[j])
			}
		}
		for i, a := range alerts {
			of, hit := -1, false
			for j, in := range incidents {
				if in.Covers(a.Series) && a.Start <= over(in.End)+a.Slack && over(a.End) >= in.Start {
					hit = hit || m.First[j] == i
					if of < 0 {
						of = j
					}
				}
			}
			want := map[bool]Outcome{true: Hit, false: Repeat}[hit]
			if of < 0 {
				want = map[bool]Outcome{true: Expected, false: FalseAlarm}[a.Planned]
			}
			if m.Incident[i] != of || m.Outcomes[i] != want {
				t.Fatalf("%d: alert %d is a %s of %d, want %s of %d", seed, i, m.Outcomes[i], m.Incident[i], want, of)
			}
		}
	}
}

func BenchmarkMatch(b *testing.B) {
	rng := rand.New(rand.NewPCG(5, 5))
	incidents, alerts := make([]Incident, 90), make([]Alert, 100_000)
	for j := range incidents {
		start := int64(j) * 72_000
		incidents[j] = Incident{Start: start, End: start + 18_000, Covers: everything}
	}
	for i := range alerts {
		start := int64(len(alerts)-i)*300 + rng.Int64N(60)
		alerts[i] = Alert{Start: start, End: start + 3600, Slack: 3 * 3600}
	}
	for b.Loop() {
		Match(alerts, incidents, 30_000_000)
	}
}

func TestWilsonGivesPublishedBounds(t *testing.T) {
	// Newcombe 1998, table I, method 3.
	for _, c := range []struct {
		k, n      int
		low, high float64
	}{{81, 263, 0.2553, 0.3662}, {15, 148, 0.0624, 0.1605}, {0, 20, 0, 0.1611}, {1, 29, 0.0061, 0.1718}} {
		got := Wilson(c.k, c.n)
		if math.Abs(got.Low-c.low) > 5e-5 || math.Abs(got.High-c.high) > 5e-5 {
			t.Errorf("%d of %d: %.4f to %.4f, published %.4f to %.4f", c.k, c.n, got.Low, got.High, c.low, c.high)
		}
	}
	if w := Wilson(0, 0); !math.IsNaN(w.Estimate) || w.Low != 0 || w.High != 1 {
		t.Errorf("nothing counted says nothing: %+v", w)
	}
}

func TestPoissonRateGivesPublishedBounds(t *testing.T) {
	// Garwood 1936; the exact limits for counts of 0, 1, 5 and 10.
	for _, c := range []struct {
		k         int
		low, high float64
	}{{0, 0, 3.6889}, {1, 0.0253, 5.5716}, {5, 1.6235, 11.6683}, {10, 4.7954, 18.3904}} {
		got := PoissonRate(c.k, 1)
		if math.Abs(got.Low-c.low) > 1e-3 || math.Abs(got.High-c.high) > 1e-3 {
			t.Errorf("%d: %.4f to %.4f, published %.4f to %.4f", c.k, got.Low, got.High, c.low, c.high)
		}
	}
}

func TestClusteredOutcomesWidenTheInterval(t *testing.T) {
	alone := Wilson(20, 40)
	even := Clustered([]int{5, 5, 5, 5}, []int{10, 10, 10, 10})
	lumped := Clustered([]int{10, 10, 0, 0}, []int{10, 10, 10, 10})
	width := func(v Interval) float64 { return v.High - v.Low }
	if width(even) < width(alone) || width(lumped) < 1.3*width(even) {
		t.Errorf("widths: Wilson %.2f, even clusters %.2f, lumped %.2f", width(alone), width(even), width(lumped))
	}
	if one := Clustered([]int{3}, []int{4}); one != Wilson(3, 4) {
		t.Errorf("a single cluster is no cluster: %+v", one)
	}
}

func TestMedianDelayLeavesMissesOut(t *testing.T) {
	got := MedianDelay([]int64{-1, 60, 120, 30, -1, 600, 90})
	if got.Estimate != 90 || got.N != 5 || got.Low > 60 || got.High < 120 {
		t.Errorf("%+v", got)
	}
	if got := MedianDelay([]int64{-1}); !math.IsNaN(got.Estimate) {
		t.Errorf("no delay known: %+v", got)
	}
}

func TestF1IsTheHarmonicMean(t *testing.T) {
	if got := F1(0.5, 1); math.Abs(got-2.0/3) > 1e-12 {
		t.Errorf("F1(0.5, 1) = %g", got)
	}
	if F1(0, 0) != 0 {
		t.Error("F1(0, 0) is 0")
	}
}
