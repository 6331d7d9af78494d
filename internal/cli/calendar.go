package cli

import (
	"fmt"
	"net/url"
	"os"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"tinbell/internal/calendar"
	"tinbell/internal/feed"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/words"
)

func (a *app) calendarCommand() *cobra.Command {
	return group("calendar", "Planned events and holidays", a.calendarList(), a.calendarImport(), a.calendarAdd(),
		a.calendarHolidays(), a.calendarSuggest(), a.calendarDrop(), a.calendarRemove(), a.calendarFollow(), a.calendarFeeds(),
		a.calendarFetch(), a.calendarUnfollow())
}

func (a *app) calendarList() *cobra.Command {
	var all bool
	c := &cobra.Command{Use: "list", Short: "List planned events from four weeks ago on", Args: exactly(0, "nothing"),
		Example: "  tinbell calendar list --all --output csv",
		RunE: func(c *cobra.Command, _ []string) error {
			var events []record.PlannedEvent
			if err := a.client().Get(c.Context(), "/planned-events", nil, &events); err != nil {
				return err
			}
			kept := events[:0]
			for _, e := range events {
				if all || time.Since(e.EndedAt) < 28*24*time.Hour && time.Until(e.StartedAt) < 180*24*time.Hour {
					kept = append(kept, e)
				}
			}
			l := listing{head: []string{"calendar", "event", "from", "to", "dataset", "does", "id"}, raw: kept,
				none: "No planned event. Add one: tinbell calendar add 'Maintenance night' --from … --to …"}
			for _, e := range kept {
				does := e.Effect
				if e.Holiday {
					does = "holiday"
				}
				id := ""
				if e.Calendar == calendar.ByHand {
					id = e.UID
				}
				l.rows = append(l.rows, []string{e.Calendar, e.Summary, e.StartedAt.Format("2006-01-02 15:04Z"),
					e.EndedAt.Format("2006-01-02 15:04Z"), orNone(e.Dataset), string(does), id})
			}
			return a.show(l)
		}}
	c.Flags().BoolVar(&all, "all", false, "the whole past, and two years ahead")
	return c
}

func (a *app) calendarImport() *cobra.Command {
	var dataset, effect string
	var empty bool
	c := &cobra.Command{Use: "import NAME FILE", Short: "Replace a calendar by an iCalendar file", Args: exactly(2, "NAME FILE"),
		Example: "  tinbell calendar import vellamar planned-events.ics --effect widen",
		RunE: func(c *cobra.Command, args []string) error {
			f, err := os.Open(args[1])
			if err != nil {
				return err
			}
			defer f.Close()
			q := url.Values{"dataset": {dataset}, "effect": {effect}, "empty": {strconv.FormatBool(empty)}}
			var events []record.PlannedEvent
			if err := a.client().Stream(c.Context(), "PUT", "/calendars/"+url.PathEscape(args[0])+"?"+q.Encode(), "text/calendar",
				f, &events); err != nil {
				return err
			}
			a.say("Calendar %s has %s.", args[0], words.Plural(len(events), "event"))
			return nil
		}}
	c.Flags().StringVar(&dataset, "dataset", "", "that events are for which name none")
	c.Flags().StringVar(&effect, "effect", "", "of events which say none: mute, widen or 'leave out'")
	c.Flags().BoolVar(&empty, "empty", false, "a file without events empties the calendar")
	return c
}

func (a *app) calendarAdd() *cobra.Command {
	var in calendar.NewEvent
	var from, to, length string
	c := &cobra.Command{Use: "add SUMMARY", Short: "Add a planned event", Args: exactly(1, "SUMMARY"),
		Example: "  tinbell calendar add 'Maintenance night' --from 2026-12-01T01:00:00-04:00 --for 3h --repeat 'FREQ=WEEKLY;BYDAY=TU' --zone America/Halifax\n  tinbell calendar add 'Winter timetable' --from 2026-12-12T00:00:00-04:00 --for 1d --dataset ops.boarding_scans --effect widen",
		RunE: func(c *cobra.Command, args []string) error {
			var err error
			in.Summary = args[0]
			if in.From, err = time.Parse(time.RFC3339, from); err != nil {
				return wrongUsage{fmt.Errorf("--from %q: write a time as 2026-12-01T01:00:00-04:00", from)}
			}
			switch {
			case to != "":
				if in.To, err = time.Parse(time.RFC3339, to); err != nil {
					return wrongUsage{fmt.Errorf("--to %q: write a time as 2026-12-01T04:00:00-04:00", to)}
				}
			case length != "":
				s, err := seconds(length)
				if err != nil {
					return err
				}
				in.To = in.From.Add(time.Duration(s) * time.Second)
			default:
				return wrongUsage{fmt.Errorf("give --to, or --for how long it lasts")}
			}
			var events []record.PlannedEvent
			if err := a.client().Send(c.Context(), "POST", "/planned-events", in, &events); err != nil {
				return err
			}
			a.say("Added: %s, %s until two years from now. What it concerns is fitted again.", in.Summary,
				words.Plural(len(events), "time"))
			return nil
		}}
	f := c.Flags()
	f.StringVar(&from, "from", "", "when it begins")
	f.StringVar(&to, "to", "", "when it ends")
	f.StringVar(&length, "for", "", "how long it lasts, instead of --to")
	f.StringVar(&in.Dataset, "dataset", "", "only for this dataset")
	f.StringVar((*string)(&in.Effect), "effect", "",
		"mute (neither judged nor learned from), widen (judged by a wider band) or 'leave out' (judged as ever, not learned from)")
	f.StringVar(&in.Repeat, "repeat", "", "as iCalendar's RRULE")
	f.StringVar(&in.Zone, "zone", "", "by whose clocks it repeats")
	f.BoolVar(&in.Holiday, "holiday", false, "a day like a Sunday, rather than an event")
	return c
}

func (a *app) calendarHolidays() *cobra.Command {
	var in httpapi.Holidays
	c := &cobra.Command{Use: "holidays COUNTRY", Short: "Make a calendar of a country's holidays", Args: exactly(1, "COUNTRY"),
		Example: "  tinbell calendar holidays CA\n  tinbell calendar holidays DE-BY --dataset mart.daily_revenue",
		RunE: func(c *cobra.Command, args []string) error {
			in.Country = args[0]
			var events []record.PlannedEvent
			if err := a.client().Send(c.Context(), "POST", "/calendars/holidays", in, &events); err != nil {
				return err
			}
			a.say("%s, %d from three years ago to two years ahead.", words.Plural(len(events)/6, "holiday"), len(events))
			return nil
		}}
	c.Flags().StringVar(&in.Name, "name", "", "of the calendar; 'holidays COUNTRY' if left out")
	c.Flags().StringVar(&in.Dataset, "dataset", "", "only for this dataset")
	c.Flags().StringVar(&in.Zone, "zone", "", "by whose clocks they begin")
	return c
}

func (a *app) calendarSuggest() *cobra.Command {
	return &cobra.Command{Use: "suggest", Short: "Events that people call planned again and again", Args: exactly(0, "nothing"),
		Example: "  tinbell calendar suggest",
		RunE: func(c *cobra.Command, _ []string) error {
			var list []calendar.Suggestion
			if err := a.client().Get(c.Context(), "/planned-events/suggestions", nil, &list); err != nil {
				return err
			}
			l := listing{head: []string{"dataset", "what", "repeats", "next", "lasts", "seen"}, raw: list,
				none: "Nothing that people called planned comes back at a steady time."}
			for _, s := range list {
				l.rows = append(l.rows, []string{s.Dataset, s.Summary, s.Repeat, a.local(s.From, s.Zone),
					words.Duration(s.To.Sub(s.From)), fmt.Sprintf("%d of %d times", s.Seen, s.Due)})
			}
			return a.show(l)
		}}
}

func (a *app) calendarDrop() *cobra.Command {
	return &cobra.Command{Use: "drop ID", Short: "Remove an event that was added by hand", Args: exactly(1, "ID"),
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.client().Send(c.Context(), "DELETE", "/planned-events/"+url.PathEscape(args[0]), nil, nil); err != nil {
				return err
			}
			a.say("Removed.")
			return nil
		}}
}

func (a *app) calendarRemove() *cobra.Command {
	return &cobra.Command{Use: "remove NAME", Short: "Remove a calendar with all of its events", Args: exactly(1, "NAME"),
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.client().Send(c.Context(), "DELETE", "/calendars/"+url.PathEscape(args[0]), nil, nil); err != nil {
				return err
			}
			a.say("Calendar %s is removed; what it concerned is fitted again.", args[0])
			return nil
		}}
}

func (a *app) calendarFollow() *cobra.Command {
	var in feed.Wanted
	var every string
	c := &cobra.Command{Use: "follow NAME ADDRESS",
		Short: "Fetch a calendar by address, now and on a schedule; the last good copy stays in force", Args: exactly(2, "NAME ADDRESS"),
		Example: "  tinbell calendar follow harbour https://calendar.example.com/harbour.ics --every 6h",
		RunE: func(c *cobra.Command, args []string) error {
			in.Address = args[1]
			var err error
			if in.EverySeconds, err = seconds(every); err != nil {
				return err
			}
			var f record.Feed
			if err := a.client().Send(c.Context(), "PUT", "/calendars/"+url.PathEscape(args[0])+"/feed", in, &f); err != nil {
				return err
			}
			a.say("Calendar %s is read from %s, and again every %s.", f.Calendar, f.Host, words.Seconds(float64(f.EverySeconds)))
			return nil
		}}
	c.Flags().StringVar(&every, "every", "6h", "how often it is fetched")
	c.Flags().StringVar(&in.Dataset, "dataset", "", "that events are for which name none")
	c.Flags().StringVar((*string)(&in.Effect), "effect", "", "mute, widen or leave out, of events that say nothing themselves")
	return c
}

func (a *app) calendarFeeds() *cobra.Command {
	return &cobra.Command{Use: "feeds", Short: "List the calendars that are fetched by address, and what became of it",
		Args: exactly(0, "nothing"),
		RunE: func(c *cobra.Command, _ []string) error {
			var feeds []record.Feed
			if err := a.client().Get(c.Context(), "/calendar-feeds", nil, &feeds); err != nil {
				return err
			}
			l := listing{head: []string{"calendar", "from", "every", "fetched", "next", "state"}, keep: []string{"state"},
				raw: feeds, none: "No calendar is fetched. Follow one: tinbell calendar follow NAME ADDRESS"}
			for _, f := range feeds {
				state := "good"
				if f.FailingSince != nil {
					state = "failing since " + a.local(*f.FailingSince, "UTC") + ": " + f.Message
				}
				l.rows = append(l.rows, []string{f.Calendar, f.Host, words.Seconds(float64(f.EverySeconds)),
					a.optional(f.FetchedAt, "UTC", "never"), a.local(f.NextAt, "UTC"), state})
			}
			return a.show(l)
		}}
}

func (a *app) calendarFetch() *cobra.Command {
	return &cobra.Command{Use: "fetch NAME", Short: "Fetch a calendar now", Args: exactly(1, "NAME"),
		RunE: func(c *cobra.Command, args []string) error {
			var f record.Feed
			if err := a.client().Send(c.Context(), "POST", "/calendars/"+url.PathEscape(args[0])+"/feed/fetch", nil, &f); err != nil {
				return err
			}
			if f.FailingSince != nil {
				return fmt.Errorf("%s: %s; the last good copy stays in force", f.Calendar, f.Message)
			}
			a.say("Calendar %s is as %s has it.", f.Calendar, f.Host)
			return nil
		}}
}

func (a *app) calendarUnfollow() *cobra.Command {
	return &cobra.Command{Use: "unfollow NAME", Short: "Fetch a calendar no more; its events stay", Args: exactly(1, "NAME"),
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.client().Send(c.Context(), "DELETE", "/calendars/"+url.PathEscape(args[0])+"/feed", nil, nil); err != nil {
				return err
			}
			a.say("Calendar %s is fetched no more; its events stay.", args[0])
			return nil
		}}
}
