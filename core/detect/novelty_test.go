package detect

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"tinbell/core/baseline"
	"tinbell/core/timeline"
)

// nights is a clean series that stops at the same hour on each of some days.
func nights(from, hour, length int, days ...int) []timeline.Sample {
	h := scene(rand.New(rand.NewPCG(31, 7)), hourly(), sceneStart, 80, 300)
	for _, d := range days {
		for i := range length {
			h[(from+d)*24+hour+i].Value = 0
		}
	}
	return h
}

func TestANewNightRingsOnceAndIsCountedAfterwards(t *testing.T) {
	alerts, readings := run(t, config(timeline.Count, hourly()), Rule{}, nights(60, 9, 5, 0, 1, 2, 4, 9), 56*24)
	returns := 0
	for _, r := range readings {
		if r.Change == Recurred {
			returns++
		}
	}
	if len(alerts) != 1 || returns != 4 {
		t.Errorf("five like nights: %d alerts, %d returns", len(alerts), returns)
	}
}

func TestWhatLastsMuchLongerThanItDidRingsAgain(t *testing.T) {
	h := nights(60, 9, 3, 0)
	for i := range 30 {
		h[62*24+9+i].Value = 0
	}
	alerts, _ := run(t, config(timeline.Count, hourly()), Rule{}, h, 56*24)
	if len(alerts) != 2 || alerts[1].Quiet {
		t.Fatalf("three hours and then thirty: %d alerts", len(alerts))
	}
	if late := (alerts[1].Raised - h[62*24+9].At) / 3600; late < 3 || late > 20 {
		t.Errorf("it is told after %d hours", late)
	}
}

// Two waves a day come two hours later from a day on: it is missed in the morning and again
// in the afternoon, at hours that are not the same. It is one piece of news.
func TestAScheduleThatMovesIsToldOnce(t *testing.T) {
	g := timeline.Grid{Period: 15 * time.Minute, Zone: time.UTC}
	told := 0
	for seed := range uint64(10) {
		rng := rand.New(rand.NewPCG(seed, 15))
		h := begun(g, 0, 52, 5000, rng)
		moves := 43 * g.PerDay()
		for i := len(h) - 1; i >= moves; i-- {
			if h[i].Value = 0; i-8 >= moves {
				h[i].Value = h[i-8].Value
			}
		}
		alerts, _ := run(t, config(timeline.Count, g), Rule{Warn: Year}, h, 42*g.PerDay())
		if len(alerts) == 0 {
			t.Errorf("series %d: nobody hears that it comes two hours later", seed)
		}
		told += len(alerts)
	}
	if told > 13 { // what is worse by the same rule on the second day may be told of as well
		t.Errorf("ten schedules that move are told %d times", told)
	}
}

func TestTheSameWeeksLaterIsNews(t *testing.T) {
	alerts, _ := run(t, config(timeline.Count, hourly()), Rule{}, nights(58, 9, 5, 0, 18), 56*24)
	if len(alerts) != 2 {
		t.Errorf("two stops eighteen days apart are %d alerts", len(alerts))
	}
}

func TestAFaultThatAPersonNamedRingsWhenItComesBack(t *testing.T) {
	h := nights(60, 9, 5, 0, 1)
	e, err := Fit(config(timeline.Count, hourly()), Rule{}, h[:56*24], timeline.Mask{})
	if err != nil {
		t.Fatal(err)
	}
	opened := 0
	for i, s := range h[56*24:] {
		if 56*24+i == 61*24 {
			e.Disown(timeline.NewMask(timeline.Span{From: h[60*24].At, To: h[60*24+20].At}))
		}
		if e.Step(s, timeline.Judged).Change == Opened {
			opened++
		}
	}
	if opened != 2 {
		t.Errorf("a fault and the same the next day, named in between: %d alerts", opened)
	}
}

func TestRowsThatWereHeldBackDoNotRingWhenTheyCome(t *testing.T) {
	for surplus, want := range map[float64]int{1: 1, 4: 2} {
		h := scene(rand.New(rand.NewPCG(12, 7)), hourly(), sceneStart, 70, 300)
		gone := 0.0
		for i := range 5 {
			gone += h[60*24+8+i].Value
			h[60*24+8+i].Value = 0
		}
		for i := range 3 {
			h[60*24+15+i].Value += surplus * gone / 3
		}
		alerts, _ := run(t, config(timeline.Count, hourly()), Rule{}, h, 56*24)
		if len(alerts) != want {
			t.Errorf("%g times what was lost comes later: %d alerts, want %d", surplus, len(alerts), want)
		}
	}
}

func TestALevelThatMovedForGoodRingsOnce(t *testing.T) {
	for _, factor := range []float64{0.5, 1.9, 12} {
		h := scene(rand.New(rand.NewPCG(8, 7)), hourly(), sceneStart, 100, 200)
		for i := 60 * 24; i < len(h); i++ {
			h[i].Value *= factor
		}
		alerts, _ := run(t, config(timeline.Count, hourly()), Rule{}, h, 56*24)
		if len(alerts) != 1 || alerts[0].Reason != "level_adopted" {
			t.Errorf("times %g: %d alerts, the first closed as %q", factor, len(alerts), alerts[0].Reason)
		}
	}
}

func TestASeriesThatWasEmptyStartsWithoutAFlood(t *testing.T) {
	h := scene(rand.New(rand.NewPCG(18, 7)), hourly(), sceneStart, 90, 60)
	for i := range 60 * 24 {
		h[i].Value = 0
	}
	alerts, readings := run(t, config(timeline.Count, hourly()), Rule{}, h, 56*24)
	if len(alerts) > 2 {
		t.Errorf("%d alerts", len(alerts))
	}
	for _, r := range readings {
		if r.Expected > 1e5 {
			t.Fatalf("%g expected of a series of 60 an hour", r.Expected)
		}
	}
}

func TestOnsetIsWhereTheChangeIsSharpest(t *testing.T) {
	off := 0
	for seed := range uint64(20) {
		h := changed(40+seed, hourly(), 200, 60*24+8, 60*24+40, 0.55)
		alerts, _ := run(t, config(timeline.Count, hourly()), Rule{}, h, 56*24)
		if len(alerts) == 0 {
			continue
		}
		if d := (alerts[0].Since - h[60*24+8].At) / 3600; d < -2 || d > 2 {
			off++
		}
	}
	if off > 3 {
		t.Errorf("%d of 20 beginnings are off by more than two hours", off)
	}
}

func TestAFaultThatEndsAfterItsLevelWasAdoptedIsNoNews(t *testing.T) {
	h := scene(rand.New(rand.NewPCG(14, 7)), hourly(), sceneStart, 90, 200)
	for i := 60 * 24; i < 66*24; i++ {
		h[i].Value = math.Round(h[i].Value * 0.6)
	}
	alerts, _ := run(t, config(timeline.Count, hourly()), Rule{}, h, 56*24)
	if len(alerts) != 1 || alerts[0].Direction != Low || alerts[0].Reason != "level_adopted" {
		t.Errorf("six days at three fifths, and back: %d alerts, %+v", len(alerts), alerts)
	}
}

func TestAFaultRingsThoughANewLevelSettles(t *testing.T) {
	for name, cfg := range map[string]baseline.Config{"learned": config(timeline.Count, hourly()),
		"rolling": plainConfig(baseline.Method{Name: baseline.Rolling, Window: 168})} {
		h := scene(rand.New(rand.NewPCG(15, 7)), hourly(), sceneStart, 90, 200)
		if name == "rolling" {
			h = level(rand.New(rand.NewPCG(15, 7)), 90)
		}
		for i := 60 * 24; i < len(h); i++ {
			h[i].Value *= 1.3 // for good, and adopted three days later
		}
		fault := 66*24 + 9
		for i := range 20 {
			h[fault+i].Value *= 0.5
		}
		alerts, _ := run(t, cfg, Rule{}, h, 56*24)
		if len(alerts) != 2 || alerts[0].Reason != "level_adopted" || alerts[1].Direction != Low || alerts[1].Raised > h[fault+20].At {
			t.Errorf("%s: half of all lost three days after a new level was adopted: %d alerts, %+v", name, len(alerts),
				alerts[len(alerts)-1])
		}
	}
}
