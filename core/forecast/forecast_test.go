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

// What comes on the 1st and 15th of each month is foretold on these days, whatever weekday they
// are, and widens the intervals of no other.
func TestDatesOfAMonthAreForetold(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 9))
	bills, plain := growing(rng, 420, 0.001, 0.05), Daily{}
	plain.At, plain.Weekday, plain.Value = bills.At, bills.Weekday, append([]float64{}, bills.Value...)
	billed := func(at int64) bool { d := time.Unix(at, 0).UTC().Day(); return d == 1 || d == 15 }
	for i, at := range bills.At {
		if billed(at) {
			bills.Value[i] *= 6
		}
	}
	const past = 360
	ahead := func(d Daily) *Forecast {
		f, err := Ahead(daily(timeline.Count), Daily{d.At[:past], d.Weekday[:past], d.Value[:past]}, 60, 0.9)
		if err != nil {
			t.Fatal(err)
		}
		return f
	}
	with, without := ahead(bills), ahead(plain)
	inside := 0
	for h, at := range with.At {
		want := 1.0
		if billed(at) {
			want = 6
		}
		if ratio := with.Expected[h] / without.Expected[h]; math.Abs(ratio/want-1) > 0.1 {
			t.Errorf("%s: %.2f times what is expected without bills, want %.0f", time.Unix(at, 0).UTC().Format(time.DateOnly), ratio, want)
		}
		if v := bills.Value[past+h]; v >= with.Low[h] && v <= with.High[h] {
			inside++
		}
		if wide := math.Log(with.High[h]/with.Low[h]) / math.Log(without.High[h]/without.Low[h]); wide > 1.25 {
			t.Errorf("day %d: the interval is %.2f times as wide as without bills", h+1, wide)
		}
	}
	if inside < 48 {
		t.Errorf("%d of 60 days within the 90 %% interval", inside)
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

// What days come to together lies in its interval as often as stated, though they err
// together; and it is neither the sum of the days' own bounds nor as narrow as of days
// that err by themselves.
func TestTheIntervalOfATotalCoversWhatItStates(t *testing.T) {
	rng := rand.New(rand.NewPCG(6, 2))
	inside, n := map[int]int{}, 80
	for range n {
		d := growing(rng, 250, 0, 0.08)
		level := 0.0
		for i := range d.Value {
			level += 0.01 * rng.NormFloat64()
			d.Value[i] *= math.Exp(level)
		}
		f, err := Ahead(daily(timeline.Count), Daily{d.At[:190], d.Weekday[:190], d.Value[:190]}, 60, 0.9)
		if err != nil {
			t.Fatal(err)
		}
		expected, low, high := f.Totals()
		sum := 0.0
		for h := range 60 {
			if sum += d.Value[190+h]; sum >= low[h] && sum <= high[h] {
				inside[h]++
			}
			if h > 0 && expected[h] <= expected[h-1] || low[h] >= expected[h] || high[h] <= expected[h] {
				t.Fatalf("after %d days: %.0f, %.0f to %.0f", h+1, expected[h], low[h], high[h])
			}
		}
	}
	for _, h := range []int{6, 29, 59} {
		if share := float64(inside[h]) / float64(n); share < 0.82 {
			t.Errorf("the total of %d days: %.2f inside, .9 stated", h+1, share)
		}
	}
}

// The day that a limit is reached with a probability comes later the surer one wants to
// be, and never without a chance.
func TestALimitIsReachedLaterTheSurerOneWantsToBe(t *testing.T) {
	rng := rand.New(rand.NewPCG(6, 9))
	f, err := Ahead(daily(timeline.Count), growing(rng, 200, 0.004, 0.02), 120, 0.9)
	if err != nil {
		t.Fatal(err)
	}
	limit := f.Expected[60]
	before := -1
	for _, p := range []float64{0.1, 0.5, 0.8} {
		day := f.Reaches(limit, p)
		if day < 0 || day < before {
			t.Errorf("with probability %.1f on day %d, less surely on day %d", p, day, before)
		}
		before = day
	}
	if day := f.Reaches(100*limit, 0.8); day != -1 {
		t.Errorf("a hundred times as much on day %d", day)
	}
}

func TestSegmentsAreSummedWhereAllHaveADay(t *testing.T) {
	day := int64(86400)
	a := Daily{At: []int64{0, day, 2 * day, 3 * day}, Weekday: []int{4, 5, 6, 0}, Value: []float64{1, 2, 3, 4}}
	b := Daily{At: []int64{day, 2 * day}, Weekday: []int{5, 6}, Value: []float64{10, math.NaN()}}
	s := Together([]Daily{a, b, {}})
	if len(s.Value) != 3 || s.Value[0] != 1 || s.Value[1] != 12 || !math.IsNaN(s.Value[2]) || s.Weekday[1] != 5 {
		t.Errorf("%+v", s)
	}
}

// Five years of months with half as many again each December and growth: the Decembers to come
// are foretold, by their share, and no other month is.
func TestMonthsThatStandOutEveryYearAreForetold(t *testing.T) {
	g, err := timeline.NewGrid(timeline.Month, time.UTC)
	if err != nil {
		t.Fatal(err)
	}
	rng := rand.New(rand.NewPCG(12, 5))
	var history []timeline.Sample
	for at := time.Date(2021, 1, 1, 0, 0, 0, 0, time.UTC); at.Before(time.Date(2026, 9, 1, 0, 0, 0, 0, time.UTC)); at = g.Next(at) {
		v := 1000 * math.Exp(0.005*float64(len(history))+0.02*rng.NormFloat64())
		if at.Month() == time.December {
			v *= 1.5
		}
		history = append(history, timeline.Sample{At: at.Unix(), Value: math.Round(v)})
	}
	cfg := baseline.Config{Kind: timeline.Count, Grid: g}
	f, err := Ahead(cfg, Days(cfg, history, timeline.Mask{}), 12, 0.9)
	if err != nil {
		t.Fatal(err)
	}
	for i, at := range f.At {
		month := time.Unix(at, 0).UTC()
		want := 1000 * math.Exp(0.005*float64(len(history)+i))
		if month.Month() == time.December {
			want *= 1.5
		}
		if off := math.Abs(f.Expected[i]/want - 1); month.Day() != 1 || off > 0.1 {
			t.Errorf("%s: %.0f are foretold, want about %.0f", month.Format(time.DateOnly), f.Expected[i], want)
		}
		if f.Low[i] > want || f.High[i] < want {
			t.Errorf("%s: %.0f lies outside %.0f to %.0f", month.Format(time.DateOnly), want, f.Low[i], f.High[i])
		}
	}
}
