package detect

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"tinbell/core/baseline"
	"tinbell/core/timeline"
)

// begun is silence of some days, and then arrivals at so many a day, by two waves a day.
func begun(g timeline.Grid, silent, days int, perDay float64, rng *rand.Rand) []timeline.Sample {
	list := make([]timeline.Sample, (silent+days)*g.PerDay())
	start := time.Date(2025, 9, 1, 0, 0, 0, 0, g.Zone).Unix()
	step := int64(g.Period.Seconds())
	for i := range list {
		list[i].At = start + int64(i)*step
	}
	for range int(perDay * float64(days)) {
		hour := 8 + 1.5*rng.NormFloat64()
		if rng.IntN(3) > 0 {
			hour = 17 + 2*rng.NormFloat64()
		}
		at := float64(silent+rng.IntN(days))*86400 + min(max(hour, 0), 23.99)*3600
		list[int(at)/int(step)].Value++
	}
	return list
}

// What is kept of a beginning between two samples is all that is known of it: an evaluator
// that is stored and read again at any time, also of minutes, whose profiles are kept as
// bytes, tells the same as one that never was.
func TestABeginningIsTheSameAfterItWasStored(t *testing.T) {
	for _, period := range []time.Duration{5 * time.Minute, time.Hour} {
		g := timeline.Grid{Period: period, Zone: time.UTC}
		list := begun(g, 20, 9, 2500, rand.New(rand.NewPCG(3, uint64(period))))
		cfg := config(timeline.Count, g)
		one, err := Fit(cfg, Rule{}, list[:18*g.PerDay()], timeline.Mask{})
		if err != nil {
			t.Fatal(err)
		}
		other, err := Load(cfg, Rule{}, must(one.MarshalBinary()))
		if err != nil {
			t.Fatal(err)
		}
		told := 0
		for i, s := range list[18*g.PerDay():] {
			a, b := one.Step(s, timeline.Judged), other.Step(s, timeline.Judged)
			if a.Change != b.Change || math.Abs(a.Expected-b.Expected) > 1e-3*max(1, a.Expected) {
				t.Fatalf("%s, period %d: %v and %.4f expected, stored meanwhile %v and %.4f", period, i, a.Change, a.Expected, b.Change, b.Expected)
			}
			if a.Change == Opened {
				told++
			}
			if i%7 == 0 {
				if other, err = Load(cfg, Rule{}, must(other.MarshalBinary())); err != nil {
					t.Fatal(err)
				}
			}
		}
		if from, _ := one.RegimeDue(); told != 1 || !one.Begun || from < list[20*g.PerDay()].At {
			t.Errorf("%s: told %d times, begun %v at %d", period, told, one.Begun, from)
		}
	}
}

// Rows that come for an hour where none ever come, as of a queue of what failed, are told when
// they come, as having lasted so long, and what comes later on the same day belongs to it.
func TestABurstWhereNothingEverComesEndsWhenItEnded(t *testing.T) {
	g := timeline.Grid{Period: 15 * time.Minute, Zone: time.UTC}
	list := begun(g, 42, 0, 0, rand.New(rand.NewPCG(1, 1)))
	for _, at := range []int{40*96 + 30, 40*96 + 60} {
		for i := range 4 {
			list[at+i].Value = 50
		}
	}
	alerts, _ := run(t, config(timeline.Count, g), Rule{}, list, 35*96)
	if len(alerts) != 1 {
		t.Fatalf("two bursts of a day are told %d times", len(alerts))
	}
	first, last := list[40*96+30].At, list[40*96+63].At+900
	if a := alerts[0]; a.Since != first || a.Raised-a.Since > 3600 || a.End < last || a.End > last+1800 || a.Closed == 0 {
		t.Errorf("it lasted from %d to %d, told at %d: from %d to %d", first, last, a.Raised-first, a.Since-first, a.End-first)
	}
}

// A fit takes a history that was empty for long from where it begins, if there is enough of
// that; neither stray rows of a trial before it nor rows that are rare at all times are a
// beginning, and what is short is not cut to nothing.
func TestAHistoryThatWasEmptyIsTakenFromItsBeginning(t *testing.T) {
	g := timeline.Grid{Period: time.Hour, Zone: time.UTC}
	cfg := config(timeline.Count, g)
	rng := rand.New(rand.NewPCG(8, 8))
	const silent = 30
	long, short := begun(g, silent, 12, 900, rng), begun(g, silent, 2, 900, rng)
	tried := begun(g, silent, 12, 900, rng)
	tried[10*24+9].Value, tried[11*24+9].Value = 3, 1
	rare := begun(g, 0, silent+12, 2, rng)
	full := begun(g, 0, silent+12, 900, rng)
	stepped := slices.Clone(long)
	for i := range stepped {
		stepped[i].Value = float64(i / (9 * 24)) // another every nine days
	}
	for _, c := range []struct {
		name    string
		cfg     baseline.Config
		history []timeline.Sample
		day     int
	}{{"twelve days after thirty empty ones", cfg, long, silent}, {"a trial before it", cfg, tried, silent}, {"two days", cfg, short, 0},
		{"two rows a day", cfg, rare, 0}, {"never empty", cfg, full, 0}, {"nothing", cfg, long[:silent*24], 0}, {"no samples", cfg, nil, 0},
		{"values that were always 0", config(timeline.Value, g), long, silent}, {"values", config(timeline.Value, g), full, 0},
		{"a value that steps", config(timeline.Value, g), stepped, 0}} {
		if got := Opening(c.cfg, c.history); got/24 != c.day {
			t.Errorf("%s: it begins on day %d, want %d", c.name, got/24, c.day)
		}
	}
	e, err := Fit(cfg, Rule{}, long, timeline.Mask{})
	if err != nil {
		t.Fatal(err)
	}
	sum := 0.0
	for i := range 24 {
		sum += e.Peek(timeline.Sample{At: long[len(long)-1].At + int64(i+1)*3600, Value: math.NaN()}).Expected
	}
	if math.Abs(sum/900-1) > 0.15 {
		t.Errorf("%.0f are expected of a day, of 900", sum)
	}
}

// What is known of a beginning is its mean, the means of the hours that were seen, those of
// minutes with their neighbours, and how far values stray from them.
func TestWhatIsKnownOfABeginning(t *testing.T) {
	b := make(beginning, 24)
	for hour := range 12 {
		for day := range 3 {
			b.see(&timeline.Slot{Hour: uint16(hour)}, float64(10*(hour%2)+day-1), 1)
		}
	}
	b.see(&timeline.Slot{Hour: 99}, 1e6, 1) // of no such day
	b.see(&timeline.Slot{Hour: 3}, 1e6, 0)  // of no rows
	born := b.birth()
	if born.Level != 5 || born.Means[0] != 0 || born.Means[1] != 10 || born.Means[20] != 5 || math.Abs(born.Spread-1) > 1e-9 {
		t.Errorf("%+v", born)
	}
	fine := make(beginning, 288)
	for k := range fine {
		fine.see(&timeline.Slot{Hour: uint16(k)}, float64(k%2), 1)
	}
	if born := fine.birth(); born.Means[100] < 0.4 || born.Means[100] > 0.6 {
		t.Errorf("five minutes are seen with their neighbours: %.2f", born.Means[100])
	}
	if born := (beginning{}).birth(); born.Level != 0 || born.Spread != 0 {
		t.Errorf("of nothing: %+v", born)
	}
}
