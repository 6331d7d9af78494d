package cli

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/spf13/cobra"

	"tinbell/internal/record"
	"tinbell/internal/scorecard"
)

func TestRarityIsSaidInWords(t *testing.T) {
	for seconds, want := range map[float64]string{3600: "about once in 1 h", 86400 * 41: "about once in 41 days",
		86400 * 3650: "about once in 10 years"} {
		if got := rare(seconds); got != want {
			t.Errorf("%g s: %q, want %q", seconds, got, want)
		}
	}
}

func TestTimesAreGivenAsATimeOrHowLongAgo(t *testing.T) {
	now := time.Date(2026, 6, 18, 12, 0, 0, 0, time.UTC)
	for text, want := range map[string]time.Time{"60d": now.AddDate(0, 0, -60),
		"2026-01-02T03:04:05Z": time.Date(2026, 1, 2, 3, 4, 5, 0, time.UTC), "": {}} {
		if got, err := ago(text, now); err != nil || !got.Equal(want) {
			t.Errorf("%q is %s (%v), want %s", text, got, err, want)
		}
	}
	if _, err := ago("yesterday", now); err == nil {
		t.Error("yesterday was understood")
	}
}

func TestOptionsChangeOnlyWhatIsGiven(t *testing.T) {
	set := func(s *record.Settings, args ...string) (bool, error) {
		var f settingsFlags
		c := &cobra.Command{}
		f.bind(c)
		if err := c.ParseFlags(args); err != nil {
			t.Fatal(err)
		}
		return f.apply(s)
	}
	s := record.DefaultSettings()
	if changed, err := set(&s); changed || err != nil {
		t.Errorf("no option changed something: %v", err)
	}
	changed, err := set(&s, "--min-effect", "40", "--persist", "2 of 3", "--warn", "2y", "--adopt-after", "never", "--direction",
		"low", "--smooth", "3")
	if !changed || err != nil {
		t.Fatal(err)
	}
	if s.Persist != 2 || s.Of != 3 || s.WarnSeconds != 2*365*86400 || s.AdoptAfterSeconds != -1 || s.Direction != "low" ||
		s.MinEffect != 40 || s.Coverage != 0.99 || s.Smooth != 3 {
		t.Errorf("%+v", s)
	}
	if _, err := set(&s, "--method", "fixed", "--high", "9"); err != nil || s.Low != nil || *s.High != 9 {
		t.Errorf("bounds: %+v, %v", s, err)
	}
	if _, err := set(&s, "--method", "seasonal"); err != nil || s.High != nil {
		t.Errorf("a seasonal baseline keeps no bounds: %+v", s)
	}
	if _, err := set(&s, "--persist", "twice"); err == nil {
		t.Error("twice was understood")
	}
}

func TestListingsComeAsTableCSVAndJSON(t *testing.T) {
	for output, want := range map[string]string{"table": "none yet", "csv": "a,b\n", "json": "[]\n"} {
		var out bytes.Buffer
		a := app{out: &out, output: output}
		if err := a.show(listing{head: []string{"a", "b"}, raw: []int{}, none: "none yet"}); err != nil ||
			strings.TrimRight(out.String(), "\n") != strings.TrimRight(want, "\n") {
			t.Errorf("%s: %q, %v", output, out.String(), err)
		}
	}
	var out bytes.Buffer
	a := app{out: &out, output: "csv"}
	a.show(listing{head: []string{"what"}, rows: [][]string{{`a "quoted", thing`}}})
	if out.String() != "what\n\"a \"\"quoted\"\", thing\"\n" {
		t.Errorf("CSV: %q", out.String())
	}
}

func TestARequirementThatIsNotMetIsAGate(t *testing.T) {
	v := 0.7
	card := scorecard.Card{Precision: scorecard.Figure{Estimate: &v}}
	var problems bytes.Buffer
	a := app{errors: &problems}
	for _, c := range []struct {
		require map[string]string
		want    error
	}{{map[string]string{"precision": "0.6"}, nil}, {map[string]string{"precision": "0.8"}, errGate},
		{map[string]string{"recall": "0.1"}, errGate}, {nil, nil}} {
		if err := a.gate(card, c.require); err != c.want {
			t.Errorf("%v: %v", c.require, err)
		}
	}
	if !strings.Contains(problems.String(), "precision is 0.700, required is 0.8") {
		t.Errorf("the gate says: %s", problems.String())
	}
}
