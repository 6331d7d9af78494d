package timeline

import (
	"math"
	"testing"
	"time"
)

func zone(t *testing.T, name string) *time.Location {
	t.Helper()
	z, err := time.LoadLocation(name)
	if err != nil {
		t.Fatal(err)
	}
	return z
}

func TestGridRefusesPeriodsThatDoNotDivideADay(t *testing.T) {
	for _, period := range []time.Duration{time.Minute, 5 * time.Minute, time.Hour, 24 * time.Hour} {
		if _, err := NewGrid(period, nil); err != nil {
			t.Errorf("%s refused: %v", period, err)
		}
	}
	for _, period := range []time.Duration{0, time.Second, 7 * time.Hour, 25 * time.Hour, -time.Hour} {
		if _, err := NewGrid(period, nil); err == nil {
			t.Errorf("%s accepted", period)
		}
	}
}

func TestDailyPeriodsRunFromLocalMidnightToMidnight(t *testing.T) {
	g := Grid{24 * time.Hour, zone(t, "America/Halifax")}
	for _, c := range []struct {
		at    string
		hours float64
	}{{"2026-03-08T12:00:00-03:00", 23}, {"2026-11-01T12:00:00-04:00", 25}, {"2026-06-18T12:00:00-03:00", 24}} {
		at, err := time.Parse(time.RFC3339, c.at)
		if err != nil {
			t.Fatal(err)
		}
		start := g.Floor(at)
		if h := g.Next(start).Sub(start).Hours(); h != c.hours {
			t.Errorf("day of %s lasts %g h, want %g", c.at, h, c.hours)
		}
		if s := NewSlotter(g).At(start.Unix()); math.Abs(float64(s.Length)*24-c.hours) > 1e-5 {
			t.Errorf("slot of %s is %g of a day, want %g h", c.at, s.Length, c.hours)
		}
	}
}

func TestSlotsFollowLocalWallTime(t *testing.T) {
	for _, name := range []string{"America/Halifax", "UTC", "Asia/Kathmandu", "Pacific/Auckland"} {
		g := Grid{15 * time.Minute, zone(t, name)}
		s := NewSlotter(g)
		for at := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC); at.Year() == 2026; at = at.Add(7 * 15 * time.Minute) {
			local := at.In(g.Zone)
			slot := s.At(at.Unix())
			hour := local.Hour()*4 + local.Minute()/15
			date := local.Year()*10000 + int(local.Month())*100 + local.Day()
			weekend := local.Weekday() == time.Saturday || local.Weekday() == time.Sunday
			week := int(local.Weekday())*96 + hour
			if int(slot.Hour) != hour || int(slot.Day) != int(local.Weekday()) || int(slot.Date) != date ||
				int(slot.Week) != week || (slot.Class == 1) != weekend {
				t.Fatalf("%s in %s: slot %+v", local, name, slot)
			}
		}
	}
}

func TestTheRepeatedHourSharesASlotAndTheSkippedOneNeverOccurs(t *testing.T) {
	g := Grid{time.Hour, zone(t, "America/Halifax")}
	s := NewSlotter(g)
	first := time.Date(2026, 11, 1, 4, 0, 0, 0, time.UTC) // 01:00 daylight time
	if a, b := s.At(first.Unix()), s.At(first.Add(time.Hour).Unix()); a.Week != b.Week {
		t.Errorf("the two hours from one o'clock have slots %d and %d", a.Week, b.Week)
	}
	spring := time.Date(2026, 3, 8, 5, 0, 0, 0, time.UTC)
	for i := range 3 {
		if slot := s.At(spring.Add(time.Duration(i) * time.Hour).Unix()); slot.Hour == 2 {
			t.Errorf("two o'clock occurred on the day it is skipped")
		}
	}
}

func TestDenseMarksPeriodsThatDidNotCome(t *testing.T) {
	g := Grid{time.Hour, time.UTC}
	got := Dense(g, []Sample{{At: 0, Value: 1}, {At: 3 * 3600, Value: 4}}, time.Unix(5*3600, 0))
	if len(got) != 5 || got[0].Value != 1 || !got[1].Missing() || !got[2].Missing() || got[3].Value != 4 || !got[4].Missing() {
		t.Errorf("dense: %+v", got)
	}
	if Dense(g, nil, time.Unix(100, 0)) != nil {
		t.Error("no samples must give no periods")
	}
	if !math.IsNaN(got[1].Value) {
		t.Error("missing is not a number")
	}
}

func TestMaskJoinsSpansAndKnowsItsEdges(t *testing.T) {
	m := NewMask(Span{10, 20}, Span{30, 40}, Span{15, 25}, Span{50, 50})
	if len(m.Spans()) != 2 {
		t.Fatalf("spans: %v", m.Spans())
	}
	for at, want := range map[int64]bool{9: false, 10: true, 24: true, 25: false, 39: true, 40: false, 50: false} {
		if m.Covers(at) != want {
			t.Errorf("covers %d: %t", at, !want)
		}
	}
	if !m.Touches(5, 11) || m.Touches(25, 30) || !m.Touches(0, 100) || m.Touches(40, 60) {
		t.Error("touching stretches")
	}
}

func TestMasksKnowWhatLasts(t *testing.T) {
	m := NewMask(Span{10, 20}).Lasting(Span{30, 40}, Span{38, 50})
	for at, want := range map[int64]Mark{5: Judged, 12: Masked, 20: Judged, 30: Lasting, 45: Lasting, 50: Judged} {
		if got := m.Mark(at, at+1); got != want {
			t.Errorf("%d is marked %d, want %d", at, got, want)
		}
	}
	if len(m.Spans()) != 2 {
		t.Errorf("spans: %v", m.Spans())
	}
	if m := (Mask{}); m.Mark(0, 1<<60) != Judged {
		t.Error("an empty mask masks something")
	}
}
