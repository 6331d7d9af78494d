package cli

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/setup"
	"tinbell/internal/words"
)

func (a *app) tagCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "List tags: what has them, who hears of it, what is open",
		Args: exactly(0, "nothing"), Example: "  tinbell tag list",
		RunE: func(c *cobra.Command, _ []string) error {
			var tags []record.Tag
			if err := a.client().Get(c.Context(), "/tags", nil, &tags); err != nil {
				return err
			}
			l := listing{head: []string{"tag", "datasets", "metrics", "monitors", "open alerts", "told on"},
				right: []int{2, 3, 4, 5}, raw: tags,
				none: "No tag yet. Give one: tinbell tag add boarding --dataset 'ops.boarding*'"}
			for _, t := range tags {
				l.rows = append(l.rows, []string{t.Name, strconv.Itoa(len(t.Datasets)), strconv.Itoa(len(t.Metrics)),
					strconv.Itoa(len(t.Monitors)), strconv.Itoa(t.Open), orNone(strings.Join(t.Channels, ", "))})
			}
			return a.show(l)
		}}
	show := &cobra.Command{Use: "show TAG", Short: "What has a tag", Args: exactly(1, "TAG"), Example: "  tinbell tag show boarding",
		RunE: func(c *cobra.Command, args []string) error {
			var t record.Tag
			if err := a.client().Get(c.Context(), "/tags/"+url.PathEscape(args[0]), nil, &t); err != nil {
				return err
			}
			l := listing{head: []string{"kind", "name"}, raw: t}
			for _, of := range []struct {
				kind  string
				names []string
			}{{"dataset", t.Datasets}, {"metric", t.Metrics}, {"monitor", t.Monitors}, {"route", t.Routes}, {"channel", t.Channels}} {
				for _, name := range of.names {
					l.rows = append(l.rows, []string{of.kind, name})
				}
			}
			return a.show(l)
		}}
	return group("tag", "Names for what one audience cares about", list, show, a.tagging("add", "Give things a tag", false),
		a.tagging("drop", "Take a tag off things", true),
		a.removal("tag", "/tags/", "off everything that has it"))
}

// tagging is the command that gives things a tag or takes it off them.
func (a *app) tagging(use, short string, off bool) *cobra.Command {
	var things setup.Tagged
	c := &cobra.Command{Use: use + " TAG", Short: short, Args: exactly(1, "TAG"), Example: "  tinbell tag " + use +
		" boarding --dataset 'ops.boarding*' --monitor gate-nulls",
		RunE: func(c *cobra.Command, args []string) error {
			change := httpapi.TagChange{On: things}
			if off {
				change = httpapi.TagChange{Off: things}
			}
			if len(things.Datasets)+len(things.Metrics)+len(things.Monitors) == 0 {
				return wrongUsage{fmt.Errorf("nothing is named: give --dataset, --metric or --monitor")}
			}
			var t record.Tag
			if err := a.client().Send(c.Context(), "PATCH", "/tags/"+url.PathEscape(args[0]), change, &t); err != nil {
				return err
			}
			a.say("%s: %s, %s, %s.", t.Name, words.Plural(len(t.Datasets), "dataset"), words.Plural(len(t.Metrics), "metric"),
				words.Plural(len(t.Monitors), "monitor"))
			return nil
		}}
	f := c.Flags()
	f.StringArrayVar(&things.Datasets, "dataset", nil, "names or patterns such as ops.*")
	f.StringArrayVar(&things.Metrics, "metric", nil, "names or patterns")
	f.StringArrayVar(&things.Monitors, "monitor", nil, "names or patterns")
	return c
}
