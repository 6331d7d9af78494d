package cli

import (
	"net/url"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"tinbell/internal/httpapi"
	"tinbell/internal/record"
)

func (a *app) noteCommand() *cobra.Command {
	var dataset, since string
	list := &cobra.Command{Use: "list", Short: "List notes, newest first", Args: exactly(0, "nothing"),
		Example: "  tinbell note list --dataset ops.refunds --since 90d",
		RunE: func(c *cobra.Command, _ []string) error {
			q := url.Values{}
			from, err := ago(since, time.Now())
			if err != nil {
				return err
			}
			if dataset != "" {
				q.Set("dataset", dataset)
			}
			if !from.IsZero() {
				q.Set("from", from.UTC().Format(time.RFC3339))
			}
			var notes []record.Note
			if err := a.client().Get(c.Context(), "/notes", q, &notes); err != nil {
				return err
			}
			l := listing{head: []string{"note", "at", "says", "dataset", "author", "link"}, right: []int{1}, raw: notes,
				none: "No note yet. Write one: tinbell note add 'release 4.2' --dataset ops.refunds"}
			for _, n := range notes {
				l.rows = append(l.rows, []string{strconv.FormatInt(n.ID, 10), a.local(n.At, "UTC"), n.Text, or(n.Dataset, "all"),
					n.Author, orNone(n.Link)})
			}
			return a.show(l)
		}}
	list.Flags().StringVar(&dataset, "dataset", "", "of this dataset, with those on all")
	list.Flags().StringVar(&since, "since", "", "a time, or how long ago")
	remove := &cobra.Command{Use: "remove ID", Short: "Remove a note", Args: exactly(1, "ID"),
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.client().Send(c.Context(), "DELETE", "/notes/"+url.PathEscape(args[0]), nil, nil); err != nil {
				return err
			}
			a.say("Note %s is removed.", args[0])
			return nil
		}}
	return group("note", "What happened when, on everybody's charts", list, a.noteAdd(), remove)
}

func (a *app) noteAdd() *cobra.Command {
	var in httpapi.NewNote
	var at string
	c := &cobra.Command{Use: "add TEXT", Short: "Note what happened, on the charts of a dataset or of all", Args: exactly(1, "TEXT"),
		Example: "  tinbell note add 'scanner firmware 4.2' --dataset raw.gate_events\n  tinbell note add 'warehouse moved' --at 2026-06-18T09:00:00Z --link https://example.com/changes/81",
		RunE: func(c *cobra.Command, args []string) error {
			var err error
			if in.At, err = ago(at, time.Now()); err != nil {
				return err
			}
			in.Text = args[0]
			var n record.Note
			if err := a.client().Send(c.Context(), "POST", "/notes", in, &n); err != nil {
				return err
			}
			a.say("Note %d stands on the charts of %s at %s.", n.ID, or(n.Dataset, "all datasets"), a.local(n.At, "UTC"))
			return nil
		}}
	c.Flags().StringVar(&in.Dataset, "dataset", "", "on its charts alone")
	c.Flags().StringVar(&at, "at", "", "a time, or how long ago; now if left out")
	c.Flags().StringVar(&in.Link, "link", "", "where more is said")
	return c
}
