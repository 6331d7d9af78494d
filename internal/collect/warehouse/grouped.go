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

// What a person who looks at an alert waits for.
const (
	patience     = 10 * time.Second // then the warehouse gives up
	grouped      = 400_000          // rows that are counted by combinations
	sampled      = 20_000           // rows that say how many values a column has
	mostValues   = 60               // of a column that a change is explained by
	mostCells    = 250_000          // combinations, of all spans
	weeksAsked   = 6                // spans at most
	mostTried    = 40               // columns of a table that are looked at
	mostListed   = 500
	longestValue = 200
)

// Span of time, half open.
type Span struct{ From, To time.Time }

// brief works in a read-only transaction that ends after a person's patience.
func (w *Pools) brief(ctx context.Context, source record.Source, work func(pgx.Tx) error) error {
	return w.read(ctx, source, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, fmt.Sprintf("set local statement_timeout = %d", patience.Milliseconds())); err != nil {
			return err
		}
		return work(tx)
	})
}

// countable are types whose values may be few.
func countable(kind string) bool {
	switch kind {
	case "text", "boolean", "smallint", "integer", "bigint", "name", `"char"`:
		return true
	}
	return strings.HasPrefix(kind, "character") || !strings.ContainsAny(kind, "([ ") && !slices.Contains(uncountable, kind)
}

var uncountable = []string{"numeric", "real", "date", "interval", "json", "jsonb", "uuid", "bytea", "xml", "inet", "tsvector",
	"point", "oid"}

// Dimensions proposes columns that a change of a metric may be explained by: those
// of few values, by a sample of the rows of some spans, those that it is segmented by
// first. Some are left out.
func (w *Pools) Dimensions(ctx context.Context, source record.Source, m Narrowed, leave []string, spans []Span,
	most int) ([]string, error) {
	columns, err := w.Shape(ctx, Distribution{Source: source, Table: m.Dataset})
	if err != nil {
		return nil, err
	}
	var tried []string
	for _, c := range columns {
		if countable(c.Type) && c.Name != m.TimeColumn && c.Name != m.Column && !slices.Contains(leave, c.Name) && len(tried) < mostTried {
			tried = append(tried, c.Name)
		}
	}
	if len(tried) == 0 {
		return nil, nil
	}
	counts := make([]string, len(tried))
	quoted := make([]string, len(tried))
	for i, c := range tried {
		quoted[i] = name(c)
		counts[i] = "count(distinct " + quoted[i] + "::text)"
	}
	when, args := m.spans(spans)
	found := make([]int64, len(tried))
	into := make([]any, len(tried))
	for i := range found {
		into[i] = &found[i]
	}
	err = w.brief(ctx, source, func(tx pgx.Tx) error {
		return tx.QueryRow(ctx, fmt.Sprintf("select %s from (select %s from %s%s limit %d) sample", strings.Join(counts, ", "),
			strings.Join(quoted, ", "),
			table(m.Metric), where([]string{when}, m.Metric), sampled), args...).Scan(into...)
	})
	if err != nil {
		return nil, err
	}
	type few struct {
		column string
		values int64
		own    bool
	}
	var list []few
	for i, c := range tried {
		if found[i] > 1 && found[i] <= mostValues {
			list = append(list, few{c, found[i], slices.Contains(m.SegmentBy, c)})
		}
	}
	slices.SortStableFunc(list, func(a, b few) int {
		if a.own != b.own {
			if a.own {
				return -1
			}
			return 1
		}
		return int(a.values - b.values)
	})
	var chosen []string
	cells := int64(1)
	for _, c := range list {
		if len(chosen) < most && cells*c.values <= mostCells/weeksAsked {
			chosen, cells = append(chosen, c.column), cells*c.values
		}
	}
	return chosen, nil
}

// Narrowed is a metric of which only one segment is looked at; empty: all.
type Narrowed struct {
	record.Metric
	Segment string
}

// spans is the condition that a row lies in any of some spans, and in the segment.
func (m Narrowed) spans(spans []Span) (string, []any) {
	event := clock{name(m.TimeColumn), m.TimeType, m.Zone}
	var terms []string
	var args []any
	for _, s := range spans {
		args = append(args, s.From, s.To)
		terms = append(terms, event.within(fmt.Sprintf("$%d", len(args)-1), fmt.Sprintf("$%d", len(args))))
	}
	text := "(" + strings.Join(terms, " or ") + ")"
	if m.Segment != "" {
		text += " and " + segment(m.Metric) + " = " + literal(m.Segment)
	}
	return text, args
}

// Grouped is the rows of a span with some values.
type Grouped struct {
	Span   int
	Values []string
	Rows   float64 // of means, those with a value; of ratios, what is divided by
	Value  float64
}

// ErrNotAdditive says that a measure of the whole is not made of those of its parts.
var ErrNotAdditive = fmt.Errorf("the figure of a whole does not follow from those of its parts")

// Group counts a metric's rows in one pass, by span and the values of columns. Values
// that are null are (none). Of more rows than a person would wait for it takes a share,
// by blocks where the spans are much of the table, and scales what it counts; share
// says which.
func (w *Pools) Group(ctx context.Context, source record.Source, m Narrowed, columns []string, spans []Span) (list []Grouped,
	share float64, err error) {
	parts, err := Apart(m.Metric)
	if err != nil {
		return nil, 0, err
	}
	event := clock{name(m.TimeColumn), m.TimeType, m.Zone}
	when, args := m.spans(spans)
	var which strings.Builder
	which.WriteString("case")
	for i := range spans {
		fmt.Fprintf(&which, " when %s then %d", event.within(fmt.Sprintf("$%d", 2*i+1), fmt.Sprintf("$%d", 2*i+2)), i)
	}
	which.WriteString(" end")
	// Grouped by the columns as they are: making text of each row would cost more
	// than reading it.
	shown, by := []string{which.String()}, []string{"1"}
	for _, c := range columns {
		shown = append(shown, "coalesce("+name(c)+"::text, '(none)')")
		by = append(by, name(c))
	}
	query := func(from string, terms ...string) string {
		return fmt.Sprintf("select %s, (%s)::float8, (%s)::float8\nfrom %s%s\ngroup by %s\nlimit %d",
			strings.Join(shown, ", "), parts.Rows, parts.Value, from, where(append([]string{when}, terms...), m.Metric),
			strings.Join(by, ", "), mostCells+1)
	}
	err = w.brief(ctx, source, func(tx pgx.Tx) error {
		asked := query(table(m.Metric))
		blocks := false
		if share, blocks, err = m.portion(ctx, tx, when, args); err != nil {
			return err
		}
		switch {
		case blocks:
			asked = query(fmt.Sprintf("%s tablesample system (%.4f) repeatable (7)", table(m.Metric), 100*share))
		case share < 1:
			if err := sow(ctx, tx, 7); err != nil {
				return err
			}
			asked = query(table(m.Metric), fmt.Sprintf("random() < %.6f", share))
		}
		answer, err := tx.Query(ctx, asked, args...)
		if err != nil {
			return err
		}
		defer answer.Close()
		for answer.Next() {
			g := Grouped{Values: make([]string, len(columns))}
			into := []any{&g.Span}
			for i := range columns {
				into = append(into, &g.Values[i])
			}
			if err := answer.Scan(append(into, &g.Rows, &g.Value)...); err != nil {
				return err
			}
			g.Rows, g.Value = g.Rows/share, g.Value/share
			list = append(list, g)
		}
		if len(list) > mostCells {
			return fmt.Errorf("more than %d combinations of values", mostCells)
		}
		return answer.Err()
	})
	return list, share, err
}

// portion is which share of the rows of some spans is counted, by what the planner
// expects of them, and whether by blocks of the table.
func (m Narrowed) portion(ctx context.Context, tx pgx.Tx, when string, args []any) (share float64, blocks bool, err error) {
	var plan []struct {
		Plan struct {
			Rows float64 `json:"Plan Rows"`
		}
	}
	if err := tx.QueryRow(ctx, fmt.Sprintf("explain (format json) select 1 from %s%s", table(m.Metric),
		where([]string{when}, m.Metric)), args...).Scan(&plan); err != nil {
		return 0, false, err
	}
	if len(plan) == 0 || plan[0].Plan.Rows <= grouped {
		return 1, false, nil
	}
	share = max(grouped/plan[0].Plan.Rows, 1e-4)
	var kind string
	var all float64
	err = tx.QueryRow(ctx, `select relkind::text, reltuples::float8 from pg_class where oid = $1::regclass`,
		table(m.Metric)).Scan(&kind, &all)
	return share, (kind == "r" || kind == "p" || kind == "m") && plan[0].Plan.Rows > all/4, err
}

// Keyed is a row's key and segment.
type Keyed struct{ Key, Segment string }

// mostKeys is how many keys a comparison of keys reads of a side.
const mostKeys = 300_000

// Keys gives the keys of a span's rows; those without one are left out.
func (w *Pools) Keys(ctx context.Context, source record.Source, m Narrowed, key string, s Span) (list []Keyed, err error) {
	when, args := m.spans([]Span{s})
	query := fmt.Sprintf("select %[1]s::text, %[2]s from %[3]s%[4]s order by 1 limit %[5]d", name(key), segment(m.Metric),
		table(m.Metric), where([]string{when, name(key) + " is not null"}, m.Metric), mostKeys+1)
	err = w.brief(ctx, source, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, query, args...)
		if err != nil {
			return err
		}
		list, err = pgx.CollectRows(rows, pgx.RowToStructByPos[Keyed])
		if err == nil && len(list) > mostKeys {
			err = fmt.Errorf("more than %d keys: ask for a shorter stretch", mostKeys)
		}
		return err
	})
	return list, err
}
