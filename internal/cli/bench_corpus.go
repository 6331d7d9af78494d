package cli

import (
	"fmt"
	"os"
	"time"

	"github.com/spf13/cobra"

	"tinbell/internal/benchmark/corpus"
	"tinbell/internal/words"
)

func (a *app) corpusBench() *cobra.Command {
	var order corpus.Order
	var details bool
	var answers int
	var lost float64
	c := &cobra.Command{Use: "corpus FOLDER...",
		Short: "Precision, recall, delay and false alarms found beside stated, on anybody's labelled history",
		Args:  cobra.MinimumNArgs(1),
		Long: `Walks forward through each series of a labelled history as the service would
have: baselines are fitted from what lies before, incidents before a series'
split_at are known as labels, and events are known ahead. What would have been
told afterwards is counted against the incidents after the split.

A folder holds series.csv, samples.csv (or samples.csv.gz), incidents.csv and,
where there are any, events.csv and impact.csv. docs/labelled-history.md says
what is in them and how an alert is matched.`,
		Example: "  tinbell bench corpus ./history\n  tinbell bench corpus ./history --budget 0.1 --unlabelled --alerts",
		RunE: func(c *cobra.Command, folders []string) error {
			if order.Budget != 0 && !(order.Budget >= 0.001 && order.Budget <= 10) {
				return wrongUsage{fmt.Errorf("--budget %g: allowed are 0.001 to 10", order.Budget)}
			}
			if answers < 0 || answers > 0 && details {
				return wrongUsage{fmt.Errorf("--answers %d: a number from 1 on, and not with --alerts", answers)}
			}
			if !(lost > 0 && lost < 1) {
				return wrongUsage{fmt.Errorf("--limit %g: a share between 0 and 1", lost)}
			}
			var results []corpus.Result
			var answered []corpus.Answered
			for _, folder := range folders {
				if _, err := os.Stat(folder); err != nil {
					return wrongUsage{fmt.Errorf("%s: not a folder that can be read", folder)}
				}
				history, err := corpus.Read(folder)
				if err != nil {
					return err
				}
				if answers > 0 {
					one, err := corpus.Answer(history, order, answers, lost)
					if err != nil {
						return err
					}
					answered = append(answered, one)
					continue
				}
				rang, err := corpus.Judge(history, order)
				if err != nil {
					return err
				}
				results = append(results, history.Score(rang, order.BudgetOf(history)))
			}
			if answers > 0 {
				return a.show(corpusAnswered(answered))
			}
			if details {
				return a.show(corpusAlerts(results))
			}
			if done, err := a.data(results); done {
				return err
			}
			for _, l := range []listing{corpusTable(results), corpusRules(results), corpusKinds(results)} {
				a.say("\n%s\n", l.title)
				if err := a.show(l); err != nil {
					return err
				}
			}
			return nil
		}}
	c.Flags().Float64Var(&order.Budget, "budget", 0,
		"false alarms stated per series and 30 days; left out: 0.03, of periods under an hour 0.1")
	c.Flags().BoolVar(&order.Unlabelled, "unlabelled", false, "do not tell it the incidents before the split")
	c.Flags().BoolVar(&order.Unplanned, "unplanned", false, "do not tell it the events")
	c.Flags().IntVar(&answers, "answers", 0,
		"answer so many alerts of the earlier half as people would who know the incidents, and count the later half without and with the answers")
	c.Flags().Float64Var(&lost, "limit", 0.01, "share of faults that a filter may hold back which learned from the answers")
	c.Flags().BoolVar(&details, "alerts", false, "list each alert and what it was")
	return c
}

func corpusTable(results []corpus.Result) listing {
	l := listing{title: "False alarms stated and found, and incidents found (95 % intervals)", raw: results,
		head:  []string{"history", "series", "false stated", "found", "found / stated", "precision", "recall", "found", "F1", "delay"},
		right: []int{1, 2, 3, 8, 9}}
	for _, r := range results {
		delay := "–"
		if r.Delay != nil {
			delay = words.Duration(time.Duration(*r.Delay) * time.Second)
		}
		ratio := r.Ratio()
		l.rows = append(l.rows, []string{r.Corpus, fmt.Sprint(r.Series), fmt.Sprintf("%.1f", r.Stated), fmt.Sprint(r.False),
			fmt.Sprintf("%.2f (%.2f to %.2f)", ratio.Estimate, ratio.Low, ratio.High), interval(r.Precision()), interval(r.Recall()),
			fmt.Sprintf("%d of %d", r.Found, r.Incidents), fmt.Sprintf("%.3f", r.F1()), delay})
	}
	return l
}

func corpusAnswered(list []corpus.Answered) listing {
	l := listing{title: "What answers are worth on later time", raw: list,
		head:  []string{"history", "answers", "faults", "noise", "false without", "with", "and filter", "incidents found without", "with", "and filter"},
		right: []int{1, 2, 3, 4, 5, 6}}
	for _, r := range list {
		found := func(r corpus.Result) string { return fmt.Sprintf("%d of %d", r.Found, r.Incidents) }
		l.rows = append(l.rows, []string{r.Corpus, fmt.Sprint(r.Answers), fmt.Sprint(r.Faults), fmt.Sprint(r.Noise),
			fmt.Sprint(r.Without.False), fmt.Sprint(r.With.False), fmt.Sprint(r.Filtered.False),
			found(r.Without), found(r.With), found(r.Filtered)})
	}
	return l
}

func corpusRules(results []corpus.Result) listing {
	l := listing{title: "By rule: alerts about an incident, false ones, and those beside all that was stated",
		head: []string{"history", "rule", "true", "false", "false / stated"}, right: []int{2, 3, 4}}
	for _, r := range results {
		for _, rule := range r.Rules {
			l.rows = append(l.rows, []string{r.Corpus, string(rule.Rule), fmt.Sprint(rule.True), fmt.Sprint(rule.False),
				fmt.Sprintf("%.2f", float64(rule.False)/r.Stated)})
		}
	}
	return l
}

func corpusKinds(results []corpus.Result) listing {
	l := listing{title: "Incidents found, by kind", head: []string{"history", "kind", "found", "of"}, right: []int{2, 3}}
	for _, r := range results {
		for _, k := range r.Kinds {
			l.rows = append(l.rows, []string{r.Corpus, k.Kind, fmt.Sprint(k.Found), fmt.Sprint(k.Incidents)})
		}
	}
	return l
}

func corpusAlerts(results []corpus.Result) listing {
	l := listing{raw: results, head: []string{"history", "series", "raised", "end", "rule", "severity", "was"}}
	for _, r := range results {
		for _, v := range r.Alerts {
			was := "false"
			switch {
			case v.True:
				was = v.Incident
			case v.Neutral:
				was = "neutral"
			}
			end := ""
			if v.Alert.Closed != 0 {
				end = time.Unix(v.Alert.End, 0).UTC().Format(time.RFC3339)
			}
			l.rows = append(l.rows, []string{r.Corpus, v.Series.ID, time.Unix(v.Alert.Raised, 0).UTC().Format(time.RFC3339), end,
				string(v.Alert.Cause) + " " + v.Alert.Direction.String(), string(v.Alert.Severity), was})
		}
	}
	return l
}
