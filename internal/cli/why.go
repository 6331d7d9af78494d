package cli

import (
	"cmp"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tinbell/internal/collect/warehouse"
	"tinbell/internal/diagnose"
	"tinbell/internal/draw"
	"tinbell/internal/record"
	"tinbell/internal/words"
)

func (a *app) alertWhy() *cobra.Command {
	var listing, picture string
	var limit int
	c := &cobra.Command{Use: "why ID", Short: "Say why an alert rang: segments behind it, what broke with it, lineage, precedents, and SQL for its rows", Args: exactly(1, "ID"),
		Long: `Asks the warehouse, read-only and for ten seconds at most, which segments are behind
the change; compares every other series with its own past; and draws the lineage
around it. What cannot be found out says why not.

--rows runs one of the listings that it prints (by its name) and shows the rows.
They are not kept, and the audit trail says who looked.`,
		Example: "  tinbell alert why 23\n  tinbell alert why 23 --plot segments.png\n  tinbell alert why 23 --rows nulls --limit 20",
		RunE: func(c *cobra.Command, args []string) error {
			path := "/alerts/" + url.PathEscape(args[0])
			if listing != "" {
				return a.alertRows(c, path, listing, limit)
			}
			var w diagnose.Why
			if err := a.client().Get(c.Context(), path+"/why", nil, &w); err != nil {
				return err
			}
			if picture != "" {
				if w.Contribution == nil {
					return fmt.Errorf("there are no segments to draw: %s", w.Missing["contribution"])
				}
				if err := draw.Contribution(*w.Contribution, cmp.Or(w.Line, "No segment stands out"), picture); err != nil {
					return err
				}
				a.say("Drawn to %s", picture)
			}
			if done, err := a.data(w); done {
				return err
			}
			return a.showWhy(w)
		}}
	c.Flags().StringVar(&picture, "plot", "", "draw the segments behind the change to FILE.png or FILE.svg")
	c.Flags().StringVar(&listing, "rows", "", "run the listing of this name and show its rows")
	c.Flags().IntVar(&limit, "limit", 100, "rows at most, up to 500")
	return c
}

func (a *app) alertRows(c *cobra.Command, path, listing string, limit int) error {
	var found warehouse.Found
	if err := a.client().Send(c.Context(), "POST", path+"/rows", map[string]any{"listing": listing, "limit": limit}, &found); err != nil {
		return err
	}
	if err := a.show(tableOf(found)); err != nil {
		return err
	}
	if found.More {
		a.say("There are more; --limit shows up to 500.")
	}
	return nil
}

func tableOf(found warehouse.Found) listing {
	return listing{head: found.Columns, rows: found.Rows, raw: found, none: "There is no such row."}
}

// showWhy prints a diagnosis part by part.
func (a *app) showWhy(w diagnose.Why) error {
	if w.Line != "" {
		a.printf("%s.\n\n", w.Line)
	}
	a.printf("From %s to %s.\n", a.local(w.From, w.Zone), a.local(w.To, w.Zone))
	part := func(title, name string, there bool) bool {
		a.printf("\n%s\n", title)
		if why := w.Missing[name]; why != "" {
			a.printf("  not known: %s\n", why)
			return false
		}
		return there
	}
	if c := w.Contribution; part("Segments behind it", "contribution", c != nil) {
		if len(c.Parts) == 0 {
			a.printf("  no segment stands out, by %s\n", words.List(c.Columns))
		}
		if c.Sampled < 1 {
			a.printf("  from %s of the rows, scaled up\n", words.Percent(c.Sampled))
		}
		for _, p := range c.Parts {
			a.printf("  %s (%.0f %% of all that %s)\n", p.Says, 100*p.Share, c.Way)
		}
		if len(c.By) > 0 {
			l := listing{head: []string{c.By[0].Column, "observed", "expected", "of all that " + c.Way, "z"}, right: []int{2, 3, 4, 5}}
			for _, p := range c.By[0].Values {
				observed, expected := words.NumbersApart(p.Observed, p.Expected)
				if c.Measure == "share" {
					observed, expected = words.Apart(p.Observed, p.Expected)
				}
				share := "–" // it moved the other way
				if p.Share > 0 {
					share = fmt.Sprintf("%.0f %%", 100*p.Share)
				}
				l.rows = append(l.rows, []string{p.Tags[0].Value, observed, expected, share, fmt.Sprintf("%+.1f", p.Z)})
			}
			if err := a.show(l); err != nil {
				return err
			}
			if c.Measure == "share" || c.Measure == "mean" {
				change := c.Observed - c.Expected
				if change != 0 {
					a.printf("  %.0f %% of the change is in the values' own figures, %.0f %% in how rows are spread over them\n",
						100*c.By[0].Rate/change, 100*c.By[0].Mix/change)
				}
			}
		}
	}
	if t := w.Together; part("What broke at the same time", "together", t != nil) {
		a.printf("  %d of %s series\n", t.Broken, words.Number(float64(t.Series)))
		for _, s := range t.Shared {
			a.printf("  %s = %s: %d broken and %d sound; elsewhere %d and %d\n", s.Column, s.Value, s.Broken, s.Sound,
				s.OtherBroken, s.OtherSound)
		}
		l := listing{head: []string{"series", "segment", "dataset", "now", "usually", "z", "alert"}, right: []int{4, 5, 6},
			none: "  Nothing else broke."}
		for _, b := range t.Most {
			l.rows = append(l.rows, []string{b.Metric, orNone(b.Segment), b.Dataset, amountOf(b.Kind, b.Now),
				amountOf(b.Kind, b.Usual), fmt.Sprintf("%+.1f", b.Z), numbered(b.Alert)})
		}
		if err := a.show(l); err != nil {
			return err
		}
	}
	if s := w.Lineage; part("Upstream and downstream", "lineage", s != nil) {
		for _, n := range s.Nodes {
			mark, note := "sound", ""
			if n.Since != nil {
				mark, note = "broken since "+a.local(*n.Since, w.Zone), ": "+n.Told
			}
			if n.Name == s.First {
				mark += ", first"
			}
			a.printf("  %s%s  %s%s\n", strings.Repeat("  ", n.Depth-s.Nodes[0].Depth), n.Name, mark, note)
		}
		for _, r := range s.Runs {
			a.printf("  run of %s, which writes %s: %s (%s)\n", r.Job, r.Dataset, r.Says, a.optional(r.At, w.Zone, "not ended"))
		}
		for _, c := range s.Shape {
			a.printf("  columns of %s changed %s: %s\n", c.Dataset, a.local(c.At, w.Zone), c.Says)
		}
	}
	if part("Seen before", "before", true) {
		for _, p := range w.Before {
			took := ""
			if p.Seconds > 0 {
				took = ", took " + words.Seconds(p.Seconds)
			}
			a.printf("  %s  %s%s%s (%s)\n", a.local(p.StartedAt, w.Zone), p.Title, because(p.Cause), took, strings.Join(p.Alike, ", "))
		}
	}
	if part("Rows", "listings", true) {
		for _, l := range w.Listings {
			a.printf("  %s (--rows %s)\n    %s\n", l.Title, l.Name, strings.ReplaceAll(l.SQL, "\n", "\n    "))
		}
	}
	return nil
}

// amountOf writes a value of a kind.
func amountOf(kind string, x float64) string {
	switch kind {
	case "share":
		return words.Percent(x)
	case "duration":
		return words.Seconds(x)
	}
	return words.Number(x)
}

func because(cause string) string {
	if cause == "" {
		return ""
	}
	return ": " + cause
}

func (a *app) hideCommand() *cobra.Command {
	var none bool
	c := &cobra.Command{Use: "hide NAME COLUMN...",
		Short: "Say which columns of a dataset are never shown, instead of those said before", Args: cobra.MinimumNArgs(1),
		Example: "  tinbell dataset hide ops.ticket_sales passenger_name email\n  tinbell dataset hide ops.ticket_sales --none",
		RunE: func(c *cobra.Command, args []string) error {
			if none == (len(args) > 1) {
				return wrongUsage{fmt.Errorf("give the columns that are never shown, or --none")}
			}
			var d record.Dataset
			columns := slices.Clone(args[1:])
			if columns == nil {
				columns = []string{}
			}
			if err := a.client().Send(c.Context(), "PUT", "/datasets/"+url.PathEscape(args[0])+"/hidden",
				map[string]any{"columns": columns}, &d); err != nil {
				return err
			}
			if len(d.Hidden) == 0 {
				a.say("All columns of %s may be shown.", d.Name)
				return nil
			}
			a.say("Of %s these are never shown: %s.", d.Name, words.List(d.Hidden))
			return nil
		}}
	c.Flags().BoolVar(&none, "none", false, "all may be shown")
	return c
}

// numbered writes a number; a dash where there is none.
func numbered(id int64) string {
	if id == 0 {
		return "–"
	}
	return fmt.Sprint(id)
}
