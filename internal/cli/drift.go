package cli

import (
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tinbell/core/drift"
	"tinbell/internal/compare"
	"tinbell/internal/draw"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/words"
)

func (a *app) driftCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "All drift comparisons: what their last periods showed",
		Args: exactly(0, "nothing"), Example: "  tinbell drift list",
		RunE: func(c *cobra.Command, _ []string) error {
			var list []compare.Summary
			if err := a.client().Get(c.Context(), "/drift", nil, &list); err != nil {
				return err
			}
			l := listing{head: []string{"comparison", "dataset", "by", "state", "last period", "rows", "over", "separability",
				"limit"}, right: []int{6, 7, 8, 9}, raw: list,
				none: "No comparison yet. Add one: tinbell drift set noshow ml.noshow_features --time scored_at"}
			for _, s := range list {
				row := []string{s.Name, s.Dataset, s.Settings.Period, s.State, "–", "–", "–", "–", "–"}
				if p := s.Last; p != nil {
					row[4], row[5], row[6] = stretch(p.From, p.To, s.Zone), words.Number(float64(p.Found.Rows)),
						fmt.Sprintf("%d of %d", p.Found.Over, len(p.Found.Features))
					if v := p.Found.Separability; v != nil {
						row[7], row[8] = fmt.Sprintf("%.2f", v.Score), fmt.Sprintf("%.2f", v.Limit)
					}
				}
				l.rows = append(l.rows, row)
			}
			return a.show(l)
		}}
	return group("drift", "Compare what rows are like with a reference: features, pairs, models", list, a.driftSet(),
		a.driftRun(), a.driftShow(), a.driftPlot(), a.driftReference(), a.driftExport(), a.driftRemove(), a.driftCompare())
}

// lined writes each sentence on a line of its own.
func lined(text string) string { return strings.ReplaceAll(text, ". ", ".\n") }

// stretch writes the first and last day of a period.
func stretch(from, to time.Time, zone string) string {
	z, err := time.LoadLocation(zone)
	if err != nil {
		z = time.UTC
	}
	first, last := from.In(z), to.In(z).Add(-12*time.Hour)
	if first.Format(time.DateOnly) == last.Format(time.DateOnly) {
		return first.Format("2 Jan")
	}
	return first.Format("2 Jan") + " to " + last.Format("2 Jan")
}

// bindComparison makes flags of what can be said of any comparison.
func bindComparison(c *cobra.Command, s *record.ComparisonSettings) {
	f := c.Flags()
	f.StringVar(&s.TimeColumn, "time", "", "column with each row's time")
	f.StringSliceVar((*[]string)(&s.Features), "feature", nil, "columns to compare; all that can be if left out")
	f.StringSliceVar((*[]string)(&s.LeaveOut), "leave-out", nil, "columns not to compare")
	f.BoolVar(&s.Independent, "independent", false, "rows are independent of each other: limits follow from their numbers alone")
	f.Float64Var(&s.Accept, "accept", 0, "share of clean features and periods that may be flagged (0.001)")
	f.IntVar(&s.SampleRows, "sample", 0, "rows a side for the classifier (3000)")
	f.Uint64Var(&s.Seed, "seed", 0, "of the sample and the classifier")
	f.StringVar(&s.Score, "score", "", "column with a model's score")
	f.StringVar(&s.Version, "version", "", "column with the model's version")
	f.StringVar(&s.Outcome, "outcome", "", "column that tells what came true")
	f.StringVar(&s.Key, "key", "", "column that tells which rows of two versions are the same case")
	f.Float64Var(&s.Threshold, "threshold", 0, "score from which a row counts as positive (0.5)")
	f.StringVar(&s.ReferenceFrom, "reference-from", "", "first day of the reference, as 2026-08-01")
	f.StringVar(&s.ReferenceTo, "reference-to", "", "last day of the reference")
}

func (a *app) driftSet() *cobra.Command {
	in := httpapi.NewComparison{}
	try := false
	c := &cobra.Command{Use: "set NAME DATASET", Short: "Add a drift comparison or replace the one of that name",
		Args: exactly(2, "NAME DATASET"),
		Long: `Compares a dataset's rows with a reference, each day, week or month. The dataset
is a table of a warehouse or a set of CSV or Parquet files; --query takes the rows
of a query instead. The reference is a span of days (without one, the first 28
with rows), the days before each period (--moving), another dataset or a query.

With --try nothing is kept: it tells what would be compared, and why not.`,
		Example: "  tinbell drift set noshow ml.noshow_features --time scored_at --score score --version model_version --outcome no_show\n  tinbell drift set fares ops.ticket_sales --time sold_at --by day --moving 28d --feature fare_minor\n  tinbell drift set noshow ml.noshow_features --time scored_at --try",
		RunE: func(c *cobra.Command, args []string) error {
			in.Name, in.Dataset = args[0], args[1]
			if text, _ := c.Flags().GetString("moving"); text != "" {
				length, err := seconds(text)
				if err != nil {
					return err
				}
				in.ReferenceDays = int(length / 86400)
			}
			path := "/drift"
			if try {
				path = "/drift/proposals"
			}
			var v record.Comparison
			if err := a.client().Send(c.Context(), "POST", path, in, &v); err != nil {
				return err
			}
			l := listing{head: []string{"column", "kind", "compared"}, raw: v}
			for _, f := range v.Features {
				how := map[bool]string{true: "yes", false: "no: " + f.Why}[f.Why == ""]
				if f.Role == "score" {
					how = "yes, as the model's answer"
				}
				l.rows = append(l.rows, []string{f.Name, string(f.Kind), how})
			}
			if err := a.show(l); err != nil {
				return err
			}
			if !try {
				a.say("\n%s: %d features by %s. It is being computed; see it: tinbell drift show %s", v.Name,
					len(compare.Compared(v.Features)), v.Settings.Period, v.Name)
			}
			return nil
		}}
	bindComparison(c, &in.ComparisonSettings)
	f := c.Flags()
	f.StringVar(&in.Period, "by", "week", "day, week or month")
	f.StringVar(&in.Query, "query", "", "SQL whose rows are compared instead of the dataset's own")
	f.String("moving", "", "a moving reference: so many days before each period, as 28d")
	f.StringVar(&in.ReferenceDataset, "reference-dataset", "", "the reference is this dataset")
	f.StringVar(&in.ReferenceQuery, "reference-query", "", "the reference is the rows of this SQL")
	f.StringVar(&in.Owner, "owner", "", "who hears of its alerts; the dataset's owner if left out")
	f.BoolVar(&try, "try", false, "keep nothing, only tell what would be compared")
	return c
}

func (a *app) driftRun() *cobra.Command {
	order := httpapi.DriftOrder{}
	c := &cobra.Command{Use: "run NAME", Short: "Judge the periods that are new, or all anew", Args: exactly(1, "NAME"),
		Example: "  tinbell drift run noshow\n  tinbell drift run noshow --all",
		RunE: func(c *cobra.Command, args []string) error {
			var begun httpapi.Started
			if err := a.client().Send(c.Context(), "POST", "/drift/"+url.PathEscape(args[0])+"/run", order, &begun); err != nil {
				return err
			}
			if err := a.client().Follow(c.Context(), begun.TaskID, a.bar("comparing "+args[0])); err != nil {
				return err
			}
			return a.driftSays(c, args[0])
		}}
	c.Flags().BoolVar(&order.All, "all", false, "read and judge all periods anew")
	return c
}

func (a *app) driftSays(c *cobra.Command, name string) error {
	var m compare.Matrix
	if err := a.client().Get(c.Context(), "/drift/"+url.PathEscape(name), nil, &m); err != nil {
		return err
	}
	a.say("%s.", m.Sentence)
	if m.Detail != "" {
		a.say("%s", lined(m.Detail))
	}
	return nil
}

// driftAsked is which periods and features a command is about.
type driftAsked struct {
	period, feature, since string
	pair                   []string
	pairs, models          bool
}

func (d *driftAsked) bind(c *cobra.Command) {
	c.Flags().StringVar(&d.period, "period", "", "a day in the period, as 2026-11-02; the last if left out")
	c.Flags().StringVar(&d.feature, "feature", "", "one feature, with all its measures")
}

func (d *driftAsked) query() (url.Values, error) {
	q := url.Values{}
	if d.period != "" {
		at, err := time.Parse(time.DateOnly, d.period)
		if err != nil {
			return nil, wrongUsage{fmt.Errorf("--period %s: a day as 2026-11-02", d.period)}
		}
		q.Set("at", at.Add(12*time.Hour).Format(time.RFC3339))
	}
	return q, nil
}

func (a *app) driftShow() *cobra.Command {
	var d driftAsked
	c := &cobra.Command{Use: "show NAME", Short: "Features by period; one feature, the pairs or the model of a period",
		Args:    exactly(1, "NAME"),
		Example: "  tinbell drift show noshow\n  tinbell drift show noshow --feature lead_time_hours --period 2026-11-02\n  tinbell drift show noshow --pairs\n  tinbell drift show noshow --pair lead_time_hours,party_size\n  tinbell drift show noshow --models",
		RunE: func(c *cobra.Command, args []string) error {
			q, err := d.query()
			if err != nil {
				return err
			}
			base := "/drift/" + url.PathEscape(args[0])
			if d.period != "" && d.feature == "" && !d.pairs && !d.models && len(d.pair) == 0 {
				return wrongUsage{fmt.Errorf("--period goes with --feature, --pairs, --pair or --models; without them all periods are shown")}
			}
			switch {
			case d.feature != "":
				var v compare.Distributions
				if err := a.client().Get(c.Context(), base+"/features/"+url.PathEscape(d.feature), q, &v); err != nil {
					return err
				}
				return a.showFeature(v)
			case len(d.pair) > 0:
				if len(d.pair) != 2 {
					return wrongUsage{fmt.Errorf("--pair %s: two features, as lead_time_hours,party_size", strings.Join(d.pair, ","))}
				}
				q.Set("first", d.pair[0])
				q.Set("second", d.pair[1])
				var v compare.PairView
				if err := a.client().Get(c.Context(), base+"/pair", q, &v); err != nil {
					return err
				}
				return a.showPair(v)
			case d.pairs:
				var p record.DriftPeriod
				if err := a.client().Get(c.Context(), base+"/period", q, &p); err != nil {
					return err
				}
				return a.show(pairsListing(p))
			case d.models:
				var v compare.ModelView
				if err := a.client().Get(c.Context(), base+"/models", q, &v); err != nil {
					return err
				}
				return a.showModels(v)
			}
			if d.since != "" {
				from, err := ago(d.since, time.Now())
				if err != nil {
					return err
				}
				q.Set("from", from.Format(time.RFC3339))
			}
			var m compare.Matrix
			if err := a.client().Get(c.Context(), base, q, &m); err != nil {
				return err
			}
			return a.showMatrix(m)
		}}
	d.bind(c)
	c.Flags().StringVar(&d.since, "since", "", "periods that began since then, as 60d")
	c.Flags().BoolVar(&d.pairs, "pairs", false, "the pairs of features that changed most")
	c.Flags().StringSliceVar(&d.pair, "pair", nil, "any two features together, as a heat map")
	c.Flags().BoolVar(&d.models, "models", false, "the model's versions")
	return c
}

// matrixPeriods is how many periods fit a terminal.
const matrixPeriods = 8

func (a *app) showMatrix(m compare.Matrix) error {
	if len(m.Periods) == 0 {
		if done, err := a.data(m); done {
			return err
		}
		a.say("%s.", m.Sentence)
		return nil
	}
	a.say("%s.\n%s\n", m.Sentence, lined(m.Detail))
	from := max(0, len(m.Periods)-matrixPeriods)
	if a.output != "table" {
		from = 0
	}
	l := listing{head: []string{"feature", "importance"}, right: []int{2}, raw: m}
	row, whole := []string{"separability", ""}, []string{"all together", ""}
	for i, p := range m.Periods[from:] {
		z, err := time.LoadLocation(m.Zone)
		if err != nil {
			z = time.UTC
		}
		head := p.Name
		if head == "" {
			head = p.From.In(z).Format("2 Jan")
		}
		l.head, l.right = append(l.head, head), append(l.right, i+3)
		whole = append(whole, map[string]string{drift.Over: "over!", drift.AsExpected: "–"}[p.State])
		cell := "–"
		if s := p.Separability; s != nil {
			cell = fmt.Sprintf("%.2f", s.Score)
			if s.Score > s.Limit {
				cell += "!"
			}
		}
		row = append(row, cell)
	}
	l.rows = append(l.rows, whole, row)
	for _, r := range m.Rows {
		row := []string{r.Feature, words.Percent(r.Importance)}
		if r.Role != "" {
			row[1] = "answer"
		}
		for _, cell := range r.Cells[from:] {
			row = append(row, ratio(cell.State, cell.Ratio))
		}
		l.rows = append(l.rows, row)
	}
	if err := a.show(l); err != nil {
		return err
	}
	a.say("\nHow much of its limit a feature has used; ! over the limit. Against %s, by %s.",
		stretch(m.Referred.From, m.Referred.To, m.Zone), m.Settings.Period)
	return nil
}

// ratio writes how much of its limit something has used.
func ratio(state string, r float64) string {
	switch state {
	case drift.Over:
		return fmt.Sprintf("%.1f!", r)
	case drift.AsExpected:
		return fmt.Sprintf("%.1f", r)
	}
	return "few"
}

func (a *app) driftPlot() *cobra.Command {
	var d driftAsked
	c := &cobra.Command{Use: "plot NAME FILE",
		Short:   "Draw the matrix of features by period, or one feature's distributions, to FILE.png or FILE.svg",
		Args:    exactly(2, "NAME FILE"),
		Example: "  tinbell drift plot noshow matrix.png\n  tinbell drift plot noshow lead.png --feature lead_time_hours --period 2026-11-02",
		RunE: func(c *cobra.Command, args []string) error {
			q, err := d.query()
			if err != nil {
				return err
			}
			base := "/drift/" + url.PathEscape(args[0])
			if d.feature != "" {
				var v compare.Distributions
				if err := a.client().Get(c.Context(), base+"/features/"+url.PathEscape(d.feature), q, &v); err != nil {
					return err
				}
				if err := draw.Distributions(v, args[1]); err != nil {
					return err
				}
			} else {
				var m compare.Matrix
				if err := a.client().Get(c.Context(), base, nil, &m); err != nil {
					return err
				}
				if err := draw.Matrix(m, args[1]); err != nil {
					return err
				}
			}
			a.say("Drawn to %s.", args[1])
			return nil
		}}
	d.bind(c)
	return c
}

func (a *app) driftReference() *cobra.Command {
	var in httpapi.NewReference
	c := &cobra.Command{Use: "reference NAME", Short: "Compare with other days from now on; all periods are judged anew",
		Args: exactly(1, "NAME"), Example: "  tinbell drift reference noshow --from 2026-10-05 --to 2026-11-01",
		RunE: func(c *cobra.Command, args []string) error {
			if in.From == "" || in.To == "" {
				return wrongUsage{fmt.Errorf("give --from and --to, as 2026-10-05")}
			}
			if err := a.client().Send(c.Context(), "POST", "/drift/"+url.PathEscape(args[0])+"/reference", in, nil); err != nil {
				return err
			}
			a.say("%s starts from %s to %s now. It is being computed.", args[0], in.From, in.To)
			return nil
		}}
	c.Flags().StringVar(&in.From, "from", "", "first day")
	c.Flags().StringVar(&in.To, "to", "", "last day")
	return c
}

func (a *app) driftExport() *cobra.Command {
	return a.export("export NAME", "Write every figure of a comparison: period, feature, measure, value, limit",
		"/drift/%s/export", "  tinbell drift export noshow --file noshow.parquet", 1, nil)
}

func (a *app) driftRemove() *cobra.Command {
	return &cobra.Command{Use: "remove NAME", Short: "Remove a comparison; its series and their alerts stay",
		Args: exactly(1, "NAME"), RunE: func(c *cobra.Command, args []string) error {
			if err := a.client().Send(c.Context(), "DELETE", "/drift/"+url.PathEscape(args[0]), nil, nil); err != nil {
				return err
			}
			a.say("Comparison %s is removed.", args[0])
			return nil
		}}
}
