package cli

import (
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/replays"
	"tinbell/internal/words"
)

func (a *app) monitorTune() *cobra.Command {
	var since string
	c := &cobra.Command{Use: "tune [NAME…]",
		Short:   "Search for settings that spare false alarms and lose no faults; nothing changes until you accept",
		Example: "  tinbell monitor tune\n  tinbell proposal accept 3",
		RunE: func(c *cobra.Command, args []string) error {
			from, err := ago(since, time.Now())
			if err != nil {
				return err
			}
			var started httpapi.Started
			if err := a.client().Send(c.Context(), "POST", "/tunings", httpapi.TuneOrder{Monitors: args, From: from},
				&started); err != nil {
				return err
			}
			if err := a.client().Follow(c.Context(), started.TaskID, a.bar("tuning")); err != nil {
				return err
			}
			var t httpapi.TuningOf
			if err := a.client().Get(c.Context(), fmt.Sprintf("/tunings/%d", started.TaskID), nil, &t); err != nil {
				return err
			}
			if t.Tuning == nil {
				return fmt.Errorf("the tuning was %s", t.Task.State)
			}
			a.say("%s", t.Tuning.Sentence)
			var open []record.Proposal
			if err := a.client().Get(c.Context(), "/proposals", nil, &open); err != nil {
				return err
			}
			mine := slices.DeleteFunc(open, func(p record.Proposal) bool {
				return !slices.ContainsFunc(t.Tuning.Proposals, func(q record.Proposal) bool { return q.Monitor == p.Monitor })
			})
			l := proposalRows(mine)
			l.raw, l.none = t.Tuning, ""
			if len(l.rows) > 0 || a.output != "table" {
				if err := a.show(l); err != nil {
					return err
				}
			}
			for _, p := range t.Tuning.Passed {
				a.say("  %s stays: %s", p.Monitor, p.Why)
				for _, s := range p.Stopped {
					a.say("    %s would spare about %.0f, and lose %s", strings.Join(s.Changes, ", "), s.Spared, lostFaults(s.Faults))
				}
			}
			return nil
		}}
	c.Flags().StringVar(&since, "since", "16w", "start of the past that is searched: a time, or how long ago")
	return c
}

func proposalRows(list []record.Proposal) listing {
	l := listing{head: []string{"proposal", "monitor", "change", "false alarms spared", "faults lost", "known, on later time",
		"state"}, right: []int{1, 4, 5}, raw: list,
		none: "No proposal. Search for some: tinbell monitor tune"}
	for _, p := range list {
		g := p.Gain
		known := fmt.Sprintf("spared %d of %d noise, lost %d of %d faults", g.NoiseSpared, g.Noise, g.FaultsLost, g.Faults)
		if g.Noise+g.Faults == 0 {
			known = "nothing known there"
		}
		change := strings.Join(g.Changes, ", ")
		if len(g.Gained) > 0 {
			change += "; finds " + strings.Join(g.Gained, ", ")
		}
		l.rows = append(l.rows, []string{strconv.FormatInt(p.ID, 10), p.Monitor, change, spares(g),
			fmt.Sprintf("about %.1f", g.Lost), known, string(p.State)})
	}
	return l
}

// lostFaults names up to three faults that a setting would lose.
func lostFaults(list []replays.LostFault) string {
	var names []string
	for _, f := range list[:min(len(list), 3)] {
		name := fmt.Sprintf("alert %d", f.Alert)
		if f.Alert == 0 {
			name = f.Incident
		}
		names = append(names, strings.TrimSuffix(name+" ("+f.Segment+")", " ()"))
	}
	if more := len(list) - len(names); more > 0 {
		names = append(names, fmt.Sprintf("%d more", more))
	}
	return strings.Join(names, ", ")
}

// spares says how many alerts fewer there would be, or more.
func spares(g record.Gain) string {
	if more := -g.Spared; more >= 0.5 {
		return fmt.Sprintf("none, about %.0f more than %d", more, g.Before)
	}
	return fmt.Sprintf("about %.0f of %d alerts", max(g.Spared, 0), g.Before)
}

func (a *app) proposalCommand() *cobra.Command {
	var state string
	list := &cobra.Command{Use: "list", Short: "Settings that tuning proposes", Args: exactly(0, "nothing"),
		RunE: func(c *cobra.Command, _ []string) error {
			var list []record.Proposal
			if err := a.client().Get(c.Context(), "/proposals", url.Values{"state": {state}}, &list); err != nil {
				return err
			}
			return a.show(proposalRows(list))
		}}
	list.Flags().StringVar(&state, "state", "open", "open, accepted, rejected, outdated or all")
	decide := func(use, short string, accept bool) *cobra.Command {
		var note string
		c := &cobra.Command{Use: use + " ID", Short: short, Args: exactly(1, "ID"), Example: "  tinbell proposal " + use + " 3",
			RunE: func(c *cobra.Command, args []string) error {
				var p record.Proposal
				if err := a.client().Send(c.Context(), "POST", "/proposals/"+url.PathEscape(args[0]), httpapi.Decision{Accept: accept,
					Note: note}, &p); err != nil {
					return err
				}
				if accept {
					a.say("%s is now at version %d. Back again: tinbell monitor take-back %s --version %d", p.Monitor, p.Version+1,
						p.Monitor, p.Version)
				} else {
					a.say("Proposal %d for %s is rejected.", p.ID, p.Monitor)
				}
				return nil
			}}
		c.Flags().StringVar(&note, "note", "", "why")
		return c
	}
	nightly := &cobra.Command{Use: "nightly on|off", Short: "Let tuning search by itself once a night",
		Args: exactly(1, "on or off"), RunE: func(c *cobra.Command, args []string) error {
			on := args[0] == "on"
			if !on && args[0] != "off" {
				return wrongUsage{fmt.Errorf("%q: say on or off", args[0])}
			}
			if err := a.client().Send(c.Context(), "PATCH", "/filter", httpapi.LearningChange{Nightly: &on}, nil); err != nil {
				return err
			}
			a.say("Tuning by night is %s; proposals wait for a yes.", args[0])
			return nil
		}}
	return group("proposal", "What tuning proposes", list, decide("accept", "Make a proposal the monitor's next version", true),
		decide("reject", "Turn a proposal down", false), nightly)
}

func (a *app) monitorVersions() *cobra.Command {
	return &cobra.Command{Use: "versions NAME", Short: "What a monitor was set to, who changed it and why",
		Args: exactly(1, "NAME"), Example: "  tinbell monitor versions refunds-volume",
		RunE: func(c *cobra.Command, args []string) error {
			var versions []record.MonitorVersion
			if err := a.client().Get(c.Context(), "/monitors/"+url.PathEscape(args[0])+"/versions", nil, &versions); err != nil {
				return err
			}
			l := listing{head: []string{"version", "since", "by", "why", "warn", "direction", "persist", "method"},
				right: []int{1}, raw: versions}
			for _, v := range versions {
				s := v.Settings
				l.rows = append(l.rows, []string{strconv.Itoa(v.Version), a.local(v.At, "UTC"), orNone(v.Author),
					orNone(v.Reason), "once in " + words.Seconds(float64(s.WarnSeconds)), s.Direction,
					fmt.Sprintf("%d of %d", s.Persist, s.Of), s.Method})
			}
			return a.show(l)
		}}
}

func (a *app) monitorTakeBack() *cobra.Command {
	var version int
	c := &cobra.Command{Use: "take-back NAME", Short: "Make an earlier version the newest again", Args: exactly(1, "NAME"),
		Example: "  tinbell monitor take-back refunds-volume --version 1",
		RunE: func(c *cobra.Command, args []string) error {
			var m record.Monitor
			if err := a.client().Send(c.Context(), "POST", "/monitors/"+url.PathEscape(args[0])+"/take-back",
				map[string]int{"version": version}, &m); err != nil {
				return err
			}
			a.say("%s is set as in version %d, as version %d.", m.Name, version, m.Version)
			return nil
		}}
	c.Flags().IntVar(&version, "version", 0, "which one")
	return c
}

func (a *app) monitorAlwaysTell() *cobra.Command {
	var off bool
	c := &cobra.Command{Use: "always-tell NAME", Short: "Never let the filter hold back a monitor's alerts",
		Args: exactly(1, "NAME"), RunE: func(c *cobra.Command, args []string) error {
			if err := a.client().Send(c.Context(), "PUT", "/monitors/"+url.PathEscape(args[0])+"/always-tell",
				map[string]bool{"always": !off}, nil); err != nil {
				return err
			}
			a.say("Alerts of %s are %s.", args[0], map[bool]string{false: "always told",
				true: "told unless the filter holds them back"}[off])
			return nil
		}}
	c.Flags().BoolVar(&off, "off", false, "let the filter judge them again")
	return c
}

func (a *app) monitorTry() *cobra.Command {
	var flags settingsFlags
	var since string
	c := &cobra.Command{Use: "try [NAME…]", Short: "Replay monitors under other settings beside their own, in the background",
		Long:    "What is given is changed alone: each monitor keeps its other settings. Without names, all monitors are tried.",
		Example: "  tinbell monitor try boarding-scans-volume ticket-sales-volume --warn 90d --since 60d",
		RunE: func(c *cobra.Command, args []string) error {
			from, err := ago(since, time.Now())
			if err != nil {
				return err
			}
			order := httpapi.BacktestOrder{Monitors: args, From: from}
			if order.Change, err = flags.change(); err != nil {
				return err
			}
			if len(order.Change) == 0 {
				return wrongUsage{fmt.Errorf("nothing to try: give at least one setting")}
			}
			var started httpapi.Started
			if err := a.client().Send(c.Context(), "POST", "/trials", order, &started); err != nil {
				return err
			}
			if err := a.client().Follow(c.Context(), started.TaskID, a.bar("trial")); err != nil {
				return err
			}
			return a.showTrial(c, started.TaskID)
		}}
	flags.bind(c)
	c.Flags().StringVar(&since, "since", "60d", "start: a time, or how long ago")
	return c
}

func (a *app) showTrial(c *cobra.Command, id int64) error {
	var t httpapi.TrialOf
	if err := a.client().Get(c.Context(), fmt.Sprintf("/trials/%d", id), nil, &t); err != nil {
		return err
	}
	if t.Trial == nil {
		return fmt.Errorf("the trial was %s", t.Task.State)
	}
	a.say("%s", t.Trial.Sentence)
	return a.show(trialRows(*t.Trial))
}

func trialRows(t replays.Trial) listing {
	l := listing{head: []string{"", "today", "proposed", "difference", "95 % interval", "by chance"}, right: []int{2, 3, 4}, raw: t}
	p := t.Paired
	wolves := func(b replays.Backtest) int { return b.Overall.Catalogue.N - b.Overall.Catalogue.K }
	share := func(v *float64) string {
		if v == nil {
			return "–"
		}
		return fmt.Sprintf("%+.2f", *v)
	}
	l.rows = [][]string{
		{"alerts", strconv.Itoa(len(t.Today.Alerts)), strconv.Itoa(len(t.Proposed.Alerts)), fmt.Sprintf("%d gone, %d new",
			len(t.Gone), len(t.New)), "", ""},
		{"false alarms", strconv.Itoa(wolves(t.Today)), strconv.Itoa(wolves(t.Proposed)), fmt.Sprintf("%+d", p.False),
			fmt.Sprintf("%+.0f to %+.0f", p.FalseLow, p.FalseHigh), fmt.Sprintf("p = %.3f", p.FalseP)},
		{"precision", figure(t.Today.Overall.Catalogue, 2), figure(t.Proposed.Overall.Catalogue, 2), share(p.Precision),
			share(p.PrecLow) + " to " + share(p.PrecHigh), ""},
		{"recall", figure(t.Today.Overall.Recall, 2), figure(t.Proposed.Overall.Recall, 2), share(p.Recall),
			share(p.RecallLow) + " to " + share(p.RecallHigh), fmt.Sprintf("p = %.3f", p.RecallP)},
		{"incidents gained", "", "", orNone(strings.Join(t.Gained, ", ")), "", ""},
		{"incidents lost", "", "", orNone(strings.Join(t.Lost, ", ")), "", ""},
	}
	return l
}
