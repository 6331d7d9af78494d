package cli

import (
	"fmt"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"tinbell/internal/config"
	"tinbell/internal/health"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/watch"
	"tinbell/internal/words"
)

func (a *app) slaCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "How SLAs stand now, and how they were kept", Args: exactly(0, "nothing"),
		Example: "  tinbell sla list",
		RunE: func(c *cobra.Command, _ []string) error {
			var list []health.Promise
			if err := a.client().Get(c.Context(), "/slas", nil, &list); err != nil {
				return err
			}
			l := listing{head: []string{"sla", "dataset", "promise", "state", "so far", "chance", "next by", "this month",
				"kept"}, right: []int{5, 6}, raw: list,
				none: "No SLA yet. Add one: tinbell sla set parcels landing.parcels --files 5 --by 06:30 --days mon-fri"}
			for _, p := range list {
				chance, next, month := "–", "–", "–"
				if p.Standing == "on pace" || p.Standing == "behind" {
					chance = words.Percent(p.Probability)
				}
				if p.NextTo != nil {
					next = a.local(*p.NextTo, p.Zone)
				}
				met, due := 0, 0
				for _, m := range p.Months {
					met, due = met+m.Met, due+m.Due
					month = fmt.Sprintf("%d of %d", m.Met, m.Due)
				}
				l.rows = append(l.rows, []string{p.Name, p.Dataset, promised(p.SLA), p.Standing, words.Number(p.Have) + " of " +
					words.Number(p.AtLeast), chance, next, month, fmt.Sprintf("%d of %d", met, due)})
			}
			return a.show(l)
		}}
	return group("sla", "Promises of at least so much within a window", list, a.slaShow(), a.slaSet(), a.slaRemove())
}

// promised says a promise in words.
func promised(s record.SLA) string {
	text := fmt.Sprintf("%s by %s", watch.Amount(s.AtLeast, s.Counts), config.Clock(s.ToMinute))
	if s.FromMinute != 0 {
		text = fmt.Sprintf("%s %s to %s", watch.Amount(s.AtLeast, s.Counts), config.Clock(s.FromMinute), config.Clock(s.ToMinute))
	}
	if s.Segment != "" {
		text += ", " + s.Segment
	}
	return text + ", " + s.Days
}

func (a *app) slaShow() *cobra.Command {
	return &cobra.Command{Use: "show NAME", Short: "Show an SLA: how it stands, by month, and its last windows",
		Args: exactly(1, "NAME"), Example: "  tinbell sla show parcels",
		RunE: func(c *cobra.Command, args []string) error {
			var list []health.Promise
			if err := a.client().Get(c.Context(), "/slas", nil, &list); err != nil {
				return err
			}
			for _, p := range list {
				if p.Name != args[0] {
					continue
				}
				if done, err := a.data(p); done {
					return err
				}
				a.printf("%s.\n%s of %s, times in %s.\n\n", p.Sentence, promised(p.SLA), p.Dataset, p.Zone)
				months := listing{head: []string{"month", "met", "due", "kept"}, right: []int{2, 3, 4}, none: "No window has ended yet."}
				for _, m := range p.Months {
					months.rows = append(months.rows, []string{m.Month, fmt.Sprint(m.Met), fmt.Sprint(m.Due), words.Percent(m.Share)})
				}
				if err := a.show(months); err != nil {
					return err
				}
				a.printf("\n")
				days := listing{head: []string{"day", "state", "had", "of", "met at"}, right: []int{3, 4}, none: ""}
				for i := len(p.Windows) - 1; i >= 0; i-- {
					d := p.Windows[i]
					days.rows = append(days.rows, []string{d.Day.Format("Mon 2 Jan"), d.Standing, words.Number(d.Have),
						words.Number(d.AtLeast), a.optional(d.MetAt, p.Zone, "–")})
				}
				return a.show(days)
			}
			return a.client().Get(c.Context(), "/slas/"+url.PathEscape(args[0]), nil, nil)
		}}
}

func (a *app) slaSet() *cobra.Command {
	var in httpapi.NewSLA
	var rows, loads, files float64
	var from, by, lead string
	c := &cobra.Command{Use: "set NAME DATASET",
		Short: "Add an SLA or replace the one of that name; its past is looked at at once", Args: exactly(2, "NAME DATASET"),
		Example: "  tinbell sla set parcels landing.parcels --files 5 --by 06:30 --days mon-fri --lead 2h\n  tinbell sla set evening-sales ops.ticket_sales --rows 400 --from 17:00 --by 22:00",
		RunE: func(c *cobra.Command, args []string) error {
			in.Name, in.Dataset = args[0], args[1]
			given := 0
			for counts, n := range map[string]float64{"rows": rows, "loads": loads, "files": files} {
				if n != 0 {
					in.Counts, in.AtLeast = counts, n
					given++
				}
			}
			if given != 1 || by == "" {
				return wrongUsage{fmt.Errorf("give one of --rows, --loads and --files, and --by")}
			}
			var err error
			if in.FromMinute, in.ToMinute, err = config.Window(from, by); err != nil {
				return wrongUsage{err}
			}
			if lead != "" {
				if in.LeadSeconds, err = seconds(lead); err != nil {
					return err
				}
			}
			var s record.SLA
			if err := a.client().Send(c.Context(), "POST", "/slas", in, &s); err != nil {
				return err
			}
			a.say("%s: %s. See how it was kept: tinbell sla show %s", s.Name, promised(s), s.Name)
			return nil
		}}
	f := c.Flags()
	f.Float64Var(&rows, "rows", 0, "at least so many rows")
	f.Float64Var(&loads, "loads", 0, "at least so many loads")
	f.Float64Var(&files, "files", 0, "at least so many files")
	f.StringVar(&from, "from", "", "time of the day from which it counts; 00:00 if left out")
	f.StringVar(&by, "by", "", "time of the day by which it is due; before --from it is the next day")
	f.StringVar(&in.Days, "days", "", "as mon-fri or sat,sun; every day if left out")
	f.StringVar(&in.Zone, "zone", "", "the dataset's if left out")
	f.StringVar(&in.Segment, "segment", "", "only files with this value in their path")
	f.StringVar(&lead, "lead", "", "how long before the end it may be told to be behind; 1h if left out")
	f.StringSliceVar((*[]string)(&in.Calendars), "calendar", nil, "calendars whose days are exceptions; all if left out")
	f.StringVar(&in.Owner, "owner", "", "who hears of it; the dataset's if left out")
	return c
}

func (a *app) slaRemove() *cobra.Command {
	return &cobra.Command{Use: "remove NAME", Short: "Remove an SLA with its past", Args: exactly(1, "NAME"),
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.client().Send(c.Context(), "DELETE", "/slas/"+url.PathEscape(args[0]), nil, nil); err != nil {
				return err
			}
			a.say("SLA %s is removed.", strings.TrimSpace(args[0]))
			return nil
		}}
}
