package cli

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tinbell/internal/benchmark"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/scorecard"
	"tinbell/internal/words"
)

func (a *app) groupCommand() *cobra.Command {
	return group("group", "Alerts that are told as one", a.groupList(), a.groupShow(), a.groupTake(), a.groupSnooze(),
		a.groupTell(), a.groupPart(), a.groupJoin(), a.groupAnswers())
}

func (a *app) groupList() *cobra.Command {
	var state, dataset, since string
	var limit int
	c := &cobra.Command{Use: "list", Short: "List groups, newest first", Args: exactly(0, "nothing"),
		Example: "  tinbell group list --state open",
		RunE: func(c *cobra.Command, _ []string) error {
			q := url.Values{"limit": {strconv.Itoa(limit)}}
			for name, v := range map[string]string{"state": state, "dataset": dataset} {
				if v != "" {
					q.Set(name, v)
				}
			}
			if from, err := ago(since, time.Now()); err != nil {
				return err
			} else if !from.IsZero() {
				q.Set("from", from.Format(time.RFC3339))
			}
			var page httpapi.GroupPage
			if err := a.client().Get(c.Context(), "/groups", q, &page); err != nil {
				return err
			}
			l := listing{head: []string{"group", "opened", "severity", "alerts", "what", "likely origin", "lasted",
				"looked after"}, right: []int{1, 4}, raw: page, none: "No such group."}
			for _, g := range page.Groups {
				l.rows = append(l.rows, []string{strconv.FormatInt(g.ID, 10), a.local(g.OpenedAt, g.Zone), string(g.Severity),
					strconv.Itoa(g.Alerts), g.Sentence, orNone(g.Place), lasted(g.Group), orNone(g.TakenBy)})
			}
			return a.show(l)
		}}
	f := c.Flags()
	f.StringVar(&state, "state", "", "open")
	f.StringVar(&dataset, "dataset", "", "with an alert of this dataset")
	f.StringVar(&since, "since", "", "opened since a time, or so long ago")
	f.IntVar(&limit, "limit", 40, "at most so many")
	return c
}

func lasted(g record.Group) string {
	if g.ClosedAt == nil {
		return "open"
	}
	return words.Duration(g.ClosedAt.Sub(g.BeganAt))
}

func (a *app) groupShow() *cobra.Command {
	return &cobra.Command{Use: "show ID", Short: "Show a group: its alerts, where it likely began, what was told to whom",
		Args: exactly(1, "ID"), Example: "  tinbell group show 12",
		RunE: func(c *cobra.Command, args []string) error {
			var g httpapi.GroupDetail
			if err := a.client().Get(c.Context(), "/groups/"+url.PathEscape(args[0]), nil, &g); err != nil {
				return err
			}
			if done, err := a.data(g); done {
				return err
			}
			a.printf("%s.\n\n", g.Sentence)
			for _, pair := range [][2]string{
				{"group", fmt.Sprintf("%d, %s, %s", g.ID, g.Severity, lasted(g.GroupRow.Group))},
				{"began", a.local(g.BeganAt, g.Zone)}, {"opened", a.local(g.OpenedAt, g.Zone)},
				{"origin", "likely " + orNone(g.Place)}, {"kept by", or(g.TakenBy, "nobody yet: tinbell group take "+args[0])},
				{"snoozed", a.optional(g.SnoozedUntil, g.Zone, "no")},
			} {
				a.printf("  %-10s %s\n", pair[0], pair[1])
			}
			a.printf("\n")
			l := listing{head: []string{"alert", "raised", "severity", "what", "dataset", "label"}, right: []int{1}}
			for _, x := range g.Members {
				l.rows = append(l.rows, []string{strconv.FormatInt(x.ID, 10), a.dated(x.RaisedAt, x.Zone, x.PeriodSeconds), string(x.Severity), x.Sentence,
					or(x.Dataset, x.Source+x.Job), verdict(x)})
			}
			if err := a.show(l); err != nil {
				return err
			}
			a.printf("\n")
			return a.show(a.messageTable(g.Messages, "Nothing was told of it."))
		}}
}

func (a *app) groupTake() *cobra.Command {
	var back bool
	c := &cobra.Command{Use: "take ID", Short: "Say that you look after a group: reminders and escalation end",
		Args: exactly(1, "ID"), Example: "  tinbell group take 12",
		RunE: func(c *cobra.Command, args []string) error {
			var g httpapi.GroupDetail
			if err := a.client().Send(c.Context(), "POST", "/groups/"+url.PathEscape(args[0])+"/take",
				map[string]bool{"back": back}, &g); err != nil {
				return err
			}
			a.say("Group %d: %s.", g.ID, map[bool]string{true: "nobody looks after it now", false: g.TakenBy + " looks after it"}[back])
			return nil
		}}
	c.Flags().BoolVar(&back, "back", false, "take it back")
	return c
}

func (a *app) groupSnooze() *cobra.Command {
	return a.snoozing("snooze ID DURATION", "Tell nothing of a group for a while; 0s ends it", "  tinbell group snooze 12 4h", "/groups/")
}

// snoozing is a command that snoozes a group or a monitor.
func (a *app) snoozing(use, short, example, path string) *cobra.Command {
	return &cobra.Command{Use: use, Short: short, Example: example, Args: exactly(2, strings.SplitN(use, " ", 2)[1]),
		RunE: func(c *cobra.Command, args []string) error {
			var length int64
			var err error
			if args[1] != "0" && args[1] != "0s" {
				if length, err = seconds(args[1]); err != nil {
					return err
				}
			}
			if err := a.client().Send(c.Context(), "POST", path+url.PathEscape(args[0])+"/snooze",
				httpapi.Snooze{Seconds: length}, nil); err != nil {
				return err
			}
			if length == 0 {
				a.say("It is told again.")
				return nil
			}
			a.say("Nothing is told of it for %s; what happens is kept.", words.Seconds(float64(length)))
			return nil
		}}
}

func (a *app) groupTell() *cobra.Command {
	return &cobra.Command{Use: "tell ID CHANNEL", Short: "Tell a channel of a group at once", Args: exactly(2, "ID CHANNEL"),
		Example: "  tinbell group tell 12 night-desk",
		RunE: func(c *cobra.Command, args []string) error {
			var m record.Message
			if err := a.client().Send(c.Context(), "POST", "/groups/"+url.PathEscape(args[0])+"/tell",
				map[string]string{"channel": args[1]}, &m); err != nil {
				return err
			}
			a.say("Put into the outbox as %s: tinbell message show %s", m.ID, m.ID)
			return nil
		}}
}

func (a *app) groupPart() *cobra.Command {
	return &cobra.Command{Use: "part ID ALERT...",
		Short: "Say that some alerts of a group are not the same fault: they become a group of their own", Args: cobra.MinimumNArgs(2),
		Example: "  tinbell group part 12 41 43",
		RunE: func(c *cobra.Command, args []string) error {
			var alerts []int64
			for _, text := range args[1:] {
				id, err := strconv.ParseInt(text, 10, 64)
				if err != nil {
					return wrongUsage{fmt.Errorf("alert %q: give its number, as tinbell group show prints it", text)}
				}
				alerts = append(alerts, id)
			}
			var g httpapi.GroupDetail
			if err := a.client().Send(c.Context(), "POST", "/groups/"+url.PathEscape(args[0])+"/part",
				map[string]any{"alerts": alerts}, &g); err != nil {
				return err
			}
			a.say("They are group %d now, likely from %s: tinbell group show %d", g.ID, orNone(g.Place), g.ID)
			return nil
		}}
}

func (a *app) groupJoin() *cobra.Command {
	return &cobra.Command{Use: "join ID OTHER", Short: "Say that another group is the same fault: it becomes part of this one",
		Args: exactly(2, "ID OTHER"), Example: "  tinbell group join 12 14",
		RunE: func(c *cobra.Command, args []string) error {
			other, err := strconv.ParseInt(args[1], 10, 64)
			if err != nil {
				return wrongUsage{fmt.Errorf("group %q: give its number, as tinbell group list prints it", args[1])}
			}
			var g httpapi.GroupDetail
			if err := a.client().Send(c.Context(), "POST", "/groups/"+url.PathEscape(args[0])+"/join",
				map[string]any{"group": other}, &g); err != nil {
				return err
			}
			a.say("Group %d has %s now, likely from %s.", g.ID, words.Plural(g.Alerts, "alert"), orNone(g.Place))
			return nil
		}}
}

func (a *app) groupAnswers() *cobra.Command {
	return &cobra.Command{Use: "answers", Short: "List what people said of groups, whether they are one fault",
		Args: exactly(0, "nothing"), Example: "  tinbell group answers --output csv",
		RunE: func(c *cobra.Command, _ []string) error {
			var list []record.GroupAnswer
			if err := a.client().Get(c.Context(), "/group-answers", nil, &list); err != nil {
				return err
			}
			l := listing{head: []string{"at", "who", "group", "and", "are", "alerts"}, right: []int{3, 4}, raw: list,
				none: "Nobody has said anything of groups."}
			for _, x := range list {
				l.rows = append(l.rows, []string{a.local(x.At, "UTC"), x.Author, strconv.FormatInt(x.GroupID, 10),
					strconv.FormatInt(x.OtherID, 10), x.Says, strings.Trim(fmt.Sprint([]int64(x.Alerts)), "[]")})
			}
			return a.show(l)
		}}
}

// messagesBench prints what grouping spares people, on the stored past.
func (a *app) messagesBench() *cobra.Command {
	return &cobra.Command{Use: "messages", Short: "Messages per incident, one an alert and one a group, over the stored past",
		Args:    exactly(0, "nothing"),
		Long:    "Asks the running service, such as the demo, how many messages its known incidents\nand its false alarms made: if each alert were told, and with alerts of one cause\ntold as one.",
		Example: "  tinbell bench messages",
		RunE: func(c *cobra.Command, _ []string) error {
			var t scorecard.Telling
			if err := a.client().Get(c.Context(), "/telling", nil, &t); err != nil {
				return err
			}
			if done, err := a.data(t); done {
				return err
			}
			per := func(n, of int) string {
				if of == 0 {
					return "–"
				}
				return fmt.Sprintf("%.2f", float64(n)/float64(of))
			}
			spared := func(before, after int) string {
				if before == 0 {
					return "–"
				}
				return words.Percent(1 - float64(after)/float64(before))
			}
			a.say("From %s to %s; the largest group has %s.\n", t.From.Format("2 Jan 2006"), t.To.Format("2 Jan 2006"),
				words.Plural(t.LargestGroup, "alert"))
			if err := a.show(listing{head: []string{"messages", "one an alert", "one a group", "spared"}, right: []int{2, 3, 4},
				rows: [][]string{
					{fmt.Sprintf("about the %d incidents that were told", t.Incidents), strconv.Itoa(t.Alerts),
						strconv.Itoa(t.Groups), spared(t.Alerts, t.Groups)},
					{"of these per incident", per(t.Alerts, t.Incidents), per(t.Groups, t.Incidents), ""},
					{"false alarms", strconv.Itoa(t.FalseAlerts), strconv.Itoa(t.FalseGroups), spared(t.FalseAlerts, t.FalseGroups)},
				}}); err != nil {
				return err
			}
			a.printf("\n")
			l := listing{head: []string{"incident", "what", "alerts", "groups"}, right: []int{3, 4}}
			for _, w := range t.Worst[:min(len(t.Worst), 12)] {
				l.rows = append(l.rows, []string{w.Reference, w.Title, strconv.Itoa(w.Alerts), strconv.Itoa(w.Groups)})
			}
			return a.show(l)
		}}
}

// delayBench prints how long it takes from a sample to its message.
func (a *app) delayBench() *cobra.Command {
	return &cobra.Command{Use: "delay", Short: "Time from a sample to its message, with 10,000 series of which one in a hundred alerts at once", Args: exactly(0, "nothing"),
		Example: "  tinbell bench delay",
		RunE: func(c *cobra.Command, _ []string) error {
			d, err := benchmark.Delay(c.Context(), func(step string) { a.say("  %s …", step) })
			if err != nil {
				return err
			}
			if done, err := a.data(d); done {
				return err
			}
			a.say("")
			return a.show(listing{head: []string{"from sending the samples", "seconds"}, right: []int{2}, rows: [][]string{
				{fmt.Sprintf("%d samples acknowledged", d.Series), fmt.Sprintf("%.2f", d.Stored)},
				{fmt.Sprintf("message at its receiver, median of %d", d.Messages), fmt.Sprintf("%.2f", d.P50)},
				{"message at its receiver, 99 of 100", fmt.Sprintf("%.2f", d.P99)},
			}})
		}}
}
