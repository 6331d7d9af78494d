package cli

import (
	"fmt"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tinbell/internal/answer"
	"tinbell/internal/httpapi"
	"tinbell/internal/improve"
	"tinbell/internal/record"
)

func secondsOf(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }

// settingsFlags lets a command change settings.
type settingsFlags struct {
	method, direction, warn, critical, persist, adopt string
	coverage, effect                                  float64
}

func (f *settingsFlags) bind(c *cobra.Command) {
	flags := c.Flags()
	flags.StringVar(&f.method, "method", "", "seasonal or arrival")
	flags.StringVar(&f.direction, "direction", "", "low, high or both")
	flags.StringVar(&f.warn, "warn", "", "return period of a warning for the monitor as a whole, for example 1y")
	flags.StringVar(&f.critical, "critical", "", "return period of a critical alert, for example 10y")
	flags.StringVar(&f.persist, "persist", "", "m of n periods, for example '2 of 3'")
	flags.StringVar(&f.adopt, "adopt-after", "", "when an unanswered change becomes the new normal, or never")
	flags.Float64Var(&f.coverage, "coverage", 0, "share of clean values inside the drawn band")
	flags.Float64Var(&f.effect, "min-effect", -1, "smallest absolute effect worth an alert")
}

// apply changes what was given and tells whether anything was.
func (f *settingsFlags) apply(s *record.Settings) (changed bool, err error) {
	before := *s
	if f.method != "" {
		s.Method = f.method
	}
	if f.direction != "" {
		s.Direction = f.direction
	}
	for text, into := range map[*string]*int64{&f.warn: &s.WarnSeconds, &f.critical: &s.CriticalSeconds, &f.adopt: &s.AdoptAfterSeconds} {
		switch {
		case *text == "":
		case *text == "never":
			*into = -1
		default:
			if *into, err = seconds(*text); err != nil {
				return false, err
			}
		}
	}
	if f.persist != "" {
		if _, err := fmt.Sscanf(f.persist, "%d of %d", &s.Persist, &s.Of); err != nil {
			return false, wrongUsage{fmt.Errorf("--persist %q: write it as '2 of 3'", f.persist)}
		}
	}
	if f.coverage > 0 {
		s.Coverage = f.coverage
	}
	if f.effect >= 0 {
		s.MinEffect = f.effect
	}
	return *s != before, nil
}

func (a *app) monitorCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "List monitors", Args: exactly(0, "nothing"), RunE: func(c *cobra.Command, _ []string) error {
		var monitors []record.Monitor
		if err := a.client().Get(c.Context(), "/monitors", nil, &monitors); err != nil {
			return err
		}
		l := listing{head: []string{"monitor", "metric", "method", "direction", "warn", "critical", "persist", "version", "fitted"}, raw: monitors,
			none: "No monitor yet. Add one: tinbell monitor add NAME METRIC"}
		for _, m := range monitors {
			s := m.Settings
			l.rows = append(l.rows, []string{m.Name, m.Metric, s.Method, s.Direction, "once in " + long(secondsOf(float64(s.WarnSeconds))),
				"once in " + long(secondsOf(float64(s.CriticalSeconds))), fmt.Sprintf("%d of %d", s.Persist, s.Of), strconv.Itoa(m.Version),
				optional(m.LearnedAt, "UTC", "not yet")})
		}
		return a.show(l)
	}}
	var flags settingsFlags
	var owner string
	add := &cobra.Command{Use: "add NAME METRIC", Short: "Put a monitor on a metric; it is fitted to the past at once", Args: exactly(2, "NAME METRIC"),
		Example: "  tinbell monitor add gate-nulls gate-nulls --direction high --warn 1y",
		RunE: func(c *cobra.Command, args []string) error {
			settings := record.DefaultSettings()
			if _, err := flags.apply(&settings); err != nil {
				return err
			}
			var m record.Monitor
			if err := a.client().Send(c.Context(), "POST", "/monitors", httpapi.NewMonitor{Name: args[0], Metric: args[1], Owner: owner, Settings: &settings}, &m); err != nil {
				return err
			}
			a.say("Monitor %s added. By chance it will cry wolf about once in %s.", m.Name, long(secondsOf(float64(m.Settings.WarnSeconds))))
			return nil
		}}
	flags.bind(add)
	add.Flags().StringVar(&owner, "owner", "", "team that is told; the dataset's if left out")
	return group("monitor", "Baselines and alert rules", list, add, a.monitorSet(), a.monitorBacktest())
}

func (a *app) monitorSet() *cobra.Command {
	var flags settingsFlags
	var pause, resume bool
	set := &cobra.Command{Use: "set NAME", Short: "Change a monitor's settings; a new version", Args: exactly(1, "NAME"),
		Example: "  tinbell monitor set refunds-volume --warn 2y --persist '2 of 3'",
		RunE: func(c *cobra.Command, args []string) error {
			var m record.Monitor
			path := "/monitors/" + url.PathEscape(args[0])
			if err := a.client().Get(c.Context(), path, nil, &m); err != nil {
				return err
			}
			changed, err := flags.apply(&m.Settings)
			if err != nil {
				return err
			}
			if !changed && !pause && !resume {
				return wrongUsage{fmt.Errorf("nothing to change: give at least one option")}
			}
			in := httpapi.ChangedMonitor{Version: m.Version, Settings: m.Settings, Paused: (m.Paused || pause) && !resume}
			if err := a.client().Send(c.Context(), "PUT", path, in, &m); err != nil {
				return err
			}
			a.say("Monitor %s is now at version %d.", m.Name, m.Version)
			return nil
		}}
	flags.bind(set)
	set.Flags().BoolVar(&pause, "pause", false, "stop judging")
	set.Flags().BoolVar(&resume, "resume", false, "judge again")
	return set
}

func (a *app) monitorBacktest() *cobra.Command {
	var flags settingsFlags
	var since, until string
	var alerts bool
	test := &cobra.Command{Use: "backtest [NAME…]", Short: "Replay monitors over the past, walking forward",
		Long: `Replays monitors over a stretch of the past as the live service would have
judged it: history before the stretch is only learned from, baselines are fitted
again each week, labels and planned events count only from when they were known.`,
		Example: "  tinbell monitor backtest boarding-scans-volume --since 60d\n  tinbell monitor backtest --since 60d --alerts --output csv",
		RunE: func(c *cobra.Command, args []string) error {
			now := time.Now()
			from, err := ago(since, now)
			if err != nil {
				return err
			}
			to, err := ago(until, now)
			if err != nil {
				return err
			}
			order := httpapi.BacktestOrder{Monitors: args, From: from, To: to}
			settings := record.DefaultSettings()
			if len(args) == 1 {
				var m record.Monitor
				if err := a.client().Get(c.Context(), "/monitors/"+url.PathEscape(args[0]), nil, &m); err != nil {
					return err
				}
				settings = m.Settings
			}
			if changed, err := flags.apply(&settings); err != nil {
				return err
			} else if changed {
				order.Settings = &settings
			}
			var b improve.Backtest
			if err := a.client().Send(c.Context(), "POST", "/backtests", order, &b); err != nil {
				return err
			}
			if alerts {
				return a.show(backtestAlerts(b))
			}
			return a.show(backtestCards(b))
		}}
	flags.bind(test)
	test.Flags().StringVar(&since, "since", "60d", "start: a time, or how long ago")
	test.Flags().StringVar(&until, "until", "", "end: a time, or how long ago; now if left out")
	test.Flags().BoolVar(&alerts, "alerts", false, "list the alerts instead of the figures")
	return test
}

func backtestAlerts(b improve.Backtest) listing {
	l := listing{head: []string{"monitor", "dataset", "measure", "segment", "since", "raised_at", "closed_at", "severity", "direction", "rule", "outcome", "incident"},
		raw: b, none: "No alert in this stretch."}
	for _, x := range b.Alerts {
		closed := ""
		if x.ClosedAt != nil {
			closed = x.ClosedAt.Format(time.RFC3339)
		}
		l.rows = append(l.rows, []string{x.Monitor, x.Dataset, x.Measure, x.Segment, x.Since.Format(time.RFC3339), x.RaisedAt.Format(time.RFC3339), closed,
			x.Severity, x.Direction, x.Rule, x.Outcome, x.Incident})
	}
	return l
}

func backtestCards(b improve.Backtest) listing {
	l := listing{head: []string{"monitor", "alerts", "hits of counted", "precision", "incidents", "recall", "delay", "false a week"}, right: []int{2, 3, 5, 7},
		raw: b, none: "No monitor to replay."}
	row := func(name string, c improve.Card) []string {
		return []string{name, strconv.Itoa(c.Alerts), fmt.Sprintf("%d of %d", c.Catalogue.K, c.Catalogue.N), figure(c.Catalogue, 2),
			fmt.Sprintf("%d of %d", c.Recall.K, c.Recall.N), figure(c.Recall, 2), delay(c.DelaySeconds), figure(c.FalseWeekly, 2)}
	}
	for _, m := range b.Monitors {
		l.rows = append(l.rows, row(m.Monitor, m))
	}
	if len(b.Monitors) > 0 {
		l.rows = append(l.rows, row("all together", b.Overall))
	}
	return l
}

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
			l := listing{head: []string{"id", "raised", "severity", "what", "dataset", "how rare", "label"}, right: []int{1}, raw: page, none: "No such alert."}
			for _, x := range page.Alerts {
				l.rows = append(l.rows, []string{strconv.FormatInt(x.ID, 10), local(x.RaisedAt, x.Zone), x.Severity, x.Sentence, x.Dataset, rare(x.ReturnPeriod), verdict(x)})
			}
			return a.show(l)
		}}
	f := list.Flags()
	f.StringVar(&state, "state", "", "open or closed")
	f.StringVar(&verdictFlag, "verdict", "", "fault, noise, planned, or none for unlabelled")
	f.StringVar(&dataset, "dataset", "", "only of this dataset")
	f.StringVar(&monitor, "monitor", "", "only of this monitor")
	f.IntVar(&limit, "limit", 40, "at most so many")
	return group("alert", "Alerts and their labels", list, a.alertShow(), a.alertLabel())
}

func (a *app) alertShow() *cobra.Command {
	return &cobra.Command{Use: "show ID", Short: "Show one alert with its labels", Args: exactly(1, "ID"), RunE: func(c *cobra.Command, args []string) error {
		var d httpapi.AlertDetail
		if err := a.client().Get(c.Context(), "/alerts/"+url.PathEscape(args[0]), nil, &d); err != nil {
			return err
		}
		if a.output != "table" {
			return a.json(d)
		}
		fmt.Fprintf(a.out, "%s.\n\n", d.Sentence)
		for _, pair := range [][2]string{
			{"state", d.Severity + ", " + verdict(d.Alert)}, {"dataset", d.Dataset}, {"segment", orNone(d.Segment)}, {"monitor", d.Monitor}, {"owner", orNone(d.Owner)},
			{"since", local(d.Since, d.Zone) + " " + d.Zone}, {"raised", local(d.RaisedAt, d.Zone)}, {"closed", optional(d.ClosedAt, d.Zone, "still open")},
			{"opened by", d.Cause + " rule, " + d.Direction}, {"how rare", rare(d.ReturnPeriod)}, {"peak", fmt.Sprintf("%+.1f half-widths of the band", d.Peak)},
		} {
			fmt.Fprintf(a.out, "  %-10s %s\n", pair[0], pair[1])
		}
		for _, l := range d.Labels {
			fmt.Fprintf(a.out, "  %-10s %s by %s, %s%s\n", "labelled", l.Verdict, l.Author, local(l.At, d.Zone), strings.TrimRight(": "+l.Cause+" "+l.Note, ": "))
		}
		return nil
	}}
}

func (a *app) alertLabel() *cobra.Command {
	var in httpapi.NewLabel
	label := &cobra.Command{Use: "label ID… VERDICT", Short: "Answer alerts: fault, noise or planned; 'none' takes it back",
		Example: "  tinbell alert label 412 413 fault --cause hardware --note 'gate router replaced'",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) < 2 {
				return wrongUsage{fmt.Errorf("give one or more alert ids and then fault, noise, planned or none")}
			}
			in.Verdict = args[len(args)-1]
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

func (a *app) incidentCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "List the incident catalogue", Args: exactly(0, "nothing"), RunE: func(c *cobra.Command, _ []string) error {
		var incidents []record.Incident
		if err := a.client().Get(c.Context(), "/incidents", nil, &incidents); err != nil {
			return err
		}
		l := listing{head: []string{"reference", "started", "ended", "dataset", "segment", "title", "cause", "severity"}, raw: incidents,
			none: "No incident yet. Import a catalogue: tinbell incident import FILE.csv"}
		for _, i := range incidents {
			l.rows = append(l.rows, []string{i.Reference, i.StartedAt.Format(time.RFC3339), optional(i.EndedAt, "UTC", "lasting"), i.Dataset, orNone(i.Segment), i.Title, orNone(i.Cause), i.Severity})
		}
		return a.show(l)
	}}
	load := &cobra.Command{Use: "import FILE", Short: "Import a catalogue as CSV", Args: exactly(1, "FILE"), Example: "  tinbell incident import incidents.csv",
		RunE: func(c *cobra.Command, args []string) error {
			f, err := os.Open(args[0])
			if err != nil {
				return err
			}
			defer f.Close()
			var result answer.Import
			if err := a.client().Stream(c.Context(), "POST", "/incidents/import", "text/csv", f, &result); err != nil {
				return err
			}
			a.say("%d incidents added, %d replaced, %d lines refused", result.Added, result.Replaced, result.Refused)
			for _, p := range result.Problems {
				fmt.Fprintf(a.errors, "  line %d: %s\n", p.Line, p.Reason)
			}
			if result.Refused > 0 {
				return fmt.Errorf("%d lines were refused", result.Refused)
			}
			return nil
		}}
	drop := &cobra.Command{Use: "drop REFERENCE", Short: "Remove an incident", Args: exactly(1, "REFERENCE"), RunE: func(c *cobra.Command, args []string) error {
		return a.client().Send(c.Context(), "DELETE", "/incidents/"+url.PathEscape(args[0]), nil, nil)
	}}
	return group("incident", "Faults that did happen", list, a.incidentAdd(), load, drop)
}

func (a *app) incidentAdd() *cobra.Command {
	var in httpapi.NewIncident
	var started, ended string
	add := &cobra.Command{Use: "add DATASET TITLE", Short: "Add an incident by hand", Args: exactly(2, "DATASET TITLE"),
		Example: "  tinbell incident add ops.refunds 'Refunds posted twice' --started 2026-06-17T10:00:00-03:00 --ended 2026-06-17T14:00:00-03:00",
		RunE: func(c *cobra.Command, args []string) error {
			in.Dataset, in.Title = args[0], args[1]
			var err error
			if in.StartedAt, err = ago(started, time.Now()); err != nil {
				return err
			}
			if end, err := ago(ended, time.Now()); err != nil {
				return err
			} else if !end.IsZero() {
				in.EndedAt = &end
			}
			var v record.Incident
			if err := a.client().Send(c.Context(), "POST", "/incidents", in, &v); err != nil {
				return err
			}
			a.say("Incident %s added.", v.Reference)
			return nil
		}}
	f := add.Flags()
	f.StringVar(&in.Reference, "reference", "", "a name of its own; a running one if left out")
	f.StringVar(&started, "started", "", "a time, or how long ago")
	f.StringVar(&ended, "ended", "", "a time, or how long ago; left out while it lasts")
	f.StringVar(&in.Measure, "measure", "", "limit it to one measure")
	f.StringVar(&in.Segment, "segment", "", "limit it to one segment")
	f.StringVar(&in.Cause, "cause", "", "what it was")
	f.StringVar(&in.Severity, "severity", "warning", "warning or critical")
	return add
}

func (a *app) calendarCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "List planned events", Args: exactly(0, "nothing"), RunE: func(c *cobra.Command, _ []string) error {
		var events []record.PlannedEvent
		if err := a.client().Get(c.Context(), "/planned-events", nil, &events); err != nil {
			return err
		}
		l := listing{head: []string{"calendar", "event", "from", "to", "dataset", "holiday"}, raw: events, none: "No planned event."}
		for _, e := range events {
			l.rows = append(l.rows, []string{e.Calendar, e.Summary, e.StartedAt.Format(time.RFC3339), e.EndedAt.Format(time.RFC3339), orNone(e.Dataset), strconv.FormatBool(e.Holiday)})
		}
		return a.show(l)
	}}
	load := &cobra.Command{Use: "import NAME FILE", Short: "Replace a calendar by an iCalendar file", Args: exactly(2, "NAME FILE"), RunE: func(c *cobra.Command, args []string) error {
		f, err := os.Open(args[1])
		if err != nil {
			return err
		}
		defer f.Close()
		var events []record.PlannedEvent
		if err := a.client().Stream(c.Context(), "PUT", "/calendars/"+url.PathEscape(args[0]), "text/calendar", f, &events); err != nil {
			return err
		}
		a.say("Calendar %s has %d events.", args[0], len(events))
		return nil
	}}
	return group("calendar", "Planned events and holidays", list, load)
}

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
		stated, achieved := "–", "none"
		if c.StatedSeconds > 0 {
			stated = "1 in " + long(secondsOf(float64(c.StatedSeconds)))
		}
		if c.AchievedSeconds != nil {
			achieved = "1 in " + long(secondsOf(*c.AchievedSeconds))
		}
		return []string{name, figure(c.Precision, 2), fmt.Sprintf("%d of %d", c.Faults, c.Faults+c.Noise), strconv.Itoa(c.Unlabelled),
			fmt.Sprintf("%d of %d", c.Recall.K, c.Recall.N), figure(c.Recall, 2), delay(c.DelaySeconds), figure(c.FalseWeekly, 2), stated, achieved}
	}
	for _, m := range s.Monitors {
		l.rows = append(l.rows, row(m.Monitor, m))
	}
	if len(s.Monitors) > 0 {
		l.rows = append(l.rows, row("all together", s.Overall))
	}
	return l
}
