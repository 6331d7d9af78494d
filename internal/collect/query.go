// Package collect makes samples: it probes warehouses with read-only queries
// that return aggregates, and takes in samples that others push. Samples and
// the order to judge them are written in one transaction.
package collect

import (
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
)

// Query is the SQL of a probe. Its parameters are $1 and $2, the first and the
// end of the periods asked for.
type Query struct {
	SQL      string
	Segments int // leading text columns after the period
}

// BuildQuery writes the SQL that measures a metric of a table. loadedBy is the
// dataset's load-time column, empty if it has none.
func BuildQuery(m record.Metric, loadedBy string) (Query, error) {
	q := Query{Segments: len(m.SegmentBy)}
	table := pgx.Identifier(strings.SplitN(m.Dataset, ".", 2)).Sanitize()
	event := name(m.TimeColumn)
	bucketBy := event
	if m.Measure == record.MeasureFreshness && loadedBy != "" {
		bucketBy = name(loadedBy)
	}
	columns := []string{"extract(epoch from " + bucket(m, bucketBy) + ")::bigint as period"}
	groups := []string{"1"}
	for i, column := range m.SegmentBy {
		columns = append(columns, fmt.Sprintf("coalesce(%s::text, '(none)') as %s", name(column), name(column)))
		groups = append(groups, fmt.Sprint(i+2))
	}
	switch m.Measure {
	case record.MeasureRows:
		columns = append(columns, "count(*) as rows", "null::double precision as of")
	case record.MeasureNullShare:
		columns = append(columns, fmt.Sprintf("count(*) filter (where %s is null) as nulls", name(m.Column)), "count(*)::double precision as of")
	case record.MeasureFreshness:
		columns = append(columns, fmt.Sprintf("extract(epoch from max(%s))::double precision as newest", event), "null::double precision as of")
	default:
		return q, record.Invalid{Field: "measure", Given: m.Measure, Allowed: "a warehouse table gives rows, freshness or null_share; other measures can be pushed"}
	}
	where := fmt.Sprintf("%s >= $1 and %s < $2", bucketBy, bucketBy)
	if m.RowFilter != "" {
		where += " and (" + m.RowFilter + ")"
	}
	q.SQL = fmt.Sprintf("select %s\nfrom %s\nwhere %s\ngroup by %s\norder by 1",
		strings.Join(columns, ",\n       "), table, where, strings.Join(groups, ", "))
	return q, nil
}

// BuildNewest writes the SQL for the newest event per segment that was loaded
// before the instant $1: where freshness starts from.
func BuildNewest(m record.Metric, loadedBy string) Query {
	by := m.TimeColumn
	if loadedBy != "" {
		by = loadedBy
	}
	columns, groups := []string{"0::bigint as period"}, []string{"1"}
	for i, column := range m.SegmentBy {
		columns = append(columns, fmt.Sprintf("coalesce(%s::text, '(none)') as %s", name(column), name(column)))
		groups = append(groups, fmt.Sprint(i+2))
	}
	columns = append(columns, fmt.Sprintf("extract(epoch from max(%s))::double precision as newest", name(m.TimeColumn)), "null::double precision as of")
	where := name(by) + " < $1 and " + name(by) + " >= $1::timestamptz - interval '14 days' and $2::timestamptz is not null"
	if m.RowFilter != "" {
		where += " and (" + m.RowFilter + ")"
	}
	table := pgx.Identifier(strings.SplitN(m.Dataset, ".", 2)).Sanitize()
	return Query{Segments: len(m.SegmentBy), SQL: fmt.Sprintf("select %s\nfrom %s\nwhere %s\ngroup by %s",
		strings.Join(columns, ",\n       "), table, where, strings.Join(groups, ", "))}
}

func name(column string) string { return pgx.Identifier{column}.Sanitize() }

// bucket maps a time to the start of its period; days are local.
func bucket(m record.Metric, column string) string {
	if m.PeriodSeconds == 86400 {
		return fmt.Sprintf("date_trunc('day', %s, %s)", column, literal(m.Zone))
	}
	return fmt.Sprintf("date_bin('%d seconds', %s, 'epoch')", m.PeriodSeconds, column)
}

func literal(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }

// statementTimeout ends a probe that would burden the warehouse.
const statementTimeout = 60 * time.Second
