package warehouse

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"tinbell/core/drift"
)

// Counted is what numbers came to over layouts: the rows of each bin, and how
// values are spread.
type Counted struct {
	Bins   []BinCount
	Spread []Spread
}

// BinCount is the rows of a day and column whose numbers lie in one bin; Bin is
// -1 of those without a number, -2 of what is not finite.
type BinCount struct {
	Day    int64
	By     string
	Column int
	Bin    int
	Rows   int64
}

// Spread is the values of a day and column in a few figures; Rows is how many
// there are. Below and Above sum up how far they lie outside the layout's range.
type Spread struct {
	Day            int64
	By             string
	Column         int
	Rows           int64
	Mean, Variance float64
	Min, Max       float64
	Below, Above   float64
}

// setsAtOnce is how many columns are counted in one pass: what GROUPING tells
// apart.
const setsAtOnce = 30

// Numbers counts numbers over layouts, in two passes over the rows of a stretch for
// each thirty columns: one for the bins, each column a grouping set, one for the
// figures.
func (w *Pools) Numbers(ctx context.Context, d Distribution, layouts []*drift.Layout, from, to int64) (c Counted, err error) {
	var numeric []int
	for i, column := range d.Columns {
		if column.Kind.Numeric() {
			numeric = append(numeric, i)
		}
	}
	err = w.read(ctx, d.Source, func(tx pgx.Tx) error {
		// The bins of all columns are counted side by side in memory.
		if _, err := tx.Exec(ctx, "set local work_mem = '64MB'"); err != nil {
			return err
		}
		for some := range slices.Chunk(numeric, setsAtOnce) {
			bins, spread, args := d.numbers(layouts, some, from, to)
			rows, err := tx.Query(ctx, bins, args...)
			if err != nil {
				return err
			}
			counts, err := pgx.CollectRows(rows, pgx.RowToStructByPos[BinCount])
			if err != nil {
				return err
			}
			if rows, err = tx.Query(ctx, spread, args[:len(args)-len(some)]...); err != nil {
				return err
			}
			figures := make([]Spread, len(some))
			into := []any{new(int64), new(string)}
			for k := range figures {
				f := &figures[k]
				into = append(into, &f.Rows, &f.Mean, &f.Variance, &f.Min, &f.Max, &f.Below, &f.Above)
			}
			_, err = pgx.ForEachRow(rows, into, func() error {
				for k, f := range figures {
					f.Day, f.By, f.Column = *into[0].(*int64), *into[1].(*string), some[k]
					c.Spread = append(c.Spread, f)
				}
				return nil
			})
			if err != nil {
				return err
			}
			c.Bins = append(c.Bins, counts...)
		}
		return nil
	})
	return c, err
}

// numbers writes both passes; the arguments end with the edges of each column,
// which the second pass does not need.
func (d Distribution) numbers(layouts []*drift.Layout, columns []int, from, to int64) (bins, spread string, args []any) {
	where, args := d.when(from, to)
	var values, sorted, sets, which, either, figures []string
	for k, i := range columns {
		l := layouts[i]
		args = append(args, l.Edges)
		low, high := math.Inf(-1), math.Inf(1)
		if len(l.Edges) > 0 {
			low, high = l.Edges[0], l.Edges[len(l.Edges)-1]
		}
		x, b := fmt.Sprintf("x%d", k), fmt.Sprintf("b%d", k)
		values = append(values, d.value(d.Columns[i])+" as "+x)
		bin := fmt.Sprintf("width_bucket(%s, $%d::float8[])", x, len(args))
		if len(l.Edges) == 0 {
			bin = fmt.Sprintf("0 * cardinality($%d::float8[])", len(args))
		}
		sorted = append(sorted, fmt.Sprintf("case when %[1]s is null then -1 when %[1]s - %[1]s = 0 then %[3]s else -2 end as %[2]s", x, b, bin))
		sets, either = append(sets, fmt.Sprintf("(day, of, %s)", b)), append(either, b)
		which = append(which, fmt.Sprintf("when grouping(%s) = 0 then %d", b, i))
		// Mean and variance share one running state.
		figures = append(figures, fmt.Sprintf(`count(%[1]s), coalesce(avg(%[1]s), 0), coalesce(var_pop(%[1]s), 0), coalesce(min(%[1]s), 0), coalesce(max(%[1]s), 0),
			coalesce(sum(%[2]s::float8 - %[1]s) filter (where %[1]s < %[2]s::float8), 0), coalesce(sum(%[1]s - %[3]s::float8) filter (where %[1]s > %[3]s::float8), 0)`, x, exact(low), exact(high)))
	}
	rows := fmt.Sprintf("(select %s as day, %s as of, %s from %s where %s offset 0) r", d.midnight(), d.by(d.By),
		strings.Join(values, ", "), d.from(), where)
	bins = fmt.Sprintf(`
		select %s, of, case %s end, coalesce(%s), count(*)
		from (select day, of, %s from %s) q group by grouping sets (%s)`,
		d.unix("day"), strings.Join(which, " "), strings.Join(either, ", "), strings.Join(sorted, ",\n"), rows, strings.Join(sets, ", "))
	for k := range columns {
		values[k] = fmt.Sprintf("case when x%[1]d - x%[1]d = 0 then x%[1]d end as x%[1]d", k)
	}
	spread = fmt.Sprintf(`
		select %s, of, %s from (select day, of, %s from %s) q group by day, of`,
		d.unix("day"), strings.Join(figures, ",\n"), strings.Join(values, ", "), rows)
	return bins, spread, args
}

// exact writes a float so that it is read back as it was.
func exact(x float64) string { return fmt.Sprintf("'%v'", x) }

// WordCount is the rows of a day and column with one value; Word is nil of those
// without one.
type WordCount struct {
	Day    int64
	By     string
	Column int
	Word   *string
	Rows   int64
}

// Words counts values that are no numbers: those that the layout knows one by
// one, and of the others the most frequent of each day.
func (w *Pools) Words(ctx context.Context, d Distribution, layouts []*drift.Layout, from, to int64) (list []WordCount, err error) {
	where, args := d.when(from, to)
	err = w.read(ctx, d.Source, func(tx pgx.Tx) error {
		for i, c := range d.Columns {
			if c.Kind.Numeric() {
				continue
			}
			known := append(append([]string{}, layouts[i].Words...), layouts[i].Rest...)
			rows, err := tx.Query(ctx, fmt.Sprintf(`
				with counted as (
					select %[1]s as day, %[8]s as of, left(%[2]s, 200) as word, count(*) as n from %[3]s where %[4]s group by 1, 2, 3
				), placed as (
					select day, of, word, n, word is null or word = any($%[5]d) as known, row_number() over (partition by day, of, word is null or word = any($%[5]d) order by n desc, word) as place from counted
				)
				select %[9]s, of, %[6]d, case when known or place <= 20 then word else %[7]s end, sum(n)::bigint from placed group by 1, 2, 4`,
				d.midnight(), d.value(c), d.from(), where, len(args)+1, i, literal(unnamed), d.by(d.By), d.unix("day")),
				append(args[:len(args):len(args)], known)...)
			if err != nil {
				return err
			}
			some, err := pgx.CollectRows(rows, pgx.RowToStructByPos[WordCount])
			if err != nil {
				return err
			}
			list = append(list, some...)
		}
		return nil
	})
	return list, err
}

// unnamed stands for the new values beyond the most frequent of a day.
const unnamed = "(other new values)"
