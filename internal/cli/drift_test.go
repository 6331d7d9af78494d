package cli

import (
	"strings"
	"testing"
	"time"

	"tinbell/core/drift"
	"tinbell/internal/compare"
	"tinbell/internal/record"
)

func TestDriftIsWrittenForATerminal(t *testing.T) {
	for want, got := range map[string]string{
		"1.4!": ratio(drift.Over, 1.4), "0.3": ratio(drift.AsExpected, 0.3), "few": ratio(drift.TooFew, 0),
		"2 Nov to 8 Nov": stretch(time.Date(2026, 11, 2, 4, 0, 0, 0, time.UTC), time.Date(2026, 11, 9, 4, 0, 0, 0, time.UTC),
			"America/Halifax"),
		"1 Nov": stretch(time.Date(2026, 11, 1, 3, 0, 0, 0, time.UTC), time.Date(2026, 11, 2, 4, 0, 0, 0, time.UTC),
			"America/Halifax"), // of 25 hours
	} {
		if got != want {
			t.Errorf("written as %q, wanted %q", got, want)
		}
	}
	bars := barsListing([]drift.Bar{{Label: "web", Reference: 0.5, Period: 0.25}, {From: 10, To: 20, Reference: 0, Period: 0.5}})
	if got := bars.rows[0]; got[0] != "web" || got[3] != strings.Repeat("░", 24)+"\n"+strings.Repeat("█", 12) {
		t.Errorf("a bar is drawn as %q", got)
	}
	if got := bars.rows[1]; got[0] != "10 to 20" || got[3] != "\n"+strings.Repeat("█", 24) {
		t.Errorf("a bar is drawn as %q", got)
	}
	l := measuresListing(drift.Verdict{Measures: []drift.Measured{{Name: drift.MeasurePSI, Value: 0.3, Limit: 0.1, Decides: true},
		{Name: drift.MeasureJS, Value: 0.3, Limit: 0.1}, {Name: drift.MeasureVanished, Value: 2}}})
	for i, want := range []string{"over", "over, does not decide", "–"} {
		if l.rows[i][3] != want {
			t.Errorf("%s is %q, wanted %q", l.rows[i][0], l.rows[i][3], want)
		}
	}
}

func TestAGateIsMetOrNot(t *testing.T) {
	var said strings.Builder
	a := &app{errors: &said}
	o := compare.Outcome{Periods: []record.DriftPeriod{{Found: record.DriftResult{Over: 1,
		Separability: &drift.Separability{Score: 0.1}, Whole: record.WholeVerdict{State: drift.Over}}},
		{Found: record.DriftResult{Separability: &drift.Separability{Score: 0.3}, Whole: record.WholeVerdict{State: drift.AsExpected}}}}}
	unsure := func(found record.DriftResult) compare.Outcome {
		return compare.Outcome{Periods: []record.DriftPeriod{{Name: "may.csv", Found: found}}}
	}
	for _, c := range []struct {
		require map[string]string
		met     bool
	}{{nil, true}, {map[string]string{"over": "1"}, true}, {map[string]string{"over": "0"}, false},
		{map[string]string{"drifted": "1"}, true}, {map[string]string{"drifted": "0"}, false},
		{map[string]string{"separability": "0.3"}, true}, {map[string]string{"separability": "0.29", "over": "5"}, false}} {
		if err := a.driftGate(o, c.require); (err == nil) != c.met {
			t.Errorf("required %v: %v", c.require, err)
		}
	}
	if !strings.Contains(said.String(), "over is 1, allowed is 0") {
		t.Errorf("it says %q", said.String())
	}
	for want, o := range map[string]compare.Outcome{
		"there are no rows": {},
		"nothing of may.csv could be judged": unsure(record.DriftResult{Rows: 3,
			Whole: record.WholeVerdict{State: record.NotJudged}}),
		"columns of may.csv are gone: fare and port": unsure(record.DriftResult{Whole: record.WholeVerdict{State: drift.AsExpected, Gone: record.Strings{"fare", "port"}}}),
		"--quick leaves it out":                      unsure(record.DriftResult{Whole: record.WholeVerdict{State: drift.AsExpected}}),
	} {
		said.Reset()
		if err := a.driftGate(o, map[string]string{"separability": "1"}); err != errGate || !strings.Contains(said.String(), want) {
			t.Errorf("%v: it says %q, wanted %q", err, said.String(), want)
		}
	}
	if err := a.driftGate(o, map[string]string{"over": "few"}); err == nil || err == errGate {
		t.Errorf("a number that is none: %v", err)
	}
}
