package cli

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tinbell/internal/draw"
	"tinbell/internal/scorecard"
	"tinbell/internal/words"
)

func (a *app) scoreCommand() *cobra.Command {
	var since, until, by, tag, compare, html string
	var require map[string]string
	score := &cobra.Command{Use: "score", Short: "The scorecard: precision, recall, delay, load", Args: exactly(0, "nothing"),
		Example: "  tinbell score --since 90d --by dataset\n  tinbell score --since 30d --compare 60d --html scorecard.html\n  tinbell score --require precision=0.8 --require recall=0.9",
		RunE: func(c *cobra.Command, _ []string) error {
			if by != "" && !slices.Contains(scorecard.Groupings, by) && by != "monitor" {
				return wrongUsage{fmt.Errorf("--by %s: allowed are monitor, %s", by, strings.Join(scorecard.Groupings, ", "))}
			}
			s, err := a.scoreOf(c.Context(), since, until, strings.TrimPrefix(by, "monitor"), tag)
			if err != nil {
				return err
			}
			var before *scorecard.Scorecard
			if compare != "" {
				earlier, err := a.scoreOf(c.Context(), compare, s.From.Format(time.RFC3339), "", tag)
				if err != nil {
					return err
				}
				before = &earlier
			}
			if html != "" {
				if err := writeReport(html, s, before); err != nil {
					return err
				}
				a.say("Written to %s", html)
			} else if err := a.showScore(s, before); err != nil {
				return err
			}
			return a.gate(s.Overall, require)
		}}
	score.Flags().StringVar(&since, "since", "", "start: a time, or how long ago; since judging began if left out")
	score.Flags().StringVar(&until, "until", "", "end: a time, or how long ago; now if left out")
	score.Flags().StringVar(&by, "by", "", "break it down by monitor, dataset, measure, segment, owner, tag, rule, channel or month")
	score.Flags().StringVar(&tag, "tag", "", "score what has this tag alone")
	score.Flags().StringVar(&compare, "compare", "", "beside the stretch from this time, or so long ago, to the start")
	score.Flags().StringVar(&html, "html", "", "write it as one HTML file")
	score.Flags().StringToStringVar(&require, "require", nil, "precision=… or recall=…; exit code 4 if not met")
	score.AddCommand(a.export("export", "Write the figures of each monitor", "/scorecard/export",
		"  tinbell score export --from 90d --file score.parquet", 0, spanned))
	return score
}

func (a *app) scoreOf(ctx context.Context, since, until, by, tag string) (s scorecard.Scorecard, err error) {
	q := url.Values{}
	for key, text := range map[string]string{"from": since, "to": until} {
		at, err := ago(text, time.Now())
		if err != nil {
			return s, err
		}
		if !at.IsZero() {
			q.Set(key, at.Format(time.RFC3339))
		}
	}
	for key, value := range map[string]string{"by": by, "tag": tag} {
		if value != "" {
			q.Set(key, value)
		}
	}
	return s, a.client().Get(ctx, "/scorecard", q, &s)
}

func writeReport(path string, s scorecard.Scorecard, before *scorecard.Scorecard) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	if err := draw.Report(f, s, before, time.Now()); err != nil {
		f.Close()
		return err
	}
	return f.Close()
}

// showScore prints the groups that were asked for, or the monitors, and what
// changed since the stretch before.
func (a *app) showScore(s scorecard.Scorecard, before *scorecard.Scorecard) error {
	if err := a.show(scoreRows(s)); err != nil || before == nil || a.output != "table" {
		return err
	}
	l := listing{head: []string{"", "before", "95 % interval", "now", "95 % interval"}, right: []int{2, 4}}
	row := func(name string, was, is scorecard.Figure) {
		l.rows = append(l.rows, []string{name, bare(was), span(was), bare(is), span(is)})
	}
	row("precision", before.Overall.Precision, s.Overall.Precision)
	row("recall", before.Overall.Recall, s.Overall.Recall)
	row("false alarms a week", before.Overall.FalseWeekly, s.Overall.FalseWeekly)
	a.printf("\nFrom %s to %s, beside %s to %s:\n", s.From.Format(time.DateOnly), s.To.Format(time.DateOnly),
		before.From.Format(time.DateOnly), before.To.Format(time.DateOnly))
	return a.show(l)
}

func bare(f scorecard.Figure) string {
	if f.Estimate == nil {
		return "–"
	}
	return fmt.Sprintf("%.2f", *f.Estimate)
}

func span(f scorecard.Figure) string {
	if f.Low == nil || f.High == nil || f.Estimate == nil {
		return ""
	}
	return fmt.Sprintf("%.2f to %.2f", *f.Low, *f.High)
}

func (a *app) gate(c scorecard.Card, require map[string]string) error {
	known := map[string]scorecard.Figure{"precision": c.Precision, "recall": c.Recall}
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

func scoreRows(s scorecard.Scorecard) listing {
	l := listing{head: []string{"monitor", "precision", "faults", "unlabelled", "found", "recall", "delay", "false a week",
		"if unlabelled too", "stated", "achieved", "if unlabelled too"}, keep: []string{"precision", "false a week", "stated", "achieved"},
		right: []int{3, 4, 5, 7, 9, 10, 11, 12}, raw: s, data: &s.Monitors, none: "No monitor yet."}
	row := func(name string, c scorecard.Card) []string {
		stated := "–"
		if c.StatedSeconds > 0 {
			stated = "1 in " + words.Seconds(float64(c.StatedSeconds))
		}
		return []string{name, figure(c.Precision, 2), fmt.Sprintf("%d of %d", c.Faults, c.Faults+c.Noise), strconv.Itoa(c.Unlabelled),
			fmt.Sprintf("%d of %d", c.Recall.K, c.Recall.N), figure(c.Recall, 2), delay(c.DelaySeconds), figure(c.FalseWeekly, 2),
			amount(c.FalseMost), stated, achieved(c.Achieved), atWorst(c.Achieved)}
	}
	if s.By != "" {
		l.head[0] = s.By
		for _, g := range s.Groups {
			l.rows = append(l.rows, row(or(g.Name, "(whole)"), g))
		}
	}
	for _, m := range s.Monitors {
		if s.By == "" {
			l.rows = append(l.rows, row(m.Monitor, m))
		}
	}
	if len(s.Monitors) > 0 {
		l.rows = append(l.rows, row("all together", s.Overall))
	}
	return l
}
