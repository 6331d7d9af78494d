package warehouse

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/timeline"
	"tinbell/internal/record"
)

// Query is the SQL of a probe: one pass over a table for all metrics that share
// its rows, periods and segments. Its parameters are $1 and $2, the first and
// the end of the periods asked for; a snapshot has none.
type Query struct {
	SQL      string
	Metrics  []record.Metric
	Snapshot bool
}

// Batches puts metrics of one table together that one pass can measure.
func Batches(metrics []record.Metric) [][]record.Metric {
	var batches [][]record.Metric
	place := map[string]int{}
	for _, m := range metrics {
		key := fmt.Sprint(m.Snapshot(), m.Measure == record.MeasureTableBytes, m.Measure == record.MeasureFreshness, m.TimeColumn,
			m.TimeType, m.PeriodSeconds, m.Zone,
			m.SettleSeconds, m.SegmentBy, m.KeptSegments, m.RowFilter)
		i, there := place[key]
		if !there {
			i = len(batches)
			place[key], batches = i, append(batches, nil)
		}
		batches[i] = append(batches[i], m)
	}
	return batches
}

// LoadColumn is the column that says when a row was loaded; without a name there is none.
type LoadColumn struct{ Name, Type string }

// LoadColumnOf gives a dataset's.
func LoadColumnOf(d record.Dataset) LoadColumn { return LoadColumn{d.LoadedBy, d.LoadedType} }

func (c LoadColumn) clock(zone string) clock { return clock{name(c.Name), c.Type, zone} }

// Build writes the SQL that measures a batch of metrics.
func Build(batch []record.Metric, loads LoadColumn) (Query, error) {
	m := batch[0]
	for _, one := range batch {
		if err := checkMetric(one); err != nil {
			return Query{}, err
		}
	}
	q := Query{Metrics: batch, Snapshot: m.Snapshot()}
	if m.Measure == record.MeasureTableBytes {
		q.SQL = fmt.Sprintf("select 0::bigint as period, '' as segment,\n       pg_total_relation_size(%s::regclass)::double precision as v1, null::double precision as of1", literal(table(m)))
		return q, nil
	}
	event := clock{name(m.TimeColumn), m.TimeType, m.Zone}
	by := event
	if m.Measure == record.MeasureFreshness && loads.Name != "" {
		by = loads.clock(m.Zone)
	}
	period := "0::bigint"
	if !q.Snapshot {
		period = "extract(epoch from " + bucket(m, by.instant()) + ")::bigint"
	}
	columns := []string{period + " as period", segment(m) + " as segment"}
	for i, one := range batch {
		value, of, err := aggregate(one, event)
		if err != nil {
			return q, err
		}
		columns = append(columns, fmt.Sprintf("(%s)::double precision as v%d, (%s)::double precision as of%d", value, i+1, of, i+1))
	}
	var terms []string
	if !q.Snapshot {
		terms = append(terms, by.within("$1", "$2"))
	}
	q.SQL = fmt.Sprintf("select %s\nfrom %s%s\ngroup by 1, 2\norder by 1, 2\nlimit %d",
		strings.Join(columns, ",\n       "), table(m), where(terms, m), maxReadings+1)
	return q, nil
}

// BuildNewest writes the SQL for the newest event per segment that was loaded
// before the instant $1: where freshness starts from.
func BuildNewest(m record.Metric, loads LoadColumn) Query {
	event := clock{name(m.TimeColumn), m.TimeType, m.Zone}
	by := event
	if loads.Name != "" {
		by = loads.clock(m.Zone)
	}
	terms := []string{by.within("$1::timestamptz - interval '14 days'", "$1"), "$2::timestamptz is not null"}
	return Query{Metrics: []record.Metric{m},
		SQL: fmt.Sprintf("select 0::bigint as period, %s as segment,\n       extract(epoch from max(%s))::double precision as v1, null::double precision as of1\nfrom %s%s\ngroup by 1, 2",
			segment(m), event.instant(), table(m), where(terms, m))}
}

// aggregate gives the SQL of a measure and of the rows it is taken from.
func aggregate(m record.Metric, event clock) (value, of string, err error) {
	column := name(m.Column)
	counted := "count(" + column + ")"
	switch m.Measure {
	case record.MeasureRows:
		return "count(*)", "null", nil
	case record.MeasureFreshness:
		return "extract(epoch from max(" + event.instant() + "))", "null", nil
	case record.MeasureNullShare:
		return "count(*) filter (where " + column + " is null)", "count(*)", nil
	case record.MeasureDistinct:
		return "count(distinct " + column + ")", "null", nil
	case record.MeasureMean:
		return "avg(" + column + ")", counted, nil
	case record.MeasureSum:
		return "coalesce(sum(" + column + "), 0)", "null", nil
	case record.MeasureMin, record.MeasureMax:
		return m.Measure + "(" + column + ")", counted, nil
	case record.MeasureSD:
		return "stddev_samp(" + column + ")", counted, nil
	case record.MeasureQuantile:
		return fmt.Sprintf("percentile_cont(%g) within group (order by %s)", m.Quantile, column), counted, nil
	case record.MeasureValueShare:
		return fmt.Sprintf("count(*) filter (where %s::text = %s)", column, literal(m.Matches)), "count(*)", nil
	case record.MeasureExpression:
		return m.Expression, "count(*)", nil
	}
	var known []string
	for _, one := range record.Measures {
		known = append(known, one.Name)
	}
	return "", "", record.Invalid{Field: "measure", Given: m.Measure, Allowed: "a warehouse table gives " + strings.Join(known,
		", ") + "; other measures can be pushed"}
}

// segment joins the dimension columns; segments beyond those kept are one.
func segment(m record.Metric) string {
	if len(m.SegmentBy) == 0 {
		return "''"
	}
	parts := make([]string, len(m.SegmentBy))
	for i, column := range m.SegmentBy {
		parts[i] = "coalesce(" + name(column) + "::text, '(none)')"
	}
	joined := strings.Join(parts, " || ' / ' || ")
	if len(m.KeptSegments) == 0 {
		return joined
	}
	kept := make([]string, len(m.KeptSegments))
	for i, one := range m.KeptSegments {
		kept[i] = literal(one)
	}
	return fmt.Sprintf("case when %s in (%s) then %s else %s end", joined, strings.Join(kept, ", "), joined, literal(record.OtherSegment))
}

func where(terms []string, m record.Metric) string {
	if m.RowFilter != "" {
		filter := m.RowFilter
		if CheckExpression("row_filter", filter) != nil { // kept from before it was checked
			filter = "false"
		}
		terms = append(terms, "("+filter+")")
	}
	if len(terms) == 0 {
		return ""
	}
	return "\nwhere " + strings.Join(terms, " and ")
}

func table(m record.Metric) string { return Table(m.Dataset) }

// Table quotes schema.table.
func Table(dataset string) string {
	return pgx.Identifier(strings.SplitN(dataset, ".", 2)).Sanitize()
}

func name(column string) string { return pgx.Identifier{column}.Sanitize() }

// clock is a time column of some type. Values without a zone are local to the
// dataset.
type clock struct{ column, kind, zone string }

func (c clock) instant() string {
	switch c.kind {
	case "timestamp":
		return fmt.Sprintf("(%s at time zone %s)", c.column, literal(c.zone))
	case "date":
		return fmt.Sprintf("(%s::timestamp at time zone %s)", c.column, literal(c.zone))
	}
	return c.column
}

// local writes an instant as the column holds time.
func (c clock) local(instant string) string {
	switch c.kind {
	case "timestamp":
		return fmt.Sprintf("((%s)::timestamptz at time zone %s)", instant, literal(c.zone))
	case "date":
		return fmt.Sprintf("((%s)::timestamptz at time zone %s)::date", instant, literal(c.zone))
	}
	return instant
}

// within keeps the column bare, so that an index on it is used.
func (c clock) within(from, to string) string {
	return fmt.Sprintf("%s >= %s and %s < %s", c.column, c.local(from), c.column, c.local(to))
}

// after is what comes later than an instant, up to another; of dates that of the
// instant's own too, for the hour is not known.
func (c clock) after(from, to string) string {
	later := ">"
	if c.kind == "date" {
		later = ">="
	}
	return fmt.Sprintf("%s %s %s and %s <= %s", c.column, later, c.local(from), c.column, c.local(to))
}

// calendar are the periods that PostgreSQL calls by a name; its weeks begin on Monday too.
var calendar = map[time.Duration]string{24 * time.Hour: "day", timeline.Week: "week", timeline.Month: "month", timeline.Year: "year"}

// bucket maps a time to the start of its period; days and longer periods are local.
func bucket(m record.Metric, instant string) string {
	if name := calendar[time.Duration(m.PeriodSeconds)*time.Second]; name != "" {
		return fmt.Sprintf("date_trunc('%s', %s, %s)", name, instant, literal(m.Zone))
	}
	return fmt.Sprintf("date_bin('%d seconds', %s, 'epoch')", m.PeriodSeconds, instant)
}

func literal(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }

// maxReadings is how many periods times segments one answer may have.
const maxReadings = 200_000

// ErrTooMany says that an answer had more periods times segments than are taken.
var ErrTooMany = fmt.Errorf("more than %d periods times segments: segment by fewer values", maxReadings)

// Reading is one period and segment of a probe's answer: per metric its value
// and the rows it was taken from.
type Reading struct {
	Period  int64 // start, Unix seconds
	Segment string
	Value   []*float64
	Of      []*float64
}

// Ask runs a probe.
func (w *Pools) Ask(ctx context.Context, source record.Source, q Query, from, to time.Time) ([]Reading, error) {
	var list []Reading
	err := w.read(ctx, source, func(tx pgx.Tx) error {
		var args []any
		if !q.Snapshot {
			args = []any{from, to}
		}
		rows, err := tx.Query(ctx, q.SQL, args...)
		if err != nil {
			return err
		}
		defer rows.Close()
		n := len(q.Metrics)
		for rows.Next() {
			r := Reading{Value: make([]*float64, n), Of: make([]*float64, n)}
			into := []any{&r.Period, &r.Segment}
			for i := range n {
				into = append(into, &r.Value[i], &r.Of[i])
			}
			if err := rows.Scan(into...); err != nil {
				return err
			}
			list = append(list, r)
		}
		if len(list) > maxReadings {
			return ErrTooMany
		}
		return rows.Err()
	})
	return list, err
}
