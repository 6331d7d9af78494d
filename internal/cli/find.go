package cli

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"tinbell/internal/record"
)

func (a *app) findCommand() *cobra.Command {
	var limit int
	c := &cobra.Command{Use: "find WORD…",
		Short: "Find datasets, monitors, series, alerts, incidents and sentences of logs by words", Args: cobra.MinimumNArgs(1),
		Example: "  tinbell find gullstone\n  tinbell find boarding volume",
		RunE: func(c *cobra.Command, args []string) error {
			var found []record.Match
			if err := a.client().Get(c.Context(), "/find", url.Values{"words": {strings.Join(args, " ")},
				"limit": {strconv.Itoa(limit)}}, &found); err != nil {
				return err
			}
			l := listing{head: []string{"kind", "name", "dataset", "says"}, raw: found, none: "Nothing has all of these words."}
			for _, f := range found {
				name := f.Name
				if f.Kind == "sentence" {
					name = fmt.Sprintf("%s %d", f.Name, f.Number)
				}
				l.rows = append(l.rows, []string{f.Kind, name, orNone(f.Dataset), f.Says})
			}
			return a.show(l)
		}}
	c.Flags().IntVar(&limit, "limit", 30, "at most so many")
	return c
}
