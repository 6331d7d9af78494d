package warehouse

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
)

// Listing is SQL that finds rows behind an alert.
type Listing struct {
	Name  string `json:"name" doc:"by which it is asked for"`
	Title string `json:"title" doc:"what its rows are"`
	SQL   string `json:"sql" doc:"to copy; it only reads"`
}

// Offending writes the SQL that finds the rows of a metric's alert in a span, of
// columns that may be shown. direction is low, high or both.
func Offending(m Narrowed, direction string, s Span, columns []string, loadedBy string) []Listing {
	if len(columns) == 0 || m.TimeColumn == "" {
		return nil
	}
	zone, err := time.LoadLocation(m.Zone)
	if err != nil {
		zone = time.UTC
	}
	event := clock{name(m.TimeColumn), m.TimeType, m.Zone}
	at := func(t time.Time) string { return literal(t.In(zone).Format(time.RFC3339)) + "::timestamptz" }
	within := func(from, to time.Time) string { return event.within(at(from), at(to)) }
	terms := []string{within(s.From, s.To)}
	if m.Segment != "" {
		terms = append(terms, segment(m.Metric)+" = "+literal(m.Segment))
	}
	quoted := make([]string, len(columns))
	for i, c := range columns {
		quoted[i] = name(c)
	}
	list := func(named, title, order string, more ...string) Listing {
		return Listing{named, title, fmt.Sprintf("select %s\nfrom %s%s\norder by %s\nlimit 100", strings.Join(quoted, ", "),
			table(m.Metric), where(append(slices.Clone(terms), more...), m.Metric), order)}
	}
	column := name(m.Column)
	shown := slices.Contains(columns, m.Column)
	var found []Listing
	switch m.Measure {
	case record.MeasureNullShare:
		found = append(found, list("nulls", "Rows without "+m.Column, event.column, column+" is null"))
	case record.MeasureValueShare:
		found = append(found, list("matches", fmt.Sprintf("Rows whose %s is %s", m.Column, m.Matches), event.column,
			column+"::text = "+literal(m.Matches)))
	case record.MeasureMean, record.MeasureSum, record.MeasureMin, record.MeasureMax, record.MeasureSD, record.MeasureQuantile:
		if shown {
			before := Span{s.From.AddDate(0, 0, -28), s.From}
			outside := fmt.Sprintf("not %s between (select percentile_cont(0.01) within group (order by %s) from %s%s)\n    and (select percentile_cont(0.99) within group (order by %s) from %s%s)",
				column, column, table(m.Metric), where([]string{within(before.From, before.To)}, m.Metric), column,
				table(m.Metric), where([]string{within(before.From, before.To)}, m.Metric))
			found = append(found, list("outside", fmt.Sprintf("Rows whose %s lies outside of 98 %% of the four weeks before",
				m.Column), column+" desc", column+" is not null", outside))
		}
	case record.MeasureDistinct:
		if shown {
			found = append(found, Listing{"doubled", "Values of " + m.Column + " that occur more than once",
				fmt.Sprintf("select %s, count(*) as rows\nfrom %s%s\ngroup by 1 having count(*) > 1\norder by 2 desc\nlimit 100",
					column, table(m.Metric), where(terms, m.Metric))})
		}
	case record.MeasureFreshness:
		by := event.column
		if loadedBy != "" && slices.Contains(columns, loadedBy) {
			by = name(loadedBy)
		}
		found = append(found, Listing{"newest", "The rows that came last",
			fmt.Sprintf("select %s\nfrom %s%s\norder by %s desc\nlimit 100", strings.Join(quoted, ", "), table(m.Metric),
				where(nil, m.Metric), by)})
	}
	if m.Measure == record.MeasureRows || m.Measure == record.MeasureFreshness {
		if direction != "low" {
			found = append(found, Listing{"doubled", "Rows that are there more than once, but for keys and times",
				fmt.Sprintf("select %s, count(*) as rows\nfrom %s%s\ngroup by %s having count(*) > 1\norder by count(*) desc\nlimit 100", strings.Join(m.withoutKeys(quoted), ", "), table(m.Metric), where(terms, m.Metric), strings.Join(m.withoutKeys(quoted), ", "))})
		}
		period := time.Duration(m.PeriodSeconds) * time.Second
		wide := Span{s.From.Add(-6 * period), s.To.Add(3 * period)}
		around := []string{within(wide.From, wide.To)}
		around = append(around, terms[1:]...)
		found = append(found, Listing{"around", "Rows of each period, with those before and after",
			fmt.Sprintf("select %s as period, count(*) as rows\nfrom %s%s\ngroup by 1\norder by 1\nlimit 500",
				bucket(m.Metric, event.instant()), table(m.Metric), where(around, m.Metric))})
	}
	return append(found, list("rows", "All rows of the stretch", event.column))
}

// Drifted writes the SQL that counts the rows of a feature by its values, or its
// tenths in the reference, in the reference and in a span: what has moved stands
// first.
func Drifted(dataset, timeColumn, timeType, zone string, feature record.Column, reference, span Span) []Listing {
	event := clock{name(timeColumn), timeType, zone}
	at := func(t time.Time) string { return literal(t.UTC().Format(time.RFC3339)) + "::timestamptz" }
	then, now := event.within(at(reference.From), at(reference.To)), event.within(at(span.From), at(span.To))
	column, bin := name(feature.Name), name(feature.Name)+"::text"
	if measuredByTenths(feature.Type) {
		bin = fmt.Sprintf("width_bucket(%[1]s::float8, (select percentile_cont(array[0.1, 0.2, 0.3, 0.4, 0.5, 0.6, 0.7, 0.8, 0.9]) within group (order by %[1]s::float8) from %[2]s where %[3]s))", column, Table(dataset), then)
	}
	counts := fmt.Sprintf("count(*) filter (where %s) as reference, count(*) filter (where %s) as period", then, now)
	if bin != column+"::text" {
		counts = fmt.Sprintf("min(%[1]s) as from_value, max(%[1]s) as to_value, %[2]s", column, counts)
	}
	return []Listing{{"bins", "Rows by " + feature.Name + ", in the reference and in the period, what moved most first",
		fmt.Sprintf("select * from (\n  select %s as bin, %s\n  from %s\n  where %s or %s\n  group by 1) counted\norder by abs(reference / greatest(sum(reference) over (), 1) - period / greatest(sum(period) over (), 1)) desc\nlimit 100",
			bin, counts, Table(dataset), then, now)}}
}

// measuredByTenths tells whether values of a type are put into bins.
func measuredByTenths(kind string) bool {
	switch kind {
	case "smallint", "integer", "bigint", "real", "double precision":
		return true
	}
	return strings.HasPrefix(kind, "numeric")
}

// withoutKeys leaves out what is different in each row: the first column, if it
// sounds like a key, and times.
func (m Narrowed) withoutKeys(quoted []string) []string {
	var rest []string
	for _, c := range quoted {
		plain := strings.Trim(c, `"`)
		if plain == "id" || strings.HasSuffix(plain, "_id") || c == name(m.TimeColumn) || strings.HasSuffix(plain, "_at") {
			continue
		}
		rest = append(rest, c)
	}
	if len(rest) == 0 {
		return quoted
	}
	return rest
}

// Found is what a listing came to.
type Found struct {
	Columns []string   `json:"columns"`
	Rows    [][]string `json:"rows" doc:"as text; null is (none)"`
	More    bool       `json:"more" doc:"there are more than asked for"`
}

// List runs a listing, for at most so many rows. Nothing of it is kept.
func (w *Pools) List(ctx context.Context, source record.Source, l Listing, limit int) (Found, error) {
	found := Found{Columns: []string{}, Rows: [][]string{}}
	limit = min(max(limit, 1), mostListed)
	err := w.brief(ctx, source, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, fmt.Sprintf("select * from (%s) listing limit %d", l.SQL, limit+1))
		if err != nil {
			return err
		}
		defer rows.Close()
		for _, f := range rows.FieldDescriptions() {
			found.Columns = append(found.Columns, f.Name)
		}
		for rows.Next() {
			values, err := rows.Values()
			if err != nil {
				return err
			}
			if len(found.Rows) == limit {
				found.More = true
				break
			}
			row := make([]string, len(values))
			for i, v := range values {
				row[i] = text(v)
			}
			found.Rows = append(found.Rows, row)
		}
		rows.Close()
		return rows.Err()
	})
	return found, err
}

func text(v any) string {
	switch v := v.(type) {
	case nil:
		return "(none)"
	case time.Time:
		return v.UTC().Format(time.RFC3339)
	case []byte:
		return fmt.Sprintf("%d bytes", len(v))
	case string:
		if r := []rune(v); len(r) > longestValue {
			return string(r[:longestValue]) + "…"
		}
		return v
	}
	said := fmt.Sprint(v)
	if n, ok := v.(interface{ Value() (any, error) }); ok {
		if plain, err := n.Value(); err == nil {
			said = fmt.Sprint(plain)
		}
	}
	return said
}
