package draw

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tinbell/core/drift"
	"tinbell/internal/compare"
	"tinbell/internal/record"
)

func distributions() compare.Distributions {
	d := compare.Distributions{Zone: "America/Halifax", Kind: drift.Number, From: time.Date(2026, 11, 2, 4, 0, 0, 0, time.UTC),
		To: time.Date(2026, 11, 9, 4, 0, 0, 0, time.UTC), Sentence: "fare: 10 to 20 holds 30 % of rows, 10 % before"}
	d.Result = record.FeatureResult{Feature: "fare", Verdict: drift.Verdict{State: drift.Over}}
	for i := range 20 {
		d.Bars = append(d.Bars, drift.Bar{From: float64(i * 10), To: float64(i*10 + 10), Reference: 0.05,
			Period: 0.1 - 0.005*float64(i), PSI: 0.01})
	}
	return d
}

// drawn writes a picture as SVG and gives its text.
func drawn(t *testing.T, draw func(path string) error) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "a.svg")
	if err := draw(path); err != nil {
		t.Fatal(err)
	}
	content, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return string(content)
}

func TestDistributionsAreDrawnWithWhatTheySay(t *testing.T) {
	d := distributions()
	text := drawn(t, func(path string) error { return Distributions(d, path) })
	for _, want := range []string{"fare: 10 to 20 holds 30 %", "2 Nov to 8 Nov", "10 %"} {
		if !strings.Contains(text, want) {
			t.Errorf("the picture lacks %q", want)
		}
	}
	d.Kind, d.Sentence = drift.Category, "as expected"
	d.Bars = []drift.Bar{{Label: "web", Reference: 0.6, Period: 0.6}, {Label: "a very long name of a category", Reference: 0.4,
		Period: 0.4}}
	text = drawn(t, func(path string) error { return Distributions(d, path) })
	for _, want := range []string{"fare: as expected", "web", "a very long n…"} {
		if !strings.Contains(text, want) {
			t.Errorf("the picture of categories lacks %q", want)
		}
	}
	d.Bars = nil
	if err := Distributions(d, filepath.Join(t.TempDir(), "b.svg")); err == nil || !strings.Contains(err.Error(), "neither side has any") {
		t.Errorf("without values: %v", err)
	}
	if err := Distributions(distributions(), filepath.Join(t.TempDir(), "b.gif")); err == nil || !strings.Contains(err.Error(),
		".png or .svg") {
		t.Errorf("a format that is not drawn: %v", err)
	}
}

func TestTheMatrixIsDrawnFeatureByPeriod(t *testing.T) {
	m := compare.Matrix{Sentence: "One of 2 features has drifted: fare", Comparison: record.Comparison{Name: "trips",
		Dataset: "ops.trips", Zone: "America/Halifax"}}
	if err := Matrix(m, filepath.Join(t.TempDir(), "a.svg")); err == nil || !strings.Contains(err.Error(), "a period that is over") {
		t.Errorf("without periods: %v", err)
	}
	for n := range 3 {
		from := time.Date(2026, 11, 2+7*n, 4, 0, 0, 0, time.UTC)
		m.Periods = append(m.Periods, compare.MatrixColumn{From: from, To: from.AddDate(0, 0, 7),
			Separability: &drift.Separability{Score: 0.2 * float64(n), Limit: 0.1}})
	}
	m.Rows = []compare.MatrixRow{
		{Feature: "fare", Cells: []compare.MatrixCell{{State: drift.AsExpected, Ratio: 0.3}, {State: drift.Over, Ratio: 1.4},
			{State: drift.Over, Ratio: 32.2}}},
		{Feature: "party", Cells: []compare.MatrixCell{{State: drift.TooFew}, {State: drift.AsExpected, Ratio: 0.7},
			{State: drift.AsExpected, Ratio: 0.9}}},
	}
	text := drawn(t, func(path string) error { return Matrix(m, path) })
	for _, want := range []string{"One of 2 features has drifted", "fare", "party", "separability", "2 Nov", "16 Nov", "1.4", "32.2"} {
		if !strings.Contains(text, ">"+want) && !strings.Contains(text, want+"<") {
			t.Errorf("the matrix lacks %q", want)
		}
	}
	if strings.Contains(text, ">0.9<") {
		t.Error("a cell under its limit carries a figure")
	}
}
