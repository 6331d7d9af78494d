package cli

import (
	"fmt"
	"net/url"
	"os"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"tinbell/internal/answer"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
)

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
