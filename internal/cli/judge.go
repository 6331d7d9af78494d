package cli

import (
	"fmt"
	"net/url"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"tinbell/core/score"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/replays"
	"tinbell/internal/scorecard"
	"tinbell/internal/words"
)

func (a *app) monitorCommand() *cobra.Command {
	var retired bool
	list := &cobra.Command{Use: "list", Short: "List monitors", Args: exactly(0, "nothing"),
		RunE: func(c *cobra.Command, _ []string) error {
			var monitors []record.Monitor
			q := url.Values{}
			if retired {
				q.Set("retired", "true")
			}
			if err := a.client().Get(c.Context(), "/monitors", q, &monitors); err != nil {
				return err
			}
			l := listing{head: []string{"monitor", "metric", "state", "method", "direction", "warn", "critical", "persist", "version",
				"fitted"}, raw: monitors,
				none: "No monitor yet. Add one: tinbell monitor add NAME METRIC"}
			for _, m := range monitors {
				s := m.Settings
				l.rows = append(l.rows, []string{m.Name, m.Metric, monitorState(m, time.Now()), s.Method, s.Direction,
					"once in " + words.Seconds(float64(s.WarnSeconds)),
					"once in " + words.Seconds(float64(s.CriticalSeconds)), fmt.Sprintf("%d of %d", s.Persist, s.Of),
					strconv.Itoa(m.Version),
					a.optional(m.LearnedAt, "UTC", "not yet")})
			}
			return a.show(l)
		}}
	list.Flags().BoolVar(&retired, "retired", false, "with those that are no longer needed")
	var flags settingsFlags
	var owner string
	add := &cobra.Command{Use: "add NAME METRIC", Short: "Put a monitor on a metric; it is fitted to the past at once",
		Args:    exactly(2, "NAME METRIC"),
		Example: "  tinbell monitor add gate-nulls gate-nulls --direction high --warn 1y",
		RunE: func(c *cobra.Command, args []string) error {
			settings := record.DefaultSettings()
			if _, err := flags.apply(&settings); err != nil {
				return err
			}
			var m record.Monitor
			if err := a.client().Send(c.Context(), "POST", "/monitors", httpapi.NewMonitor{Name: args[0], Metric: args[1],
				Owner: owner, Settings: &settings}, &m); err != nil {
				return err
			}
			a.say("Monitor %s added. By chance it will cry wolf about once in %s.", m.Name, words.Seconds(float64(m.Settings.WarnSeconds)))
			return nil
		}}
	flags.bind(add)
	add.Flags().StringVar(&owner, "owner", "", "team that is told; the dataset's if left out")
	return group("monitor", "Baselines and alert rules", list, add, a.monitorShow(), a.monitorPast(), a.monitorStates(),
		a.monitorSet(), a.monitorSegment(), a.monitorRename(), a.monitorRetire(), a.removal("monitor", "/monitors/",
			"with its alerts and what was said of them (retire keeps them)"),
		a.monitorBacktest(), a.monitorTry(), a.monitorTune(), a.monitorVersions(), a.monitorTakeBack(), a.monitorAlwaysTell(),
		a.snoozing("snooze NAME DURATION", "Tell nothing of a monitor's alerts for a while; 0s ends it",
			"  tinbell monitor snooze boarding-scans-volume 4h", "/monitors/"))
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

// monitorState says whether a monitor judges and tells.
func monitorState(m record.Monitor, now time.Time) string {
	switch {
	case m.RetiredAt != nil:
		return "retired"
	case m.Paused:
		return "paused"
	case m.SnoozedUntil != nil && m.SnoozedUntil.After(now):
		return "snoozed"
	case m.LearnedAt == nil:
		return "being fitted"
	}
	return "judging"
}

func (a *app) monitorRename() *cobra.Command {
	var owner string
	c := &cobra.Command{Use: "rename NAME [NEW]",
		Short: "Change what a monitor is called, or whose it is; its alerts and labels stay with it", Args: cobra.RangeArgs(1, 2),
		Example: "  tinbell monitor rename refunds-volume refunds\n  tinbell monitor rename refunds-volume --owner finance",
		RunE: func(c *cobra.Command, args []string) error {
			in := httpapi.MonitorNames{}
			if len(args) == 2 {
				in.Name = &args[1]
			}
			if c.Flags().Changed("owner") {
				in.Owner = &owner
			}
			if in.Name == nil && in.Owner == nil {
				return wrongUsage{fmt.Errorf("nothing to change: give a new name or --owner")}
			}
			var m record.Monitor
			if err := a.client().Send(c.Context(), "PATCH", "/monitors/"+url.PathEscape(args[0]), in, &m); err != nil {
				return err
			}
			a.say("It is %s, of %s.", m.Name, or(m.Owner, "nobody"))
			return nil
		}}
	c.Flags().StringVar(&owner, "owner", "", "team that is told")
	return c
}

func (a *app) monitorRetire() *cobra.Command {
	var back bool
	c := &cobra.Command{Use: "retire NAME", Short: "Let a monitor judge nothing any more and keep its past",
		Args: exactly(1, "NAME"), Example: "  tinbell monitor retire refunds-volume",
		RunE: func(c *cobra.Command, args []string) error {
			var m record.Monitor
			retired := !back
			if err := a.client().Send(c.Context(), "PATCH", "/monitors/"+url.PathEscape(args[0]),
				httpapi.MonitorNames{Retired: &retired}, &m); err != nil {
				return err
			}
			a.say("%s %s.", m.Name, map[bool]string{true: "is retired: it judges nothing, and its alerts, labels and versions stay", false: "is needed again and judges"}[retired])
			return nil
		}}
	c.Flags().BoolVar(&back, "back", false, "it is needed again")
	return c
}

func (a *app) monitorBacktest() *cobra.Command {
	var flags settingsFlags
	var since, until string
	var alerts bool
	test := &cobra.Command{Use: "backtest [NAME…]", Short: "Replay monitors over the past, walking forward",
		Long: `Replays monitors over a stretch of the past as the live service would have
judged it: history before the stretch is only learned from, baselines are fitted
again as the live service does, labels and planned events count only from when
they were known. Settings that are given are changed alone; each monitor keeps its
others. Given for one monitor they are rehearsed: they stand beside today's on the
same past, with what would change.`,
		Example: "  tinbell monitor backtest boarding-scans-volume --since 60d\n  tinbell monitor backtest refunds-volume --since 60d --warn 30d --smooth 3\n  tinbell monitor backtest --since 60d --alerts --output csv",
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
			if order.Change, err = flags.change(); err != nil {
				return err
			}
			if len(order.Change) > 0 && len(args) == 1 && !alerts && until == "" {
				var m record.Monitor
				if err := a.client().Get(c.Context(), "/monitors/"+url.PathEscape(args[0]), nil, &m); err != nil {
					return err
				}
				if _, err := flags.apply(&m.Settings); err != nil {
					return err
				}
				return a.rehearse(c, args[0], m.Settings, now.Sub(from))
			}
			var b replays.Backtest
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

func backtestAlerts(b replays.Backtest) listing {
	l := listing{head: []string{"monitor", "dataset", "measure", "segment", "since", "raised_at", "closed_at", "severity",
		"direction", "rule", "outcome", "incident"},
		raw: b, data: &b.Alerts, none: "No alert in this stretch."}
	for _, x := range b.Alerts {
		closed := ""
		if x.ClosedAt != nil {
			closed = x.ClosedAt.Format(time.RFC3339)
		}
		l.rows = append(l.rows, []string{x.Monitor, x.Dataset, x.Measure, x.Segment, x.Since.Format(time.RFC3339),
			x.RaisedAt.Format(time.RFC3339), closed,
			string(x.Severity), x.Direction, string(x.Rule), string(x.Outcome), x.Incident})
	}
	return l
}

func backtestCards(b replays.Backtest) listing {
	l := listing{head: []string{"monitor", "alerts", "hits of counted", "precision", "incidents", "recall", "delay",
		"false a week"}, right: []int{2, 3, 5, 7},
		raw: b, data: &b.Monitors, none: "No monitor to replay."}
	row := func(name string, c scorecard.Card) []string {
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

// monitorPast asks about a monitor's past, and takes answers.
func (a *app) monitorPast() *cobra.Command {
	var verdict, note string
	var number int
	c := &cobra.Command{Use: "past NAME",
		Short: "Ask about a monitor's past: what moves its limits most, and what an answer changes", Args: exactly(1, "NAME"),
		Long: `An everyday extreme and a fault that nobody labelled look alike in a history, and
no statistic parts them. This lists the few stretches of a monitor's past that
move its limits most. Answer one by its number with --answer; the others keep
their order, and all can be left open.`,
		Example: "  tinbell monitor past boarding-scans-volume\n  tinbell monitor past boarding-scans-volume --number 1 --answer fault --note 'gate 3 down'",
		RunE: func(c *cobra.Command, args []string) error {
			path := "/monitors/" + url.PathEscape(args[0])
			var q replays.PastQuestions
			if err := a.client().Get(c.Context(), path+"/questions", url.Values{"limit": {"7"}}, &q); err != nil {
				return err
			}
			if verdict != "" {
				if number < 1 || number > len(q.Questions) {
					return wrongUsage{fmt.Errorf("--number %d: there are %s", number, words.Plural(len(q.Questions), "question"))}
				}
				n := q.Questions[number-1]
				var given []record.Stretch
				answer := httpapi.PastAnswer{Series: n.Series, From: n.From, To: n.To, Verdict: score.Verdict(verdict), Note: note}
				if err := a.client().Send(c.Context(), "POST", path+"/answers", answer, &given); err != nil {
					return err
				}
				a.say("Kept: %s from %s to %s is %s. Limits follow in a moment.", orNone(n.Segment), a.local(n.From, q.Zone),
					a.local(n.To, q.Zone), verdict)
				return nil
			}
			l := listing{head: []string{"", "segment", "from", "to", "rule", "limit falls by", "what it changes"},
				right: []int{1, 6}, raw: q, none: q.Sentence}
			for i, n := range q.Questions {
				l.rows = append(l.rows, []string{fmt.Sprint(i + 1), orNone(n.Segment), a.local(n.From, q.Zone),
					a.local(n.To, q.Zone), n.Rule + " " + n.Direction, words.Percent(n.Gain), n.Sentence})
			}
			if len(q.Questions) > 0 && a.output != "json" {
				a.say("%s\n", q.Sentence)
			}
			return a.show(l)
		}}
	c.Flags().IntVar(&number, "number", 1, "which question to answer")
	c.Flags().StringVar(&verdict, "answer", "", "fault, noise (ordinary) or planned")
	c.Flags().StringVar(&note, "note", "", "kept with the answer")
	return c
}

// monitorStates lists what a monitor cannot judge.
func (a *app) monitorStates() *cobra.Command {
	return &cobra.Command{Use: "states NAME", Short: "Which series a monitor cannot judge yet or any more: since when, and why",
		Args:    exactly(1, "NAME"),
		Example: "  tinbell monitor states boarding-scans-volume",
		RunE: func(c *cobra.Command, args []string) error {
			var states []record.SeriesState
			if err := a.client().Get(c.Context(), "/monitors/"+url.PathEscape(args[0])+"/states", nil, &states); err != nil {
				return err
			}
			l := listing{head: []string{"segment", "state", "since", "why"}, raw: states, none: "It judges all of its series."}
			for _, s := range states {
				l.rows = append(l.rows, []string{orNone(s.Segment), string(s.State), s.Since.Format("2006-01-02 15:04"), s.Message})
			}
			return a.show(l)
		}}
}
