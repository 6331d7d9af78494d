package timeline

import (
	"errors"
	"strings"
	"testing"
	"time"
)

func wall(t *testing.T, text string) time.Time {
	t.Helper()
	zone, err := time.LoadLocation("America/Halifax")
	if err != nil {
		t.Fatal(err)
	}
	at, err := time.ParseInLocation("2006-01-02 15:04", text, zone)
	if err != nil {
		t.Fatal(err)
	}
	return at
}

func TestHoursHoldByTheClockOnTheWall(t *testing.T) {
	// 2026-11-01 is the Sunday on which Halifax sets its clocks back at 02:00.
	for _, c := range []struct{ hours, at, until string }{
		{"mon-fri 22:00-06:00", "2026-06-15 23:00", "2026-06-16 06:00"}, // Monday night
		{"mon-fri 22:00-06:00", "2026-06-16 05:59", "2026-06-16 06:00"},
		{"mon-fri 22:00-06:00", "2026-06-16 06:00", ""},
		{"mon-fri 22:00-06:00", "2026-06-20 05:00", "2026-06-20 06:00"}, // Saturday, begun on Friday
		{"mon-fri 22:00-06:00", "2026-06-20 23:00", ""},
		{"sat,sun 00:00-24:00", "2026-06-21 12:00", "2026-06-22 00:00"},
		{"fri-mon 12:00-13:00", "2026-06-21 12:30", "2026-06-21 13:00"},
		{"22:00-06:00", "2026-11-01 01:30", "2026-11-01 06:00"},
		{"08:00-08:00", "2026-06-15 03:00", "2026-06-15 08:00"}, // all day
	} {
		h, err := ParseHours(c.hours)
		if err != nil {
			t.Fatal(err)
		}
		at := wall(t, c.at)
		end := h.End(at)
		if c.until == "" {
			if h.Holds(at) {
				t.Errorf("%s holds %s", c.hours, c.at)
			}
			continue
		}
		if !end.Equal(wall(t, c.until)) {
			t.Errorf("%s at %s ends %v, want %s", c.hours, c.at, end, c.until)
		}
	}
}

func TestQuietHoursThatFollowEachOtherAreOneNight(t *testing.T) {
	var hours []Hours
	for _, text := range []string{"mon-fri 20:00-24:00", "00:00-07:00"} {
		h, err := ParseHours(text)
		if err != nil {
			t.Fatal(err)
		}
		hours = append(hours, h)
	}
	if got, want := QuietUntil(hours, wall(t, "2026-06-15 21:00")), wall(t, "2026-06-16 07:00"); !got.Equal(want) {
		t.Errorf("quiet until %v, want %v", got, want)
	}
	if at := wall(t, "2026-06-15 12:00"); !QuietUntil(hours, at).Equal(at) {
		t.Error("noon is quiet")
	}
	always, _ := ParseHours("00:00-24:00")
	if got := QuietUntil([]Hours{always}, wall(t, "2026-06-15 12:00")); got.Sub(wall(t, "2026-06-15 12:00")) > 10*24*time.Hour {
		t.Errorf("hours without an end are followed to %v", got)
	}
}

func TestHoursThatCannotBeReadAreRefusedWithTheForm(t *testing.T) {
	for _, text := range []string{"", "mon", "mon-fri", "22:00", "25:00-26:00", "mon-day 01:00-02:00", "24:00-02:00",
		"mon fri 01:00-02:00"} {
		if _, err := ParseHours(text); !errors.Is(err, ErrHours) || !strings.Contains(err.Error(), "mon-fri 22:00-06:00") {
			t.Errorf("%q: %v", text, err)
		}
	}
}

func FuzzParseHours(f *testing.F) {
	f.Add("mon-fri 22:00-06:00")
	f.Add("sat,sun 00:00-24:00")
	f.Fuzz(func(t *testing.T, text string) {
		h, err := ParseHours(text)
		if err != nil {
			return
		}
		at := time.Date(2026, 3, 8, 6, 30, 0, 0, time.UTC)
		if end := h.End(at); !end.IsZero() && !end.After(at) {
			t.Errorf("%q ends at %v, before it began", text, end)
		}
	})
}
