package warehouse

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
)

// Look is what a table is like just now.
type Look struct {
	Columns []record.Column
	Mark    Mark
}

// Mark is how far the writing of a table had come: how many rows were ever
// inserted, how many updated or deleted, and the oldest transaction that was
// not over. It is zero where that is not known, as of views and foreign tables.
type Mark struct{ Inserted, Changed, Horizon string }

// ParseMark reads what String wrote; anything else is no mark.
func ParseMark(text string) Mark {
	counts, horizon, _ := strings.Cut(text, "@")
	inserted, changed, _ := strings.Cut(counts, "/")
	if horizon == "" || changed == "" {
		return Mark{}
	}
	return Mark{inserted, changed, horizon}
}

func (m Mark) String() string {
	if m == (Mark{}) {
		return ""
	}
	return m.Inserted + "/" + m.Changed + "@" + m.Horizon
}

// Known tells whether the table says how far its writing is.
func (m Mark) Known() bool { return m != Mark{} }

// Still tells that nothing was written between two marks: no period needs to be
// read again.
func (m Mark) Still(before Mark) bool {
	return m.OnlyAdded(before) && m.Inserted == before.Inserted
}

// OnlyAdded tells that between two marks rows were added and none changed or
// deleted: the periods to read again are those of the new rows.
func (m Mark) OnlyAdded(before Mark) bool {
	return m.Known() && before.Known() && m.Changed == before.Changed
}

// Look reads a table's columns and how far its writing is.
func (w *Pools) Look(ctx context.Context, source record.Source, dataset string) (Look, error) {
	var v Look
	err := w.read(ctx, source, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `
			select attname, format_type(atttypid, atttypmod), not attnotnull
			from pg_attribute where attrelid = $1::regclass and attnum > 0 and not attisdropped order by attnum`, Table(dataset))
		if err != nil {
			return err
		}
		if v.Columns, err = pgx.CollectRows(rows, pgx.RowToStructByPos[record.Column]); err != nil {
			return err
		}
		var inserted, changed *string
		var horizon string
		err = tx.QueryRow(ctx, `
			select sum(n_tup_ins)::text, sum(n_tup_upd + n_tup_del)::text, pg_snapshot_xmin(pg_current_snapshot())::text from pg_stat_all_tables
			where relid = $1::regclass or relid in (select relid from pg_partition_tree($1::regclass))`,
			Table(dataset)).Scan(&inserted, &changed, &horizon)
		if err == nil && inserted != nil && changed != nil {
			v.Mark = Mark{*inserted, *changed, horizon}
		}
		return err
	})
	return v, err
}

const (
	// lookedAt is how many rows tell whether each has a load time of its own.
	lookedAt = 10_000
	// mostLoads is how many loads of a stretch are taken, the newest of them.
	mostLoads = 50_000
)

// Loads gives the distinct load times of a table after an instant, up to
// another. Where nearly every row has one of its own, as a column with default
// now() has when rows are written one by one, they say nothing of loads: then it
// gives the minutes in which rows came, and byRow is true.
func (w *Pools) Loads(ctx context.Context, source record.Source, dataset record.Dataset, after,
	until time.Time) (list []record.Load, byRow bool, err error) {
	by := LoadColumnOf(dataset).clock(dataset.Zone)
	err = w.read(ctx, source, func(tx pgx.Tx) error {
		var looked, distinct int64
		if err := tx.QueryRow(ctx, fmt.Sprintf(`
			select count(*), count(distinct at) from (select %s as at from %s where %s limit %d) as sampled`, by.column,
			Table(dataset.Name), by.after("$1", "$2"), lookedAt),
			after, until).Scan(&looked, &distinct); err != nil {
			return err
		}
		byRow = looked == lookedAt && distinct > looked/4
		at := by.instant()
		if byRow {
			at = fmt.Sprintf("date_trunc('minute', %s)", at)
		}
		rows, err := tx.Query(ctx, fmt.Sprintf(`
			select * from (select %s as at, count(*) from %s where %s group by 1 order by 1 desc limit %d) as loads order by at`,
			at, Table(dataset.Name), by.after("$1", "$2"), mostLoads), after, until)
		if err != nil {
			return err
		}
		list, err = pgx.CollectRows(rows, pgx.RowToStructByPos[record.Load])
		return err
	})
	return list, byRow, err
}

// LateDays gives the local days from one instant to another to which rows were
// loaded since a third, oldest first, at most a hundred.
func (w *Pools) LateDays(ctx context.Context, source record.Source, m record.Metric, loads LoadColumn, since, from,
	before time.Time) ([]time.Time, error) {
	event, by := clock{name(m.TimeColumn), m.TimeType, m.Zone}, loads.clock(m.Zone)
	sql := fmt.Sprintf(`select distinct date_trunc('day', %s, %s) from %s where %s and %s order by 1 limit 100`,
		event.instant(), literal(m.Zone), Table(m.Dataset), by.after("$1", "'infinity'"), event.within("$3", "$2"))
	var days []time.Time
	err := w.read(ctx, source, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, sql, since, before, from)
		if err != nil {
			return err
		}
		days, err = pgx.CollectRows(rows, pgx.RowTo[time.Time])
		return err
	})
	return days, err
}

// Added gives the starts of the periods in [from, to) that hold rows of
// transactions that were not over at a mark, oldest first. It asks for the
// transaction that wrote each row, so a load that took hours to be seen counts.
func (w *Pools) Added(ctx context.Context, source record.Source, m record.Metric, since Mark, from, to time.Time) ([]int64, error) {
	event := clock{name(m.TimeColumn), m.TimeType, m.Zone}
	sql := fmt.Sprintf(`select distinct extract(epoch from %s)::bigint from %s where %s and age(xmin) <= age($3::text::xid8::xid) order by 1`,
		bucket(m, event.instant()), Table(m.Dataset), event.within("$1", "$2"))
	var periods []int64
	err := w.read(ctx, source, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, sql, from, to, since.Horizon)
		if err != nil {
			return err
		}
		periods, err = pgx.CollectRows(rows, pgx.RowTo[int64])
		return err
	})
	return periods, err
}

// Segments gives the largest segments of a metric's rows in [from, to), and how
// many there are; counting stops at a million.
func (w *Pools) Segments(ctx context.Context, source record.Source, m record.Metric, from, to time.Time,
	most int) (largest []string, n int, err error) {
	all := m
	all.KeptSegments = nil
	var terms []string
	var args []any
	if !m.Snapshot() {
		terms, args = []string{clock{name(m.TimeColumn), m.TimeType, m.Zone}.within("$1", "$2")}, []any{from, to}
	}
	grouped := fmt.Sprintf("select %s as segment, count(*) as n from %s%s group by 1", segment(all), table(m), where(terms, m))
	err = w.read(ctx, source, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, fmt.Sprintf("with grouped as (%s) select segment, (select count(*) from (select from grouped limit 1000000) c)::int from grouped order by n desc, segment limit %d", grouped, most), args...)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			var one string
			if err := rows.Scan(&one, &n); err != nil {
				return err
			}
			largest = append(largest, one)
		}
		return rows.Err()
	})
	return largest, n, err
}

// Offered is a table or view that can be measured.
type Offered struct {
	Name        string          `json:"name" doc:"schema.table"`
	Kind        string          `json:"kind" enum:"table,view,foreign"`
	Rows        int64           `json:"rows" doc:"an estimate; -1 if nobody counted yet"`
	Bytes       int64           `json:"bytes"`
	Columns     []record.Column `json:"columns"`
	TimeColumns []string        `json:"time_columns" doc:"best first"`
	LoadedBy    string          `json:"loaded_by" doc:"the column that looks like the time of loading, if one does"`
}

// Offer gives the tables that a source's login may read, with what is proposed
// for each.
func (w *Pools) Offer(ctx context.Context, source record.Source) ([]Offered, error) {
	list := []Offered{}
	err := w.read(ctx, source, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `
			select n.nspname || '.' || c.relname, case c.relkind when 'f' then 'foreign' when 'v' then 'view' else 'table' end,
				c.reltuples::bigint, case when c.relkind in ('v', 'f') then 0 else pg_total_relation_size(c.oid) end,
				array_agg(a.attname::text order by a.attnum), array_agg(format_type(a.atttypid, a.atttypmod) order by a.attnum), array_agg(not a.attnotnull order by a.attnum)
			from pg_class c join pg_namespace n on n.oid = c.relnamespace join pg_attribute a on a.attrelid = c.oid and a.attnum > 0 and not a.attisdropped
			where c.relkind in ('r', 'p', 'v', 'm', 'f') and not c.relispartition and n.nspname not like 'pg\_%' and n.nspname <> 'information_schema'
				and has_schema_privilege(n.oid, 'usage') and has_table_privilege(c.oid, 'select')
			group by 1, 2, 3, 4 order by 1 limit 5000`)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			var v Offered
			var names, types []string
			var nullable []bool
			if err := rows.Scan(&v.Name, &v.Kind, &v.Rows, &v.Bytes, &names, &types, &nullable); err != nil {
				return err
			}
			for i := range names {
				v.Columns = append(v.Columns, record.Column{Name: names[i], Type: types[i], Nullable: nullable[i]})
			}
			v.TimeColumns, v.LoadedBy = propose(v.Columns)
			list = append(list, v)
		}
		return rows.Err()
	})
	return list, err
}

// TimeType is how a column holds time; ok is false if it does not.
func TimeType(column string) (kind string, ok bool) {
	switch {
	case strings.HasPrefix(column, "timestamp") && strings.HasSuffix(column, "with time zone"):
		return "timestamptz", true
	case strings.HasPrefix(column, "timestamp"):
		return "timestamp", true
	case column == "date":
		return "date", true
	}
	return "", false
}

// propose picks time columns, those that sound like loading last.
func propose(columns []record.Column) (times []string, loadedBy string) {
	times = []string{}
	var loads []string
	for _, c := range columns {
		if _, ok := TimeType(c.Type); !ok {
			continue
		}
		if soundsLike(c.Name, "load", "ingest", "insert", "arriv", "import", "synced", "received") {
			loads = append(loads, c.Name)
			continue
		}
		times = append(times, c.Name)
	}
	if len(loads) > 0 {
		loadedBy = loads[0]
	}
	return append(times, loads...), loadedBy
}

func soundsLike(name string, parts ...string) bool {
	for _, part := range parts {
		if strings.Contains(strings.ToLower(name), part) {
			return true
		}
	}
	return false
}
