package compare

import (
	"strings"
	"testing"
	"time"

	"tinbell/core/drift"
	"tinbell/core/timeline"
	"tinbell/internal/collect/columns"
	"tinbell/internal/record"
)

func halifax(t *testing.T) *time.Location {
	t.Helper()
	zone, err := time.LoadLocation("America/Halifax")
	if err != nil {
		t.Fatal(err)
	}
	return zone
}

func TestPeriodsAreLocalDaysWeeksAndMonths(t *testing.T) {
	t.Parallel()
	zone := halifax(t)
	for _, c := range []struct{ period, at, from, to string }{
		{"day", "2026-11-01T12:00:00-04:00", "2026-11-01T00:00:00-03:00", "2026-11-02T00:00:00-04:00"}, // 25 hours
		{"day", "2026-03-08T02:30:00-04:00", "2026-03-08T00:00:00-04:00", "2026-03-09T00:00:00-03:00"}, // 23 hours
		{"week", "2026-11-01T23:59:59-04:00", "2026-10-26T00:00:00-03:00", "2026-11-02T00:00:00-04:00"},
		{"week", "2026-11-02T00:00:00-04:00", "2026-11-02T00:00:00-04:00", "2026-11-09T00:00:00-04:00"},
		{"month", "2026-02-28T23:00:00-04:00", "2026-02-01T00:00:00-04:00", "2026-03-01T00:00:00-04:00"},
	} {
		at, err := time.Parse(time.RFC3339, c.at)
		if err != nil {
			t.Fatal(err)
		}
		p := PeriodOf(c.period, at.Unix(), zone)
		from, to := time.Unix(p.From, 0).In(zone).Format(time.RFC3339), time.Unix(p.To, 0).In(zone).Format(time.RFC3339)
		if from != c.from || to != c.to {
			t.Errorf("the %s of %s is %s to %s, wanted %s to %s", c.period, c.at, from, to, c.from, c.to)
		}
	}
}

// emptyDays are days without counts, one after another.
func emptyDays(n int) []Day {
	days := make([]Day, n)
	for i := range days {
		days[i].At = int64(i) * 86400
	}
	return days
}

func TestBlocksAreAsLongAsAPeriodAndAtLeastFive(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		days        int
		period      string
		blocks, one int // how many, and the days of the first
	}{
		{28, "day", 28, 1}, {35, "week", 5, 7}, {28, "week", 5, 5}, {40, "week", 5, 7}, {28, "month", 5, 5},
		{400, "month", 13, 30}, {4, "week", 4, 1}, {0, "week", 0, 0}, {10, "", 5, 2},
	} {
		list := blocks(emptyDays(c.days), c.period)
		total := 0
		for _, b := range list {
			total += len(b)
		}
		if len(list) != c.blocks || total != c.days || len(list) > 0 && len(list[0]) != c.one {
			t.Errorf("%d days by %s: %d blocks of %d days in all", c.days, c.period, len(list), total)
		}
	}
	days := emptyDays(10)
	if got := within(days, timeline.Span{From: 86400, To: 3 * 86400}); len(got) != 2 || got[0].At != 86400 {
		t.Errorf("days within a span: %+v", got)
	}
	if got := within(days, timeline.Span{From: 99 * 86400, To: 100 * 86400}); len(got) != 0 {
		t.Errorf("days beyond the last: %+v", got)
	}
}

func TestRowsOfAPeriodAreJudgedByTheLimitOfFewerRowsAtMost(t *testing.T) {
	t.Parallel()
	for rows := 120; rows < 60000; rows = rows*11/10 + 1 {
		step := stepped(rows)
		if step > rows || float64(step) < 0.8*float64(rows) {
			t.Errorf("%d rows take the limit of %d", rows, step)
		}
	}
	if stepped(50) != 50 {
		t.Errorf("few rows take the limit of %d", stepped(50))
	}
}

func TestFeaturesAreProposedFromTheColumns(t *testing.T) {
	t.Parallel()
	list := []columns.Column{{Name: "scored_at", Kind: drift.Time}, {Name: "loaded_at", Kind: drift.Time},
		{Name: "sails_at", Kind: drift.Time}, {Name: "id", Kind: drift.Number}, {Name: "trip_uuid", Kind: drift.Category},
		{Name: "fare", Kind: drift.Number}, {Name: "tags", Type: "text[]"}, {Name: "score", Kind: drift.Number},
		{Name: "version", Kind: drift.Category}, {Name: "came", Kind: drift.Boolean}}
	for name, c := range map[string]struct {
		settings record.ComparisonSettings
		compared string
	}{
		"all that can be": {record.ComparisonSettings{TimeColumn: "scored_at"}, "sails_at, fare, score, version, came"},
		"with a model": {record.ComparisonSettings{TimeColumn: "scored_at", Score: "score", Version: "version",
			Outcome: "came"}, "sails_at, fare, score (score)"},
		"those asked for": {record.ComparisonSettings{TimeColumn: "scored_at", Features: record.Strings{"id", "fare"}}, "id, fare"},
		"without some":    {record.ComparisonSettings{LeaveOut: record.Strings{"fare", "came", "version"}}, "sails_at, score"},
		"a left out answer": {record.ComparisonSettings{TimeColumn: "scored_at", Features: record.Strings{"fare"},
			Score: "score"}, "fare, score (score)"},
	} {
		if name == "without some" {
			c.settings.TimeColumn = "scored_at"
		}
		features, err := Propose(list, c.settings)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		var got []string
		for _, f := range Compared(features) {
			if f.Role != "" {
				f.Name += " (" + f.Role + ")"
			}
			got = append(got, f.Name)
		}
		if all := strings.Join(got, ", "); all != c.compared {
			t.Errorf("%s: %s, wanted %s", name, all, c.compared)
		}
	}
}

func feature(name, state string, ratio float64, by string, more ...drift.Measured) record.FeatureResult {
	v := drift.Verdict{State: state, Ratio: ratio, By: by, Period: drift.Moments{Rows: 1000}}
	v.Measures = append(more, drift.Measured{Name: by, Value: 0.3, Limit: 0.1})
	return record.FeatureResult{Feature: name, Verdict: v}
}

func TestWhatWasFoundIsToldInASentence(t *testing.T) {
	t.Parallel()
	calm := feature("party", drift.AsExpected, 0.4, drift.MeasurePSI)
	moved := feature("fare", drift.Over, 3, drift.MeasurePSI)
	moved.Gained, moved.Lost = &drift.Shift{From: 100, To: 140, Was: 0.07, Is: 0.19}, &drift.Shift{Label: drift.Above, From: 500,
		Was: 0.2, Is: 0.1}
	missing := feature("channel", drift.Over, 2, drift.MeasureMissing)
	unreadable := feature("age", drift.Over, 9, drift.MeasureMissing)
	unreadable.Unreadable = 290
	fresh := feature("type", drift.Over, 4, drift.MeasureNew)
	fresh.New = []string{"pigeon", "raven", "crow", "gull"}
	outside := feature("lead", drift.Over, 5, drift.MeasureOutside)
	outside.Below, outside.Above = 3, 4
	few := record.FeatureResult{Feature: "few", Verdict: drift.Verdict{State: drift.TooFew, Why: "3 rows; a verdict needs 30"}}
	for want, features := range map[string][]record.FeatureResult{
		"None of 2 features has drifted":            {calm, calm},
		"One of 2 features has drifted: fare":       {calm, moved},
		"Two of 3 features have drifted; type most": {calm, moved, fresh},
		"Both features have drifted; fare most":     {moved, missing},
		"All 3 features have drifted; age most":     {moved, missing, unreadable},
		"Too few rows to judge any of 1 feature":    {few},
		"One of 3 features has drifted: lead":       {few, outside, calm},
	} {
		if got, _ := Told(record.DriftResult{Features: features}); got != want {
			t.Errorf("told: %q, wanted %q", got, want)
		}
	}
	for want, f := range map[string]record.FeatureResult{
		"fare: 100 to 140 holds 19 % of rows, 7.0 % before; above 500 is 10 % of rows, 20 % before": moved,
		"channel is missing in 30 % of rows, at most 10 % were due":                                 missing,
		"age cannot be read as what it was in 290 of 1000 rows":                                     unreadable,
		"type has new values in 30 % of rows (pigeon, raven, crow)":                                 fresh,
		"lead lies outside the reference's range in 7 rows":                                         outside,
		"as expected":                calm,
		"3 rows; a verdict needs 30": few,
	} {
		if got := Stands(f); got != want {
			t.Errorf("it stands: %q, wanted %q", got, want)
		}
	}
	_, detail := Told(record.DriftResult{Features: []record.FeatureResult{calm}, Separability: &drift.Separability{Score: 0.3,
		Low: 0.25, High: 0.35, Limit: 0.1},
		Pairs: []record.PairResult{{First: "a", Second: "b", Pair: drift.Pair{Beyond: 2, Limit: 1}}},
		Models: []record.ModelResult{{Quality: &drift.Quality{AUC: 0.6}, Concept: &drift.Difference{Value: -0.1, Low: -0.15,
			High: -0.05}}}})
	if want := "Separability is 0.30 (0.25 to 0.35), over its limit of 0.10. a and b go together in another way. the model ranks worse than in the reference: AUC 0.60, 0.10 less."; detail != want {
		t.Errorf("in detail: %q, wanted %q", detail, want)
	}
}

func TestTheMatrixPutsFirstWhatMattersAndSaysSinceWhen(t *testing.T) {
	t.Parallel()
	zone := "America/Halifax"
	week := func(n int) time.Time { return time.Date(2026, 9, 7+7*n, 3, 0, 0, 0, time.UTC) }
	v := record.Comparison{Zone: zone, State: "ready", Features: record.Features{{Name: "score", Role: "score"}, {Name: "party"},
		{Name: "fare"}, {Name: "id", Why: "it names rows"}}}
	var periods []record.DriftPeriod
	for n := range 4 {
		fare := feature("fare", drift.AsExpected, 0.5, drift.MeasurePSI)
		if n >= 2 {
			fare = feature("fare", drift.Over, 3, drift.MeasurePSI)
		}
		version := "v1"
		if n == 3 {
			version = "v2"
		}
		periods = append(periods, record.DriftPeriod{From: week(n), To: week(n + 1), Found: record.DriftResult{
			Features: []record.FeatureResult{feature("score", drift.Over, 9, drift.MeasurePSI),
				feature("party", drift.AsExpected, 0.9, drift.MeasurePSI), fare},
			Separability: &drift.Separability{Importance: []float64{0.7, 0.3}}, Classified: []string{"party", "fare"},
			Models: []record.ModelResult{{Version: version, Rows: 5}, {Version: "old", Rows: 1}}}})
	}
	m := MatrixOf(v, periods)
	var order []string
	for _, r := range m.Rows {
		order = append(order, r.Feature)
	}
	if got := strings.Join(order, ", "); got != "fare, party, score" || m.Rows[0].Importance != 0.3 {
		t.Errorf("the rows are %s, the first of importance %.1f", got, m.Rows[0].Importance)
	}
	if got := m.Periods[3].Versions; len(got) != 2 || got[1] != "v2" {
		t.Errorf("the version with most rows stands last: %v", got)
	}
	// The answer has been over since the first period shown: nothing is said of when.
	if m.Sentence != "Two of 3 features have drifted; score most" {
		t.Errorf("it says: %s", m.Sentence)
	}
	for i := range periods {
		periods[i].Found.Features[0] = feature("score", drift.AsExpected, 0.1, drift.MeasurePSI)
	}
	if m = MatrixOf(v, periods); m.Sentence != "One of 3 features has drifted since 21 Sep: fare" {
		t.Errorf("it says: %s", m.Sentence)
	}
	for i := 2; i < 4; i++ {
		periods[i].Found.Models[0].Version = "v2"
	}
	if m = MatrixOf(v, periods); m.Sentence != "One of 3 features has drifted since model v2: fare" {
		t.Errorf("it says: %s", m.Sentence)
	}
	if m = MatrixOf(v, nil); m.Sentence != "No period after the reference is over yet" || len(m.Rows) != 3 || m.Periods == nil {
		t.Errorf("without periods: %+v", m)
	}
}
