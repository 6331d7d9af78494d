package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"tinbell/internal/benchmark"
	"tinbell/internal/words"
)

func (a *app) driftBench() *cobra.Command {
	var seeds, rounds, references int
	var accept float64
	c := &cobra.Command{Use: "drift", Short: "Planted drifts: how often they are found at a stated share of false flags, beside PSI > 0.2 and a plain test", Args: exactly(0, "nothing"),
		Long: `Makes up days of rows whose level, spread and shares wobble as real days do,
plants drifts of every kind at several strengths and sizes, and prints how often
each is found: by the calibrated verdict of the drifted feature, by PSI > 0.2, by
a plain test at 0.05 (Kolmogorov-Smirnov; chi-square for categories), by
separability, and by the pair of features that changed most.

First it judges features without drift, of every sort and at every size, and prints
how often they are flagged: stated, and found; then whole days without drift, by
all features, separability and pairs at once. The rows called clean below have no
drift either: what is found there is false. The verdict is held to the share stated; PSI > 0.2 and the
plain test are not.`,
		Example: "  tinbell bench drift\n  tinbell bench drift --accept 0.01 --rounds 100",
		RunE: func(c *cobra.Command, _ []string) error {
			if seeds < 1 || rounds < 1 || references < 1 || !(accept > 0 && accept <= 0.1) {
				return wrongUsage{fmt.Errorf("--seeds %d, --rounds %d, --references %d, --accept %g: allowed are 1 and more, and shares over 0 up to 0.1", seeds, rounds, references, accept)}
			}
			plan := benchmark.DriftPlan{Rounds: rounds, Accept: accept}
			for i := range seeds {
				plan.Seeds = append(plan.Seeds, uint64(i+1))
			}
			cells := benchmark.Cells(plan, references, a.bar("clean sorts"))
			clean := benchmark.CleanDrift(plan, references, a.bar("clean days"))
			joint := benchmark.Joint(plan, max(1, references/4), a.bar("whole days"))
			list := benchmark.Drift(plan, a.bar("planting drifts"))
			if a.output == "json" {
				return a.json(map[string]any{"cells": cells, "clean": clean, "joint": joint, "planted": list})
			}
			sorts := listing{head: []string{"clean feature", "rows", "against", "judged", "stated", "flagged", "95 % interval"},
				right: []int{2, 4, 5, 6, 7}, raw: cells}
			for _, r := range cells {
				against := "independent rows"
				if r.Days {
					against = "28 days"
				}
				sorts.rows = append(sorts.rows, []string{r.Sort, words.Number(float64(r.Rows)), against,
					words.Number(float64(r.Judged)), fmt.Sprintf("%g", r.Stated), fmt.Sprintf("%.4f", r.Found),
					fmt.Sprintf("%.4f–%.4f", r.Low, r.High)})
			}
			if err := a.show(sorts); err != nil {
				return err
			}
			a.say("")
			flat := listing{head: []string{"rows a day", "clean features and days", "stated", "flagged", "95 % interval",
				"PSI > 0.2", "plain test"}, right: []int{1, 2, 3, 4, 5, 6, 7}, raw: clean}
			for _, r := range clean {
				flat.rows = append(flat.rows, []string{fmt.Sprint(r.Rows), words.Number(float64(r.Judged)),
					fmt.Sprintf("%g", r.Stated), fmt.Sprintf("%.4f", r.Found), fmt.Sprintf("%.4f–%.4f", r.Low, r.High),
					fmt.Sprintf("%.3f", r.PSI), fmt.Sprintf("%.3f", r.Plain)})
			}
			if err := a.show(flat); err != nil {
				return err
			}
			a.say("")
			whole := listing{head: []string{"rows a day", "clean days, whole", "stated", "flagged", "95 % interval",
				"by a feature", "separable", "by a pair"}, right: []int{1, 2, 3, 4, 5, 6, 7, 8}, raw: joint}
			for _, r := range joint {
				whole.rows = append(whole.rows, []string{fmt.Sprint(r.Rows), words.Number(float64(r.Judged)),
					fmt.Sprintf("%.4f", r.Stated), fmt.Sprintf("%.4f", r.Found), fmt.Sprintf("%.4f–%.4f", r.Low, r.High),
					fmt.Sprint(r.Features), fmt.Sprint(r.Separable), fmt.Sprint(r.Pairs)})
			}
			if err := a.show(whole); err != nil {
				return err
			}
			a.say("")
			l := listing{head: []string{"drift", "strength", "rows a day", "rounds", "verdict", "block tests", "PSI > 0.2",
				"plain test", "separability", "pairs"}, right: []int{3, 4, 5, 6, 7, 8, 9, 10}, raw: list}
			for _, r := range list {
				row := []string{r.Kind, r.Strength, fmt.Sprint(r.Rows), fmt.Sprint(r.Rounds)}
				for _, v := range []float64{r.Verdict, r.Blocks, r.PSI, r.KS, r.Together, r.Pairs} {
					row = append(row, fmt.Sprintf("%.2f", v))
				}
				l.rows = append(l.rows, row)
			}
			return a.show(l)
		}}
	c.Flags().IntVar(&seeds, "seeds", 3, "how many times the whole is made up anew")
	c.Flags().IntVar(&rounds, "rounds", 20, "data sets of each kind, strength and size, by seed")
	c.Flags().IntVar(&references, "references", 20, "references of each size, by seed, that clean days are judged against")
	c.Flags().Float64Var(&accept, "accept", 0.001, "stated share of clean features and periods that are flagged")
	return c
}
