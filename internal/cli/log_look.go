package cli

import (
	"errors"
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

func (a *app) logList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List the logs", Args: exactly(0, "nothing"),
		RunE: func(c *cobra.Command, _ []string) error {
			var list []record.Log
			if err := a.client().Get(c.Context(), "/logs", nil, &list); err != nil {
				return err
			}
			l := listing{head: []string{"log", "dataset", "lines", "sentences", "first", "last", "keeps"}, right: []int{3, 4, 7},
				raw: list, keep: []string{"log", "lines"},
				none: "There is no log yet: tinbell log push FILE --log NAME --dataset DATASET."}
			for _, v := range list {
				l.rows = append(l.rows, []string{v.Name, v.Dataset, words.Number(float64(v.Lines)),
					words.Number(float64(v.Templates)), a.optional(v.FirstAt, v.Zone, "–"), a.optional(v.LastAt, v.Zone, "–"),
					strconv.Itoa(v.KeepSamples)})
			}
			return a.show(l)
		}}
}

// overStretch are the options of a stretch.
type overStretch struct{ since, until string }

func (s *overStretch) bind(c *cobra.Command, long string) {
	c.Flags().StringVar(&s.since, "since", long, "from when on: a time, or how long ago")
	c.Flags().StringVar(&s.until, "until", "", "until when; now if left out")
}

func (s *overStretch) ask(q url.Values) error {
	now := time.Now()
	for key, text := range map[string]string{"from": s.since, "to": s.until} {
		at, err := ago(text, now)
		if err != nil {
			return err
		}
		if !at.IsZero() {
			q.Set(key, at.Format(time.RFC3339))
		}
	}
	return nil
}

func (a *app) logTemplates() *cobra.Command {
	var s overStretch
	var severity, said, where string
	var limit int
	c := &cobra.Command{Use: "templates NAME", Short: "List the sentences of a log that came in a stretch", Args: exactly(1, "NAME"),
		Example: "  tinbell log templates gates-loader --since 6h --severity error",
		RunE: func(c *cobra.Command, args []string) error {
			q := url.Values{"words": {said}, "where": {where}}
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
			var found logs.Sayings
			if err := a.client().Get(c.Context(), "/logs/"+url.PathEscape(args[0])+"/templates", q, &found); err != nil {
				return err
			}
			l := listing{head: []string{"no.", "lines", "share", "severity", "first", "when", "sentence"}, right: []int{1, 2, 3},
				raw: found, data: found.Templates,
				none: "No line came, or none that fits.", keep: []string{"no.", "lines", "sentence"}}
			for i, t := range found.Templates {
				if limit > 0 && i == limit {
					break
				}
				l.rows = append(l.rows, []string{strconv.Itoa(t.Number), words.Number(float64(t.Count)), words.Percent(t.Share),
					orNone(t.Severity), a.local(t.FirstAt, found.Log.Zone), draw.Bars(t.Bins, 24), t.Text})
			}
			if err := a.show(l); err != nil {
				return err
			}
			a.say("\n%s", found.Sentence)
			if more := len(found.Templates) - len(l.rows); more > 0 {
				a.say("%d more: --limit 0 lists all.", more)
			}
			return nil
		}}
	s.bind(c, "24h")
	c.Flags().StringVar(&severity, "severity", "", "of this severity alone")
	c.Flags().StringVar(&said, "words", "", "with all of these words")
	c.Flags().StringVar(&where, "where", "", "attribute=value: lines with that value alone, of those counted apart")
	c.Flags().IntVar(&limit, "limit", 40, "list so many; 0 for all")
	return c
}

func (a *app) logShow() *cobra.Command {
	var s overStretch
	c := &cobra.Command{Use: "show NAME NUMBER", Short: "Show a sentence of a log: when it came, and a few lines",
		Args: exactly(2, "NAME NUMBER"),
		RunE: func(c *cobra.Command, args []string) error {
			number, err := strconv.Atoi(args[1])
			if err != nil {
				return wrongUsage{fmt.Errorf("%s: the number of a sentence, as tinbell log templates lists it", args[1])}
			}
			q := url.Values{}
			if err := s.ask(q); err != nil {
				return err
			}
			var one logs.One
			if err := a.client().Get(c.Context(), fmt.Sprintf("/logs/%s/templates/%d", url.PathEscape(args[0]), number), q,
				&one); err != nil {
				return err
			}
			if done, err := a.data(one); done {
				return err
			}
			a.say("%s", one.Text)
			a.say("%s, %s since %s, the last at %s.", orNone(one.Severity), words.Plural(int(one.Lines), "line"),
				a.local(one.FirstAt, one.Zone), a.local(one.LastAt, one.Zone))
			if one.MergedInto > 0 {
				a.say("It became part of sentence %d.", one.MergedInto)
			}
			for _, n := range one.Parts {
				a.say("Sentence %d became part of it.", n)
			}
			for _, v := range one.Values {
				a.say("  %s", valueSaid(v))
			}
			for _, v := range one.By[:min(len(one.By), 8)] {
				a.say("  %s=%s: %s", v.Attribute, v.Value, words.Plural(int(v.N), "line"))
			}
			for _, v := range one.Changes {
				a.say("  %s, %s", a.local(v.At, one.Zone), changeSaid(v))
			}
			if len(one.Samples) > 0 {
				a.say("\nLines, secrets masked:")
			}
			for _, v := range one.Samples {
				a.say("  %s", v.Line)
			}
			if len(one.Hours) > 0 {
				a.say("\nBy the hour:")
			}
			most := int64(1)
			for _, h := range one.Hours {
				most = max(most, h.N)
			}
			for _, h := range one.Hours[max(0, len(one.Hours)-24):] {
				a.say("  %s  %10s  %s", a.local(h.At, one.Zone), words.Number(float64(h.N)), draw.Bar(float64(h.N)/float64(most), 40))
			}
			return nil
		}}
	s.bind(c, "14d")
	return c
}

// valueSaid says what stood in a variable part.
func valueSaid(v logs.PartOf) string {
	said := fmt.Sprintf("part %d (%s) after “%s”: %s in %s", v.Place, v.Kind, v.Before, words.Plural(int(v.Distinct), "value"),
		words.Plural(int(v.Lines), "line"))
	if v.Before == "" {
		said = fmt.Sprintf("part %d (%s): %s in %s", v.Place, v.Kind, words.Plural(int(v.Distinct), "value"),
			words.Plural(int(v.Lines), "line"))
	}
	if n := len(v.Days); v.Numbers > 0 && n > 0 {
		d := v.Days[n-1]
		return said + fmt.Sprintf("; on the last day %s, between %s and %s", words.Number(d.Median), words.Number(d.Low),
			words.Number(d.High))
	}
	if len(v.Top) > 0 && float64(v.Top[0].Lines) > 0.02*float64(v.Lines) {
		return said + fmt.Sprintf("; most often %s (%s)", v.Top[0].Value, words.Percent(float64(v.Top[0].Lines)/float64(max(v.Lines, 1))))
	}
	return said
}

// changeSaid says a correction, or what became part of what.
func changeSaid(v record.LogChange) string {
	switch v.What {
	case "held":
		return fmt.Sprintf("part %d held constant by %s", v.Place, v.Author)
	case "varied":
		return fmt.Sprintf("part %d varies by %s", v.Place, v.Author)
	case "joined":
		return fmt.Sprintf("%d made part of %d by %s", v.Number, v.Other, v.Author)
	}
	return fmt.Sprintf("%d became part of %d", v.Number, v.Other)
}

func (a *app) logCompare() *cobra.Command {
	var s overStretch
	var against, otherSince, otherUntil string
	c := &cobra.Command{Use: "compare NAME", Short: "Hold a stretch of a log against an earlier one: new, vanished, more, less",
		Args:    exactly(1, "NAME"),
		Example: "  tinbell log compare gates-loader --since 1h --against week\n  tinbell log compare gates-loader --since 2026-11-28T13:00:00Z --until 2026-11-28T14:00:00Z --against before",
		RunE: func(c *cobra.Command, args []string) error {
			q := url.Values{"against": {against}}
			if err := s.ask(q); err != nil {
				return err
			}
			if (otherSince == "") != (otherUntil == "") {
				return wrongUsage{errors.New("--against-since and --against-until: both, or neither")}
			}
			for key, text := range map[string]string{"against_from": otherSince, "against_to": otherUntil} {
				at, err := ago(text, time.Now())
				if err != nil {
					return err
				}
				if !at.IsZero() {
					q.Set(key, at.Format(time.RFC3339))
				}
			}
			var found logs.LogComparison
			if err := a.client().Get(c.Context(), "/logs/"+url.PathEscape(args[0])+"/compare", q, &found); err != nil {
				return err
			}
			l := listing{head: []string{"no.", "what", "lines", "before", "expected", "severity", "sentence"},
				right: []int{1, 3, 4, 5}, raw: found, data: found.Differ,
				none: "Nothing differs.", keep: []string{"no.", "what", "lines", "sentence"}}
			for _, d := range found.Differ {
				l.rows = append(l.rows, []string{strconv.Itoa(d.Number), d.Way, words.Number(float64(d.Now)),
					words.Number(float64(d.Before)), words.Number(d.Expected), orNone(d.Severity), d.Text})
			}
			if err := a.show(l); err != nil {
				return err
			}
			zone := found.Log.Zone
			a.say("\n%s %s to %s against %s to %s.", found.Sentence, a.local(found.From, zone), a.local(found.To, zone),
				a.local(found.Against, zone), a.local(found.Until, zone))
			return nil
		}}
	s.bind(c, "1h")
	c.Flags().StringVar(&against, "against", "day", "the same stretch an hour, day, week or month before, or the one right before")
	c.Flags().StringVar(&otherSince, "against-since", "", "any other stretch instead: its start")
	c.Flags().StringVar(&otherUntil, "against-until", "", "and its end")
	return c
}
