package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"tinbell/internal/benchmark"
	"tinbell/internal/words"
)

func (a *app) logsBench() *cobra.Command {
	var templates, lines, seeds int
	c := &cobra.Command{Use: "logs", Short: "How well the templates of generated log lines are found", Args: exactly(0, ""),
		Long: `Lines of sentences that are known: a few make most lines and many are rare, some differ
in one constant word, some are in other languages, and their variable parts are numbers,
times, identifiers, addresses, paths, quoted texts, lists and names.

  grouping   share of lines whose whole group is exactly right
  templates  share of true templates whose constant and variable parts are exactly right
  order      share of lines grouped alike when the log is read backwards`,
		Example: "  tinbell bench logs\n  tinbell bench logs --templates 500 --lines 1000000",
		RunE: func(*cobra.Command, []string) error {
			if templates < 1 || templates > 5000 || lines < 1 || lines > 5_000_000 || seeds < 1 || seeds > 50 {
				return wrongUsage{fmt.Errorf("allowed are 1 to 5,000 templates, 1 to 5,000,000 lines and 1 to 50 seeds")}
			}
			var results []benchmark.LogResult
			l := listing{head: []string{"log", "lines", "templates", "found", "grouping", "templates right", "order", "lines a second", "memory"}, right: []int{2, 3, 4, 5, 6, 7, 8, 9}, raw: &results}
			for seed := range seeds {
				r := benchmark.Logs(benchmark.LogScene{Templates: templates, Lines: lines, Seed: uint64(seed + 1)})
				results = append(results, r)
				l.rows = append(l.rows, []string{r.Name, words.Number(float64(r.Lines)), fmt.Sprint(r.True), fmt.Sprint(r.Found), fmt.Sprintf("%.3f", r.Grouping), fmt.Sprintf("%.3f", r.Templates), fmt.Sprintf("%.3f", r.Order),
					words.Number(r.PerSecond), words.Bytes(1e6 * r.Megabytes)})
			}
			return a.show(l)
		}}
	c.Flags().IntVar(&templates, "templates", 300, "true templates")
	c.Flags().IntVar(&lines, "lines", 200_000, "lines of each log")
	c.Flags().IntVar(&seeds, "seeds", 5, "logs")
	return c
}
