package cli

import (
	"fmt"
	"net/url"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"tinbell/core/template"
	"tinbell/internal/draw"
	"tinbell/internal/logs"
	"tinbell/internal/record"
	"tinbell/internal/words"
)

// sentencePath is where the API has a sentence of a log.
func sentencePath(name, number, rest string) (string, error) {
	n, err := strconv.Atoi(number)
	if err != nil {
		return "", wrongUsage{fmt.Errorf("%s: the number of a sentence, as tinbell log templates lists it", number)}
	}
	return fmt.Sprintf("/logs/%s/templates/%d%s", url.PathEscape(name), n, rest), nil
}

// correct sends a correction and says what came of it.
func (a *app) correct(c *cobra.Command, name, number string, order logs.Correction) error {
	path, err := sentencePath(name, number, "/correct")
	if err != nil {
		return err
	}
	var done logs.Corrected
	if err := a.client().Send(c.Context(), "POST", path, order, &done); err != nil {
		return err
	}
	if shown, err := a.data(done); shown {
		return err
	}
	a.say("%s", done.Sentence)
	return nil
}

func (a *app) logJoin() *cobra.Command {
	return &cobra.Command{Use: "join NAME NUMBER NUMBER",
		Short: "Make two sentences of a log one: what differs varies from now on", Args: exactly(3, "NAME NUMBER NUMBER"),
		RunE: func(c *cobra.Command, args []string) error {
			with, err := strconv.Atoi(args[2])
			if err != nil {
				return wrongUsage{fmt.Errorf("%s: the number of a sentence", args[2])}
			}
			return a.correct(c, args[0], args[1], logs.Correction{What: "join", With: with})
		}}
}

func (a *app) logHold() *cobra.Command {
	return a.correction("hold", "Hold a word of a sentence constant; where it varies, lines with it are a sentence of their own",
		"  tinbell log hold gates-loader 3 started\n  tinbell log hold gates-loader 3 gate-13 --part 5")
}

func (a *app) logVary() *cobra.Command {
	return a.correction("vary", "Have a word of a sentence vary: sentences that differ in it alone become one",
		"  tinbell log vary gates-loader 3 started")
}

func (a *app) correction(what, short, example string) *cobra.Command {
	part := -1
	c := &cobra.Command{Use: what + " NAME NUMBER WORD", Short: short, Example: example, Args: exactly(3, "NAME NUMBER WORD"),
		RunE: func(c *cobra.Command, args []string) error {
			order := logs.Correction{What: what, Word: args[2]}
			if part >= 0 {
				order.Part = &part
			}
			return a.correct(c, args[0], args[1], order)
		}}
	c.Flags().IntVar(&part, "part", -1, "which part of the sentence, from 0; else the one that is the word")
	return c
}

func (a *app) logGoesWith() *cobra.Command {
	var s overStretch
	c := &cobra.Command{Use: "goes-with NAME NUMBER",
		Short: "What a sentence goes with: sentences that rise and fall with it, runs, alerts", Args: exactly(2, "NAME NUMBER"),
		RunE: func(c *cobra.Command, args []string) error {
			path, err := sentencePath(args[0], args[1], "/goes-with")
			if err != nil {
				return err
			}
			q := url.Values{}
			if err := s.ask(q); err != nil {
				return err
			}
			var g logs.GoesWith
			if err := a.client().Get(c.Context(), path, q, &g); err != nil {
				return err
			}
			if done, err := a.data(g); done {
				return err
			}
			a.say("%s", g.Sentence)
			for _, k := range g.Kin {
				a.say("  %+.2f  %-16s  %d  %s", k.Correlation, lagged(k.LagSeconds), k.Number, k.Gist)
			}
			for _, r := range g.Runs {
				a.say("  in %d of %s of %s", r.With, words.Plural(r.Runs, string(r.State)+" run"), r.Job)
			}
			for _, v := range g.Alerts {
				a.say("  in %d of %s with an alert of %s, %s of the others", v.With, words.Plural(v.Hours, "hour"), v.Dataset,
					words.Percent(v.Else))
			}
			return nil
		}}
	s.bind(c, "7d")
	return c
}

// lagged says how much later or earlier something comes.
func lagged(seconds int) string {
	d := time.Duration(max(seconds, -seconds)) * time.Second
	switch {
	case seconds > 0:
		return words.Duration(d) + " later"
	case seconds < 0:
		return words.Duration(d) + " earlier"
	}
	return "at once"
}

func (a *app) logLines() *cobra.Command {
	var s overStretch
	var limit int
	c := &cobra.Command{Use: "lines NAME NUMBER",
		Short: "Read the lines of a sentence from the files that are followed, secrets masked", Args: exactly(2, "NAME NUMBER"),
		RunE: func(c *cobra.Command, args []string) error {
			path, err := sentencePath(args[0], args[1], "/lines")
			if err != nil {
				return err
			}
			q := url.Values{"limit": {strconv.Itoa(limit)}}
			if err := s.ask(q); err != nil {
				return err
			}
			var f logs.FromFiles
			if err := a.client().Get(c.Context(), path, q, &f); err != nil {
				return err
			}
			l := listing{head: []string{"file", "line", "text"}, right: []int{2}, raw: f, data: f.Lines, none: "No line of it.",
				keep: []string{"text"}}
			for _, v := range f.Lines {
				l.rows = append(l.rows, []string{v.Path, strconv.FormatInt(v.Line, 10), v.Text})
			}
			if err := a.show(l); err != nil {
				return err
			}
			a.say("\n%s", f.Sentence)
			return nil
		}}
	s.bind(c, "24h")
	c.Flags().IntVar(&limit, "limit", 50, "so many, the newest")
	return c
}

func (a *app) logFiles() *cobra.Command {
	return &cobra.Command{Use: "files NAME", Short: "List the files of a log that are followed", Args: exactly(1, "NAME"),
		RunE: func(c *cobra.Command, args []string) error {
			var list []record.LogFile
			if err := a.client().Get(c.Context(), "/logs/"+url.PathEscape(args[0])+"/files", nil, &list); err != nil {
				return err
			}
			l := listing{head: []string{"file", "lines", "counted", "changed", "trouble"}, right: []int{2, 3}, raw: list,
				keep: []string{"file", "lines"},
				none: "No file of it is followed: tinbell log set " + args[0] + " --files SOURCE:PATTERN."}
			for _, v := range list {
				l.rows = append(l.rows, []string{v.Path, words.Number(float64(v.Lines)), words.Bytes(float64(v.Counted)),
					a.local(v.Changed, ""), orNone(v.Message)})
			}
			return a.show(l)
		}}
}

func (a *app) logFind() *cobra.Command {
	var s overStretch
	var severity, dataset string
	var limit int
	c := &cobra.Command{Use: "find WORDS", Short: "Find sentences of all logs by words, severity, dataset and time",
		Args:    exactly(1, "WORDS"),
		Example: "  tinbell log find 'refuses connections' --since 7d\n  tinbell log find deadlock --severity error --dataset raw.gate_events",
		RunE: func(c *cobra.Command, args []string) error {
			q := url.Values{"words": {args[0]}, "dataset": {dataset}, "limit": {strconv.Itoa(limit)}}
			if severity != "" {
				level := template.SeverityOf(severity)
				if level == "" {
					return wrongUsage{fmt.Errorf("--severity %s: trace, debug, info, warn, error or fatal", severity)}
				}
				q.Set("severity", level)
			}
			if err := s.ask(q); err != nil {
				return err
			}
			var f logs.Finding
			if err := a.client().Get(c.Context(), "/log-sentences", q, &f); err != nil {
				return err
			}
			l := listing{head: []string{"log", "no.", "lines", "severity", "when", "sentence"}, right: []int{2, 3}, raw: f,
				data: f.Sentences, none: "No sentence fits.", keep: []string{"log", "no.", "sentence"}}
			for _, v := range f.Sentences {
				l.rows = append(l.rows, []string{v.Log, strconv.Itoa(v.Number), words.Number(float64(v.Count)),
					orNone(v.Severity), draw.Bars(v.Bins, 24), v.Gist})
			}
			if err := a.show(l); err != nil {
				return err
			}
			a.say("\n%s", f.Sentence)
			return nil
		}}
	s.bind(c, "24h")
	c.Flags().StringVar(&severity, "severity", "", "of this severity alone")
	c.Flags().StringVar(&dataset, "dataset", "", "of the logs of this dataset alone")
	c.Flags().IntVar(&limit, "limit", 40, "so many")
	return c
}
