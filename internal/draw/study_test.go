package draw

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tinbell/core/baseline"
	"tinbell/core/replay"
	"tinbell/internal/chart"
	"tinbell/internal/diagnose"
	"tinbell/internal/study"
)

func TestStudiesAreDrawnWithTheirWords(t *testing.T) {
	at := time.Date(2026, 6, 1, 3, 0, 0, 0, time.UTC)
	subject := study.Subject{Measure: "rows", Zone: "America/Halifax", Kind: "count", PeriodSeconds: 3600}
	subject.Series.Segment = "Cald"
	ten, twelve, limit := 10.0, 12.0, 30.0
	forecast := study.Forecast{Subject: subject, Sentence: "In two days 11 are expected",
		PastAt: []time.Time{at, at.AddDate(0, 0, 1), at.AddDate(0, 0, 2)}, Past: []*float64{&ten, nil, &twelve},
		At: []time.Time{at.AddDate(0, 0, 3), at.AddDate(0, 0, 4)}, Expected: []float64{11, 11}, Low: []float64{9, 8},
		High: []float64{13, 15}, Limit: &limit}
	smoothing := study.SmoothingStudy{Subject: subject, Sentence: "A moving median of 3 periods"}
	for _, n := range []int{1, 3, 24} {
		for _, by := range []string{replay.ByMedian, replay.ByMean} {
			smoothing.Windows = append(smoothing.Windows, replay.Smoothing{Periods: n, By: by, Spikes: [3]float64{0, 0.4, 0.7},
				Dips: 0.9, Delay: 7200, Recommended: n == 3 && by == replay.ByMedian})
		}
	}
	explanation := chart.Explanation{Subject: subject, At: at, Expected: 28, Parts: []baseline.Part{{Name: "level", Amount: 41},
		{Name: "hour", Amount: -14}, {Name: "Monday", Amount: 1}}}
	behind := diagnose.Contribution{Measure: "rows", Way: "fell", Weeks: 4,
		By: []diagnose.ByColumn{{Column: "port", Values: []diagnose.Contributor{
			{Tags: []diagnose.Dimension{{Column: "port", Value: "Cald"}}, Observed: 40, Expected: 67, Share: 0.98, Z: -8},
			{Tags: []diagnose.Dimension{{Column: "port", Value: "Ansby"}}, Observed: 20, Expected: 19, Share: -0.04}}}}}
	dir := t.TempDir()
	for name, c := range map[string]struct {
		draw func(path string) error
		says []string
	}{
		"forecast": {func(path string) error { return Forecast(forecast, path) }, []string{"In two days 11", "rows at Cald"}},
		"smoothing": {func(path string) error { return Smoothing(smoothing, path) }, []string{"A moving median of 3",
			"recommended, median", "after 2 h", ">24<"}},
		"segments": {func(path string) error { return Contribution(behind, "Cald it is", path) },
			[]string{"Cald it is", "rows by port", "40, expected 67; 98 % of all that fell", "20, expected 19<"}},
		"parts": {func(path string) error { return Explanation(explanation, path) },
			[]string{"28 expected at Mon 1 Jun 00:00", "Monday", "−14"}},
	} {
		svg := filepath.Join(dir, name+".svg")
		if err := c.draw(svg); err != nil {
			t.Fatal(err)
		}
		content, err := os.ReadFile(svg)
		if err != nil {
			t.Fatal(err)
		}
		for _, want := range c.says {
			if !strings.Contains(string(content), want) {
				t.Errorf("%s does not say %q", name, want)
			}
		}
		if err := c.draw(filepath.Join(dir, name+".png")); err != nil {
			t.Error(err)
		}
		if err := c.draw(filepath.Join(dir, name+".gif")); err == nil {
			t.Errorf("%s was drawn as a GIF", name)
		}
	}
}
