package baseline

import (
	"bytes"
	"math"
	"testing"
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
