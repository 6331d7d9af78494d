package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"tinbell/internal/benchmark"
	"tinbell/internal/words"
)

func (a *app) logsBench() *cobra.Command {
	var templates, lines, seeds, watch int
	c := &cobra.Command{Use: "logs", Short: "How well the templates of generated log lines are found", Args: exactly(0, ""),
		Long: `Lines of sentences that are known: a few make most lines and many are rare, some differ
in one constant word, some are in other languages, and their variable parts are numbers,
times, identifiers, addresses, paths, quoted texts, lists and names.

  grouping   share of lines whose whole group is exactly right
  templates  share of true templates whose constant and variable parts are exactly right
  order      share of lines grouped alike when the log is read backwards

With --watch so many clean logs, of sentences that come by clocks, by day, in trains, from
queues and once a week, are watched for forty days: how often a burst or a sentence that
vanished is told, by what is asked for, and what rings of faults that are planted.`,
		Example: "  tinbell bench logs\n  tinbell bench logs --templates 500 --lines 1000000\n  tinbell bench logs --watch 10",
		RunE: func(*cobra.Command, []string) error {
			if watch < 0 || watch > 200 {
				return wrongUsage{fmt.Errorf("--watch %d: 1 to 200 logs", watch)}
			}
			if watch > 0 {
				return a.watchBench(watch)
			}
			if templates < 1 || templates > 5000 || lines < 1 || lines > 5_000_000 || seeds < 1 || seeds > 50 {
				return wrongUsage{fmt.Errorf("allowed are 1 to 5,000 templates, 1 to 5,000,000 lines and 1 to 50 seeds")}
			}
			var results []benchmark.LogResult
			l := listing{head: []string{"log", "lines", "templates", "found", "grouping", "templates right", "order",
				"lines a second", "memory"}, right: []int{2, 3, 4, 5, 6, 7, 8, 9}, raw: &results}
			for seed := range seeds {
				r := benchmark.Logs(benchmark.LogScene{Templates: templates, Lines: lines, Seed: uint64(seed + 1)})
				results = append(results, r)
				l.rows = append(l.rows, []string{r.Name, words.Number(float64(r.Lines)), fmt.Sprint(r.True), fmt.Sprint(r.Found),
					fmt.Sprintf("%.3f", r.Grouping), fmt.Sprintf("%.3f", r.Templates), fmt.Sprintf("%.3f", r.Order),
					words.Number(r.PerSecond), words.Bytes(1e6 * r.Megabytes)})
			}
			return a.show(l)
		}}
	c.Flags().IntVar(&templates, "templates", 300, "true templates")
	c.Flags().IntVar(&lines, "lines", 200_000, "lines of each log")
	c.Flags().IntVar(&seeds, "seeds", 5, "logs")
	c.Flags().IntVar(&watch, "watch", 0, "watch so many clean logs instead")
	return c
}

// watchBench watches clean logs at three rarities.
func (a *app) watchBench(logs int) error {
	var results []benchmark.WatchResult
	l := listing{head: []string{"asked for once in", "logs", "days", "bursts told", "vanished told", "together", "bursts found",
		"ends found"}, right: []int{2, 3, 4, 5, 6, 7, 8}, raw: &results}
	for _, rare := range []float64{14, 28, 56} {
		r, err := benchmark.WatchLogs(logs, 40, rare, 7)
		if err != nil {
			return err
		}
		results = append(results, r)
		l.rows = append(l.rows, []string{fmt.Sprintf("%.0f days", rare), fmt.Sprint(r.Logs), fmt.Sprint(r.Days),
			fmt.Sprintf("%.2f times", r.Bursts), fmt.Sprintf("%.2f times", r.Vanished),
			fmt.Sprintf("%.2f times", r.Either), words.Percent(r.Burst), words.Percent(r.Silence)})
	}
	return a.show(l)
}
