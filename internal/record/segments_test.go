package record

import (
	"strings"
	"testing"
	"time"

	"tinbell/core/detect"
)

func TestSegmentsHaveTheSettingsOfTheirLastPatternThatFits(t *testing.T) {
	ten, seven, yes := 10.0, 7.0, true
	s := DefaultSettings()
	s.MinEffect = 3
	s.Segments = []SegmentSettings{
		{Segment: "kiosk / *", WarnSeconds: 90 * 86400, Lowest: &ten, Owner: "kiosks"},
		{Segment: "*/ Windlass", Direction: "low", Lowest: &seven},
		{Segment: "web", Muted: true, Spikes: &yes},
	}
	for segment, want := range map[string]struct {
		series    int
		warn      time.Duration
		direction detect.Direction
		lowest    *float64
		owner     string
		muted     bool
	}{
		"app":                {5, detect.Year, detect.Both, nil, "", false},
		"kiosk / Gullstone":  {1, 90 * 24 * time.Hour, detect.Both, &ten, "kiosks", false},
		"kiosk / Windlass":   {1, 90 * 24 * time.Hour, detect.Low, &seven, "kiosks", false},
		"counter / Windlass": {5, detect.Year, detect.Low, &seven, "", false},
		"web":                {5, detect.Year, detect.Both, nil, "", true},
		"webshop":            {5, detect.Year, detect.Both, nil, "", false},
	} {
		own := s.For(segment)
		r := own.Rule(hourly, 5)
		if r.Series != want.series || r.Warn != want.warn || r.Direction != want.direction || r.Bounds.Lowest != want.lowest ||
			own.Owner != want.owner || r.BandOnly != want.muted || r.MinEffect != 3 {
			t.Errorf("%s: %+v, %q", segment, r, own.Owner)
		}
	}
	if !s.For("web").Spikes || s.For("app").Spikes {
		t.Error("spikes are asked for of web alone")
	}
	s = s.WithSegment(SegmentSettings{Segment: "web", Direction: "high"}, false)
	if own := s.For("web"); own.Muted || own.Direction != "high" || len(s.Segments) != 3 {
		t.Errorf("put in its place: %+v", s.Segments)
	}
	if s = s.WithSegment(SegmentSettings{Segment: "web"}, true); len(s.Segments) != 2 {
		t.Errorf("taken away: %+v", s.Segments)
	}
}

func TestSegmentSettingsThatCannotBeFollowedAreRefused(t *testing.T) {
	low, high := 9.0, 4.0
	for want, v := range map[string][]SegmentSettings{
		"has no segment":  {{Segment: " "}},
		"is there twice":  {{Segment: "a"}, {Segment: "a"}},
		"at least 1d":     {{Segment: "a", WarnSeconds: 60}},
		"lies above":      {{Segment: "a", Lowest: &low, Highest: &high}},
		"allowed are low": {{Segment: "a*", Direction: "sideways"}},
	} {
		s := DefaultSettings()
		s.Segments = v
		if err := s.Check(hourly); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%+v: %v, want %q", v, err, want)
		}
	}
}

func TestWhatIsTriedChangesThatAlone(t *testing.T) {
	low := 5.0
	own := DefaultSettings()
	own.Method, own.Low, own.MinEffect = "fixed", &low, 4
	got, err := Tried{Change: map[string]any{"warn_seconds": 86400 * 30, "low": nil}}.On(own)
	if err != nil || got.WarnSeconds != 86400*30 || got.Low != nil || got.MinEffect != 4 || got.Method != "fixed" {
		t.Errorf("%+v, %v", got, err)
	}
	if _, err := (Tried{Change: map[string]any{"warm": 1}}).On(own); err == nil || !strings.Contains(err.Error(), "warm") {
		t.Errorf("an unknown setting: %v", err)
	}
}
