package record

import (
	"encoding/json"
	"math"
	"strings"
	"testing"
	"time"

	"tinbell/core/baseline"
	"tinbell/core/detect"
	"tinbell/core/timeline"
)

var hourly = timeline.Grid{Period: time.Hour, Zone: time.UTC}

func TestSettingsBecomeTheBaselineTheyName(t *testing.T) {
	low := 5.0
	quarter := timeline.Grid{Period: 15 * time.Minute, Zone: time.UTC}
	for name, c := range map[string]struct {
		settings Settings
		grid     timeline.Grid
		want     baseline.Method
	}{
		"seasonal": {Settings{Method: "seasonal"}, hourly, baseline.Method{Name: baseline.Seasonal, Window: 168}},
		"a week":   {Settings{Method: "change"}, hourly, baseline.Method{Name: baseline.Change, Lag: 168, Window: 168}},
		"a day":    {Settings{Method: "change", Against: "day"}, quarter, baseline.Method{Name: baseline.Change, Lag: 96, Window: 672}},
		"previous": {Settings{Method: "change", Against: "previous", Width: 0.2}, quarter, baseline.Method{Name: baseline.Change,
			Lag: 1, Window: 672, Width: 0.2}},
		"rolling": {Settings{Method: "rolling", Window: 24, Robust: true}, hourly, baseline.Method{Name: baseline.Rolling,
			Window: 24, Robust: true}},
		"arrival":   {Settings{Method: "arrival"}, hourly, baseline.Method{Name: baseline.Seasonal, Window: 168}},
		"one bound": {Settings{Method: "fixed", Low: &low}, hourly, baseline.Method{Name: baseline.Fixed, Low: 5, Window: 168}},
	} {
		c.want.High = math.Inf(1)
		if c.want.Low == 0 {
			c.want.Low = math.Inf(-1)
		}
		if got := c.settings.Baseline(c.grid); got != c.want {
			t.Errorf("%s: %+v, want %+v", name, got, c.want)
		}
	}
}

func TestSettingsBecomeTheRuleTheyState(t *testing.T) {
	s := DefaultSettings()
	r := s.Rule(9)
	if r.Warn != detect.Year || r.Critical != 10*detect.Year || r.Series != 9 || r.Direction != detect.Both || r.BandOnly ||
		r.Sustained != detect.SustainedLong {
		t.Errorf("the default rule: %+v", r)
	}
	s.Direction, s.Sustained, s.Smooth, s.Missing, s.Method, s.AdoptAfterSeconds = "low", "off", 5, -1, "arrival", 3600
	r = s.Rule(1)
	if r.Direction != detect.Low || r.Sustained != detect.SustainedOff || r.Smooth != 5 || r.Missing != -1 || !r.BandOnly ||
		r.AdoptAfter != time.Hour {
		t.Errorf("the changed rule: %+v", r)
	}
}

func TestSettingsOfOldRecordsStillRead(t *testing.T) {
	var s Settings
	old := `{"method":"seasonal","coverage":0.99,"direction":"both","warn_seconds":31536000,"critical_seconds":315360000,"persist":1,"of":1,"min_effect":0,"adopt_after_seconds":0}`
	if err := s.Scan([]byte(old)); err != nil || s.Check(hourly) != nil {
		t.Fatalf("%+v: %v, %v", s, err, s.Check(hourly))
	}
	b, err := json.Marshal(s)
	if err != nil || string(b) != old {
		t.Errorf("what nobody set is not written: %s", b)
	}
}

func TestRefusalsSayWhatIsAllowed(t *testing.T) {
	for says, change := range map[string]func(*Settings){
		"seasonal, fixed, change": func(s *Settings) { s.Method = "magic" },
		"low, high and both":      func(s *Settings) { s.Direction = "sideways" },
		"previous, day and week":  func(s *Settings) { s.Against = "month" },
		"off, short and long":     func(s *Settings) { s.Sustained = "very" },
		"0 to 24, a day of them":  func(s *Settings) { s.Smooth = 25 },
		"median and mean":         func(s *Settings) { s.SmoothBy = "mode" },
		"at most 64":              func(s *Settings) { s.Persist, s.Of = 1, 65 },
		"0 (from the budget)":     func(s *Settings) { s.Method, s.Width = "zscore", -2 },
		"the rarer one":           func(s *Settings) { s.WarnSeconds, s.CriticalSeconds = 10*86400, 5*86400 },
	} {
		s := DefaultSettings()
		change(&s)
		if err := s.Check(hourly); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("want %q, got %v", says, err)
		}
	}
}
