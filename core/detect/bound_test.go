package detect

import (
	"math"
	"math/rand/v2"
	"testing"

	"tinbell/core/baseline"
	"tinbell/core/timeline"
)

func TestWhatLiesBeyondABoundRingsAtOnceEachTimeHoweverUsual(t *testing.T) {
	lowest, highest := 80.0, 125.0
	for name, m := range map[string]baseline.Method{"learned": {}, "rolling": {Name: baseline.Rolling, Window: 168}} {
		h := level(rand.New(rand.NewPCG(4, 9)), 70)
		for i := range h {
			h[i].Value = min(max(h[i].Value, 85), 115)
			if i%24 == 3 && i < 56*24 {
				h[i].Value = 79 // an everyday dip: the band knows it
			}
		}
		dips := []int{60 * 24, 61 * 24, 61*24 + 1, 62*24 + 3}
		for _, i := range dips {
			h[i].Value = 79
		}
		h[64*24].Value = 126
		rule := Rule{Warn: 200 * Year, Merge: -1, Bounds: Bounds{Lowest: &lowest, Highest: &highest}}
		alerts, _ := run(t, plainConfig(m), rule, h, 56*24)
		// Two periods in a row are one alert; what comes back is told again.
		want := []struct {
			since int
			until int
			side  Direction
		}{{dips[0], dips[0] + 1, Low}, {dips[1], dips[2] + 1, Low}, {dips[3], dips[3] + 1, Low}, {64 * 24, 64*24 + 1, High}}
		if len(alerts) != len(want) {
			t.Errorf("%s: %d alerts, %d stretches lie beyond the bounds: %+v", name, len(alerts), len(want), alerts)
			continue
		}
		for i, a := range alerts {
			w := want[i]
			if a.Cause != Bound || a.Direction != w.side || a.Since != h[w.since].At || a.Raised != h[w.since].At+3600 ||
				a.End != h[w.until].At || a.Severity != Warning {
				t.Errorf("%s: %+v, wanted from %d to %d", name, a, h[w.since].At, h[w.until].At)
			}
		}
	}
}

func TestABoundAgainstTheDayBeforeFollowsTheLevel(t *testing.T) {
	// A level that climbs by a tenth a week: no fixed bound would do.
	h := make([]timeline.Sample, 70*24)
	for i := range h {
		day := float64(i / 24)
		h[i] = timeline.Sample{At: sceneStart.Unix() + int64(i)*3600,
			Value: 1000 * math.Pow(1.1, day/7) * (1.5 + math.Sin(2*math.Pi*float64(i%24)/24))}
	}
	fell := 60*24 + 5
	h[fell].Value = h[fell-24].Value * 0.94
	rule := Rule{Warn: 200 * Year, Bounds: Bounds{Fall: 0.05, Rise: 0.5, Back: 24}}
	alerts, _ := run(t, config(timeline.Value, hourly()), rule, h, 56*24)
	if len(alerts) != 1 || alerts[0].Since != h[fell].At || alerts[0].Direction != Low {
		t.Fatalf("5 %% under the day before, once: %+v", alerts)
	}
	// The fit remembers what the first period after it is against, and so does what is stored.
	cut := fell - 2
	e, err := Fit(config(timeline.Value, hourly()), rule, h[:cut], timeline.Mask{})
	if err != nil {
		t.Fatal(err)
	}
	blob, err := e.MarshalBinary()
	if err != nil {
		t.Fatal(err)
	}
	if e, err = Load(config(timeline.Value, hourly()), rule, blob); err != nil {
		t.Fatal(err)
	}
	for _, s := range h[cut : fell+1] {
		e.Step(s, timeline.Judged)
	}
	if a, open := e.OpenAlert(); !open || a.Cause != Bound {
		t.Errorf("loaded from what was stored it should ring: %+v", a)
	}
}

func TestPlannedPeriodsAndBadBoundsRingNothing(t *testing.T) {
	lowest := 80.0
	h := level(rand.New(rand.NewPCG(4, 10)), 30)
	rule := Rule{Bounds: Bounds{Lowest: &lowest}}
	e, err := Fit(config(timeline.Value, hourly()), rule, h, timeline.Mask{})
	if err != nil {
		t.Fatal(err)
	}
	next := timeline.Sample{At: h[len(h)-1].At + 3600, Value: 20}
	if r := e.Step(next, timeline.Masked); r.Change != None {
		t.Errorf("under a planned event: %v", r.Change)
	}
	next.At, next.Value = next.At+3600, math.NaN()
	if r := e.Step(next, timeline.Judged); r.Change != None {
		t.Errorf("a missing value lies nowhere: %v", r.Change)
	}
	highest := 70.0
	for _, b := range []Bounds{{Lowest: &lowest, Highest: &highest}, {Fall: 2, Back: 1}, {Rise: -1, Back: 1}, {Fall: 0.1}} {
		if (Rule{Bounds: b}).Check() == nil {
			t.Errorf("%+v should be refused", b)
		}
	}
}
