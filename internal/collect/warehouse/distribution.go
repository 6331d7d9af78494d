package warehouse

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"

	"tinbell/core/drift"
	"tinbell/internal/record"
)

// Distribution asks how the values of columns are distributed: of a table or the
// rows of a query, by local day. The counting is done in the warehouse; only
// Sample brings rows, which are not kept.
type Distribution struct {
	Source   record.Source
	Table    string // schema.table, unless there is a query
	Query    string
	Time     string // column with each row's time; empty: all rows are of one day
	TimeType string
	Zone     string
	Columns  []Distributed
	By       string // column that numbers are counted by besides; empty: none
}

// Distributed is one column whose values are counted.
type Distributed struct {
	Name string
	Kind drift.Kind
}

func (d Distribution) from() string {
	if d.Query != "" {
		return "(" + plain(d.Query) + "\n) as rows_of_query" // a comment may end it
	}
	return Table(d.Table)
}

// plain is a query without the semicolon that ends it, and without a comment
// after that.
func plain(query string) string {
	query = strings.TrimSpace(query)
	if at := strings.LastIndex(query, ";"); at >= 0 && strings.Count(query[:at], "'")%2 == 0 {
		if after := strings.TrimSpace(query[at+1:]); after == "" || strings.HasPrefix(after, "--") && !strings.Contains(after, "\n") {
			return query[:at]
		}
	}
	return query
}

func (d Distribution) event() clock { return clock{name(d.Time), d.TimeType, d.Zone} }

// when gives the condition on a row's time, with its arguments.
func (d Distribution) when(from, to int64) (string, []any) {
	if d.Time == "" {
		return "true", nil
	}
	at := func(unix int64) time.Time {
		return time.Unix(min(max(unix, -6e10), 2.5e11), 0).UTC() // within what PostgreSQL can hold
	}
	return d.event().within("$1::timestamptz", "$2::timestamptz"), []any{at(from), at(to)}
}

// by gives the column that is counted by.
func (d Distribution) by(column string) string {
	if column == "" {
		return "''"
	}
	return fmt.Sprintf("coalesce(%s::text, '')", name(column))
}

func (d Distribution) day() string {
	if d.Time == "" {
		return "0::bigint"
	}
	return fmt.Sprintf("extract(epoch from date_trunc('day', %s, %s))::bigint", d.event().instant(), literal(d.Zone))
}

// value is a column as it is counted: a number, or text.
func (d Distribution) value(c Distributed) string {
	column := name(c.Name)
	switch {
	case c.Kind == drift.Number:
		return column + "::double precision"
	case c.Kind == drift.Time && d.Time != "":
		return fmt.Sprintf("(extract(epoch from %s::timestamptz - %s::timestamptz)::double precision / 3600)", column, d.event().column)
	case c.Kind == drift.Time:
		return fmt.Sprintf("(extract(epoch from %s::time)::double precision / 3600)", column)
	}
	return column + "::text"
}

// finite makes what is no number null, and finite what may be neither.
func finite(value string) string {
	return fmt.Sprintf("case when %[1]s in ('NaN', 'Infinity', '-Infinity') then null else %[1]s end", value)
}

// Shape gives the columns of a table or of a query's rows.
func (w *Pools) Shape(ctx context.Context, d Distribution) ([]record.Column, error) {
	var list []record.Column
	err := w.read(ctx, d.Source, func(tx pgx.Tx) error {
		prepared, err := tx.Conn().Prepare(ctx, "", "select * from "+d.from()+" limit 0")
		if err != nil {
			return err
		}
		for _, f := range prepared.Fields {
			var kind string
			if err := tx.QueryRow(ctx, "select format_type($1, null)", f.DataTypeOID).Scan(&kind); err != nil {
				return err
			}
			list = append(list, record.Column{Name: f.Name, Type: kind, Nullable: true})
		}
		return nil
	})
	return list, err
}

// First is the time of the earliest row, Unix seconds; ok is false without rows.
func (w *Pools) First(ctx context.Context, d Distribution) (at int64, ok bool, err error) {
	var first *float64
	err = w.read(ctx, d.Source, func(tx pgx.Tx) error {
		if d.Time == "" {
			return tx.QueryRow(ctx, "select 0::float8 from "+d.from()+" limit 1").Scan(&first)
		}
		return tx.QueryRow(ctx, fmt.Sprintf("select extract(epoch from min(%s))::float8 from %s", d.event().instant(), d.from())).Scan(&first)
	})
	if first == nil {
		return 0, false, err
	}
	return int64(*first), true, err
}

// FeatureKind is what the values of a column of some type are; empty if they are
// not compared.
func FeatureKind(column string) drift.Kind {
	if _, ok := TimeType(column); ok {
		return drift.Time
	}
	base, _, _ := strings.Cut(column, "(")
	switch base {
	case "smallint", "integer", "bigint", "real", "double precision", "numeric":
		return drift.Number
	case "boolean":
		return drift.Boolean
	case "text", "character varying", "character", "uuid", "name", "inet":
		return drift.Category
	case "bytea", "json", "jsonb", "xml", "point", "interval", "tsvector":
		return ""
	}
	if strings.HasSuffix(column, "[]") {
		return ""
	}
	return drift.Category // a type of the warehouse's own, an enumeration most likely
}

// sketchedRows is how many rows the quantiles of a reference are taken from at
// most.
const sketchedRows = 400_000

// Layouts makes layouts from the rows of a stretch: quantiles and range of
// numbers, the counted values of others.
func (w *Pools) Layouts(ctx context.Context, d Distribution, from, to int64, seed uint64) ([]*drift.Layout, error) {
	layouts := make([]*drift.Layout, len(d.Columns))
	where, args := d.when(from, to)
	err := w.read(ctx, d.Source, func(tx pgx.Tx) error {
		ranges := []string{"count(*)"}
		for _, c := range d.Columns {
			if c.Kind.Numeric() {
				ranges = append(ranges, fmt.Sprintf("min(%[1]s), max(%[1]s)", finite(d.value(c))))
			}
		}
		var rows int64
		ends := make([]*float64, 2*(len(ranges)-1))
		into := []any{&rows}
		for i := range ends {
			into = append(into, &ends[i])
		}
		if err := tx.QueryRow(ctx, fmt.Sprintf("select %s from %s where %s", strings.Join(ranges, ", "), d.from(), where), args...).Scan(into...); err != nil {
			return err
		}
		sampled := where
		if rows > sketchedRows {
			if err := sow(ctx, tx, seed); err != nil {
				return err
			}
			sampled += fmt.Sprintf(" and random() < %g", float64(sketchedRows)/float64(rows))
		}
		at := 0
		for i, c := range d.Columns {
			if !c.Kind.Numeric() {
				continue
			}
			low, high := ends[2*at], ends[2*at+1]
			at++
			if low == nil {
				layouts[i] = drift.NumberLayout(c.Kind, nil, 0, 0)
				continue
			}
			var quantiles []float64
			err := tx.QueryRow(ctx, fmt.Sprintf("select percentile_disc(array(select i / 254.0 from generate_series(0, 254) i)) within group (order by %s) from %s where %s",
				finite(d.value(c)), d.from(), sampled), args...).Scan(&quantiles)
			if err != nil {
				return err
			}
			layouts[i] = drift.NumberLayout(c.Kind, quantiles, *low, *high)
		}
		for i, c := range d.Columns {
			if c.Kind.Numeric() {
				continue
			}
			counts := map[string]int64{}
			rows, err := tx.Query(ctx, fmt.Sprintf("select left(%[1]s, 200), count(*) from %[2]s where %[3]s and %[1]s is not null group by 1 order by 2 desc, 1 limit %[4]d",
				d.value(c), d.from(), where, manyWords), args...)
			if err != nil {
				return err
			}
			var word string
			var n int64
			if _, err := pgx.ForEachRow(rows, []any{&word, &n}, func() error { counts[word] = n; return nil }); err != nil {
				return err
			}
			layouts[i] = drift.WordLayout(c.Kind, counts, len(counts) >= manyWords)
		}
		return nil
	})
	return layouts, err
}

// manyWords is how many different categories are counted of a column.
const manyWords = 10000

// sow makes what random() gives repeatable.
func sow(ctx context.Context, tx pgx.Tx, seed uint64) error {
	_, err := tx.Exec(ctx, "select setseed($1)", float64(seed%1_000_003)/1_000_003)
	return err
}

// BinCount is the rows of a day and column whose numbers lie in one bin; Bin is
// -1 of those without a number, -2 of what is not finite.
type BinCount struct {
	Day                    int64
	By                     string
	Column                 int
	Bin                    int
	Rows                   int64
	Sum, Squares, Min, Max float64
	Below, Above           float64
}

// Numbers counts numbers over layouts in one pass over the rows of a stretch.
func (w *Pools) Numbers(ctx context.Context, d Distribution, layouts []*drift.Layout, from, to int64) ([]BinCount, error) {
	where, args := d.when(from, to)
	columns, values := []string{d.day() + " as day", d.by(d.By) + " as of"}, []string{}
	for i, c := range d.Columns {
		if !c.Kind.Numeric() {
			continue
		}
		l := layouts[i]
		args = append(args, l.Edges)
		low, high := 0.0, 0.0
		if len(l.Edges) > 0 {
			low, high = l.Edges[0], l.Edges[len(l.Edges)-1]
		}
		columns = append(columns, fmt.Sprintf("%s as x%d", d.value(c), i))
		values = append(values, fmt.Sprintf("(%[1]d, x%[1]d, case when x%[1]d is null then -1 when x%[1]d in ('NaN', 'Infinity', '-Infinity') then -2 when cardinality($%[2]d::float8[]) = 0 then 0 else width_bucket(x%[1]d, $%[2]d::float8[]) end, %[3]s::float8, %[4]s::float8, %[5]s::float8)",
			i, len(args), exact(l.Centre), exact(low), exact(high)))
	}
	if len(values) == 0 {
		return nil, nil
	}
	sql := fmt.Sprintf(`
		select day, of, f, bin, count(*), coalesce(sum(x - centre) filter (where bin >= 0), 0), coalesce(sum((x - centre) * (x - centre)) filter (where bin >= 0), 0),
			coalesce(min(x) filter (where bin >= 0), 0), coalesce(max(x) filter (where bin >= 0), 0),
			coalesce(sum(greatest(low - x, 0)) filter (where bin >= 0), 0), coalesce(sum(greatest(x - high, 0)) filter (where bin >= 0), 0)
		from (select %s from %s where %s) r cross join lateral (values %s) v(f, x, bin, centre, low, high)
		group by 1, 2, 3, 4`, strings.Join(columns, ", "), d.from(), where, strings.Join(values, ",\n"))
	var list []BinCount
	err := w.read(ctx, d.Source, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, sql, args...)
		if err != nil {
			return err
		}
		list, err = pgx.CollectRows(rows, pgx.RowToStructByPos[BinCount])
		return err
	})
	return list, err
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
				select day, of, %[6]d, case when known or place <= 20 then word else %[7]s end, sum(n)::bigint from placed group by 1, 2, 4`,
				d.day(), d.value(c), d.from(), where, len(args)+1, i, literal(unnamed), d.by(d.By)), append(args[:len(args):len(args)], known)...)
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

// ScoreCount is the rows of a day and version of a model whose scores lie in one
// of a hundred equal bins from 0 to 1; Bin is -1 of others.
type ScoreCount struct {
	Day                 int64
	Version             string
	Rows                int64
	MissingInput        int64
	Above               int64
	Bin                 int
	Known               int64 // rows whose outcome is known
	Positive            int64
	Score, Squares, Hit float64
}

// Scores counts a model's answers by day, version and bin; without a column of
// scores only rows. inputs are the columns of which none should be missing.
func (w *Pools) Scores(ctx context.Context, d Distribution, score, version, outcome string, threshold float64, inputs []string, from, to int64) ([]ScoreCount, error) {
	where, args := d.when(from, to)
	lacks, came := "false", "null::boolean"
	if len(inputs) > 0 {
		parts := make([]string, len(inputs))
		for i, column := range inputs {
			parts[i] = name(column) + " is null"
		}
		lacks = strings.Join(parts, " or ")
	}
	if outcome != "" {
		came = fmt.Sprintf("case lower(%[1]s::text) when '1' then true when 'true' then true when 't' then true when 'yes' then true when '0' then false when 'false' then false when 'f' then false when 'no' then false end", name(outcome))
	}
	answer := "null::double precision"
	if score != "" {
		answer = finite(d.value(Distributed{score, drift.Number}))
	}
	args = append(args, threshold)
	sql := fmt.Sprintf(`
		select day, version, count(*), count(*) filter (where lacks), count(*) filter (where s >= $%[8]d), bin,
			count(came) filter (where bin >= 0), count(*) filter (where came and bin >= 0), coalesce(sum(s) filter (where came is not null and bin >= 0), 0),
			coalesce(sum(s * s) filter (where came is not null and bin >= 0), 0), coalesce(sum(s) filter (where came and bin >= 0), 0)
		from (select *, case when s >= 0 and s <= 1 then least(99, floor(s * 100))::int else -1 end as bin
			from (select %[1]s as day, %[2]s as version, (%[3]s) as lacks, %[4]s as came, %[5]s as s from %[6]s where %[7]s) r) q
		group by day, version, bin`, d.day(), d.by(version), lacks, came, answer, d.from(), where, len(args))
	var list []ScoreCount
	err := w.read(ctx, d.Source, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, sql, args...)
		if err != nil {
			return err
		}
		list, err = pgx.CollectRows(rows, pgx.RowToStructByPos[ScoreCount])
		return err
	})
	return list, err
}

// Stretch is what a sample is drawn from, and how many rows of it.
type Stretch struct {
	From, To int64
	Rows     int
}

// SampledRow is one row of a sample: its values in the order of the columns, nil
// where there is none, numbers as float64 and others as string.
type SampledRow struct {
	Stretch int
	Day     int64
	Version string
	Values  []any
}

// Sample draws rows from each of some stretches, every row with the same chance,
// and hands them over one by one.
func (w *Pools) Sample(ctx context.Context, d Distribution, version string, stretches []Stretch, seed uint64, do func(SampledRow)) error {
	columns := []string{d.day(), d.by(version)}
	for _, c := range d.Columns {
		if c.Kind.Numeric() {
			columns = append(columns, finite(d.value(c)))
		} else {
			columns = append(columns, fmt.Sprintf("left(%s, 200)", d.value(c)))
		}
	}
	return w.read(ctx, d.Source, func(tx pgx.Tx) error {
		for i, s := range stretches {
			// A stretch's sample is the same whatever else is drawn with it.
			if err := sow(ctx, tx, seed+uint64(s.From)); err != nil {
				return err
			}
			where, args := d.when(s.From, s.To)
			rows, err := tx.Query(ctx, fmt.Sprintf("select %s from %s where %s order by random() limit %d", strings.Join(columns, ", "), d.from(), where, s.Rows), args...)
			if err != nil {
				return err
			}
			r := SampledRow{Stretch: i, Values: make([]any, len(d.Columns))}
			numbers, words := make([]pgtype.Float8, len(d.Columns)), make([]pgtype.Text, len(d.Columns))
			into := []any{&r.Day, &r.Version}
			for j, c := range d.Columns {
				if c.Kind.Numeric() {
					into = append(into, &numbers[j])
				} else {
					into = append(into, &words[j])
				}
			}
			_, err = pgx.ForEachRow(rows, into, func() error {
				for j := range r.Values {
					switch {
					case numbers[j].Valid:
						r.Values[j] = numbers[j].Float64
					case words[j].Valid:
						r.Values[j] = words[j].String
					default:
						r.Values[j] = nil
					}
				}
				do(r)
				return nil
			})
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// Paired sums up two versions of a model on the rows that both scored, told by
// their key.
func (w *Pools) Paired(ctx context.Context, d Distribution, score, version, key, a, b string, threshold float64, from, to int64) (drift.Paired, error) {
	where, args := d.when(from, to)
	args = append(args, a, b, threshold)
	n := len(args)
	sql := fmt.Sprintf(`
		with scored as (select %[1]s as key, %[2]s::text as version, avg(%[3]s) as s from %[4]s where %[5]s and %[2]s::text in ($%[6]d, $%[7]d) group by 1, 2)
		select count(*), coalesce(sum(x.s), 0), coalesce(sum(y.s), 0), coalesce(sum(x.s * x.s), 0), coalesce(sum(y.s * y.s), 0), coalesce(sum(x.s * y.s), 0),
			count(*) filter (where (x.s >= $%[8]d) <> (y.s >= $%[8]d))
		from scored x join scored y using (key) where x.version = $%[6]d and y.version = $%[7]d and x.s is not null and y.s is not null`,
		name(key), name(version), finite(d.value(Distributed{score, drift.Number})), d.from(), where, n-2, n-1, n)
	var p drift.Paired
	err := w.read(ctx, d.Source, func(tx pgx.Tx) error {
		return tx.QueryRow(ctx, sql, args...).Scan(&p.Rows, &p.A, &p.B, &p.Squares, &p.SquaresOfB, &p.Product, &p.Apart)
	})
	return p, err
}
