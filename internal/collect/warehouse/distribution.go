package warehouse

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

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

// day is a row's local midnight, Unix seconds.
func (d Distribution) day() string { return d.unix(d.midnight()) }

// midnight is a row's local midnight as the warehouse has it, cheaper to group by.
func (d Distribution) midnight() string {
	if d.Time == "" {
		return "'epoch'::timestamptz"
	}
	return fmt.Sprintf("date_trunc('day', %s, %s)", d.event().instant(), literal(d.Zone))
}

func (d Distribution) unix(midnight string) string {
	return fmt.Sprintf("extract(epoch from %s)::bigint", midnight)
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
		return tx.QueryRow(ctx, fmt.Sprintf("select extract(epoch from min(%s))::float8 from %s", d.event().instant(),
			d.from())).Scan(&first)
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

// sketchedRows is about how many rows the quantiles of a reference are taken from
// at most: each is off by a fifth of a hundredth of the rows then.
const sketchedRows = 65_536

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
		if err := tx.QueryRow(ctx, fmt.Sprintf("select %s from %s where %s", strings.Join(ranges, ", "), d.from(), where),
			args...).Scan(into...); err != nil {
			return err
		}
		sampled := where
		if rows > sketchedRows {
			if err := sow(ctx, tx, seed); err != nil {
				return err
			}
			sampled += fmt.Sprintf(" and random() < %g", float64(sketchedRows)/float64(rows))
		}
		if len(ends) > 0 {
			quantiles, err := d.quantiles(ctx, tx, sampled, args)
			if err != nil {
				return err
			}
			for i, c := range d.Columns {
				if c.Kind.Numeric() {
					var low, high float64
					if ends[0] != nil {
						low, high = *ends[0], *ends[1]
					}
					layouts[i] = drift.NumberLayout(c.Kind, quantiles[0], low, high)
					quantiles, ends = quantiles[1:], ends[2:]
				}
			}
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

// quantiles are 255 of each numeric column, none of one without values, in one
// pass over the rows.
func (d Distribution) quantiles(ctx context.Context, tx pgx.Tx, where string, args []any) ([][]float64, error) {
	var values, wanted []string
	for _, c := range d.Columns {
		if c.Kind.Numeric() {
			x := fmt.Sprintf("x%d", len(values))
			values = append(values, finite(d.value(c))+" as "+x)
			wanted = append(wanted, fmt.Sprintf("percentile_disc(array(select i / 254.0 from generate_series(0, 254) i)) within group (order by %s)", x))
		}
	}
	found := make([][]float64, len(values))
	into := make([]any, len(values))
	for i := range found {
		into[i] = &found[i]
	}
	err := tx.QueryRow(ctx, fmt.Sprintf("select %s from (select %s from %s where %s) r", strings.Join(wanted, ", "),
		strings.Join(values, ", "), d.from(), where), args...).Scan(into...)
	return found, err
}

// manyWords is how many different categories are counted of a column.
const manyWords = 10000

// sow makes what random() gives repeatable.
func sow(ctx context.Context, tx pgx.Tx, seed uint64) error {
	_, err := tx.Exec(ctx, "select setseed($1)", float64(seed%1_000_003)/1_000_003)
	return err
}
