package cli

import (
	"fmt"
	"net/url"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"tinbell/internal/improve"
	"tinbell/internal/words"
)

func (a *app) scoreCommand() *cobra.Command {
	var since string
	var require map[string]string
	score := &cobra.Command{Use: "score", Short: "The scorecard: precision, recall, delay, load", Args: exactly(0, "nothing"),
		Example: "  tinbell score --since 90d\n  tinbell score --require precision=0.8 --require recall=0.9",
		RunE: func(c *cobra.Command, _ []string) error {
			from, err := ago(since, time.Now())
			if err != nil {
				return err
			}
			q := url.Values{}
			if !from.IsZero() {
				q.Set("from", from.Format(time.RFC3339))
			}
			var s improve.Scorecard
			if err := a.client().Get(c.Context(), "/scorecard", q, &s); err != nil {
				return err
			}
			if err := a.show(scoreRows(s)); err != nil {
				return err
			}
			return a.gate(s.Overall, require)
		}}
	score.Flags().StringVar(&since, "since", "", "start: a time, or how long ago; since judging began if left out")
	score.Flags().StringToStringVar(&require, "require", nil, "precision=… or recall=…; exit code 4 if not met")
	return score
}

func (a *app) gate(c improve.Card, require map[string]string) error {
	known := map[string]improve.Figure{"precision": c.Precision, "recall": c.Recall}
	missed := false
	for name, text := range require {
		f, there := known[name]
		want, err := strconv.ParseFloat(text, 64)
		if !there || err != nil {
			return wrongUsage{fmt.Errorf("--require %s=%s: write precision=0.8 or recall=0.9", name, text)}
		}
		if f.Estimate == nil || *f.Estimate < want {
			fmt.Fprintf(a.errors, "%s is %s, required is %g\n", name, figure(f, 3), want)
			missed = true
		}
	}
	if missed {
		return errGate
	}
	return nil
}

func scoreRows(s improve.Scorecard) listing {
	l := listing{head: []string{"monitor", "precision", "faults", "unlabelled", "found", "recall", "delay", "false a week", "stated", "achieved"},
		right: []int{3, 4, 5, 7, 9, 10}, raw: s, none: "No monitor yet."}
	row := func(name string, c improve.Card) []string {
		stated := "–"
		if c.StatedSeconds > 0 {
			stated = "1 in " + words.Seconds(float64(c.StatedSeconds))
		}
		return []string{name, figure(c.Precision, 2), fmt.Sprintf("%d of %d", c.Faults, c.Faults+c.Noise), strconv.Itoa(c.Unlabelled),
			fmt.Sprintf("%d of %d", c.Recall.K, c.Recall.N), figure(c.Recall, 2), delay(c.DelaySeconds), figure(c.FalseWeekly, 2), stated, achieved(c.Achieved)}
	}
	for _, m := range s.Monitors {
		l.rows = append(l.rows, row(m.Monitor, m))
	}
	if len(s.Monitors) > 0 {
		l.rows = append(l.rows, row("all together", s.Overall))
	}
	return l
}
