package warehouse

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
)

// Picked are the rows of a table in a span, of which some columns are read.
type Picked struct {
	Table      string
	Column     string   // with numbers
	Also       []string // read as text beside it
	Time       string
	TimeType   string
	Zone       string
	Span       Span
	Conditions []string // beside the span, as SQL
}

// Values are a column's numbers, newest row first.
type Values struct {
	At    []int64
	Value []*float64 // nil where there is none
	Also  [][]string // by column; "" where there is none
	More  bool       // there are older rows than were read
}

func (p Picked) where() string {
	event := clock{name(p.Time), p.TimeType, p.Zone}
	zone, err := time.LoadLocation(p.Zone)
	if err != nil {
		zone = time.UTC
	}
	at := func(t time.Time) string { return literal(t.In(zone).Format(time.RFC3339)) + "::timestamptz" }
	return strings.Join(append([]string{event.within(at(p.Span.From), at(p.Span.To))}, p.Conditions...), " and ")
}

// Read reads at most so many rows. Nothing of them is kept.
func (w *Pools) Read(ctx context.Context, source record.Source, p Picked, most int) (Values, error) {
	v := Values{Also: make([][]string, len(p.Also))}
	also := ""
	for _, c := range p.Also {
		also += fmt.Sprintf(", coalesce(%s::text, '')", name(c))
	}
	event := clock{name(p.Time), p.TimeType, p.Zone}
	sql := fmt.Sprintf("select extract(epoch from %s)::bigint, %s::float8%s\nfrom %s\nwhere %s\norder by %s desc\nlimit %d",
		event.instant(), name(p.Column), also, Table(p.Table), p.where(), event.column, most+1)
	err := w.brief(ctx, source, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, sql)
		if err != nil {
			return err
		}
		defer rows.Close()
		into := make([]any, 2+len(p.Also))
		texts := make([]string, len(p.Also))
		for i := range texts {
			into[2+i] = &texts[i]
		}
		for rows.Next() {
			if len(v.Value) == most {
				v.More = true
				break
			}
			var at int64
			var value *float64
			into[0], into[1] = &at, &value
			if err := rows.Scan(into...); err != nil {
				return err
			}
			v.At, v.Value = append(v.At, at), append(v.Value, value)
			for i, t := range texts {
				v.Also[i] = append(v.Also[i], t)
			}
		}
		rows.Close()
		return rows.Err()
	})
	return v, err
}

// Beyond is the condition of rows whose value lies outside of two bounds, each by itself
// where nil; of a key's rows alone where it is named.
func Beyond(column string, low, high *float64, key, value string) string {
	var outside []string
	if low != nil {
		outside = append(outside, fmt.Sprintf("%s < %g", name(column), *low))
	}
	if high != nil {
		outside = append(outside, fmt.Sprintf("%s > %g", name(column), *high))
	}
	if len(outside) == 0 {
		return "false"
	}
	condition := "(" + strings.Join(outside, " or ") + ")"
	if key != "" {
		condition = fmt.Sprintf("(coalesce(%s::text, '') = %s and %s)", name(key), literal(value), condition)
	}
	return condition
}

// Finding writes the SQL that finds the picked rows, of columns that may be shown.
func Finding(p Picked, columns []string) string {
	quoted := make([]string, len(columns))
	for i, c := range columns {
		quoted[i] = name(c)
	}
	return fmt.Sprintf("select %s\nfrom %s\nwhere %s\norder by %s\nlimit 500", strings.Join(quoted, ", "), Table(p.Table),
		p.where(), name(p.Time))
}

// Measurable tells whether a column's type has numbers.
func Measurable(kind string) bool { return measuredByTenths(kind) }
