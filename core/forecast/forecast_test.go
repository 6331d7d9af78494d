package forecast

import (
	"errors"
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"tinbell/core/baseline"
	"tinbell/core/timeline"
)

func daily(kind timeline.Kind) baseline.Config {
	return baseline.Config{Kind: kind, Grid: timeline.Grid{Period: 24 * time.Hour, Zone: time.UTC}}
}

// growing makes n days that start on a Monday: level, growth a day, a weekly
// shape and noise, all relative.
func growing(rng *rand.Rand, n int, growth, noise float64) Daily {
	var d Daily
	at := time.Date(2025, 1, 6, 0, 0, 0, 0, time.UTC)
	for i := range n {
		weekday := int(at.Weekday())
		shape := []float64{0.6, 1.1, 1.1, 1.1, 1.1, 1.2, 0.8}[weekday]
		d.At, d.Weekday = append(d.At, at.Unix()), append(d.Weekday, weekday)
		d.Value = append(d.Value, 1000*shape*math.Exp(growth*float64(i)+noise*rng.NormFloat64()))
		at = at.AddDate(0, 0, 1)
	}
	return d
}

func TestAForecastFollowsGrowthAndTheWeek(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 3))
	d := growing(rng, 250, 0.004, 0.01)
	past := Daily{d.At[:190], d.Weekday[:190], d.Value[:190]}
	f, err := Ahead(daily(timeline.Count), past, 60, 0.9)
	if err != nil {
		t.Fatal(err)
	}
	for h := range 60 {
		if truth := d.Value[190+h]; math.Abs(math.Log(f.Expected[h]/truth)) > 0.12 {
			t.Errorf("day %d: %.0f expected, %.0f came", h+1, f.Expected[h], truth)
		}
	}
	if f.Model == "level" || f.FullYear {
		t.Errorf("model %s, full year %t after 190 days of steady growth", f.Model, f.FullYear)
	}
	if f.At[0] != d.At[190] {
		t.Error("the forecast begins with the day after the history")
	}
}

func TestTheForecastIntervalCoversWhatItStates(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 1))
	inside, n := 0, 0
	for range 60 {
		// A random walk in the logarithm: growth that nobody can foresee.
		d := growing(rng, 270, 0, 0.03)
		level := 0.0
		for i := range d.Value {
			level += 0.012 * rng.NormFloat64()
			d.Value[i] *= math.Exp(level)
		}
		f, err := Ahead(daily(timeline.Count), Daily{d.At[:182], d.Weekday[:182], d.Value[:182]}, 84, 0.9)
		if err != nil {
			t.Fatal(err)
		}
		for h := range 84 {
			n++
			if v := d.Value[182+h]; v >= f.Low[h] && v <= f.High[h] {
				inside++
			}
		}
	}
	got := float64(inside) / float64(n)
	t.Logf("coverage stated 0.90, found %.3f", got)
	if got < 0.85 || got > 0.99 {
		t.Errorf("coverage stated 0.90, found %.3f", got)
	}
}

func TestForecastsRefuseWhatTheHistoryCannotCarry(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 1))
	d := growing(rng, 40, 0, 0.01)
	if _, err := Ahead(daily(timeline.Count), d, 121, 0.9); err == nil {
		t.Error("more than three times the history was forecast")
	}
	var short baseline.TooShort
	if _, err := Ahead(daily(timeline.Count), growing(rng, 20, 0, 0.01), 5, 0.9); !errors.As(err, &short) || short.Need != 28 {
		t.Errorf("twenty days: %v", err)
	}
	for i := 5; i < 12; i++ {
		d.Value[i] = math.NaN()
	}
	f, err := Ahead(daily(timeline.Count), d, 30, 0.9)
	if err != nil {
		t.Fatal(err)
	}
	for h := range f.Expected {
		if !(f.Low[h] < f.Expected[h] && f.Expected[h] < f.High[h]) {
			t.Fatalf("day %d: %g < %g < %g", h, f.Low[h], f.Expected[h], f.High[h])
		}
	}
}

func TestTheChanceOfPassingALimitGrowsWithGrowth(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 4))
	f, err := Ahead(daily(timeline.Count), growing(rng, 200, 0.004, 0.01), 120, 0.9)
	if err != nil {
		t.Fatal(err)
	}
	first, chance := f.Crosses(1000 * math.Exp(0.004*260))
	if first < 20 || first > 110 {
		t.Errorf("the limit is passed on day %d", first)
	}
	if chance[0] > 0.3 || chance[119] < 0.5 {
		t.Errorf("chance %.2f at first, %.2f at last", chance[0], chance[119])
	}
	if first, chance := f.Crosses(1e9); first != -1 || chance[119] > 0.05 {
		t.Errorf("a billion: day %d, chance %.2f", first, chance[119])
	}
}

func TestDaysAreSummedByLocalMidnightThroughClockChanges(t *testing.T) {
	zone := mustLoad(t, "America/Halifax")
	cfg := baseline.Config{Kind: timeline.Count, Grid: timeline.Grid{Period: time.Hour, Zone: zone}}
	at := time.Date(2026, 3, 6, 0, 0, 0, 0, zone)
	var h []timeline.Sample
	for t := at; t.Before(time.Date(2026, 3, 10, 12, 0, 0, 0, zone)); t = t.Add(time.Hour) {
		h = append(h, timeline.Sample{At: t.Unix(), Value: 10})
	}
	d := Days(cfg, h, timeline.Mask{})
	if len(d.Value) != 4 {
		t.Fatalf("%d days, the last is not over", len(d.Value))
	}
	for i, want := range []float64{240, 240, 230, 240} {
		if d.Value[i] != want {
			t.Errorf("day %d holds %g, want %g", i, d.Value[i], want)
		}
	}
	masked := Days(cfg, h, timeline.NewMask(timeline.Span{From: h[0].At, To: h[20].At}))
	if !math.IsNaN(masked.Value[0]) || masked.Value[1] != 240 {
		t.Errorf("a day mostly left out is missing: %v", masked.Value)
	}
}

func mustLoad(t *testing.T, name string) *time.Location {
	t.Helper()
	zone, err := time.LoadLocation(name)
	if err != nil {
		t.Fatal(err)
	}
	return zone
}
