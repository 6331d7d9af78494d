package detect

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"tinbell/core/baseline"
	"tinbell/core/timeline"
)

var halifax = mustZone("America/Halifax")

func mustZone(name string) *time.Location {
	zone, err := time.LoadLocation(name)
	if err != nil {
		panic(err)
	}
	return zone
}

func hourly() timeline.Grid { return timeline.Grid{Period: time.Hour, Zone: halifax} }

// scene makes a clean series: two daily peaks in local time, quieter weekends,
// slow level noise and overdispersed counts around mean.
func scene(rng *rand.Rand, g timeline.Grid, start time.Time, days int, mean float64) []timeline.Sample {
	n := days * g.PerDay()
	samples := make([]timeline.Sample, 0, n)
	level := 0.0
	at := g.Floor(start)
	for range n {
		level = 0.97*level + 0.01*rng.NormFloat64()
		samples = append(samples, timeline.Sample{At: at.Unix(), Value: count(rng, mean*shape(at.In(g.Zone))*math.Exp(level), 0.004)})
		at = g.Next(at)
	}
	return samples
}

func shape(t time.Time) float64 {
	h := float64(t.Hour())
	v := 0.05 + 1.6*math.Exp(-(h-8)*(h-8)/6) + 1.8*math.Exp(-(h-17)*(h-17)/8)
	if t.Weekday() == time.Saturday || t.Weekday() == time.Sunday {
		v = 0.05 + 1.4*math.Exp(-(h-13)*(h-13)/18)
	}
	return v
}

// count draws from a negative binomial by a gamma mixture of Poissons.
func count(rng *rand.Rand, mu, phi float64) float64 {
	mu *= math.Exp(math.Sqrt(phi)*rng.NormFloat64() - phi/2)
	if mu > 200 {
		return max(math.Round(mu+math.Sqrt(mu)*rng.NormFloat64()), 0)
	}
	k, p := 0.0, math.Exp(-mu)
	for u := rng.Float64(); u > p && k < 2000; k++ {
		u -= p
		p *= mu / (k + 1)
	}
	return k
}

var sceneStart = time.Date(2026, 3, 20, 5, 0, 0, 0, time.UTC)

func config(kind timeline.Kind, g timeline.Grid) baseline.Config {
	return baseline.Config{Kind: kind, Grid: g}
}

// run fits on the first part and steps through the rest.
func run(t testing.TB, cfg baseline.Config, rule Rule, history []timeline.Sample, fit int) ([]Alert, []Reading) {
	t.Helper()
	e, err := Fit(cfg, rule, history[:fit], timeline.Mask{})
	if err != nil {
		t.Fatal(err)
	}
	var alerts []Alert
	var readings []Reading
	for _, s := range history[fit:] {
		r := e.Step(s, timeline.Judged)
		readings = append(readings, r)
		switch r.Change {
		case Opened:
			alerts = append(alerts, e.Alert)
		case Updated, Reopened, Closed:
			if len(alerts) > 0 {
				alerts[len(alerts)-1] = e.Alert
			}
		}
	}
	return alerts, readings
}

func TestStatedBudgetIsHonouredOnCleanSeries(t *testing.T) {
	const series, days = 150, 28
	for _, budget := range []float64{0.3, 1, 3} {
		rng := rand.New(rand.NewPCG(11, 7))
		rule := Rule{Warn: time.Duration(30 * 24 / budget * float64(time.Hour))}
		found := 0
		for range series {
			h := scene(rng, hourly(), sceneStart, 56+days, math.Exp(1+5*rng.Float64()))
			alerts, _ := run(t, config(timeline.Count, hourly()), rule, h, 56*24)
			found += len(alerts)
		}
		got := float64(found) / series / days * 30
		t.Logf("budget %.1f per series and month: found %.2f", budget, got)
		if got > budget*1.5+0.05 {
			t.Errorf("budget %.1f: found %.2f false alarms per series and month", budget, got)
		}
	}
}

func TestBandCoversWhatItStates(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 9))
	for _, want := range []float64{0.95, 0.99} {
		inside, n := 0, 0
		for range 40 {
			h := scene(rng, hourly(), sceneStart, 84, math.Exp(4+2*rng.Float64()))
			cfg := config(timeline.Count, hourly())
			cfg.Coverage = want
			_, readings := run(t, cfg, Rule{BandOnly: true}, h, 56*24)
			for _, r := range readings {
				if r.Expected < 20 {
					continue // discreteness makes low counts cover more
				}
				if n++; r.Observed >= r.Low && r.Observed <= r.High {
					inside++
				}
			}
		}
		got := float64(inside) / float64(n)
		t.Logf("coverage stated %.2f, found %.4f", want, got)
		if got < want-0.01 || got > want+0.012 {
			t.Errorf("coverage stated %.2f, found %.4f", want, got)
		}
	}
}

func TestThreeDaysOfHistoryGiveAnHonestlyWideBand(t *testing.T) {
	rng := rand.New(rand.NewPCG(19, 4))
	inside, n, rang, wide, narrow := 0, 0, 0, 0.0, 0.0
	const series = 60
	for range series {
		h := scene(rng, hourly(), sceneStart, 10, math.Exp(3.5+3*rng.Float64()))
		cfg := config(timeline.Count, hourly())
		cfg.Coverage = 0.95
		alerts, readings := run(t, cfg, Rule{}, h, 72)
		rang += len(alerts)
		for i, r := range readings {
			if r.Expected < 20 {
				continue
			}
			if n++; r.Observed >= r.Low && r.Observed <= r.High {
				inside++
			}
			if relative := (r.High - r.Low) / r.Expected / series; i < 24 {
				wide += relative
			} else if i >= 144 {
				narrow += relative
			}
		}
	}
	got := float64(inside) / float64(n)
	t.Logf("coverage stated 0.95, found %.3f from the fourth to the tenth day; %d alerts in %d series", got, rang, series)
	if got < 0.93 {
		t.Errorf("coverage stated 0.95, found %.3f", got)
	}
	if wide <= narrow {
		t.Errorf("the band is %.2f wide at first and %.2f a week later", wide, narrow)
	}
	if rang > series/3 {
		t.Errorf("%d false alarms in a week of %d young series", rang, series)
	}
}

func TestOneSpikeOfAnySizeNeverAlarms(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 1))
	for _, size := range []float64{0, 3, 10, 1e6} {
		h := scene(rng, hourly(), sceneStart, 63, 100)
		h[58*24+14].Value = math.Round(h[58*24+14].Value * size)
		alerts, _ := run(t, config(timeline.Count, hourly()), Rule{}, h, 56*24)
		for _, a := range alerts {
			if a.Since <= h[58*24+14].At && a.Raised > h[58*24+14].At && a.Cause == Deviation {
				t.Errorf("a single period at %g times its value alarmed: %+v", size, a)
			}
		}
	}
}

func TestAStallIsToldWithinTwoPeriodsAndClosesByItself(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 2))
	h := scene(rng, hourly(), sceneStart, 63, 100)
	// A weekday morning, local time.
	begin := 0
	for i := 58 * 24; begin == 0; i++ {
		if at := time.Unix(h[i].At, 0).In(halifax); at.Hour() == 7 && at.Weekday() == time.Wednesday || i == 62*24 {
			begin = i
		}
	}
	for i := begin; i < begin+10; i++ {
		h[i].Value = 0
	}
	alerts, _ := run(t, config(timeline.Count, hourly()), Rule{}, h, 56*24)
	if len(alerts) != 1 {
		t.Fatalf("want one alert, got %+v", alerts)
	}
	a := alerts[0]
	if delay := (a.Raised - h[begin].At) / 3600; delay > 2 {
		t.Errorf("told after %d periods", delay)
	}
	if a.Direction != Low || a.Closed == 0 || a.Closed > h[begin+10].At+24*3600 {
		t.Errorf("alert should be low and closed within a day of recovery: %+v", a)
	}
	if a.Since != h[begin].At {
		t.Errorf("since %v, want %v", time.Unix(a.Since, 0), time.Unix(h[begin].At, 0))
	}
}

func TestClockChangesAndMissingPeriodsRaiseNothing(t *testing.T) {
	rng := rand.New(rand.NewPCG(21, 2))
	start := time.Date(2026, 8, 30, 4, 0, 0, 0, time.UTC) // autumn change on 1 November
	for range 12 {
		h := scene(rng, hourly(), start, 70, 60)
		for i := range h {
			if rng.Float64() < 0.03 {
				h[i].Value = math.NaN()
			}
		}
		alerts, _ := run(t, config(timeline.Count, hourly()), Rule{Series: 9}, h, 56*24)
		if len(alerts) > 0 {
			t.Errorf("alerts around a clock change with 3 %% missing: %+v", alerts)
		}
	}
}

func TestANewLevelIsAdoptedAfterThreeDays(t *testing.T) {
	rng := rand.New(rand.NewPCG(4, 4))
	h := scene(rng, hourly(), sceneStart, 70, 200)
	for i := 57 * 24; i < len(h); i++ {
		h[i].Value = math.Round(h[i].Value * 0.6)
	}
	alerts, readings := run(t, config(timeline.Count, hourly()), Rule{}, h, 56*24)
	if len(alerts) == 0 || alerts[0].Reason != "level_adopted" {
		t.Fatalf("want the new level adopted, got %+v", alerts)
	}
	if days := float64(alerts[0].Closed-alerts[0].Raised) / 86400; days < 2.9 || days > 5 {
		t.Errorf("adopted after %.1f days", days)
	}
	if len(alerts) > 2 {
		t.Errorf("a new level must not ring more than once more: %d alerts", len(alerts))
	}
	last := readings[len(readings)-5]
	if math.Abs(last.Deviation) > 1.5 {
		t.Errorf("band did not follow: deviation %.1f", last.Deviation)
	}
}

func TestReplayEqualsStreamingThroughStorage(t *testing.T) {
	rng := rand.New(rand.NewPCG(6, 6))
	h := scene(rng, hourly(), sceneStart, 63, 50)
	cfg, rule := config(timeline.Count, hourly()), Rule{}
	_, straight := run(t, cfg, rule, h, 56*24)
	e, err := Fit(cfg, rule, h[:56*24], timeline.Mask{})
	if err != nil {
		t.Fatal(err)
	}
	for i, s := range h[56*24:] {
		blob, err := e.MarshalBinary()
		if err != nil {
			t.Fatal(err)
		}
		if e, err = Load(cfg, rule, blob); err != nil {
			t.Fatal(err)
		}
		got := e.Step(s, timeline.Judged)
		if want := straight[i]; got.Expected != want.Expected || got.Change != want.Change || math.Abs(got.Low-want.Low) > 1 {
			t.Fatalf("period %d: %+v after a round through storage, %+v without", i, got, want)
		}
	}
}

func TestMaskedSpansLeaveNoTrace(t *testing.T) {
	rng := rand.New(rand.NewPCG(12, 6))
	h := scene(rng, hourly(), sceneStart, 63, 80)
	wrecked := append([]timeline.Sample(nil), h...)
	from, to := 40*24, 43*24
	for i := from; i < to; i++ {
		wrecked[i].Value = 9999
	}
	mask := timeline.NewMask(timeline.Span{From: h[from].At, To: h[to].At})
	a, err := Fit(config(timeline.Count, hourly()), Rule{}, h[:56*24], mask)
	if err != nil {
		t.Fatal(err)
	}
	b, err := Fit(config(timeline.Count, hourly()), Rule{}, wrecked[:56*24], mask)
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range h[56*24:] {
		if x, y := a.Step(s, timeline.Judged), b.Step(s, timeline.Judged); x.Expected != y.Expected || x.High != y.High {
			t.Fatalf("masked values changed the band: %+v, %+v", x, y)
		}
	}
}

func TestNullSharesAreJudgedAsCountsOfTheirRows(t *testing.T) {
	rng := rand.New(rand.NewPCG(2, 3))
	var h []timeline.Sample
	for _, s := range scene(rng, hourly(), sceneStart, 63, 150) {
		nulls := 0.0
		for range int(s.Value) {
			if rng.Float64() < 0.02 {
				nulls++
			}
		}
		v := math.NaN()
		if s.Value > 0 {
			v = nulls / s.Value
		}
		h = append(h, timeline.Sample{At: s.At, Value: v, Rows: s.Value})
	}
	for i := 60 * 24; i < 60*24+12; i++ {
		if h[i].Rows > 0 {
			h[i].Value = math.Min(1, math.Round((h[i].Value+0.25)*h[i].Rows)/h[i].Rows)
		}
	}
	alerts, readings := run(t, config(timeline.Share, hourly()), Rule{Direction: High, Missing: -1}, h, 56*24)
	if len(alerts) != 1 || alerts[0].Since < h[60*24-1].At || alerts[0].Raised > h[60*24+4].At {
		t.Fatalf("want one alert for the burst of nulls, got %+v", alerts)
	}
	for _, r := range readings[:48] {
		if r.High < 0 || r.High > 1 {
			t.Fatalf("band of a share left 0..1: %+v", r)
		}
	}
}

func TestDegenerateSeriesHaveADefinedOutcome(t *testing.T) {
	flat := func(v float64, n int) []timeline.Sample {
		h := make([]timeline.Sample, n)
		for i := range h {
			h[i] = timeline.Sample{At: sceneStart.Unix() + int64(i)*3600, Value: v}
		}
		return h
	}
	for _, kind := range timeline.Kinds {
		for _, v := range []float64{0, 1, 0.5, 1e300} {
			if kind == timeline.Share && v > 1 {
				continue
			}
			_, readings := run(t, config(kind, hourly()), Rule{}, flat(v, 24*40), 24*35)
			for _, r := range readings {
				if math.IsNaN(r.Expected) || math.IsNaN(r.Deviation) || math.IsInf(r.High, 0) || r.Change == Opened {
					t.Fatalf("%s constant %g: %+v", kind, v, r)
				}
			}
		}
	}
	if _, err := Fit(config(timeline.Count, hourly()), Rule{}, flat(5, 71), timeline.Mask{}); err == nil {
		t.Error("71 hours must be too short")
	}
	if _, err := Fit(config(timeline.Value, hourly()), Rule{}, flat(math.NaN(), 24*40), timeline.Mask{}); err == nil {
		t.Error("an all-missing series must be too short")
	}
}

func TestPersistenceAsksForMOfN(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 3))
	h := scene(rng, hourly(), sceneStart, 63, 400)
	for i := 58*24 + 9; i < 58*24+21; i++ {
		h[i].Value = math.Round(h[i].Value * 0.5)
	}
	plain, _ := run(t, config(timeline.Count, hourly()), Rule{}, h, 56*24)
	patient, _ := run(t, config(timeline.Count, hourly()), Rule{Persist: 3, Of: 4}, h, 56*24)
	if len(plain) == 0 || len(patient) == 0 {
		t.Fatalf("halved volume not told: %v, %v", plain, patient)
	}
	if wait := (patient[0].Raised - plain[0].Raised) / 3600; wait < 2 {
		t.Errorf("3 of 4 came only %d h after 1 of 1", wait)
	}
}

func TestMissingPeriodsAreAnAlertOfTheirOwn(t *testing.T) {
	rng := rand.New(rand.NewPCG(14, 2))
	h := scene(rng, hourly(), sceneStart, 63, 50)
	for i := 59 * 24; i < 59*24+8; i++ {
		h[i].Value = math.NaN()
	}
	alerts, _ := run(t, config(timeline.Count, hourly()), Rule{}, h, 56*24)
	if len(alerts) != 1 || alerts[0].Cause != Missing || alerts[0].Closed != h[59*24+8].At+3600 {
		t.Fatalf("want one missing-data alert that closes with the next sample, got %+v", alerts)
	}
}

func BenchmarkFit2160(b *testing.B) {
	h := scene(rand.New(rand.NewPCG(1, 1)), hourly(), sceneStart, 90, 80)
	for b.Loop() {
		if _, err := Fit(config(timeline.Count, hourly()), Rule{}, h, timeline.Mask{}); err != nil {
			b.Fatal(err)
		}
	}
}

func BenchmarkStep(b *testing.B) {
	rng := rand.New(rand.NewPCG(1, 1))
	h := scene(rng, hourly(), sceneStart, 120, 100)
	e, err := Fit(config(timeline.Count, hourly()), Rule{}, h[:2160], timeline.Mask{})
	if err != nil {
		b.Fatal(err)
	}
	b.ReportAllocs()
	at, i := h[2160].At, 0
	for b.Loop() {
		// The same weeks again and again, at ever later times.
		s := h[2160+i%672]
		s.At = at
		e.Step(s, timeline.Judged)
		at += 3600
		i++
	}
}
