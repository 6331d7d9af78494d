package cli

import (
	"errors"
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tinbell/internal/httpapi"
	"tinbell/internal/record"
)

func (a *app) incidentCommand() *cobra.Command {
	var dataset, since, until string
	list := &cobra.Command{Use: "list", Short: "List the incident catalogue", Args: exactly(0, "nothing"),
		Example: "  tinbell incident list --dataset ops.refunds --since 60d", RunE: func(c *cobra.Command, _ []string) error {
			q := url.Values{"dataset": {dataset}}
			for key, text := range map[string]string{"from": since, "to": until} {
				at, err := ago(text, time.Now())
				if err != nil {
					return err
				}
				if !at.IsZero() {
					q.Set(key, at.Format(time.RFC3339))
				}
			}
			var incidents []record.Incident
			if err := a.client().Get(c.Context(), "/incidents", q, &incidents); err != nil {
				return err
			}
			l := listing{head: []string{"reference", "started", "ended", "datasets", "segment", "title", "cause", "severity"},
				raw:  incidents,
				none: "No incident yet. Import a catalogue: tinbell incident import FILE.csv"}
			for _, i := range incidents {
				l.rows = append(l.rows, []string{i.Reference, i.StartedAt.Format(time.RFC3339),
					a.optional(i.EndedAt, "UTC", "lasting"), strings.Join(i.Datasets(), ", "), orNone(i.Segment), i.Title,
					orNone(i.Cause), string(i.Severity)})
			}
			return a.show(l)
		}}
	list.Flags().StringVar(&dataset, "dataset", "", "of one dataset")
	list.Flags().StringVar(&since, "since", "", "that lasted after: a time, or how long ago")
	list.Flags().StringVar(&until, "until", "", "that began before: a time, or how long ago")
	load := &cobra.Command{Use: "import FILE", Short: "Import a catalogue as CSV", Args: exactly(1, "FILE"),
		Example: "  tinbell incident import incidents.csv",
		RunE: func(c *cobra.Command, args []string) error {
			return a.importFile(c, "/incidents/import", args[0], "incidents")
		}}
	drop := &cobra.Command{Use: "drop REFERENCE", Short: "Remove an incident", Args: exactly(1, "REFERENCE"),
		RunE: func(c *cobra.Command, args []string) error {
			return a.client().Send(c.Context(), "DELETE", "/incidents/"+url.PathEscape(args[0]), nil, nil)
		}}
	return group("incident", "Faults that did happen", list, a.incidentAdd(), a.incidentOfAlerts(), a.incidentMerge(),
		a.incidentSplit(), load, a.incidentExport(), drop)
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
	f.StringSliceVar((*[]string)(&in.Also), "also", nil, "other datasets that it hit")
	f.StringVar(&in.Reference, "reference", "", "a name of its own; a running one if left out")
	f.StringVar(&started, "started", "", "a time, or how long ago")
	f.StringVar(&ended, "ended", "", "a time, or how long ago; left out while it lasts")
	f.StringVar(&in.Measure, "measure", "", "limit it to one measure")
	f.StringVar(&in.Segment, "segment", "", "limit it to one segment")
	f.StringVar(&in.Cause, "cause", "", "what it was")
	f.StringVar((*string)(&in.Severity), "severity", "warning", "warning or critical")
	f.StringVar(&in.Impact, "impact", "", "what it did to whom")
	f.BoolVar(&in.Downstream, "downstream", false, "what reads the dataset is hit too")
	return add
}

func (a *app) incidentOfAlerts() *cobra.Command {
	var in httpapi.IncidentOfAlerts
	c := &cobra.Command{Use: "of-alerts ID…", Short: "Make an incident of alerts; they become labelled faults",
		Example: "  tinbell incident of-alerts 412 413 --title 'Gate 3 sent nothing' --impact 'load factors of two days'",
		RunE: func(c *cobra.Command, args []string) error {
			for _, text := range args {
				id, err := strconv.ParseInt(text, 10, 64)
				if err != nil {
					return wrongUsage{fmt.Errorf("%q is no alert id", text)}
				}
				in.Alerts = append(in.Alerts, id)
			}
			if len(in.Alerts) == 0 {
				return wrongUsage{errors.New("give at least one alert id")}
			}
			var v record.Incident
			if err := a.client().Send(c.Context(), "POST", "/incidents/of-alerts", in, &v); err != nil {
				return err
			}
			a.say("Incident %s: %s", v.Reference, v.Title)
			return nil
		}}
	f := c.Flags()
	f.StringVar(&in.Title, "title", "", "what happened; the first alert's sentence if left out")
	f.StringVar(&in.Cause, "cause", "", "what it was")
	f.StringVar(&in.Impact, "impact", "", "what it did to whom")
	f.BoolVar(&in.Downstream, "downstream", false, "what reads the dataset is hit too")
	return c
}

func (a *app) incidentMerge() *cobra.Command {
	return &cobra.Command{Use: "merge REFERENCE OTHER…", Short: "Make one incident of several",
		Example: "  tinbell incident merge I-41 I-43",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) < 2 {
				return wrongUsage{errors.New("give the incident that stays and at least one other")}
			}
			var v record.Incident
			if err := a.client().Send(c.Context(), "POST", "/incidents/"+url.PathEscape(args[0])+"/merge",
				map[string][]string{"others": args[1:]}, &v); err != nil {
				return err
			}
			a.say("%s now begins %s.", v.Reference, a.local(v.StartedAt, v.Zone))
			return nil
		}}
}

func (a *app) incidentSplit() *cobra.Command {
	var at string
	c := &cobra.Command{Use: "split REFERENCE", Short: "End an incident at a time and make a second one of the rest",
		Args: exactly(1, "REFERENCE"), Example: "  tinbell incident split I-41 --at 2026-06-18T12:00:00-03:00",
		RunE: func(c *cobra.Command, args []string) error {
			when, err := ago(at, time.Now())
			if err != nil {
				return err
			}
			var parts []record.Incident
			if err := a.client().Send(c.Context(), "POST", "/incidents/"+url.PathEscape(args[0])+"/split",
				map[string]time.Time{"at": when}, &parts); err != nil {
				return err
			}
			a.say("%s ends there; the rest is %s.", parts[0].Reference, parts[1].Reference)
			return nil
		}}
	c.Flags().StringVar(&at, "at", "", "a time, or how long ago")
	return c
}

func (a *app) incidentExport() *cobra.Command {
	return a.export("export", "Write the incident catalogue, as it is imported", "/incidents/export",
		"  tinbell incident export > incidents.csv\n  tinbell incident export --dataset ops.refunds --file incidents.parquet", 0,
		func(c *cobra.Command, x *exporting) {
			spanned(c, x)
			x.text(c, "dataset", "of this dataset alone")
		})
}
