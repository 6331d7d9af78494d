package detect_test

import (
	"fmt"
	"time"

	"tinbell/core/baseline"
	"tinbell/core/detect"
	"tinbell/core/timeline"
)

// A series is fitted on its past and then judged period by period. From six in
// the morning of the last day no rows come.
func ExampleFit() {
	grid, _ := timeline.NewGrid(time.Hour, time.UTC)
	start := time.Date(2026, 3, 2, 0, 0, 0, 0, time.UTC)
	var samples []timeline.Sample
	for h := range 40 * 24 {
		rows := 400.0 + 100*float64(h%24) + float64(h*7919%41)
		if h >= 39*24+6 {
			rows = 0
		}
		samples = append(samples, timeline.Sample{At: start.Add(time.Duration(h) * time.Hour).Unix(), Value: float64(int(rows))})
	}
	past := 39 * 24
	e, err := detect.Fit(baseline.Config{Kind: timeline.Count, Grid: grid}, detect.Rule{Warn: detect.Year}, samples[:past], timeline.Mask{})
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, s := range samples[past:] {
		if r := e.Step(s, timeline.Judged); r.Change == detect.Opened {
			a, _ := e.OpenAlert()
			fmt.Printf("%s since %s, told at %s\n", a.Direction, clock(a.Since), clock(a.Raised))
		}
	}
	// Output: low since 06:00, told at 08:00
}

func clock(unix int64) string { return time.Unix(unix, 0).UTC().Format("15:04") }
