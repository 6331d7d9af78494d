package cli

import (
	"fmt"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"tinbell/internal/health"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/words"
)

func (a *app) datasetCommand() *cobra.Command {
	health := func(c *cobra.Command, _ []string) error {
		var list []health.Health
		if err := a.client().Get(c.Context(), "/datasets", nil, &list); err != nil {
			return err
		}
		l := listing{head: []string{"dataset", "owner", "rows 24 h", "lowest to highest", "rows 7 d", "rows 30 d", "bytes 7 d",
			"per row", "deviation", "newest load", "next by", "state", "open alerts"},
			right: []int{3, 4, 5, 6, 7, 8, 9, 10}, raw: list, none: "No dataset yet. Add one: tinbell dataset add warehouse schema.table"}
		for _, h := range list {
			age, next, deviation := "–", "–", "–"
			if h.AgeSeconds != nil {
				age = words.Seconds(*h.AgeSeconds)
			}
			if h.Load != nil {
				next = a.local(h.Load.Deadline, h.Dataset.Zone)
			}
			if h.Deviation != nil {
				deviation = fmt.Sprintf("%+.1f", *h.Deviation)
			}
			open := "none"
			if h.Open > 0 {
				open = fmt.Sprintf("%d, %s", h.Open, h.Worst)
			}
			l.rows = append(l.rows, []string{h.Dataset.Name, orNone(h.Dataset.Owner), amount(h.Rows24h),
				between(h.Lowest24h, h.Highest24h), amount(h.Rows7d), amount(h.Rows30d), size(h.Bytes7d), size(h.RowBytes),
				deviation, age, next, h.State, open})
		}
		return a.show(l)
	}
	list := &cobra.Command{Use: "health", Aliases: []string{"list"}, Short: "Ingestion health of all datasets",
		Args: exactly(0, "nothing"), RunE: health}
	var in httpapi.NewDataset
	add := &cobra.Command{Use: "add SOURCE TABLE", Short: "Add a table of a source", Args: exactly(2, "SOURCE TABLE"),
		Example: "  tinbell dataset add vellamar ops.boarding_scans --zone America/Halifax --loaded-by loaded_at --owner 'Harbour data'",
		RunE: func(c *cobra.Command, args []string) error {
			in.Source, in.Name = args[0], args[1]
			var d record.Dataset
			if err := a.client().Send(c.Context(), "POST", "/datasets", in, &d); err != nil {
				return err
			}
			a.say("Dataset %s added. Measure it: tinbell metric add %s NAME --measure rows --time-column …", d.Name, d.Name)
			return nil
		}}
	add.Flags().StringVar(&in.Zone, "zone", "", "time zone of the tz database")
	add.Flags().StringVar(&in.LoadedBy, "loaded-by", "", "column that holds the time of loading")
	add.Flags().StringVar(&in.Pattern, "pattern", "", "of a folder: which files are this dataset's, with * and {dimension}")
	add.Flags().StringVar(&in.Owner, "owner", "", "team that looks after it")
	add.Flags().StringSliceVar((*[]string)(&in.Tags), "tag", nil, "what it is tagged with")
	return group("dataset", "Tables, streams and files", list, a.datasetShow(), add, a.datasetSet(), a.columnsCommand(),
		a.deliveriesCommand(), a.runsOfCommand(), a.lineageCommand(), a.keepCommand(), a.hideCommand(),
		a.removal("dataset", "/datasets/", "with its metrics, samples, monitors and alerts"))
}

// datasetSet changes what people say of a dataset.
func (a *app) datasetSet() *cobra.Command {
	var owner, loadedBy string
	var tags []string
	c := &cobra.Command{Use: "set NAME",
		Short:   "Change whose a dataset is, what it is tagged with, or which column says when its rows were loaded",
		Args:    exactly(1, "NAME"),
		Example: "  tinbell dataset set ops.refunds --owner 'Sales data' --tag money --loaded-by loaded_at",
		RunE: func(c *cobra.Command, args []string) error {
			in := httpapi.DatasetChange{}
			if c.Flags().Changed("owner") {
				in.Owner = &owner
			}
			if c.Flags().Changed("loaded-by") {
				in.LoadedBy = &loadedBy
			}
			if c.Flags().Changed("tag") {
				in.Tags = (*record.Strings)(&tags)
			}
			if in == (httpapi.DatasetChange{}) {
				return wrongUsage{fmt.Errorf("nothing to change: give --owner, --tag or --loaded-by")}
			}
			var d record.Dataset
			if err := a.client().Send(c.Context(), "PATCH", "/datasets/"+url.PathEscape(args[0]), in, &d); err != nil {
				return err
			}
			a.say("%s: owner %s, tags %s, loaded by %s.", d.Name, orNone(d.Owner), orNone(strings.Join(d.Tags, ", ")), orNone(d.LoadedBy))
			return nil
		}}
	c.Flags().StringVar(&owner, "owner", "", "team that looks after it")
	c.Flags().StringVar(&loadedBy, "loaded-by", "", "column that holds the time of loading; '' for none")
	c.Flags().StringSliceVar(&tags, "tag", nil, "all its tags from now on; '' for none")
	return c
}

func size(n *float64) string {
	if n == nil {
		return "–"
	}
	return words.Bytes(*n)
}

func between(low, high *float64) string {
	if low == nil || high == nil {
		return "–"
	}
	return words.Number(*low) + "–" + words.Number(*high)
}

func (a *app) columnsCommand() *cobra.Command {
	return &cobra.Command{Use: "columns NAME", Short: "What a table's columns were, newest first", Args: exactly(1, "NAME"),
		Example: "  tinbell dataset columns ops.boarding_scans",
		RunE: func(c *cobra.Command, args []string) error {
			var versions []record.ColumnVersion
			if err := a.client().Get(c.Context(), "/datasets/"+url.PathEscape(args[0])+"/columns", nil, &versions); err != nil {
				return err
			}
			l := listing{head: []string{"since", "columns", "what changed"}, right: []int{2}, raw: versions,
				none: "Not looked at yet: columns are noted when a metric is collected."}
			for _, v := range versions {
				var changes []string
				for _, x := range v.Changes {
					switch x.What {
					case "retyped":
						changes = append(changes, fmt.Sprintf("%s: %s, was %s", x.Column, x.Is, x.Was))
					default:
						changes = append(changes, x.Column+" "+x.What)
					}
				}
				l.rows = append(l.rows, []string{a.local(v.SeenAt, "UTC"), fmt.Sprint(len(v.Columns)),
					or(strings.Join(changes, "; "), "first seen")})
			}
			return a.show(l)
		}}
}

func (a *app) keepCommand() *cobra.Command {
	var days int
	keep := &cobra.Command{Use: "keep NAME", Short: "Say how long a dataset's samples are kept", Args: exactly(1, "NAME"),
		Example: "  tinbell dataset keep raw.gate_events --days 400",
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.client().Send(c.Context(), "PUT", "/datasets/"+url.PathEscape(args[0])+"/keep",
				map[string]int{"days": days}, nil); err != nil {
				return err
			}
			a.say("%s: %s", args[0], map[bool]string{true: "kept as the service says", false: fmt.Sprintf("kept for %d days",
				days)}[days == 0])
			return nil
		}}
	keep.Flags().IntVar(&days, "days", 0, "0: as the service says")
	return keep
}
