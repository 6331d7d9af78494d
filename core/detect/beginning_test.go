package detect

import (
	"math"
	"math/rand/v2"
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

// A fit takes a history that was empty for long from where it begins, if there is enough of
// that; neither stray rows of a trial before it nor rows that are rare at all times are a
// beginning, and what is short is not cut to nothing.
func TestAHistoryThatWasEmptyIsTakenFromItsBeginning(t *testing.T) {
	g := timeline.Grid{Period: time.Hour, Zone: time.UTC}
	cfg := config(timeline.Count, g)
	rng := rand.New(rand.NewPCG(8, 8))
	const silent = 30
	long, short := begun(g, silent, 12, 900, rng), begun(g, silent, 5, 900, rng)
	tried := begun(g, silent, 12, 900, rng)
	tried[10*24+9].Value, tried[11*24+9].Value = 3, 1
	rare := begun(g, 0, silent+12, 2, rng)
	full := begun(g, 0, silent+12, 900, rng)
	for _, c := range []struct {
		name    string
		cfg     baseline.Config
		history []timeline.Sample
		day     int
	}{{"twelve days after thirty empty ones", cfg, long, silent}, {"a trial before it", cfg, tried, silent}, {"five days", cfg, short, 0},
		{"two rows a day", cfg, rare, 0}, {"never empty", cfg, full, 0}, {"nothing", cfg, long[:silent*24], 0}, {"no samples", cfg, nil, 0},
		{"values", config(timeline.Value, g), long, 0}} {
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

// The hours of a day are as many times the average as came in them, smoothed over half an
// hour; an hour that was not seen counts as average.
func TestTheShapeOfABeginning(t *testing.T) {
	b := make(beginning, 24)
	for hour := range 12 {
		for range 3 {
			b.see(&timeline.Slot{Hour: uint16(hour)}, float64(10*(hour%2)), 1)
		}
	}
	b.see(&timeline.Slot{Hour: 99}, 1e6, 1) // of no such day
	level, shape := b.shape()
	if level != 5 || shape[0] != 0 || shape[1] != 2 || shape[20] != 1 {
		t.Errorf("%.2f a period, by %v", level, shape)
	}
	fine := make(beginning, 288)
	for k := range fine {
		fine.see(&timeline.Slot{Hour: uint16(k)}, float64(k%2), 1)
	}
	if _, shape := fine.shape(); shape[100] < 0.8 || shape[100] > 1.2 {
		t.Errorf("five minutes are seen with their neighbours: %.2f", shape[100])
	}
	if level, shape := (beginning{}).shape(); level != 0 || len(shape) != 0 {
		t.Errorf("of nothing: %v %v", level, shape)
	}
}
