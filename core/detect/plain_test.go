package detect

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"tinbell/core/baseline"
	"tinbell/core/timeline"
)

// level makes an hourly value without any shape: noise around a mean.
func level(rng *rand.Rand, days int) []timeline.Sample {
	list := make([]timeline.Sample, days*24)
	for i := range list {
		list[i] = timeline.Sample{At: sceneStart.Add(time.Duration(i) * time.Hour).Unix(), Value: 100 + 5*rng.NormFloat64(),
			Rows: 100 + 2*rng.NormFloat64()}
	}
	return list
}

var everyMethod = []baseline.Method{
	{Name: baseline.Fixed, Low: 70, High: 130},
	{Name: baseline.Change, Lag: 24},
	{Name: baseline.Rolling, Window: 168}, {Name: baseline.Rolling, Window: 168, Robust: true},
	{Name: baseline.ZScore}, {Name: baseline.Modified}, {Name: baseline.Fences},
	{Name: baseline.Siblings, Window: 168},
}

func plainConfig(m baseline.Method) baseline.Config {
	cfg := config(timeline.Value, hourly())
	cfg.Method = m
	return cfg
}

func TestEverySimpleBaselineGivesTheSameShapeOfReading(t *testing.T) {
	for _, m := range everyMethod {
		rng := rand.New(rand.NewPCG(4, 4))
		h := level(rng, 70)
		fault := 62 * 24
		for i := range 6 {
			h[fault+i].Value = 300
		}
		h[60*24].Value = 400 // a spike by itself
		alerts, readings := run(t, plainConfig(m), Rule{Warn: 3 * Year}, h, 56*24)
		if len(alerts) != 1 || alerts[0].Direction != High || alerts[0].Raised != h[fault+1].At+3600 || alerts[0].Since != h[fault].At {
			t.Errorf("%s: want one alert at the fault's second period, got %+v", m.Name, alerts)
			continue
		}
		if a := alerts[0]; a.Closed == 0 || a.End != h[fault+6].At || a.Peak <= 1 || a.Rang.Expected <= 0 {
			t.Errorf("%s: the alert is %+v", m.Name, a)
		}
		for i, r := range readings {
			if m.Name == baseline.Change && math.IsNaN(r.Expected) {
				continue // what it would be compared with was a fault
			}
			if !(r.Low <= r.Expected && r.Expected <= r.High) || math.IsNaN(r.Deviation) || r.ReturnPeriod < 3600 {
				t.Fatalf("%s, period %d: %+v", m.Name, i, r)
			}
			if outside := r.Observed < r.Low || r.Observed > r.High; outside != (math.Abs(r.Deviation) > 1) && r.High > r.Low {
				t.Fatalf("%s, period %d: deviation %.2f of %g in %g..%g", m.Name, i, r.Deviation, r.Observed, r.Low, r.High)
			}
		}
		if spike := readings[4*24]; spike.Deviation < 1 || spike.Change != None {
			t.Errorf("%s: a spike is outside the band and alarms nobody: %+v", m.Name, spike)
		}
	}
}

func TestWidthsFromTheBudgetKeepIt(t *testing.T) {
	for _, m := range everyMethod[1:] {
		found, months := 0, 0.0
		rng := rand.New(rand.NewPCG(21, uint64(m.Lag+m.Window)))
		for range 30 {
			alerts, _ := run(t, plainConfig(m), Rule{Warn: 30 * 24 * time.Hour, Critical: 300 * 24 * time.Hour}, level(rng, 84), 56*24)
			found += len(alerts)
			months += 28.0 / 30
		}
		rate := float64(found) / months
		t.Logf("%s %t: stated 1 a month, found %.2f", m.Name, m.Robust, rate)
		if rate < 0.15 || rate > 1.3 { // eight weeks of history: limits err on the quiet side
			t.Errorf("%s %t: stated 1 a month, found %.2f", m.Name, m.Robust, rate)
		}
	}
}

func TestWidthsThatPeopleGiveAreKept(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 6))
	h := level(rng, 60)
	_, readings := run(t, plainConfig(baseline.Method{Name: baseline.ZScore, Width: 3}), Rule{BandOnly: true}, h, 56*24)
	if half := readings[0].High - readings[0].Expected; math.Abs(half-15) > 1 {
		t.Errorf("three standard deviations of five are %.1f", half)
	}
	_, readings = run(t, plainConfig(baseline.Method{Name: baseline.Change, Lag: 24, Width: 0.3}), Rule{BandOnly: true}, h, 56*24)
	if r, before := readings[30], h[56*24+6].Value; r.Expected != before || math.Abs(r.High-1.3*before) > 1e-9 {
		t.Errorf("30 %% around %g: %+v", before, r)
	}
}

func TestSimpleBaselinesDoNotLearnAFault(t *testing.T) {
	rng := rand.New(rand.NewPCG(6, 6))
	h := level(rng, 66)
	for i := 57 * 24; i < 59*24; i++ {
		h[i].Value += 90
	}
	for _, m := range everyMethod[1:4] {
		_, readings := run(t, plainConfig(m), Rule{Warn: 90 * 24 * time.Hour}, h, 56*24)
		if after := readings[4*24]; math.Abs(after.Deviation) > 1.2 || math.Abs(after.Expected-100) > 15 {
			t.Errorf("%s: a day after the fault %+v", m.Name, after)
		}
	}
}

func TestALastingChangeBecomesTheNewNormalOfARollingBaseline(t *testing.T) {
	rng := rand.New(rand.NewPCG(9, 9))
	h := level(rng, 80)
	for i := 57 * 24; i < len(h); i++ {
		h[i].Value += 60
	}
	alerts, readings := run(t, plainConfig(baseline.Method{Name: baseline.Rolling, Window: 168}), Rule{Warn: 90 * 24 * time.Hour,
		AdoptAfter: 48 * time.Hour}, h, 56*24)
	if alerts[0].Reason != "level_adopted" || alerts[0].Closed-alerts[0].Since > 50*3600 {
		t.Errorf("after two days: %+v", alerts[0])
	}
	if last := readings[len(readings)-1]; math.Abs(last.Expected-160) > 10 {
		t.Errorf("three weeks later %g is expected", last.Expected)
	}
}

func TestSimpleBaselinesSurviveStorage(t *testing.T) {
	for _, m := range everyMethod {
		rng := rand.New(rand.NewPCG(3, 4))
		h := level(rng, 62)
		h[59*24].Value, h[59*24+1].Value = 300, 300
		cfg, rule := plainConfig(m), Rule{Warn: 90 * 24 * time.Hour}
		one, err := Fit(cfg, rule, h[:56*24], timeline.Mask{})
		if err != nil {
			t.Fatal(err)
		}
		other, err := Fit(cfg, rule, h[:56*24], timeline.Mask{})
		if err != nil {
			t.Fatal(err)
		}
		for i, s := range h[56*24:] {
			blob, err := other.MarshalBinary()
			if err != nil {
				t.Fatal(err)
			}
			if other, err = Load(cfg, rule, blob); err != nil {
				t.Fatal(err)
			}
			a, b := one.Step(s, timeline.Judged), other.Step(s, timeline.Judged)
			if fmt.Sprint(a) != fmt.Sprint(b) {
				t.Fatalf("%s, period %d: %+v, stored and read again %+v", m.Name, i, a, b)
			}
		}
		if _, err := Load(config(timeline.Value, hourly()), rule, must(one.MarshalBinary())); err == nil {
			t.Errorf("%s was read as a seasonal baseline", m.Name)
		}
	}
}

func must(blob []byte, err error) []byte {
	if err != nil {
		panic(err)
	}
	return blob
}

func TestSiblingsMoveTogether(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 8))
	h := level(rng, 64)
	storm, own := 58*24, 61*24
	for i := range 10 {
		h[storm+i].Value, h[storm+i].Rows = h[storm+i].Value/4, h[storm+i].Rows/4 // all segments drop
		h[own+i].Value /= 4                                                       // this one alone
	}
	alerts, _ := run(t, plainConfig(baseline.Method{Name: baseline.Siblings, Window: 168}), Rule{Warn: 90 * 24 * time.Hour}, h, 56*24)
	if len(alerts) != 1 || alerts[0].Since != h[own].At || alerts[0].Direction != Low {
		t.Errorf("want only the drop that the siblings did not share, got %+v", alerts)
	}
}
