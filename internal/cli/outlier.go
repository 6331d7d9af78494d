package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"math"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tinbell/core/outlier"
	"tinbell/internal/compare"
	"tinbell/internal/diagnose"
	"tinbell/internal/draw"
	"tinbell/internal/study"
	"tinbell/internal/words"
)

// limits are from where on a value stands out, as options.
type limits struct {
	outlier.Options
	low, high float64
	most      int
	file      string
}

func (l *limits) bind(c *cobra.Command) {
	f := c.Flags()
	f.Float64Var(&l.Z, "z", 3, "standard deviations from the mean")
	f.Float64Var(&l.Modified, "modified", 3.5, "modified z: 0.6745 of the distance from the median over the MAD")
	f.Float64Var(&l.Fence, "fence", 1.5, "interquartile ranges beyond the quartiles")
	f.Float64Var(&l.low, "low", math.NaN(), "lowest value allowed")
	f.Float64Var(&l.high, "high", math.NaN(), "highest value allowed")
	f.IntVar(&l.most, "limit", 20, "list at most so many")
	f.StringVar(&l.file, "plot", "", "draw the values with the rules' limits to FILE.png or FILE.svg")
}

func (l *limits) options() outlier.Options {
	o := l.Options
	o.Low, o.High = bound(l.low), bound(l.high)
	return o
}

func (a *app) outlierCommand() *cobra.Command {
	return group("outliers", "Which values stand out, by several rules side by side", a.outliersOfMetric(), a.outliersOfTable(),
		a.outliersOfFile())
}

func (a *app) outliersOfMetric() *cobra.Command {
	var l limits
	var since, until, segment string
	c := &cobra.Command{Use: "metric METRIC", Short: "Which samples of a metric stand out, segment by segment", Args: exactly(1, "METRIC"),
		Long: `Each segment by itself; where hour and weekday explain its values, each is judged by
its own, and that is said. z, modified z, quartile fences and the allowed range stand
side by side with their limits; mean, median and sum with and without what stands out.
A rule that cannot find anything, or would find everything, says so.`,
		Example: "  tinbell outliers metric refunds-rows --since 30d\n  tinbell outliers metric boarding-scans-rows --segment Gullstone --since 28d --plot outliers.png",
		RunE: func(c *cobra.Command, args []string) error {
			q := url.Values{"segment": {segment}, "limit": {strconv.Itoa(l.most)}}
			for name, v := range map[string]float64{"z": l.Z, "modified": l.Modified, "fence": l.Fence, "low": l.low, "high": l.high} {
				if !math.IsNaN(v) {
					q.Set(name, strconv.FormatFloat(v, 'g', -1, 64))
				}
			}
			for name, text := range map[string]string{"from": since, "to": until} {
				at, err := ago(text, time.Now())
				if err != nil {
					return err
				}
				if !at.IsZero() {
					q.Set(name, at.Format(time.RFC3339))
				}
			}
			var list []study.OutlierStudy
			if err := a.client().Get(c.Context(), "/metrics/"+url.PathEscape(args[0])+"/outliers", q, &list); err != nil {
				return err
			}
			return a.showOutliers(list, l.file)
		}}
	l.bind(c)
	c.Flags().StringVar(&segment, "segment", "", "of one segment alone")
	c.Flags().StringVar(&since, "since", "28d", "start: a time, or how long ago")
	c.Flags().StringVar(&until, "until", "", "end: a time, or how long ago; now if left out")
	return c
}

func (a *app) outliersOfTable() *cobra.Command {
	var l limits
	var since, until, key, pairs, timeColumn string
	c := &cobra.Command{Use: "table DATASET COLUMN",
		Short: "Which rows of a warehouse table stand out by a column, and the SQL that finds them", Args: exactly(2, "DATASET COLUMN"),
		Long: `The newest 200,000 rows of the stretch are read in the warehouse, judged, and not kept;
the audit trail says who looked. Columns that are never shown are refused.`,
		Example: "  tinbell outliers table ops.ticket_sales fare_minor --since 7d --key channel\n  tinbell outliers table ops.ticket_sales fare_minor --since 7d --pairs channel,passenger_type",
		RunE: func(c *cobra.Command, args []string) error {
			in := map[string]any{"column": args[1], "limit": l.most, "z": l.Z, "modified": l.Modified, "fence": l.Fence}
			for name, text := range map[string]string{"key": key, "time_column": timeColumn} {
				if text != "" {
					in[name] = text
				}
			}
			for name, v := range map[string]float64{"low": l.low, "high": l.high} {
				if !math.IsNaN(v) {
					in[name] = strconv.FormatFloat(v, 'g', -1, 64)
				}
			}
			if pairs != "" {
				first, second, ok := strings.Cut(pairs, ",")
				if !ok {
					return wrongUsage{fmt.Errorf("--pairs %s: give two columns, as route,ship", pairs)}
				}
				in["pairs"] = []string{first, second}
			}
			for name, text := range map[string]string{"from": since, "to": until} {
				at, err := ago(text, time.Now())
				if err != nil {
					return err
				}
				if !at.IsZero() {
					in[name] = at.UTC().Format(time.RFC3339)
				}
			}
			var found diagnose.TableOutliers
			if err := a.client().Send(c.Context(), "POST", "/datasets/"+url.PathEscape(args[0])+"/outliers", in, &found); err != nil {
				return err
			}
			if a.output == "json" && l.file == "" {
				return a.json(found)
			}
			if err := a.showOutliers(found.Studies, l.file); err != nil || l.file != "" {
				return err
			}
			if found.More {
				a.say("Only the newest %s rows were looked at.", words.Number(float64(found.Rows)))
			}
			if found.Few > 0 {
				a.say("%s of %s with fewer than %d rows left out.", words.Agree(found.Few, "value is", "values are"), key, outlier.Least)
			}
			if pairs != "" {
				if err := a.showPairs(pairs, found.Pairs); err != nil {
					return err
				}
			}
			if found.SQL != "" {
				a.say("\n%s", found.SQL)
			}
			return nil
		}}
	l.bind(c)
	f := c.Flags()
	f.StringVar(&since, "since", "28d", "start: a time, or how long ago")
	f.StringVar(&until, "until", "", "end: a time, or how long ago; now if left out")
	f.StringVar(&key, "key", "", "judge the rows of each value of this column by themselves")
	f.StringVar(&pairs, "pairs", "", "two columns, as route,ship: which of their categories seldom meet, given how common each is")
	f.StringVar(&timeColumn, "time-column", "", "with each row's time; that of the dataset's metrics if left out")
	return c
}

// showPairs lists categories that seldom meet in a table.
func (a *app) showPairs(columns string, found []diagnose.OddPair) error {
	first, second, _ := strings.Cut(columns, ",")
	l := listing{head: []string{first, second, "rows", "expected", "p, all pairs allowed for", "newest"}, right: []int{3, 4, 5},
		raw: &found, none: "No two of their categories meet less often than their shares make likely."}
	for _, p := range found {
		l.rows = append(l.rows, []string{orNone(p.First), orNone(p.Second), strconv.Itoa(p.Rows), words.Number(p.Expected),
			fmt.Sprintf("%.2g", p.P), p.At.Format(time.RFC3339)})
	}
	a.say("")
	return a.show(l)
}

func (a *app) outliersOfFile() *cobra.Command {
	var l limits
	var pairs, key string
	c := &cobra.Command{Use: "file FILE COLUMN",
		Short: "Which values of a column of a CSV or Parquet file stand out; without a service", Args: exactly(2, "FILE COLUMN"),
		Example: "  tinbell outliers file sales.csv fare_minor --low 0\n  tinbell outliers file sales.parquet fare_minor --key route --pairs route,ship",
		RunE: func(_ *cobra.Command, args []string) error {
			values, err := compare.Values(args[0], args[1])
			if errors.Is(err, fs.ErrNotExist) {
				return missingFile{err}
			}
			if err != nil {
				return wrongUsage{err}
			}
			list, err := l.ofFile(args[0], args[1], key, values)
			if err != nil {
				return wrongUsage{err}
			}
			if err := a.showOutliers(list, l.file); err != nil || pairs == "" {
				return err
			}
			return a.oddPairs(args[0], pairs)
		}}
	l.bind(c)
	c.Flags().StringVar(&key, "key", "", "judge the values of each value of this column by themselves")
	c.Flags().StringVar(&pairs, "pairs", "", "two columns, as route,ship: which of their categories seldom meet, given how common each is")
	return c
}

// ofFile studies a column, or its values by key.
func (l *limits) ofFile(file, column, key string, values []float64) ([]study.OutlierStudy, error) {
	if key == "" {
		r, err := outlier.Look(values, l.options())
		if err != nil {
			return nil, err
		}
		return []study.OutlierStudy{study.Stand(r, study.OutlierStudy{Of: column}, l.most, func(o outlier.Odd) study.Standing {
			return study.Standing{Place: fmt.Sprint(o.Index + 2)} // the head is the first line
		})}, nil
	}
	keys, err := compare.Categories(file, key)
	if err != nil {
		return nil, err
	}
	var names []string
	rows := map[string][]int{}
	for i, k := range keys {
		if rows[k] == nil {
			names = append(names, k)
		}
		rows[k] = append(rows[k], i)
	}
	var list []study.OutlierStudy
	for _, k := range names {
		own := make([]float64, len(rows[k]))
		for i, row := range rows[k] {
			own[i] = values[row]
		}
		r, err := outlier.Look(own, l.options())
		if err != nil {
			continue // too few of that key
		}
		list = append(list, study.Stand(r, study.OutlierStudy{Of: column + " of " + k}, l.most, func(o outlier.Odd) study.Standing {
			return study.Standing{Place: fmt.Sprint(rows[k][o.Index] + 2)}
		}))
	}
	if len(list) == 0 {
		return nil, fmt.Errorf("no value of %s has the %d rows that it takes", key, outlier.Least)
	}
	return list, nil
}

func (a *app) showOutliers(list []study.OutlierStudy, file string) error {
	if file != "" {
		return a.drawn(file, draw.Outliers(list[0], file))
	}
	if a.output == "json" {
		return a.json(list)
	}
	var all []study.Standing
	l := listing{head: []string{"where", "value", "usual", "z", "modified z", "beyond the quartiles", "by"},
		right: []int{2, 3, 4, 5, 6}, raw: &all, none: "Nothing stands out."}
	more := 0
	for _, s := range list {
		if len(s.Odd) > 0 || len(list) == 1 {
			a.say("%s", s.Sentence)
		}
		for _, r := range s.Rules {
			if r.Word != "" && len(list) == 1 {
				a.say("  %s: %s.", r.Name, r.Word)
			}
		}
		more += s.More
		for _, o := range s.Odd {
			all = append(all, o)
			where := "row " + o.Place
			if o.At != nil {
				where = strings.TrimSpace(o.Place + " " + a.local(*o.At, s.Zone))
			}
			l.rows = append(l.rows, []string{where, amount(o.Value), words.Number(o.Usual), distance(o.Z), distance(o.Modified),
				distance(o.Fences), strings.Join(o.Rules, ", ")})
		}
	}
	if err := a.show(l); err != nil {
		return err
	}
	if more > 0 {
		a.say("%d more stand out: --limit lists more.", more)
	}
	return nil
}

func distance(x *float64) string {
	if x == nil {
		return "no number"
	}
	return fmt.Sprintf("%+.1f", *x)
}

// oddPairs lists categories that seldom meet.
func (a *app) oddPairs(file, columns string) error {
	first, second, ok := strings.Cut(columns, ",")
	if !ok {
		return wrongUsage{fmt.Errorf("--pairs %s: give two columns, as route,ship", columns)}
	}
	x, err := compare.Categories(file, first)
	if err != nil {
		return wrongUsage{err}
	}
	y, err := compare.Categories(file, second)
	if err != nil {
		return wrongUsage{err}
	}
	type pair struct {
		First    string  `json:"first"`
		Second   string  `json:"second"`
		Rows     int     `json:"rows"`
		Expected float64 `json:"expected"`
		P        float64 `json:"p"`
		Row      int     `json:"row"`
	}
	found := []pair{}
	l := listing{head: []string{first, second, "rows", "expected", "p, all pairs allowed for", "first in row"},
		right: []int{3, 4, 5, 6}, raw: &found, none: "No two of their categories meet less often than their shares make likely."}
	for _, p := range outlier.Pairs(x, y, 0.05) {
		found = append(found, pair{p.A, p.B, p.Rows, p.Expected, p.P, p.First + 2})
		l.rows = append(l.rows, []string{orNone(p.A), orNone(p.B), strconv.Itoa(p.Rows), words.Number(p.Expected),
			fmt.Sprintf("%.2g", p.P), strconv.Itoa(p.First + 2)})
	}
	a.say("")
	return a.show(l)
}
