package cli

import (
	"fmt"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tinbell/core/score"
	"tinbell/internal/flat"
	"tinbell/internal/health"
	"tinbell/internal/httpapi"
	"tinbell/internal/lessons"
	"tinbell/internal/record"
	"tinbell/internal/store"
	"tinbell/internal/words"
)

func (a *app) labelCommand() *cobra.Command {
	export := a.export("export", "Write every label, as it is imported", "/labels/export",
		"  tinbell label export > labels.csv\n  tinbell label export --file labels.ndjson", 0, nil)
	load := &cobra.Command{Use: "import FILE",
		Short: "Import labels as CSV, NDJSON or a JSON array; what was said before is not said twice", Args: exactly(1, "FILE"),
		Long: "Columns, or keys: alert (its number), or monitor, segment and raised_at; verdict; cause, note, author and at where known.", Example: "  tinbell label import labels.csv",
		RunE: func(c *cobra.Command, args []string) error {
			return a.importFile(c, "/labels/import", args[0], "labels")
		}}
	return group("label", "What people say of alerts", a.labelList(), a.labelQueue(), a.labelStretch(), export, load)
}

// importFile sends a CSV file and tells what became of it.
func (a *app) importFile(c *cobra.Command, path, file, what string) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	var result flat.Import
	if err := a.client().Stream(c.Context(), "POST", path, "text/csv", f, &result); err != nil {
		return err
	}
	for _, p := range append(result.Problems, result.Notes...) {
		fmt.Fprintf(a.errors, "line %d: %s\n", p.Line, p.Reason)
	}
	a.say("%d %s added, %d known already, %d refused.", result.Added, what, result.Replaced, result.Refused)
	if result.Refused > 0 {
		return fmt.Errorf("%d lines were refused", result.Refused)
	}
	return nil
}

func (a *app) labelQueue() *cobra.Command {
	var limit int
	var monitor string
	c := &cobra.Command{Use: "queue", Short: "Alerts whose label would teach most, first", Args: exactly(0, "nothing"),
		Example: "  tinbell label queue --limit 10\n  tinbell alert label 412 413 noise",
		RunE: func(c *cobra.Command, _ []string) error {
			q := url.Values{"limit": {strconv.Itoa(limit)}}
			if monitor != "" {
				q.Set("monitor", monitor)
			}
			var found lessons.Questions
			if err := a.client().Get(c.Context(), "/label-queue", q, &found); err != nil {
				return err
			}
			l := listing{head: []string{"alert", "fault?", "raised", "monitor", "what", "alike"}, right: []int{1, 2}, raw: found,
				none: "Every alert is answered."}
			for _, v := range found.Questions {
				alike := ""
				for _, other := range v.Alike {
					alike += fmt.Sprintf("%d ", other.ID)
				}
				l.rows = append(l.rows, []string{fmt.Sprint(v.Alert.ID), words.Percent(v.Chance),
					a.local(v.Alert.RaisedAt, v.Alert.Zone), v.Alert.Monitor, v.Alert.Sentence, alike})
			}
			if err := a.show(l); err != nil {
				return err
			}
			a.say("%s", found.Sentence)
			return nil
		}}
	c.Flags().IntVar(&limit, "limit", 10, "how many")
	c.Flags().StringVar(&monitor, "monitor", "", "of one monitor only")
	return c
}

func (a *app) labelStretch() *cobra.Command {
	var from, to string
	in := httpapi.NewStretch{}
	var segment string
	c := &cobra.Command{Use: "stretch METRIC VERDICT",
		Short: "Give a verdict on a stretch where no alert was: a fault becomes a missed incident", Args: exactly(2, "METRIC VERDICT"),
		Example: "  tinbell label stretch boarding-scans-rows fault --segment Gullstone --from 2026-06-18T09:00:00-03:00 --to 2026-06-18T15:00:00-03:00 --note 'gate 3 sent nothing'",
		RunE: func(c *cobra.Command, args []string) error {
			var err error
			if in.From, err = ago(from, time.Now()); err != nil {
				return err
			}
			if in.To, err = ago(to, time.Now()); err != nil {
				return err
			}
			var page health.Page
			var m record.Metric
			if err := a.client().Get(c.Context(), "/metrics/"+url.PathEscape(args[0]), nil, &m); err != nil {
				return err
			}
			if err := a.client().Get(c.Context(), "/datasets/"+url.PathEscape(m.Dataset), nil, &page); err != nil {
				return err
			}
			for _, metric := range page.Metrics {
				for _, s := range metric.Series {
					if metric.Name == m.Name && s.Segment == segment {
						in.SeriesID = s.ID
					}
				}
			}
			if in.SeriesID == 0 {
				return record.NotFound{Kind: "segment of " + m.Name, Name: segment}
			}
			in.Verdict = score.Verdict(args[1])
			var v record.Stretch
			if err := a.client().Send(c.Context(), "POST", "/stretches", in, &v); err != nil {
				return err
			}
			if v.Incident != "" {
				a.say("Kept as incident %s, which nobody was told of.", v.Incident)
			} else {
				a.say("Kept. Take it back: DELETE /api/v1/stretches/%d", v.ID)
			}
			return nil
		}}
	c.Flags().StringVar(&segment, "segment", "", "of which segment")
	c.Flags().StringVar(&from, "from", "", "a time, or how long ago")
	c.Flags().StringVar(&to, "to", "", "a time, or how long ago; now if left out")
	c.Flags().StringVar(&in.Note, "note", "", "what was seen")
	c.Flags().StringVar(&in.Cause, "cause", "", "what it was")
	return c
}

func (a *app) filterCommand() *cobra.Command {
	show := &cobra.Command{Use: "show", Short: "How the filter of false alarms does", Args: exactly(0, "nothing"),
		RunE: func(c *cobra.Command, _ []string) error {
			var r lessons.FilterReport
			if err := a.client().Get(c.Context(), "/filter", nil, &r); err != nil {
				return err
			}
			return a.show(filterRows(r))
		}}
	why := &cobra.Command{Use: "why ALERT", Short: "What the filter makes of an alert, and the labelled ones most like it",
		Args: exactly(1, "ALERT"), Example: "  tinbell filter why 412",
		RunE: func(c *cobra.Command, args []string) error {
			var h lessons.Held
			if err := a.client().Get(c.Context(), "/alerts/"+url.PathEscape(args[0])+"/held", nil, &h); err != nil {
				return err
			}
			a.say("%s sure that it is a fault; alerts under %s are held back.", words.Percent(h.Chance), words.Percent(h.Cut))
			l := listing{head: []string{"speaks", "what"}, raw: h,
				none: "No evidence to weigh: a rule raised it, or nothing tells it from the labelled alerts."}
			for _, r := range h.Reasons {
				side := "for a fault"
				if r.Push < 0 {
					side = "for noise"
				}
				l.rows = append(l.rows, []string{fmt.Sprintf("%+.1f %s", r.Push, side), r.Theme})
			}
			if err := a.show(l); err != nil || a.output != "table" {
				return err
			}
			near := listing{head: []string{"most like it", "label", "raised", "what"}, right: []int{1}}
			for _, n := range h.Nearest {
				near.rows = append(near.rows, []string{fmt.Sprint(n.ID), string(n.Verdict), a.local(n.RaisedAt, n.Zone), n.Sentence})
			}
			if len(near.rows) == 0 {
				return nil
			}
			return a.show(near)
		}}
	state := func(use, short string, to record.FilterState) *cobra.Command {
		var limit float64
		c := &cobra.Command{Use: use, Short: short, Args: exactly(0, "nothing"), Example: "  tinbell filter " + use}
		c.RunE = func(c *cobra.Command, _ []string) error {
			in := httpapi.LearningChange{State: &to}
			if c.Flags().Changed("limit") {
				in.Limit = &limit
			}
			var how record.Learning
			if err := a.client().Send(c.Context(), "PATCH", "/filter", in, &how); err != nil {
				return err
			}
			a.say("The filter is %s; it may lose %s of faults.", map[record.FilterState]string{record.FilterOff: "off",
				record.FilterShadow: "in shadow: it says what it would hold back", record.FilterActive: "active"}[how.State], words.Percent(how.Limit))
			return nil
		}
		if to != record.FilterOff {
			c.Flags().Float64Var(&limit, "limit", 0.01, "share of faults that may be lost")
		}
		return c
	}
	return group("filter", "The filter of false alarms, learned from labels", show, why,
		state("off", "Switch it off; what it holds back is let go", record.FilterOff),
		state("shadow", "Let it say what it would hold back, and hold nothing", record.FilterShadow),
		state("on", "Let it hold alerts back", record.FilterActive))
}

func filterRows(r lessons.FilterReport) listing {
	right := "–"
	if r.Right >= 0 {
		right = words.Percent(r.Right) + " of pairs of a fault and a noise"
	}
	checked := "too few labels to check on later time (15 are needed)"
	if r.Checked.From != nil {
		checked = fmt.Sprintf("lost %d of %d faults, held %d of %d noise, from %s on", r.Checked.FaultsLost, r.Checked.Faults,
			r.Checked.NoiseHeld, r.Checked.Noise, r.Checked.From.Format(time.DateOnly))
	}
	return listing{head: []string{"filter", ""}, raw: r, rows: [][]string{
		{"state", string(r.State)}, {"may lose", words.Percent(r.Limit) + " of faults"},
		{"learned from", fmt.Sprintf("%d labels: %s, %d noise", r.Labels, words.Plural(r.Faults, "fault"), r.Noise)},
		{"holds back under", words.Percent(r.Cut) + " sure that it is a fault"}, {"orders rightly, unseen", right},
		{"on labels newer than it learned from", checked},
		{"last four weeks", fmt.Sprintf("%s held back, or would be; %s of them labelled since", words.Plural(r.HeldNow, "alert"),
			words.Plural(r.HeldFaults, "fault"))},
		{"tuning by night", map[bool]string{true: "yes", false: "no"}[r.Nightly]},
	}}
}

func (a *app) labelList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List every label that was given, oldest first, those taken back too",
		Args: exactly(0, "nothing"), Example: "  tinbell label list --output json",
		RunE: func(c *cobra.Command, _ []string) error {
			var given []store.GivenLabel
			if err := a.client().Get(c.Context(), "/labels", nil, &given); err != nil {
				return err
			}
			l := listing{head: []string{"alert", "label", "by", "at", "monitor", "segment", "note"}, right: []int{1},
				keep: []string{"label", "by"}, raw: given, none: "Nothing was labelled yet."}
			for _, g := range given {
				l.rows = append(l.rows, []string{strconv.FormatInt(g.AlertID, 10), string(or(g.Verdict, "taken back")), g.Author,
					a.local(g.At, "UTC"), g.Monitor, orNone(g.Segment), orNone(strings.Trim(g.Cause+": "+g.Note, ": "))})
			}
			return a.show(l)
		}}
}
