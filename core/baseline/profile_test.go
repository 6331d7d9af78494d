package baseline

import (
	"bytes"
	"math"
	"testing"
	"time"

	"tinbell/core/timeline"
)

// Profiles come back as they were: few of them exactly, many within a millionth, and many go
// on from the bytes as from the list; what is cut or too long is refused.
func TestProfilesComeBackAndGoOn(t *testing.T) {
	for _, perDay := range []int{1, 24, 288, 1440} {
		m := newModel(Mult, perDay, Choice{HalfLife: 100, Weeks: 6, Parent: 2, Slot: 2})
		for _, p := range []*profile{&m.cells, &m.slots, &m.scales} {
			for i := range p.list {
				p.list[i] = fading{float64(i)*1.7 + 0.3, float64(i%9) + 0.7}
			}
		}
		stored := m.AppendProfiles([]byte("before"))[len("before"):]
		if len(stored) > m.ProfileBytes() {
			t.Errorf("%d a day: %d bytes, at most %d were foretold", perDay, len(stored), m.ProfileBytes())
		}
		again := &Model{PerDay: perDay}
		if err := again.TakeProfiles(bytes.Clone(stored)); err != nil {
			t.Fatal(err)
		}
		if twice := again.AppendProfiles(nil); !bytes.Equal(stored, twice) {
			t.Errorf("%d a day: written again they are other bytes", perDay)
		}
		for i := range 2 * perDay {
			for range 3 {
				m.cells.see(i, 0.9, float64(i), 1)
				again.cells.see(i, 0.9, float64(i), 1)
			}
			a, b := again.cells.at(i), m.cells.at(i)
			if off := math.Abs(a.Sum-b.Sum) / b.Sum; off > 1e-6 || math.Abs(a.Weight-b.Weight) > 1e-6*b.Weight {
				t.Fatalf("%d a day, %d: %v, want %v", perDay, i, a, b)
			}
		}
		for name, bad := range map[string][]byte{"cut": stored[:len(stored)-1], "none": nil, "too long": append(bytes.Clone(stored), 0),
			"of too many": {0xff, 0xff, 0xff, 0xff, 0x0f, 1, 2}} {
			if err := (&Model{PerDay: perDay}).TakeProfiles(bytes.Clone(bad)); err == nil {
				t.Errorf("%d a day: %s is taken", perDay, name)
			}
		}
	}
}

// A period of the day in which next to nothing is due says nothing of the level: two rows in
// such an hour are two rows, and no ten thousand times as many of everything.
func TestAQuietHourSaysNothingOfTheLevel(t *testing.T) {
	grid := timeline.Grid{Period: time.Hour, Zone: time.UTC}
	var history []timeline.Sample
	start := time.Date(2025, 6, 2, 0, 0, 0, 0, time.UTC).Unix()
	for i := range 28 * 24 {
		s := timeline.Sample{At: start + int64(i)*3600}
		if hour := i % 24; hour >= 8 && hour < 20 {
			s.Value = 1
		}
		history = append(history, s)
	}
	cfg := Config{Kind: timeline.Count, Grid: grid}
	p, err := Prepare(cfg, history, timeline.Mask{})
	if err != nil {
		t.Fatal(err)
	}
	m := p.Choose()
	before := m.Level()
	slotter := timeline.NewSlotter(grid)
	for hour := range 7 { // of one night
		e := m.Expect(slotter.At(start+int64(28*24+hour)*3600), 0)
		m.Learn(&e, 2)
	}
	if moved := m.Level()/before - 1; math.Abs(moved) > 0.02 {
		t.Errorf("a night of two rows an hour moves the level of %.2f by %.2f of it", before, moved)
	}
}
