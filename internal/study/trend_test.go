package study

import (
	"strings"
	"testing"
	"time"

	"tinbell/core/timeline"
	"tinbell/core/trend"
)

// What is said follows from the tests together: ranks decide, and where only means find a
// change that is said too, as it stands.
func TestTheSentenceOfATrendFollowsFromAllItsTests(t *testing.T) {
	start := time.Date(2026, 4, 1, 0, 0, 0, 0, time.UTC)
	at := make([]time.Time, 60)
	for i := range at {
		at[i] = start.AddDate(0, 0, i)
	}
	for _, c := range []struct {
		name   string
		p      map[string]float64
		better string
		says   []string
		not    string
	}{
		{"nothing", nil, "", []string{"Neither trend nor change of level is clearer than chance makes them (.500 and .500)."}, "CUSUM"},
		{"a trend", map[string]float64{trend.Kendall: 0.0004}, "trend",
			[]string{"There is a trend of 1.5 a day (1 to 2)", "probability under .001 (Mann-Kendall)."}, "level"},
		{"a trend, which steps look like", map[string]float64{trend.Kendall: 0.01, trend.Pettitt: 0.02}, "trend",
			[]string{"There is a trend", "A single change of level is found too", "describes it worse"}, "Pettitt"},
		{"a step", map[string]float64{trend.Pettitt: 0.003}, "step",
			[]string{"There is a change of level about 1 May (28 April to 4 May), from 100 to 120", "probability .003 (Pettitt)."}, "trend"},
		{"a step, which a trend looks like", map[string]float64{trend.Kendall: 0.01, trend.Pettitt: 0.003}, "step",
			[]string{"There is a change of level", "A trend is found too, as in every series with a step"}, "Mann-Kendall"},
		{"a step of the means alone", map[string]float64{trend.CUSUM: 0.001, trend.SupF: 0.002}, "step",
			[]string{"By ranks there is neither trend nor change of level (.500 and .500), but by means a change of level about 1 May",
				"(CUSUM .001, sup-F .002)", "a few days that are far off can make it"}, "clearer than chance"},
		{"one test of two alone", map[string]float64{trend.SupF: 0.002}, "step",
			[]string{"Neither trend nor change of level"}, "by means"},
	} {
		s := TrendStudy{Days: 60, Slope: 1.5, SlopeLow: 1, SlopeHigh: 2, Better: c.better, At: at, Before: 100, After: 120,
			ChangeAt: at[30], ChangeLow: at[27], ChangeTo: at[33]}
		for _, name := range []string{trend.Linear, trend.Kendall, trend.Spearman, trend.Pettitt, trend.CUSUM, trend.SupF} {
			p, is := c.p[name]
			if !is {
				p = 0.5
			}
			s.Tests = append(s.Tests, TrendTest{Name: name, P: 0.9, Bootstrap: &p})
		}
		s.say(timeline.Grid{Period: 24 * time.Hour, Zone: time.UTC})
		for _, words := range c.says {
			if !strings.Contains(s.Sentence, words) {
				t.Errorf("%s: %q is not in %q", c.name, words, s.Sentence)
			}
		}
		if strings.Contains(s.Sentence, c.not) {
			t.Errorf("%s: %q is in %q", c.name, c.not, s.Sentence)
		}
	}
}

func TestADayThatOwesToTheOneBeforeTellsLess(t *testing.T) {
	at := []time.Time{time.Date(2026, 4, 1, 0, 0, 0, 0, time.UTC), time.Date(2026, 4, 2, 0, 0, 0, 0, time.UTC)}
	s := TrendStudy{Days: 90, Rho: 0.5, At: at}
	s.say(timeline.Grid{Period: 24 * time.Hour, Zone: time.UTC})
	// n (1 − ρ) / (1 + ρ): Bartlett 1946.
	if !strings.Contains(s.Caution, "A day owes 0.5 to the one before, so 90 days tell as much as some 30.") {
		t.Errorf("said: %s", s.Caution)
	}
	s = TrendStudy{Days: 90, Rho: 0.1, At: at}
	s.say(timeline.Grid{Period: 24 * time.Hour, Zone: time.UTC})
	if strings.Contains(s.Caution, "owes") {
		t.Errorf("said of next to nothing: %s", s.Caution)
	}
}

func TestAmountsAreWrittenAsPeopleReadThem(t *testing.T) {
	for _, c := range []struct {
		kind timeline.Kind
		x    float64
		want string
	}{
		{timeline.Count, 0.01234, "0.0123"}, {timeline.Count, -12.34, "−12.3"}, {timeline.Count, 12345, "12,345"},
		{timeline.Share, 0.0123, "1.23 %"}, {timeline.Share, -0.5, "−50 %"},
		{timeline.Duration, 12.5, "12.5 s"}, {timeline.Duration, -600, "−10 min"}, {timeline.Duration, 7200, "2 h"},
	} {
		s := TrendStudy{}
		s.Kind = c.kind
		if got := s.amount(c.x); got != c.want {
			t.Errorf("%s of %g: %q, not %q", c.kind, c.x, got, c.want)
		}
	}
}
