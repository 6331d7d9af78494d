package detect

import (
	"math"
	"math/rand/v2"
	"reflect"
	"testing"
	"time"

	"tinbell/core/timeline"
)

func TestBudgetsFollowReturnPeriodsAndSeries(t *testing.T) {
	if b := Budget(30*24*time.Hour, 1); math.Abs(b-1) > 1e-12 {
		t.Errorf("once in 30 days is a budget of %g", b)
	}
	if b := Budget(Year, 10); math.Abs(b-30.0/365/10) > 1e-12 {
		t.Errorf("once a year over ten series is %g each", b)
	}
	last := math.Inf(1)
	for _, b := range []float64{0.0001, 0.001, 0.01, 0.1, 1, 3} {
		if p := pooledThreshold(b); p >= last {
			t.Errorf("a larger budget needs a lower threshold: %g at %g", p, b)
		} else {
			last = p
		}
	}
	// The measured points themselves (budget per series and 30 days).
	for b, want := range map[float64]float64{0.1: 4.4, 1: 3.27, 0.003: 5.86} {
		if got := pooledThreshold(b); math.Abs(got-want) > 1e-9 {
			t.Errorf("pooled threshold at %g: %g, want %g", b, got, want)
		}
	}
}

// filled are maxima of a side after so many blocks.
func filled(n int, value func(i int) float64) *maxima {
	m := &maxima{}
	for i := range n {
		m.All.Current = value(i)
		m.CurrentTold = m.All.Current
		m.close(n)
	}
	var odd []float32
	m.settle(ofWindows, &odd)
	return m
}

func TestThresholdsAreReturnLevelsOfTheMaxima(t *testing.T) {
	// Maxima drawn from a Gumbel distribution, whose tail is exponential: how
	// often the threshold is exceeded afterwards must be what was stated, over
	// many histories.
	rng := rand.New(rand.NewPCG(2, 8))
	const histories, scale = 400, 0.45
	for _, budget := range []float64{0.03, 0.1, 1} {
		exceed := 0.0
		for range histories {
			m := filled(112, func(int) float64 { return 3 - scale*math.Log(-math.Log(rng.Float64())) })
			u := m.threshold(budget, 2, 1)
			exceed += 1 - math.Exp(-math.Exp(-(u-3)/scale))
		}
		stated := deviationShare * budget / 60
		if got := exceed / histories; got > 1.6*stated || got < stated/4 {
			t.Errorf("budget %g: exceeded in %.2g of blocks, stated %.2g", budget, got, stated)
		}
	}
}

func TestRarityInvertsTheThreshold(t *testing.T) {
	m := filled(56, func(i int) float64 { return 2 + float64(i%9)/4 })
	for _, budget := range []float64{0.003, 0.05, 1} {
		u := m.threshold(budget, 2, 1)
		if back := m.budgetOf(u, 2, 1); math.Abs(math.Log(back/budget)) > 0.01 {
			t.Errorf("budget %g gives a threshold of %g, which gives a budget of %g", budget, u, back)
		}
	}
}

func TestRulesThatNobodyCouldFollowAreRefused(t *testing.T) {
	for _, r := range []Rule{{Warn: time.Hour}, {Warn: Year, Critical: 30 * 24 * time.Hour}, {Persist: 3, Of: 70}, {MinEffect: -1}} {
		if r.Check() == nil {
			t.Errorf("%+v was accepted", r)
		}
	}
	if err := (Rule{}).Check(); err != nil {
		t.Errorf("the defaults are refused: %v", err)
	}
}

// changed is a clean series of nine weeks with its last days multiplied.
func changed(seed uint64, g timeline.Grid, mean float64, from, to int, factor float64) []timeline.Sample {
	h := scene(rand.New(rand.NewPCG(seed, 3)), g, sceneStart, 63, mean)
	for i := from; i < min(to, len(h)); i++ {
		h[i].Value = math.Round(h[i].Value * factor)
	}
	return h
}

func TestOnlyTheAskedDirectionRings(t *testing.T) {
	for _, c := range []struct {
		factor    float64
		direction Direction
		rings     bool
	}{{0.4, Low, true}, {0.4, High, false}, {0.4, Both, true}, {2.5, High, true}, {2.5, Low, false}} {
		h := changed(5, hourly(), 120, 58*24+8, 58*24+30, c.factor)
		alerts, _ := run(t, config(timeline.Count, hourly()), Rule{Direction: c.direction}, h, 56*24)
		if (len(alerts) > 0) != c.rings {
			t.Errorf("times %g, direction %s: %d alerts", c.factor, c.direction, len(alerts))
		}
	}
}

func TestAnAbsoluteEffectCanBeAskedFor(t *testing.T) {
	h := changed(6, hourly(), 120, 58*24+8, 58*24+24, 0.6)
	for effect, rings := range map[float64]bool{0: true, 100: true, 1e6: false} {
		alerts, _ := run(t, config(timeline.Count, hourly()), Rule{MinEffect: effect}, h, 56*24)
		if (len(alerts) > 0) != rings {
			t.Errorf("smallest effect %g: %d alerts", effect, len(alerts))
		}
	}
}

func TestSeverityAndRarityGrowWithTheDeviation(t *testing.T) {
	mild, _ := run(t, config(timeline.Count, hourly()), Rule{}, changed(7, hourly(), 300, 58*24+6, 58*24+30, 0.78), 56*24)
	grave, _ := run(t, config(timeline.Count, hourly()), Rule{}, changed(7, hourly(), 300, 58*24+6, 58*24+30, 0.2), 56*24)
	if len(mild) == 0 || len(grave) == 0 {
		t.Fatalf("mild %v, grave %v", mild, grave)
	}
	if grave[0].Severity != Critical || grave[0].ReturnPeriod < mild[0].ReturnPeriod || mild[0].ReturnPeriod < Year.Seconds() ||
		grave[0].Peak > -2 {
		t.Errorf("mild %+v\ngrave %+v", mild[0], grave[0])
	}
}

func TestAStuckValueRings(t *testing.T) {
	h := scene(rand.New(rand.NewPCG(9, 3)), hourly(), sceneStart, 63, 90)
	for i := range h {
		h[i].Value += 400 + 0.37*float64(i%11)
	}
	for i := 58 * 24; i < 58*24+14; i++ {
		h[i].Value = h[58*24].Value
	}
	alerts, _ := run(t, config(timeline.Value, hourly()), Rule{}, h, 56*24)
	for _, a := range alerts {
		if a.Cause == Stuck && a.Since == h[58*24].At && a.Closed > h[58*24+13].At {
			return
		}
	}
	t.Errorf("fourteen equal values were not told: %+v", alerts)
}

func TestASteppedSeriesRingsWhenItJumps(t *testing.T) {
	var h []timeline.Sample
	for i := range 63 * 24 {
		v := 500 + 10*float64(i/300)
		if i >= 60*24 {
			v = 5000
		}
		h = append(h, timeline.Sample{At: sceneStart.Unix() + int64(i)*3600, Value: v})
	}
	alerts, _ := run(t, config(timeline.Count, hourly()), Rule{}, h, 56*24)
	if len(alerts) != 1 || alerts[0].Cause != Step || alerts[0].Since != h[60*24].At {
		t.Errorf("%+v", alerts)
	}
}

func TestOtherPeriodsAreJudgedToo(t *testing.T) {
	for _, c := range []struct {
		period    time.Duration
		days, fit int
		fault     int // periods
	}{{24 * time.Hour, 200, 180, 3}, {5 * time.Minute, 35, 32, 40}, {15 * time.Minute, 50, 45, 24}} {
		g := timeline.Grid{Period: c.period, Zone: halifax}
		mean := 400 * max(c.period.Hours(), 1)
		h := scene(rand.New(rand.NewPCG(4, 4)), g, sceneStart, c.days, mean)
		at := c.fit*g.PerDay() + g.PerDay()/2
		clean, _ := run(t, config(timeline.Count, g), Rule{}, h, c.fit*g.PerDay())
		for i := at; i < at+c.fault; i++ {
			h[i].Value = math.Round(h[i].Value * 0.3)
		}
		alerts, _ := run(t, config(timeline.Count, g), Rule{}, h, c.fit*g.PerDay())
		if len(clean) != 0 || len(alerts) == 0 || alerts[0].Raised > h[at+c.fault-1].At+2*int64(c.period.Seconds()) {
			t.Errorf("period %s: clean %d alerts, with 70 %% lost %+v", c.period, len(clean), alerts)
		}
	}
}

func TestARefitNeitherOpensNorClosesAnAlert(t *testing.T) {
	h := changed(11, hourly(), 200, 60*24+8, 63*24, 0.3)
	cfg, rule := config(timeline.Count, hourly()), Rule{AdoptAfter: -1}
	old, err := Fit(cfg, rule, h[:56*24], timeline.Mask{})
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range h[56*24 : 61*24] {
		old.Step(s, timeline.Judged)
	}
	before, open := old.OpenAlert()
	fresh, err := Fit(cfg, rule, h[:61*24], timeline.Mask{})
	if err != nil {
		t.Fatal(err)
	}
	fresh.Carry(old)
	after, still := fresh.OpenAlert()
	if !open || !still || !reflect.DeepEqual(before, after) {
		t.Fatalf("open %t, after the refit %t: %+v, %+v", open, still, before, after)
	}
	for _, s := range h[61*24:] {
		if r := fresh.Step(s, timeline.Judged); r.Change == Opened {
			t.Fatalf("the lasting fault was told twice at %s", time.Unix(s.At, 0))
		}
	}
}

func TestABaselineOfAnotherVersionIsRefused(t *testing.T) {
	e, err := Fit(config(timeline.Count, hourly()), Rule{}, scene(rand.New(rand.NewPCG(1, 1)), hourly(), sceneStart, 30, 50),
		timeline.Mask{})
	if err != nil {
		t.Fatal(err)
	}
	e.Version = 99
	blob, err := e.MarshalBinary()
	if err != nil {
		t.Fatal(err)
	}
	if _, err := Load(config(timeline.Count, hourly()), Rule{}, blob); err == nil {
		t.Error("version 99 was read")
	}
	if _, err := Load(config(timeline.Count, hourly()), Rule{}, []byte("noise")); err == nil {
		t.Error("noise was read")
	}
}

func TestAPlannedEventThatWidensTheBandForgivesWhatIsInsideIt(t *testing.T) {
	for _, c := range []struct {
		factor float64
		mark   timeline.Mark
		rings  bool
	}{
		{0.75, timeline.Judged, true}, {0.75, timeline.Widened, false}, {0.75, timeline.Masked, false},
		{0, timeline.Widened, true}, {0, timeline.Masked, false}, // nothing at all is beyond what an event explains
	} {
		h := changed(7, hourly(), 300, 58*24+6, 58*24+30, c.factor)
		e, err := Fit(config(timeline.Count, hourly()), Rule{}, h[:58*24], timeline.Mask{})
		if err != nil {
			t.Fatal(err)
		}
		rings, wide := false, 0.0
		for i := 58 * 24; i < 60*24; i++ {
			mark := timeline.Judged
			if i >= 58*24+6 && i < 58*24+30 {
				mark = c.mark
			}
			plain := e.Peek(h[i])
			r := e.Step(h[i], mark)
			rings = rings || r.Change == Opened
			if mark == timeline.Widened {
				wide = (r.High - r.Expected) / (plain.High - plain.Expected)
			}
		}
		if rings != c.rings {
			t.Errorf("times %g, mark %d: rings %v", c.factor, c.mark, rings)
		}
		if c.mark == timeline.Widened && math.Abs(wide-WideBand) > 0.01 {
			t.Errorf("the band is %.2f times as wide, want %d", wide, WideBand)
		}
	}
}
