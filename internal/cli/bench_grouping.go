package cli

import (
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"tinbell/internal/benchmark/corpus"
	"tinbell/internal/benchmark/grouping"
)

func (a *app) groupingBench() *cobra.Command {
	var seeds int
	c := &cobra.Command{Use: "grouping [FOLDER...]",
		Short: "Faults told as one message each, with the right origin, beside a rule of nearness",
		Long: `Makes up lineages of 8 to 20 tables whose rows flow from one to the next, breaks
them, judges all of their series as the service would, and puts the alerts into
groups as they come: by the inference, and by nearness alone (one table, or
tables that the lineage joins, within six hours). Sparse: one fault at a time.
Dense: two to five at a time in every third case, some in one table.

With folders, the alerts of labelled histories that have a lineage.csv are
grouped instead.

  messages     groups that are mostly of a fault, a fault
  purity       share of the faults' alerts whose group is mostly of their fault
  hidden       share of faults that no group is mostly of
  origin       share of faults whose largest group names the right table
  and segment  … and the right segment of it
  corrections  a fault: groups that were told and then renamed, joined or split`,
		Example: "  tinbell bench grouping\n  tinbell bench grouping ./history",
		RunE: func(c *cobra.Command, folders []string) error {
			if seeds < 1 || seeds > 500 {
				return wrongUsage{fmt.Errorf("--seeds %d: allowed are 1 to 500", seeds)}
			}
			type result struct {
				Past string
				grouping.Score
			}
			var results []result
			for _, folder := range folders {
				if _, err := os.Stat(folder); err != nil {
					return wrongUsage{fmt.Errorf("%s: not a folder that can be read", folder)}
				}
				history, err := corpus.Read(folder)
				if err != nil {
					return err
				}
				if len(history.Lineage) == 0 {
					return wrongUsage{fmt.Errorf("%s has no lineage.csv: nothing joins its datasets", folder)}
				}
				inferred, nearby, err := grouping.Labelled(history, corpus.Order{})
				if err != nil {
					return err
				}
				results = append(results, result{history.Name, inferred}, result{history.Name, nearby})
			}
			for _, past := range []struct {
				name  string
				dense bool
			}{{"sparse", false}, {"dense", true}} {
				if len(folders) > 0 {
					break
				}
				list := make([]uint64, seeds)
				for i := range list {
					list[i] = uint64(i + 101)
				}
				inferred, nearby, err := grouping.Run(list, past.dense, a.bar(past.name))
				if err != nil {
					return err
				}
				results = append(results, result{past.name, inferred}, result{past.name, nearby})
			}
			l := listing{head: []string{"past", "rule", "faults", "alerts", "false", "groups", "messages", "purity", "hidden",
				"origin", "and segment", "corrections"},
				right: []int{3, 4, 5, 6, 7, 8, 9, 10, 11, 12}, raw: results}
			for _, r := range results {
				l.rows = append(l.rows, []string{r.Past, r.Rule, fmt.Sprint(r.Faults), fmt.Sprint(r.Alerts), fmt.Sprint(r.False),
					fmt.Sprint(r.Groups), fmt.Sprintf("%.2f", r.Messages),
					fmt.Sprintf("%.3f", r.Purity), fmt.Sprintf("%.3f", r.Hidden), fmt.Sprintf("%.3f", r.Origin),
					fmt.Sprintf("%.3f", r.Segment), fmt.Sprintf("%.2f", r.Corrections)})
			}
			return a.show(l)
		}}
	c.Flags().IntVar(&seeds, "seeds", 30, "lineages of each sort")
	return c
}
