package cli

import (
	"fmt"
	"math"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"tinbell/core/score"
	"tinbell/internal/demo"
	"tinbell/internal/trial"
)

func (a *app) benchCommand() *cobra.Command {
	var seeds int
	accuracy := &cobra.Command{Use: "accuracy", Short: "Precision, recall and delay on invented pasts, beside simple rivals", Args: exactly(0, "nothing"),
		Long: `Generates the demo's past from several seeds, judges it walking forward with the
default settings, and scores the alerts against the true incidents. Two simple
rules are judged on the same series. No detection setting follows from a seed.`,
		RunE: func(*cobra.Command, []string) error {
			if seeds < 1 || seeds > 50 {
				return wrongUsage{fmt.Errorf("--seeds %d: allowed are 1 to 50", seeds)}
			}
			return a.accuracy(seeds)
		}}
	accuracy.Flags().IntVar(&seeds, "seeds", 3, "how many pasts")
	speed := &cobra.Command{Use: "speed", Short: "Time of a fit, of a judged sample, and of ingest beside COPY", Args: exactly(0, "nothing"),
		RunE: func(c *cobra.Command, _ []string) error {
			results, err := trial.Speed(c.Context())
			if err != nil {
				return err
			}
			l := listing{head: []string{"what", "figure", "beside"}, raw: results}
			for _, r := range results {
				l.rows = append(l.rows, []string{r.What, r.Figure, r.Beside})
			}
			return a.show(l)
		}}
	return group("bench", "Measure Tin Bell itself", accuracy, speed)
}

func (a *app) accuracy(seeds int) error {
	asOf := time.Date(2026, 6, 18, 12, 0, 0, 0, time.UTC)
	byWay := map[string][]demo.Accuracy{}
	var order []string
	progress := a.bar("judging")
	for seed := range seeds {
		w, err := demo.NewWorld(uint64(seed+101), asOf)
		if err != nil {
			return err
		}
		results, err := demo.MeasureAccuracy(w)
		if err != nil {
			return err
		}
		for _, r := range results {
			if byWay[r.Way] == nil {
				order = append(order, r.Way)
			}
			byWay[r.Way] = append(byWay[r.Way], r)
		}
		progress(seed+1, seeds)
	}
	l := listing{head: []string{"way of alerting", "seed", "alerts", "precision", "recall", "delay, median", "false a week"}, right: []int{2, 3, 6, 7}, raw: byWay}
	for _, way := range order {
		sum := demo.Accuracy{Way: way}
		for _, r := range byWay[way] {
			l.rows = append(l.rows, accuracyRow(r, strconv.FormatUint(r.Seed, 10)))
			sum.Alerts, sum.Hits, sum.False = sum.Alerts+r.Alerts, sum.Hits+r.Hits, sum.False+r.False
			sum.Incidents, sum.Found = sum.Incidents+r.Incidents, sum.Found+r.Found
			sum.Delays, sum.Weeks = append(sum.Delays, r.Delays...), sum.Weeks+r.Weeks
		}
		l.rows = append(l.rows, accuracyRow(sum, "all"))
	}
	return a.show(l)
}

func accuracyRow(r demo.Accuracy, seed string) []string {
	share := func(k, n int) string {
		w := score.Wilson(k, n)
		if math.IsNaN(w.Estimate) {
			return "–"
		}
		return fmt.Sprintf("%.2f (%.2f–%.2f) %d of %d", w.Estimate, w.Low, w.High, k, n)
	}
	return []string{r.Way, seed, strconv.Itoa(r.Alerts), share(r.Hits, r.Hits+r.False), share(r.Found, r.Incidents),
		fmt.Sprintf("%.1f h", r.Delay()), fmt.Sprintf("%.1f", float64(r.False)/r.Weeks)}
}
