package detect

import (
	"math"
	"math/rand/v2"
	"slices"
	"sort"
	"testing"
	"time"

	"tinbell/core/timeline"
)

// plainly computes a window's statistic from the points themselves.
func plainStatistic(points []point, drop, side int, mult bool) float64 {
	sign := float64(2*side - 1)
	var kept []point
	for _, p := range points {
		if p.OK {
			kept = append(kept, p)
		}
	}
	if 2*len(kept) < len(points) || len(kept) <= drop {
		return math.NaN()
	}
	level := points[0].Level
	sort.SliceStable(kept, func(i, j int) bool { return kept[i].Z*sign > kept[j].Z*sign })
	var s sums
	for _, p := range kept[drop:] {
		if mult && side == high && len(points) > 1 {
			p.X = p.Shift // the high side sums bounded values
		}
		s.X, s.Part, s.Var, s.Shift, s.N = s.X+p.X, s.Part+p.Part, s.Var+p.Var, s.Shift+p.Shift, s.N+1
	}
	z, _ := ofValues(s.Shift-s.N*level, s.Var)
	if mult {
		z = ofCounts(s.X, level*s.Part, s.Var)
	}
	return z * sign
}

func TestRunningSumsGiveWhatAddingUpGives(t *testing.T) {
	for _, grid := range []timeline.Grid{{Period: time.Hour}, {Period: 5 * time.Minute}, {Period: 24 * time.Hour}} {
		for _, mult := range []bool{true, false} {
			rng := rand.New(rand.NewPCG(3, 9))
			c := cadenceOf(grid)
			r := newRecent(c.windows[c.count-1])
			scale := unitScales()
			var all []point
			for i := range 1500 {
				mu := 40 + 30*math.Sin(float64(i)/5)
				p := point{X: math.Round(mu + 8*rng.NormFloat64()), Part: mu / 50, Var: 64 + rng.Float64(),
					Level: 50 + rng.Float64(), OK: rng.Float64() > 0.1}
				p.Z = (p.X - mu) / 8
				p.Shift = p.X - mu + p.Level
				if rng.Float64() < 0.01 {
					p.Z, p.Shift = 1e6+float64(i), p.Level+64
				}
				r.push(&p)
				all = append(all, p)
				var v verdict
				r.judge(&c, mult, &scale, 0, true, &v)
				if !p.OK {
					continue
				}
				for w, length := range c.windows[:c.count] {
					for s := range 2 {
						got := v.raw[s][w]
						if length > len(all) {
							if !math.IsNaN(got) {
								t.Fatalf("a window of %d speaks after %d periods", length, len(all))
							}
							continue
						}
						want := plainStatistic(all[len(all)-length:], c.dropped(length), s, mult)
						if math.IsNaN(want) != math.IsNaN(got) || math.Abs(got-want) > 1e-6*(1+math.Abs(want)) {
							t.Fatalf("%s, period %d, window %d, side %d: %g, adding up gives %g", grid.Period, i, length, s, got, want)
						}
					}
				}
			}
		}
	}
}

func TestAValueAtTheEdgeOfFloatsLeavesTheWindowsWell(t *testing.T) {
	rng := rand.New(rand.NewPCG(6, 3))
	for _, kind := range []timeline.Kind{timeline.Count, timeline.Value, timeline.Duration} {
		for _, edge := range []float64{math.MaxFloat64, 1e100, 5e-324} {
			h := scene(rng, hourly(), sceneStart, 70, 100)
			h[58*24].Value = edge
			e, err := Fit(config(kind, hourly()), Rule{}, h[:56*24], timeline.Mask{})
			if err != nil {
				t.Fatal(err)
			}
			for i, s := range h[56*24:] {
				r := e.Step(s, timeline.Judged)
				if math.IsNaN(r.Expected) || math.IsInf(r.Expected, 0) || math.IsNaN(r.Deviation) {
					t.Fatalf("%s after %g: period %d reads %+v", kind, edge, i, r)
				}
			}
			if a, open := e.OpenAlert(); open {
				t.Errorf("%s: an alert is still open ten days after %g: %+v", kind, edge, a)
			}
		}
	}
}

func TestPeriodsThatWereJudgedAreNotJudgedAgain(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 3))
	h := scene(rng, hourly(), sceneStart, 60, 100)
	e, err := Fit(config(timeline.Count, hourly()), Rule{}, h[:56*24], timeline.Mask{})
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range h[56*24 : 57*24] {
		e.Step(s, timeline.Judged)
	}
	before, err := e.MarshalBinary()
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range []timeline.Sample{h[57*24-1], h[56*24], {At: h[0].At, Value: 1e9}} {
		if r := e.Step(s, timeline.Judged); r.Change != None || math.IsNaN(r.Expected) {
			t.Errorf("going back in time reads %+v", r)
		}
	}
	after, err := e.MarshalBinary()
	if err != nil || string(before) != string(after) {
		t.Error("time going backwards changed the baseline")
	}
}

func TestASpikeAlarmsOnlyWhereItIsAskedFor(t *testing.T) {
	rng := rand.New(rand.NewPCG(9, 4))
	h := scene(rng, hourly(), sceneStart, 60, 200)
	h[58*24+14].Value *= 8
	for _, spikes := range []bool{false, true} {
		alerts, _ := run(t, config(timeline.Count, hourly()), Rule{Spikes: spikes}, h, 56*24)
		if (len(alerts) > 0) != spikes {
			t.Errorf("spikes asked for %t: %+v", spikes, alerts)
		}
	}
}

func TestAMovingMedianPassesSpikesOfLessThanHalfItsLength(t *testing.T) {
	rng := rand.New(rand.NewPCG(12, 4))
	h := scene(rng, hourly(), sceneStart, 66, 200)
	for i := range 2 {
		h[58*24+14+i].Value *= 8
	}
	for i := range 10 {
		h[62*24+8+i].Value = math.Round(h[62*24+8+i].Value * 0.3)
	}
	told := map[int][]Alert{}
	for _, n := range []int{1, 5} {
		told[n], _ = run(t, config(timeline.Count, hourly()), Rule{Smooth: n, Spikes: true}, h, 56*24)
	}
	if len(told[1]) != 2 || len(told[5]) != 1 || told[5][0].Direction != Low {
		t.Fatalf("without a median %+v, with one of five %+v", told[1], told[5])
	}
	if wait := told[5][0].Raised - told[1][1].Raised; wait < 0 || wait > 4*3600 {
		t.Errorf("the median costs %d s of delay", wait)
	}
}

func TestSustainedShiftsNeedTheLongWindows(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 12))
	long, off := 0, 0
	for range 12 {
		h := scene(rng, hourly(), sceneStart, 60, 300)
		for i := 57 * 24; i < 60*24; i++ {
			h[i].Value = math.Round(h[i].Value * 0.76)
		}
		for _, s := range []Sustained{SustainedLong, SustainedOff} {
			alerts, _ := run(t, config(timeline.Count, hourly()), Rule{Sustained: s}, h, 56*24)
			if len(alerts) > 0 && s == SustainedLong {
				long++
			} else if len(alerts) > 0 {
				off++
			}
		}
	}
	if long < 9 || off >= long {
		t.Errorf("a loss of 24 %% over three days: found %d times of 12, without long windows %d", long, off)
	}
}

func TestOneFaultInTheHistoryDoesNotRaiseThresholdsAndLabelledOnesNever(t *testing.T) {
	rng := rand.New(rand.NewPCG(15, 1))
	var clean, one, many, labelled float64
	const n = 25
	for range n {
		h := scene(rng, hourly(), sceneStart, 56, 150)
		threshold := func(mask timeline.Mask) float64 {
			e, err := Fit(config(timeline.Count, hourly()), Rule{}, h, mask)
			if err != nil {
				t.Fatal(err)
			}
			warn, _ := e.Thresholds()
			return warn[low]*e.Scales.Scale[low][2] - e.Scales.Shift[low][2]
		}
		clean += threshold(timeline.Mask{}) / n
		var faults []timeline.Span
		for k, day := range []int{12, 21, 33, 44} { // a twentieth of the history
			faults = append(faults, timeline.Span{From: h[day*24+6].At, To: h[day*24+22].At})
			for i := range 16 {
				h[day*24+6+i].Value = math.Round(h[day*24+6+i].Value * 0.2)
			}
			if k == 0 {
				one += threshold(timeline.Mask{}) / n
			}
		}
		many += threshold(timeline.Mask{}) / n
		labelled += threshold(timeline.NewMask(faults...)) / n
	}
	t.Logf("limit of windows of six: clean %.2f, one fault %.2f, four %.2f, four that are labelled %.2f", clean, one, many, labelled)
	if labelled > 1.1*clean || labelled < 0.9*clean {
		t.Errorf("labelled faults move the limit from %.2f to %.2f", clean, labelled)
	}
	if one > 1.6*clean {
		t.Errorf("one fault nobody labelled moves the limit from %.2f to %.2f", clean, one)
	}
	if many < 1.2*clean {
		t.Errorf("what came back four times is what the series does: limit %.2f, clean %.2f", many, clean)
	}
}

func TestOnlyWhatIsToldSpendsTheBudget(t *testing.T) {
	m := filled(112, func(i int) float64 { return 2 + float64(i%11)/10 })
	all := m.threshold(1, 2, 1)
	for i := range m.Told {
		m.Told[i] = 0
	}
	var odd []float32
	m.settle(ofWindows, &odd)
	if part := m.threshold(1, 2, 1); part >= all || m.share > 0.2 {
		t.Errorf("threshold %.2f where all is told, %.2f where hardly any is", all, part)
	}
}

func TestDetectableLossesAreFound(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 8))
	tried, found := 0, 0
	for range 12 {
		h := scene(rng, hourly(), sceneStart, 60, 400)
		e, err := Fit(config(timeline.Count, hourly()), Rule{}, h[:56*24], timeline.Mask{})
		if err != nil {
			t.Fatal(err)
		}
		losses := e.Losses()
		for i := 1; i < len(losses); i++ {
			if losses[i].Always > losses[i-1].Always || losses[i].Sometimes > losses[i].Always {
				t.Fatalf("a longer time sees less: %+v", losses)
			}
		}
		last := losses[slices.IndexFunc(losses, func(l Loss) bool { return l.Periods == 24 })]
		if last.Always >= 1 {
			t.Fatalf("nothing shows within a day: %+v", losses)
		}
		tried++
		for i := 57 * 24; i < 58*24; i++ {
			h[i].Value = math.Round(h[i].Value * (1 - last.Always))
		}
		for _, s := range h[56*24 : 58*24] {
			e.Step(s, timeline.Judged)
			if a, open := e.OpenAlert(); open && a.Direction == Low {
				found++
				break
			}
		}
	}
	if found < tried-1 {
		t.Errorf("a loss that always shows within a day was found %d times of %d", found, tried)
	}
}

func TestAPartThatSendsAsManyRowsAsIsSaidShowsItsStop(t *testing.T) {
	const within = 6
	rng := rand.New(rand.NewPCG(41, 8))
	e, err := Fit(config(timeline.Count, hourly()), Rule{}, scene(rng, hourly(), sceneStart, 56, 100), timeline.Mask{})
	if err != nil {
		t.Fatal(err)
	}
	// A tenth more than is said, spread evenly, each part watched by itself.
	mean, shown := 1.1*e.StopShows(within*3600)/24, 0
	const parts = 20
	for range parts {
		h := make([]timeline.Sample, 56*24+within)
		for i := range h {
			h[i] = timeline.Sample{At: sceneStart.Unix() + int64(i)*3600, Value: count(rng, mean, 0)}
			if i >= 56*24 {
				h[i].Value = 0
			}
		}
		if alerts, _ := run(t, config(timeline.Count, hourly()), Rule{}, h, 56*24); len(alerts) > 0 {
			shown++
		}
	}
	if shown < parts*3/4 {
		t.Errorf("of %d parts with %.1f rows an hour that stopped %d showed it within %d h", parts, mean, shown, within)
	}
}

func TestAnAnnouncedChangeThatStaysMovesTheLevel(t *testing.T) {
	rng := rand.New(rand.NewPCG(31, 1))
	h := scene(rng, hourly(), sceneStart, 66, 200)
	for i := 58 * 24; i < len(h); i++ {
		h[i].Value = math.Round(h[i].Value * 1.7)
	}
	for _, mark := range []timeline.Mark{timeline.Masked, timeline.Lasting} {
		e, err := Fit(config(timeline.Count, hourly()), Rule{}, h[:56*24], timeline.Mask{})
		if err != nil {
			t.Fatal(err)
		}
		told := 0
		for i, s := range h[56*24:] {
			m := timeline.Judged
			if day := i / 24; day >= 2 && day < 4 {
				m = mark
			}
			if e.Step(s, m).Change == Opened {
				told++
			}
		}
		if want := mark == timeline.Masked; (told > 0) != want {
			t.Errorf("mark %d: %d alerts after the announced days", mark, told)
		}
	}
	// A fit over the same history knows it too.
	lasting := timeline.Mask{}.Lasting(timeline.Span{From: h[58*24].At, To: h[60*24].At})
	e, err := Fit(config(timeline.Count, hourly()), Rule{}, h[:61*24], lasting)
	if err != nil {
		t.Fatal(err)
	}
	r := e.Step(h[61*24], timeline.Judged)
	if math.Abs(r.Deviation) > 1.5 || r.Expected < 1.3*h[61*24-24*7].Value*0.7 {
		t.Errorf("after the change %+v", r)
	}
}

// A change that stays and was announced for a night, in which next to nothing is due, says
// nothing of how much comes by day, be it much or nothing.
func TestAnAnnouncedChangeOfANightLeavesTheLevelOfTheDay(t *testing.T) {
	h := begun(hourly(), 0, 45, 2000, rand.New(rand.NewPCG(31, 3)))
	night := h[42*24 : 42*24+4]
	for _, rows := range []float64{0, 2, 250} {
		e, err := Fit(config(timeline.Count, hourly()), Rule{}, h[:42*24], timeline.Mask{})
		if err != nil {
			t.Fatal(err)
		}
		noon := h[42*24+17]
		before := e.Peek(noon).Expected
		for _, s := range night {
			s.Value = rows
			e.Step(s, timeline.Lasting)
		}
		e.Step(h[42*24+4], timeline.Judged)
		if after := e.Peek(noon).Expected; before < 50 || math.Abs(after/before-1) > 0.1 {
			t.Errorf("after nights of %g rows an hour %.1f are expected at five, %.1f before", rows, after, before)
		}
	}
}

func TestAPersonsWordClosesAnAlert(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 5))
	h := scene(rng, hourly(), sceneStart, 60, 200)
	for i := 57 * 24; i < len(h); i++ {
		h[i].Value = math.Round(h[i].Value * 0.5)
	}
	e, err := Fit(config(timeline.Count, hourly()), Rule{}, h[:56*24], timeline.Mask{})
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range h[56*24 : 58*24] {
		e.Step(s, timeline.Judged)
	}
	if _, open := e.OpenAlert(); !open {
		t.Fatal("half the rows raised nothing")
	}
	e.Adopt(h[58*24].At)
	if a, open := e.OpenAlert(); open || a.Reason != "level_adopted" || a.Closed != h[58*24].At {
		t.Errorf("after the word: %+v", a)
	}
}

func TestAStepTakenBackOnceIsNoMeasureAndOftenIsOne(t *testing.T) {
	table := func(mistakes ...int) []timeline.Sample {
		h := make([]timeline.Sample, 120*24)
		for i := range h {
			h[i] = timeline.Sample{At: sceneStart.Add(time.Duration(i) * time.Hour).Unix(), Value: 1000 + 20*math.Floor(float64(i)/240)}
			for _, from := range mistakes {
				if i >= from && i < from+12 {
					h[i].Value *= 2 // doubled by mistake, and mended
				}
			}
		}
		return h
	}
	cut := 100 * 24
	h := table(900)
	for i := cut + 48; i < cut+60; i++ {
		h[i].Value = math.Round(h[i].Value * 0.5)
	}
	for i := cut + 120; i < cut+130; i++ {
		h[i].Value = math.NaN()
	}
	alerts, _ := run(t, config(timeline.Count, hourly()), Rule{}, h, cut)
	if len(alerts) != 2 || alerts[0].Cause != Step || alerts[0].Direction != Low || alerts[1].Cause != Missing {
		t.Fatalf("want the halved table and then the missing periods, got %+v", alerts)
	}
	if alerts[0].Closed != h[cut+60].At+3600 {
		t.Error("the alert closes when the value comes back")
	}
	often := table(500, 900, 1300, 1700, 2100, cut+48)
	if alerts, _ := run(t, config(timeline.Count, hourly()), Rule{}, often, cut); len(alerts) != 0 {
		t.Errorf("a table that is doubled and mended every other week rings: %+v", alerts)
	}
}

func TestWhatComesEveryYearAlarmsOnce(t *testing.T) {
	g := timeline.Grid{Period: 24 * time.Hour, Zone: time.UTC}
	rng := rand.New(rand.NewPCG(2, 2))
	at := time.Date(2023, 1, 2, 0, 0, 0, 0, time.UTC)
	var h []timeline.Sample
	for range 1000 {
		mu := 5000.0
		if at.Month() == time.December && at.Day() >= 10 && at.Day() < 16 {
			mu *= 2.5
		}
		h = append(h, timeline.Sample{At: at.Unix(), Value: math.Round(mu * math.Exp(0.04*rng.NormFloat64()))})
		at = at.AddDate(0, 0, 1)
	}
	alerts, _ := run(t, config(timeline.Count, g), Rule{Warn: 90 * 24 * time.Hour}, h, 200)
	years := map[int]int{}
	for _, a := range alerts {
		if d := time.Unix(a.Since, 0).UTC(); d.Month() == time.December && d.Day() < 20 && a.Direction == High {
			years[d.Year()]++
		}
	}
	if years[2023] == 0 || years[2024] != 0 {
		t.Errorf("the December rush alarmed %v", years)
	}
}

func TestMissingDaysAndChosenWaits(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 5))
	g := timeline.Grid{Period: 24 * time.Hour, Zone: halifax}
	h := scene(rng, g, sceneStart, 260, 4000)
	h[240].Value = math.NaN()
	rule := Rule{Warn: 100 * 24 * time.Hour}
	told := false
	alerts, _ := run(t, config(timeline.Count, g), rule, h, 182)
	for _, a := range alerts {
		told = told || a.Cause == Missing && a.Since == h[240].At
	}
	if !told {
		t.Errorf("a table that came every day for half a year and then did not: %+v", alerts)
	}
	hours := scene(rng, hourly(), sceneStart, 62, 80)
	for i := range 5 {
		hours[58*24+10+i].Value = math.NaN()
	}
	for wait, want := range map[int]int64{4: hours[58*24+14].At, 6: 0, -1: 0} {
		alerts, _ := run(t, config(timeline.Count, hourly()), Rule{Missing: wait}, hours, 56*24)
		raised := int64(0)
		for _, a := range alerts {
			if a.Cause == Missing {
				raised = a.Raised
			}
		}
		if raised != want {
			t.Errorf("asked to tell after %d missing periods: told at %d, want %d", wait, raised, want)
		}
	}
}

func TestAlertsThatFollowCloselyAreOneUnlessAskedOtherwise(t *testing.T) {
	rng := rand.New(rand.NewPCG(2, 19))
	h := scene(rng, hourly(), sceneStart, 62, 300)
	for _, from := range []int{58*24 + 8, 58*24 + 34} {
		for i := range 5 {
			h[from+i].Value = 0
		}
	}
	again := func(rule Rule) (alerts []Alert, returns int) {
		alerts, readings := run(t, config(timeline.Count, hourly()), rule, h, 56*24)
		for _, r := range readings {
			if r.Change == Recurred {
				returns++
			}
		}
		return alerts, returns
	}
	apart, back := again(Rule{})
	merged, inside := again(Rule{Merge: 48})
	if len(apart) != 1 || back != 1 || apart[0].End > h[58*24+34].At {
		t.Errorf("the second of two stalls a day apart is the first come back: %d alerts, %d returns", len(apart), back)
	}
	if len(merged) != 1 || inside != 0 || merged[0].End < h[58*24+34].At {
		t.Errorf("merged over two days they are one alert: %d alerts, %d returns", len(merged), inside)
	}
}
