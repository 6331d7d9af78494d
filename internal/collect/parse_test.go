package collect

import (
	"testing"
	"time"

	"tinbell/core/timeline"
	"tinbell/internal/record"
)

func TestDurationsAreReadAsPeopleWriteThem(t *testing.T) {
	for text, want := range map[string]time.Duration{"90s": 90 * time.Second, "15m": 15 * time.Minute, "1h": time.Hour,
		"1.5h": 90 * time.Minute,
		"30d":  720 * time.Hour, "8w": 1344 * time.Hour, "1y": 8760 * time.Hour, "1mo": 720 * time.Hour, "0s": 0} {
		if got, err := ParsePeriod(text); err != nil || got != want {
			t.Errorf("%s is %s (%v), want %s", text, got, err, want)
		}
	}
	for _, text := range []string{"", "h", "5", "-1h", "1x", "1om", "1mom", "mo", "9999999y", "1h30m", "NaNh"} {
		if d, err := ParsePeriod(text); err == nil {
			t.Errorf("%q was read as %s", text, d)
		}
	}
}

func FuzzParsePeriod(f *testing.F) {
	for _, seed := range []string{"90s", "1y", "", "1e300d", "InfH", "--1h"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if d, err := ParsePeriod(text); err == nil && d < 0 {
			t.Errorf("%q gave %s", text, d)
		}
	})
}

func FuzzSampleCheck(f *testing.F) {
	f.Add("2026-06-18T09:00:00Z", 4.0, 10.0, uint8(0))
	f.Add("not a time", -1.0, 0.5, uint8(1))
	grid := timeline.Grid{Period: time.Hour, Zone: time.UTC}
	now := time.Date(2026, 6, 18, 12, 0, 0, 0, time.UTC)
	f.Fuzz(func(t *testing.T, at string, value, rows float64, kind uint8) {
		m := target{Metric: record.Metric{Kind: timeline.Kinds[int(kind)%len(timeline.Kinds)]}, grid: grid}
		s, err := m.check(Line{At: at, Value: &value, Rows: &rows}, now)
		if err != nil {
			return
		}
		if *s.Value != *s.Value || !grid.Floor(s.At).Equal(s.At) || grid.Next(s.At).After(now) {
			t.Errorf("accepted %s %g of %s", at, value, m.Kind)
		}
		if m.Kind == timeline.Share && (*s.Value < 0 || *s.Value > 1) {
			t.Errorf("a share of %g", *s.Value)
		}
	})
}
