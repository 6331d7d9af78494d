package timeline

import (
	"math/rand/v2"
	"testing"
	"time"
)

func spans(t *testing.T, starts ...string) (list []Span) {
	for _, s := range starts {
		at := wall(t, s).Unix()
		list = append(list, Span{at, at + 3*3600})
	}
	return list
}

func TestWhatComesBackIsFound(t *testing.T) {
	zone := wall(t, "2026-06-01 00:00").Location()
	for _, c := range []struct {
		name   string
		starts []string
		rule   string
		seen   int
		next   string
	}{
		{"each Tuesday night, once an hour late", []string{"2026-06-02 01:00", "2026-06-09 02:00", "2026-06-16 01:00"},
			"FREQ=WEEKLY;BYDAY=TU", 3, "2026-06-23 01:00"},
		{"over a change of clocks", []string{"2026-10-22 01:00", "2026-10-29 01:00", "2026-11-05 01:00"}, "FREQ=WEEKLY;BYDAY=TH",
			3, "2026-11-12 01:00"},
		{"each day", []string{"2026-06-02 04:00", "2026-06-03 04:00", "2026-06-04 04:30", "2026-06-06 04:00"}, "FREQ=DAILY", 4,
			"2026-06-07 04:00"},
		{"the last of long months", []string{"2025-12-31 06:00", "2026-01-31 06:00", "2026-03-31 06:00"},
			"FREQ=MONTHLY;BYMONTHDAY=31", 3, "2026-05-31 06:00"},
		{"the first of the month", []string{"2026-03-01 06:00", "2026-04-01 06:00", "2026-05-01 06:00"},
			"FREQ=MONTHLY;BYMONTHDAY=1", 3, "2026-06-01 06:00"},
	} {
		found := Recur(spans(t, c.starts...), zone)
		if len(found) != 1 || found[0].Rule != c.rule || found[0].Seen != c.seen || found[0].Length != 3*time.Hour ||
			!found[0].After(wall(t, c.starts[len(c.starts)-1]).Add(3*time.Hour)).Equal(wall(t, c.next)) {
			t.Errorf("%s: %+v", c.name, found)
		}
	}
}

func TestChanceIsNoRecurrence(t *testing.T) {
	if found := Recur(spans(t, "2026-06-02 01:00", "2026-06-09 01:00"), time.UTC); found != nil {
		t.Errorf("twice is no rule: %+v", found)
	}
	found := 0
	for seed := range uint64(200) {
		rng := rand.New(rand.NewPCG(seed, 3))
		var list []Span
		for range 6 { // six happenings at any hour of sixteen weeks
			at := rng.Int64N(112 * 86400)
			list = append(list, Span{at, at + 3600})
		}
		if Recur(list, time.UTC) != nil {
			found++
		}
	}
	if found > 6 {
		t.Errorf("of 200 random pasts %d have a rule", found)
	}
	if Recur(nil, time.UTC) != nil {
		t.Error("nothing comes back")
	}
}
