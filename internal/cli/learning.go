package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"tinbell/internal/benchmark"
	"tinbell/internal/words"
)

func (a *app) learningCommand() *cobra.Command {
	var seeds, each int
	var limit float64
	c := &cobra.Command{Use: "learning",
		Short: "What labels are worth: precision and recall on later time, before and after them", Args: exactly(0, "nothing"),
		Long: `Makes up fleets of monitors that are set too loose (three false alarms a month for
each series), answers some of the alerts of six weeks, lets tuning choose each
monitor's return period and the filter hold alerts back, and judges both on the
six weeks after. Answers are chosen at random and by the queue; some are wrong;
some are all about one monitor. The generator shares nothing with the demo. The
filter's prior was fitted on other seeds of the same generator: on data unlike it
expect less from few labels.`,
		Example: "  tinbell bench learning\n  tinbell bench learning --seeds 5 --limit 0.02",
		RunE: func(c *cobra.Command, _ []string) error {
			if seeds < 1 || seeds > 100 || each < 1 || each > 50 || !(limit > 0 && limit < 0.5) {
				return wrongUsage{fmt.Errorf("--seeds %d, --each %d, --limit %g: allowed are 1 to 100, 1 to 50 and 0 to 0.5",
					seeds, each, limit)}
			}
			plan := benchmark.LearningPlan{PerFamily: each, Limit: limit}
			for i := range seeds {
				plan.Seeds = append(plan.Seeds, uint64(i+101))
			}
			plan.Progress = a.bar("learning")
			result, err := plan.Learn(c.Context())
			if err != nil {
				return err
			}
			if done, err := a.data(result); done {
				return err
			}
			return a.showLearning(result)
		}}
	c.Flags().IntVar(&seeds, "seeds", 10, "how many fleets")
	c.Flags().IntVar(&each, "each", 6, "series of each of the seven families in a fleet")
	c.Flags().Float64Var(&limit, "limit", 0.01, "share of faults that tuning may lose, and the filter")
	return c
}

func (a *app) showLearning(r benchmark.Learning) error {
	head := []string{"labels", "chosen", "precision", "recall", "recall lost", "false alarms left", "worst seed: left",
		"worst seed: lost", "median delay"}
	right := []int{1, 3, 4, 5, 6, 7, 8, 9}
	row := func(first, second string, l benchmark.Lesson) []string {
		return []string{first, second, fmt.Sprintf("%.3f", l.Precision), fmt.Sprintf("%.3f", l.Recall),
			fmt.Sprintf("%.1f points", 100*(r.Before.Recall-l.Recall)),
			words.Percent(l.Left), words.Percent(l.WorstLeft), fmt.Sprintf("%.1f points", 100*l.WorstLoss), words.Seconds(l.Delay)}
	}
	a.printf("What labels are worth on later time (%d fleets of %d series; a limit of %s of faults for tuning and for the filter):\n", r.Seeds, r.Series, words.Percent(r.After[0].Limit))
	one := listing{head: head, right: right, rows: [][]string{row("none", "before", r.Before)}}
	for _, l := range r.After {
		one.rows = append(one.rows, row(fmt.Sprint(l.Labels), l.Chosen, l))
	}
	for _, l := range r.Wrong {
		one.rows = append(one.rows, row(fmt.Sprint(l.Labels), l.Chosen+", a tenth of them wrong", l))
	}
	for _, l := range r.OneOnly {
		one.rows = append(one.rows, row(fmt.Sprint(l.Labels), l.Chosen+", of one monitor", l))
	}
	if err := a.show(one); err != nil {
		return err
	}
	a.println("The whole trade-off after 30 labels chosen by the queue: the limit, chosen on the answers, that is most precise at each loss of recall:")
	two := listing{head: []string{"recall lost at most", "limit", "precision", "recall", "false alarms left"}, right: []int{1, 2, 3, 4, 5}}
	for i, l := range r.Trade {
		two.rows = append(two.rows, []string{fmt.Sprintf("%.0f points", 100*r.TradeFor[i]), words.Percent(l.Limit),
			fmt.Sprintf("%.3f", l.Precision), fmt.Sprintf("%.3f", l.Recall), words.Percent(l.Left)})
	}
	return a.show(two)
}
