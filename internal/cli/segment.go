package cli

import (
	"fmt"
	"math"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/words"
)

// monitorSegment gives some segments of a monitor settings of their own.
func (a *app) monitorSegment() *cobra.Command {
	list := &cobra.Command{Use: "list MONITOR", Short: "List the segments of a monitor that have settings of their own",
		Args: exactly(1, "MONITOR"),
		RunE: func(c *cobra.Command, args []string) error {
			var m record.Monitor
			if err := a.client().Get(c.Context(), "/monitors/"+url.PathEscape(args[0]), nil, &m); err != nil {
				return err
			}
			l := listing{head: []string{"segment", "differs in", "owner", "note"}, raw: m.Settings.Segments,
				none: "No segment has settings of its own. Give one some: tinbell monitor segment set " + m.Name + " SEGMENT --warn 90d"}
			for _, v := range m.Settings.Segments {
				l.rows = append(l.rows, []string{v.Segment, differs(v), orNone(v.Owner), orNone(v.Note)})
			}
			return a.show(l)
		}}
	remove := &cobra.Command{Use: "remove MONITOR SEGMENT", Short: "Let a segment have the monitor's settings again",
		Args: exactly(2, "MONITOR SEGMENT"),
		RunE: func(c *cobra.Command, args []string) error {
			var m record.Monitor
			path := "/monitors/" + url.PathEscape(args[0]) + "/segments?" + url.Values{"segment": {args[1]}}.Encode()
			if err := a.client().Send(c.Context(), "DELETE", path, nil, &m); err != nil {
				return err
			}
			a.say("%s has the settings of %s again, which is now at version %d.", args[1], m.Name, m.Version)
			return nil
		}}
	return group("segment", "Settings of some segments of a monitor", list, a.monitorSegmentSet(), remove)
}

func (a *app) monitorSegmentSet() *cobra.Command {
	in := httpapi.ChangedSegment{}
	v := &in.SegmentSettings
	var warn, critical, persist string
	var effect, lowest, highest, fall, rise float64
	var smooth, missing int
	var spikes, stuckOff, silenceOff, unmute bool
	set := &cobra.Command{Use: "set MONITOR SEGMENT", Short: "Give a segment, or a pattern of segments, settings of its own",
		Args: exactly(2, "MONITOR SEGMENT"),
		Long: `Gives a segment settings of its own above those of its monitor: what is not given
stays as it is. In a pattern * stands for any characters; of several that fit, the
one that was set last goes before. The return period of a segment is its own, and no
share of the monitor's. Each change is a new version of the monitor; others who
change other segments meanwhile are not in the way.`,
		Example: "  tinbell monitor segment set boarding-scans-volume Gullstone --warn 90d --direction low --owner ports\n  tinbell monitor segment set ticket-sales-volume 'kiosk / *' --muted --note 'kiosks are being replaced'",
		RunE: func(c *cobra.Command, args []string) error {
			path := "/monitors/" + url.PathEscape(args[0])
			var m record.Monitor
			if err := a.client().Get(c.Context(), path, nil, &m); err != nil {
				return err
			}
			given := c.Flags().Changed
			said := *v
			for _, old := range m.Settings.Segments {
				if old.Segment == args[1] {
					*v = old
				}
			}
			v.Segment = args[1]
			for name, take := range map[string]func(){
				"direction": func() { v.Direction = said.Direction }, "sustained": func() { v.Sustained = said.Sustained },
				"owner": func() { v.Owner = said.Owner },
				"note":  func() { v.Note = said.Note }, "muted": func() { v.Muted = said.Muted },
				"unmute": func() { v.Muted = !unmute }, "min-effect": func() { v.MinEffect = &effect },
				"lowest": func() { v.Lowest = bound(lowest) }, "highest": func() { v.Highest = bound(highest) },
				"fall": func() { v.Fall = &fall }, "rise": func() { v.Rise = &rise },
				"smooth": func() { v.Smooth = &smooth }, "smooth-by": func() { v.SmoothBy = said.SmoothBy },
				"missing": func() { v.Missing = &missing }, "spikes": func() { v.Spikes = &spikes },
				"stuck-off": func() { v.StuckOff = &stuckOff }, "silence-off": func() { v.SilenceOff = &silenceOff },
			} {
				if given(name) {
					take()
				}
			}
			for text, into := range map[*string]*int64{&warn: &v.WarnSeconds, &critical: &v.CriticalSeconds} {
				if *text != "" {
					var err error
					if *into, err = seconds(*text); err != nil {
						return err
					}
				}
			}
			if persist != "" {
				var err error
				if v.Persist, v.Of, err = persistence(persist); err != nil {
					return err
				}
			}
			if differs(*v) == "" {
				return wrongUsage{fmt.Errorf("nothing differs: give at least one option")}
			}
			if err := a.client().Send(c.Context(), "PUT", path+"/segments", in, &m); err != nil {
				return err
			}
			a.say("%s of %s: %s. The monitor is now at version %d.", args[1], m.Name, differs(*v), m.Version)
			return nil
		}}
	flags := set.Flags()
	bindBounds(flags, &lowest, &highest, &fall, &rise)
	flags.StringVar(&v.Direction, "direction", "", "low, high or both")
	flags.StringVar(&warn, "warn", "", "return period of a warning for each such segment by itself, for example 90d")
	flags.StringVar(&critical, "critical", "", "return period of a critical alert")
	flags.StringVar(&persist, "persist", "", "m of n periods, for example '2 of 3'")
	flags.Float64Var(&effect, "min-effect", 0, "smallest absolute effect worth an alert")
	flags.IntVar(&smooth, "smooth", 0, "periods that are smoothed before detection, up to a day of them; 0 for none")
	flags.StringVar(&v.SmoothBy, "smooth-by", "", "median or mean")
	flags.StringVar(&v.Sustained, "sustained", "", "look for small shifts over up to 6 (off), 12 (short) or 24 (long) periods")
	flags.BoolVar(&spikes, "spikes", false, "one period alone may alarm")
	flags.IntVar(&missing, "missing", 0, "alarm after this many missing periods in a row; -1 never")
	flags.BoolVar(&stuckOff, "stuck-off", false, "do not tell of a value that repeats again and again")
	flags.BoolVar(&silenceOff, "silence-off", false, "do not tell of zeros where rows were due")
	flags.BoolVar(&v.Muted, "muted", false, "no alert of it at all; its band stays")
	flags.BoolVar(&unmute, "unmute", false, "alerts again")
	flags.StringVar(&v.Owner, "owner", "", "team that its alerts belong to")
	flags.StringVar(&v.Note, "note", "", "why")
	return set
}

// differs says in words what a segment's settings are.
func differs(v record.SegmentSettings) string {
	var said []string
	say := func(format string, args ...any) { said = append(said, fmt.Sprintf(format, args...)) }
	number := func(p *float64) float64 {
		if p == nil {
			return math.NaN()
		}
		return *p
	}
	if v.Muted {
		say("muted")
	}
	if v.WarnSeconds > 0 {
		say("warns once in %s by itself", words.Seconds(float64(v.WarnSeconds)))
	}
	if v.CriticalSeconds > 0 {
		say("critical once in %s", words.Seconds(float64(v.CriticalSeconds)))
	}
	if v.Direction != "" {
		say("direction %s", v.Direction)
	}
	if v.Persist > 0 {
		say("%d of %d periods", v.Persist, max(v.Of, v.Persist))
	}
	if v.MinEffect != nil {
		say("smallest effect %s", words.Number(*v.MinEffect))
	}
	edge := record.Settings{Lowest: v.Lowest, Highest: v.Highest}
	if f := number(v.Fall); f > 0 {
		edge.Fall = f
	}
	if r := number(v.Rise); r > 0 {
		edge.Rise = r
	}
	if text := bounds(edge); text != "" {
		say("rings %s", text)
	}
	if v.Smooth != nil {
		say("%s of %d", or(v.SmoothBy, "median"), *v.Smooth)
	} else if v.SmoothBy != "" {
		say("smoothed by %s", v.SmoothBy)
	}
	if v.Sustained != "" {
		say("sustained %s", v.Sustained)
	}
	for name, is := range map[string]*bool{"spikes": v.Spikes, "stuck off": v.StuckOff, "silence off": v.SilenceOff} {
		if is != nil {
			say("%s %v", name, *is)
		}
	}
	if v.Missing != nil {
		say("missing %d", *v.Missing)
	}
	if v.Owner != "" {
		say("owner %s", v.Owner)
	}
	return strings.Join(said, ", ")
}

// bounds says what lies beyond the bounds of settings; empty if they have none.
func bounds(s record.Settings) string {
	var said []string
	if s.Lowest != nil {
		said = append(said, "below "+words.Number(*s.Lowest))
	}
	if s.Highest != nil {
		said = append(said, "above "+words.Number(*s.Highest))
	}
	than := map[string]string{"": "the day before", "day": "the day before", "week": "the week before",
		"previous": "the period before"}[s.Than]
	if s.Fall > 0 {
		said = append(said, fmt.Sprintf("more than %s below %s", words.Percent(s.Fall), than))
	}
	if s.Rise > 0 {
		said = append(said, fmt.Sprintf("more than %s above %s", words.Percent(s.Rise), than))
	}
	return strings.Join(said, ", ")
}
