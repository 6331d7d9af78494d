package cli

import (
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tinbell/internal/httpapi"
	"tinbell/internal/lineage"
	"tinbell/internal/record"
	"tinbell/internal/words"
)

func (a *app) jobCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "Jobs with their last runs, and when the next is due", Args: exactly(0, "nothing"),
		RunE: func(c *cobra.Command, _ []string) error {
			var jobs []lineage.JobHealth
			if err := a.client().Get(c.Context(), "/jobs", nil, &jobs); err != nil {
				return err
			}
			l := listing{head: []string{"id", "job", "writes", "last run", "state", "usually takes", "runs 30 d", "failed",
				"next by"}, right: []int{1, 6, 7, 8}, raw: jobs,
				none: "No job was heard of yet. Send OpenLineage events to " + a.server + "/api/v1/lineage"}
			for _, j := range jobs {
				state, last, takes, next := "–", "–", "–", "–"
				if j.State != nil {
					state = *j.State
				}
				if j.SilentSince != nil {
					state = "silent"
				}
				if j.LastAt != nil {
					last = a.local(*j.LastAt, "UTC")
				}
				if j.Seconds != nil {
					takes = words.Seconds(*j.Seconds)
				}
				if j.Next != nil {
					next = a.local(j.Next.Deadline, "UTC")
				}
				l.rows = append(l.rows, []string{fmt.Sprint(j.ID), j.Name, orNone(j.Writes), last, state, takes, fmt.Sprint(j.Runs),
					fmt.Sprint(j.Failed), next})
			}
			return a.show(l)
		}}
	runs := &cobra.Command{Use: "runs ID", Short: "The last runs of a job, newest first", Args: exactly(1, "ID"),
		Example: "  tinbell job runs 3",
		RunE: func(c *cobra.Command, args []string) error {
			return a.runs(c, "/jobs/"+url.PathEscape(args[0])+"/runs")
		}}
	send := &cobra.Command{Use: "send FILE…", Short: "Send OpenLineage events from files: JSON, or one event a line",
		Example: "  tinbell job send events.ndjson",
		RunE: func(c *cobra.Command, args []string) error {
			for _, name := range args {
				content, err := os.ReadFile(name)
				if err != nil {
					return err
				}
				if !json.Valid(content) {
					content = []byte("[" + strings.Join(strings.Split(strings.TrimSpace(string(content)), "\n"), ",") + "]")
				}
				var heard httpapi.Heard
				if err := a.client().Stream(c.Context(), "POST", "/lineage", "application/json",
					strings.NewReader(string(content)), &heard.Body); err != nil {
					return fmt.Errorf("%s: %w", name, err)
				}
				a.say("%s: %d events", name, heard.Body.Events)
			}
			return nil
		}}
	return group("job", "Jobs and their runs", list, runs, send)
}

func (a *app) runs(c *cobra.Command, path string) error {
	var runs []record.Run
	if err := a.client().Get(c.Context(), path, nil, &runs); err != nil {
		return err
	}
	l := listing{head: []string{"started", "job", "state", "took", "rows", "bytes", "message"}, right: []int{4, 5, 6}, raw: runs,
		none: "No run was heard of yet."}
	for _, r := range runs {
		started, took, rows, size := "–", "–", "–", "–"
		if r.StartedAt != nil {
			started = a.local(*r.StartedAt, "UTC")
		}
		if r.StartedAt != nil && r.EndedAt != nil {
			took = words.Duration(r.EndedAt.Sub(*r.StartedAt).Round(time.Second))
		}
		if r.Rows != nil {
			rows = words.Number(float64(*r.Rows))
		}
		if r.Bytes != nil {
			size = words.Bytes(float64(*r.Bytes))
		}
		l.rows = append(l.rows, []string{started, r.Job, string(r.State), took, rows, size, r.Message})
	}
	return a.show(l)
}

func (a *app) runsOfCommand() *cobra.Command {
	return &cobra.Command{Use: "runs NAME", Short: "The last runs that wrote a dataset, newest first", Args: exactly(1, "NAME"),
		Example: "  tinbell dataset runs ops.boarding_scans",
		RunE: func(c *cobra.Command, args []string) error {
			return a.runs(c, "/datasets/"+url.PathEscape(args[0])+"/runs")
		}}
}

func (a *app) lineageCommand() *cobra.Command {
	return &cobra.Command{Use: "lineage NAME", Short: "What a dataset is made from, and what is made from it",
		Args: exactly(1, "NAME"), Example: "  tinbell dataset lineage ops.boarding_scans",
		RunE: func(c *cobra.Command, args []string) error {
			var g lineage.Lineage
			if err := a.client().Get(c.Context(), "/datasets/"+url.PathEscape(args[0])+"/lineage", nil, &g); err != nil {
				return err
			}
			l := listing{head: []string{"dataset", "is", "made from", "by", "state"}, raw: g}
			for _, n := range g.Nodes {
				var from, by []string
				for _, link := range g.Links {
					if link.To == n.Name {
						from, by = append(from, or(link.From, "outside")), append(by, link.Job)
					}
				}
				by = slices.Compact(by)
				is := map[bool]string{true: fmt.Sprintf("%d up", -n.Depth), false: fmt.Sprintf("%d down", n.Depth)}[n.Depth < 0]
				if n.Depth == 0 {
					is = "here"
				}
				state := "not watched"
				if n.Watched {
					state = or(n.Worst, "quiet")
				}
				l.rows = append(l.rows, []string{n.Name, is, orNone(strings.Join(from, ", ")), orNone(strings.Join(by, ", ")), state})
			}
			return a.show(l)
		}}
}

func (a *app) deliveriesCommand() *cobra.Command {
	return &cobra.Command{Use: "deliveries NAME", Short: "Files that landed, newest first", Args: exactly(1, "NAME"),
		Example: "  tinbell dataset deliveries landing.parcels",
		RunE: func(c *cobra.Command, args []string) error {
			var list []record.Delivery
			if err := a.client().Get(c.Context(), "/datasets/"+url.PathEscape(args[0])+"/deliveries", nil, &list); err != nil {
				return err
			}
			l := listing{head: []string{"landed", "file", "segment", "rows", "size", "state", "message"}, right: []int{4, 5}, raw: list,
				none: "No file has landed yet. Files are looked for when a metric of the dataset is collected."}
			for _, d := range list {
				rows := "–"
				if d.Rows != nil {
					rows = words.Number(float64(*d.Rows))
				}
				l.rows = append(l.rows, []string{a.local(d.LandedAt, "UTC"), d.Path, orNone(d.Segment), rows,
					words.Bytes(float64(d.Bytes)), string(d.State), d.Message})
			}
			return a.show(l)
		}}
}
