package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"tinbell/internal/httpapi"
	"tinbell/internal/record"
)

func (a *app) backfillCommand() *cobra.Command {
	var since string
	var wait bool
	backfill := &cobra.Command{Use: "backfill NAME…", Short: "Measure the past; metrics of one dataset share passes over it",
		Example: "  tinbell metric backfill boarding-scans-rows boarding-scans-passenger-type-nulls --since 16w",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				return wrongUsage{fmt.Errorf("name at least one metric")}
			}
			n, err := seconds(since)
			if err != nil {
				return err
			}
			var started httpapi.Started
			if err := a.client().Send(c.Context(), "POST", "/backfills", httpapi.Backfill{Metrics: args, SinceSeconds: n},
				&started); err != nil {
				return err
			}
			if !wait {
				a.say("Backfill %d has begun. Follow it: tinbell task list", started.TaskID)
				return nil
			}
			if err := a.client().Follow(c.Context(), started.TaskID, a.bar(args[0])); err != nil {
				return err
			}
			a.say("Measured back to %s ago", since)
			return nil
		}}
	backfill.Flags().StringVar(&since, "since", "16w", "how far back")
	backfill.Flags().BoolVar(&wait, "wait", true, "wait until it is done")
	return backfill
}

func (a *app) taskCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "Long pieces of work: those under way first", Args: exactly(0, "nothing"),
		RunE: func(c *cobra.Command, _ []string) error {
			var tasks []record.Task
			if err := a.client().Get(c.Context(), "/tasks", nil, &tasks); err != nil {
				return err
			}
			l := listing{head: []string{"id", "what", "of", "done", "state", "begun", "message"}, right: []int{1, 4}, raw: tasks,
				none: "No backfill or fit was ordered yet."}
			for _, t := range tasks {
				done := "–"
				if t.Total > 0 {
					done = fmt.Sprintf("%.0f %%", 100*float64(t.Done)/float64(t.Total))
				}
				l.rows = append(l.rows, []string{fmt.Sprint(t.ID), t.What, t.Subject, done, string(t.State), a.local(t.StartedAt, "UTC"),
					t.Message})
			}
			return a.show(l)
		}}
	commands := []*cobra.Command{list}
	for verb, short := range map[string]string{"pause": "Let a backfill stop after its present step",
		"resume": "Let a backfill go on where it was", "cancel": "Give a backfill up; what it has read stays"} {
		commands = append(commands, &cobra.Command{Use: verb + " ID", Short: short, Args: exactly(1, "ID"),
			RunE: func(c *cobra.Command, args []string) error {
				var t record.Task
				if err := a.client().Send(c.Context(), "POST", "/tasks/"+args[0]+"/"+verb, nil, &t); err != nil {
					return err
				}
				a.say("Backfill %d is %s", t.ID, t.State)
				return nil
			}})
	}
	return group("task", "Long work: backfills and fits", commands...)
}
