package cli

import (
	"context"
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tinbell/core/score"
	"tinbell/internal/chart"
	"tinbell/internal/draw"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/study"
	"tinbell/internal/words"
)

func (a *app) alertCommand() *cobra.Command {
	var state, verdictFlag, dataset, monitor string
	var limit int
	list := &cobra.Command{Use: "list", Short: "List alerts, newest first", Args: exactly(0, "nothing"),
		Example: "  tinbell alert list --state open\n  tinbell alert list --verdict none --output csv",
		RunE: func(c *cobra.Command, _ []string) error {
			q := url.Values{"limit": {strconv.Itoa(limit)}}
			for name, v := range map[string]string{"state": state, "verdict": verdictFlag, "dataset": dataset, "monitor": monitor} {
				if v != "" {
					q.Set(name, v)
				}
			}
			var page httpapi.AlertPage
			if err := a.client().Get(c.Context(), "/alerts", q, &page); err != nil {
				return err
			}
			l := listing{head: []string{"id", "raised", "severity", "what", "dataset", "how rare", "label"}, right: []int{1},
				raw: page, none: "No such alert."}
			for _, x := range page.Alerts {
				l.rows = append(l.rows, []string{strconv.FormatInt(x.ID, 10), a.dated(x.RaisedAt, x.Zone, x.PeriodSeconds), string(x.Severity), x.Sentence,
					or(x.Dataset, x.Source+x.Job), rare(x.ReturnPeriod), verdict(x)})
			}
			return a.show(l)
		}}
	f := list.Flags()
	f.StringVar(&state, "state", "", "open or closed")
	f.StringVar(&verdictFlag, "verdict", "", "fault, noise, planned, or none for unlabelled")
	f.StringVar(&dataset, "dataset", "", "only of this dataset")
	f.StringVar(&monitor, "monitor", "", "only of this monitor")
	f.IntVar(&limit, "limit", 40, "at most so many")
	return group("alert", "Alerts and their labels", list, a.alertExport(), a.alertShow(), a.alertWhy(), a.alertLabel(), a.alertNormal())
}

func (a *app) alertShow() *cobra.Command {
	var file, fill string
	var explain bool
	show := &cobra.Command{Use: "show ID", Short: "Show one alert with its labels, its picture, and why its value was expected",
		Args:    exactly(1, "ID"),
		Example: "  tinbell alert show 23 --explain\n  tinbell alert show 23 --plot gullstone.png",
		RunE: func(c *cobra.Command, args []string) error {
			var d httpapi.AlertDetail
			if err := a.client().Get(c.Context(), "/alerts/"+url.PathEscape(args[0]), nil, &d); err != nil {
				return err
			}
			if !d.Judged() && (explain || file != "") {
				return fmt.Errorf("alert %s is about a source, a table, a job or a log: it has no series to explain or draw", args[0])
			}
			if done, err := a.data(d); done {
				return err
			}
			a.printf("%s.\n\n", d.Sentence)
			facts := [][2]string{
				{"state", string(d.Severity) + ", " + verdict(d.Alert)}, {"dataset", d.Dataset}, {"segment", orNone(d.Segment)},
				{"monitor", d.Monitor}, {"owner", orNone(d.Owner)},
				{"since", a.dated(d.Since, d.Zone, d.PeriodSeconds)}, {"raised", a.dated(d.RaisedAt, d.Zone, d.PeriodSeconds)},
				{"closed", a.optional(d.ClosedAt, d.Zone, "still open")},
				{"opened by", string(d.Cause) + " rule, " + d.Direction}, {"how rare", rare(d.ReturnPeriod)},
				{"peak", fmt.Sprintf("%+.1f half-widths of the band", d.Peak)},
			}
			if d.Figures != "" {
				facts = append(facts[:7], append([][2]string{{"figures", d.Figures}}, facts[7:]...)...)
			}
			if d.Strength > 1 {
				facts = append(facts, [2]string{"strength", fmt.Sprintf("%.1f times the rule's limit", d.Strength)})
			}
			if d.Returns > 0 {
				facts = append(facts, [2]string{"came back", fmt.Sprintf("%s since, not told again; last %s",
					words.Plural(d.Returns, "time"), a.optional(d.ReturnedAt, d.Zone, ""))})
			}
			if !d.Judged() {
				facts = [][2]string{
					{"state", string(d.Severity) + ", " + verdict(d.Alert)}, {"source", orNone(d.Source)}, {"dataset", orNone(d.Dataset)},
					{"job", orNone(d.Job)}, {"owner", orNone(d.Owner)},
					{"since", a.dated(d.Since, d.Zone, d.PeriodSeconds)}, {"raised", a.dated(d.RaisedAt, d.Zone, d.PeriodSeconds)},
					{"closed", a.optional(d.ClosedAt, d.Zone, "still open")},
				}
			}
			if d.Judged() {
				var like study.CharacterStudy
				if err := a.client().Get(c.Context(), fmt.Sprintf("/series/%d/character", d.SeriesID), nil, &like); err != nil {
					return err
				}
				name := "its series"
				for _, sentence := range like.Sentences {
					facts = append(facts, [2]string{name, sentence})
					name = ""
				}
			}
			for _, pair := range facts {
				a.printf("  %-10s %s\n", pair[0], pair[1])
			}
			for _, l := range d.Labels {
				a.printf("  %-10s %s by %s, %s%s\n", "labelled", l.Verdict, l.Author, a.local(l.At, d.Zone),
					strings.TrimRight(": "+l.Cause+" "+l.Note, ": "))
			}
			if d.Judged() && file == "" && a.output == "table" {
				chart, err := a.around(c.Context(), d.Alert, fill)
				if err != nil {
					return err
				}
				a.printf("\n")
				a.sketch(chart)
			}
			if explain {
				if err := a.explain(c.Context(), d.Alert); err != nil {
					return err
				}
			}
			if file != "" {
				chart, err := a.around(c.Context(), d.Alert, fill)
				if err != nil {
					return err
				}
				return a.drawn(file, draw.Chart(chart, d.Sentence, file))
			}
			return nil
		}}
	show.Flags().StringVar(&file, "plot", "", "draw the series around the alert to FILE.png or FILE.svg")
	show.Flags().StringVar(&fill, "fill", "", filling)
	show.Flags().BoolVar(&explain, "explain", false, "split the value expected at its peak into parts")
	return show
}

// explain says where the value expected at an alert's peak comes from.
func (a *app) explain(ctx context.Context, alert record.Alert) error {
	at := alert.Since
	if alert.PeakAt != nil {
		at = *alert.PeakAt
	}
	var x chart.Explanation
	if err := a.client().Get(ctx, fmt.Sprintf("/series/%d/explain", alert.SeriesID), url.Values{"at": {at.Format(time.RFC3339)}},
		&x); err != nil {
		return err
	}
	a.printf("\nExpected at %s: %.4g\n", a.dated(x.At, alert.Zone, alert.PeriodSeconds), x.Expected)
	for _, p := range x.Parts {
		a.printf("  %-20s %+.4g\n", p.Name, p.Amount)
	}
	a.printf("Learned from %s to %s, %d stretches left out:\n", a.dated(x.TrainedFrom, alert.Zone, alert.PeriodSeconds),
		a.dated(x.TrainedTo, alert.Zone, alert.PeriodSeconds), len(x.Excluded))
	for _, e := range x.Excluded {
		a.printf("  %s to %s  %s\n", a.local(e.From, alert.Zone), a.local(e.To, alert.Zone), e.Why)
	}
	return nil
}

// around gives the week around an alert.
func (a *app) around(ctx context.Context, alert record.Alert, fill string) (chart chart.Chart, err error) {
	wide := max(time.Duration(alert.PeriodSeconds)*time.Second*24, 24*time.Hour)
	to := alert.RaisedAt.Add(2 * wide)
	if alert.ClosedAt != nil {
		to = alert.ClosedAt.Add(2 * wide)
	}
	q := url.Values{"from": {alert.Since.Add(-6 * wide).Format(time.RFC3339)}, "to": {to.Format(time.RFC3339)}, "fill": {fill}}
	return chart, a.client().Get(ctx, fmt.Sprintf("/series/%d/chart", alert.SeriesID), q, &chart)
}

func (a *app) alertLabel() *cobra.Command {
	var in httpapi.NewLabel
	label := &cobra.Command{Use: "label ID… VERDICT", Short: "Answer alerts: fault, noise or planned; 'none' takes it back",
		Example: "  tinbell alert label 412 413 fault --cause hardware --note 'gate router replaced'",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) < 2 {
				return wrongUsage{fmt.Errorf("give one or more alert ids and then fault, noise, planned or none")}
			}
			in.Verdict = score.Verdict(args[len(args)-1])
			if in.Verdict == "none" {
				in.Verdict = ""
			}
			for _, text := range args[:len(args)-1] {
				id, err := strconv.ParseInt(text, 10, 64)
				if err != nil {
					return wrongUsage{fmt.Errorf("%q is no alert id", text)}
				}
				in.Alerts = append(in.Alerts, id)
			}
			if err := a.client().Send(c.Context(), "POST", "/labels", in, nil); err != nil {
				return err
			}
			a.say("%d alerts labelled %s. The scorecard counts them at once: tinbell score", len(in.Alerts), args[len(args)-1])
			return nil
		}}
	label.Flags().StringVar(&in.Cause, "cause", "", "what it was")
	label.Flags().StringVar(&in.Note, "note", "", "kept with the label")
	return label
}

func (a *app) alertNormal() *cobra.Command {
	return &cobra.Command{Use: "normal ID", Short: "Say that what a series shows since an alert began is its new normal",
		Args:    exactly(1, "ID"),
		Example: "  tinbell alert normal 412",
		RunE: func(c *cobra.Command, args []string) error {
			var x record.Alert
			if err := a.client().Send(c.Context(), "POST", "/alerts/"+url.PathEscape(args[0])+"/new-normal", nil, &x); err != nil {
				return err
			}
			a.say("The level of %s since %s is what %s expects from now on.", orNone(x.Segment), a.dated(x.Since, x.Zone, x.PeriodSeconds), x.Monitor)
			return nil
		}}
}

func (a *app) alertExport() *cobra.Command {
	return a.export("export", "Write all alerts with their verdicts, those held back too", "/alerts/export",
		"  tinbell alert export --from 90d --file alerts.parquet", 0, func(c *cobra.Command, x *exporting) {
			spanned(c, x)
			x.text(c, "dataset", "of this dataset alone")
			x.text(c, "monitor", "of this monitor alone")
		})
}
