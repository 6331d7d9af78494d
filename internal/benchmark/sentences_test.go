package benchmark

import (
	"math"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"tinbell/core/detect"
	"tinbell/core/replay"
	"tinbell/core/timeline"
	"tinbell/internal/record"
	"tinbell/internal/watch"
)

// figure finds the two amounts that a sentence states.
var figure = regexp.MustCompile(`(?:is |\()(\S+(?: %| s| min| h| d)?(?: \d+ min)?)(?: in [^,]+)?, expected ([^),]+)`)

// What is stated of every alert differs by more than its rounding, and in the alert's
// direction: over the scenes that accuracy is measured on, of every kind and period.
func TestEverySentenceStatesADifferenceInItsDirection(t *testing.T) {
	seen := map[timeline.Kind]int{}
	for _, st := range stretches {
		var scenes []Scene
		for _, seed := range []uint64{901, 902} {
			scenes = append(scenes, Plan{Seeds: []uint64{seed}, PerFamily: 2}.scenes(st, true, true)...)
		}
		alerts, err := walkAll(scenes, ruleOf(1))
		if err != nil {
			t.Fatal(err)
		}
		for i, of := range alerts {
			cfg := scenes[i].Config
			v := &watch.Subject{Metric: record.Metric{Kind: cfg.Kind, Unit: "rows", Dataset: "a.table", Measure: "rows",
				Zone: "UTC"}, Grid: cfg.Grid, Exclusions: map[int64][]replay.Exclusion{}}
			for _, a := range of {
				row := v.AlertOf(record.Series{Segment: "part"}, a)
				if a.Cause != detect.Deviation && a.Cause != detect.Step {
					continue
				}
				seen[cfg.Kind]++
				if off := (row.Observed - row.Expected) * float64(a.Direction); !(off > 0) {
					t.Errorf("%s %s: %q of %g, expected %g", cfg.Kind, a.Direction, row.Sentence, row.Observed, row.Expected)
				}
				if strings.Contains(row.Sentence, "no rows; ") || strings.Contains(row.Sentence, "where none were expected") {
					continue
				}
				found := figure.FindStringSubmatch(row.Sentence)
				if found == nil || strings.TrimSpace(found[1]) == strings.TrimSpace(found[2]) {
					t.Errorf("%s: %q states no difference: %q", cfg.Kind, row.Sentence, found)
				}
				if percent := regexp.MustCompile(`sends ([0-9.]+) % (fewer|more)`).FindStringSubmatch(row.Sentence); percent != nil {
					if x, err := strconv.ParseFloat(percent[1], 64); err != nil || x == 0 ||
						(percent[2] == "fewer") != (a.Direction == detect.Low) {
						t.Errorf("%q of direction %s", row.Sentence, a.Direction)
					}
				}
				if math.IsNaN(row.WorstObserved) || row.Figures == "" {
					t.Errorf("%q has the figures %q", row.Sentence, row.Figures)
				}
			}
		}
	}
	for _, k := range []timeline.Kind{timeline.Count, timeline.Share, timeline.Value, timeline.Duration} {
		if seen[k] < 5 {
			t.Errorf("only %d alerts of kind %s were looked at", seen[k], k)
		}
	}
}
