package demo

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
)

// Breakage is something a person broke in the demo's warehouse.
type Breakage struct {
	ID      int64      `db:"id"`
	Kind    EffectKind `db:"kind"`
	Table   string     `db:"table_name"`
	Segment int        `db:"segment"`
	Size    float64    `db:"size"`
	Started time.Time  `db:"started"`
	Ended   *time.Time `db:"ended"`
}

func (b Breakage) effect() Effect {
	to := time.Date(9000, 1, 1, 0, 0, 0, 0, time.UTC)
	if b.Ended != nil {
		to = *b.Ended
	}
	return Effect{Kind: b.Kind, Table: b.Table, Segment: b.Segment, From: b.Started, To: to, Size: b.Size}
}

// String says what is broken.
func (b Breakage) String() string {
	where := b.Table
	if t := TableNamed(b.Table); b.Segment >= 0 && t != nil && len(t.Segments) > 0 {
		where += ", " + t.Segments[b.Segment]
	}
	return fmt.Sprintf("%d: %s on %s since %s", b.ID, b.Kind, where, b.Started.Format("2 Jan 15:04 UTC"))
}

func breakages(ctx context.Context, tx pgx.Tx) ([]Breakage, error) {
	rows, err := tx.Query(ctx, `select id, kind, table_name, segment, size, started, ended from demo.breakage order by id`)
	if err != nil {
		return nil, fmt.Errorf("read breakages: %w", err)
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Breakage])
}

// Break breaks a table from since on: the rows that came after are taken back
// (stall, drop) or loaded again (double), and the feeder goes on like that
// until it is mended. size is the share of rows that a drop takes.
func (h *Warehouse) Break(ctx context.Context, kind EffectKind, table, segment string, size float64, since time.Time) (Breakage, error) {
	t := TableNamed(table)
	if t == nil {
		var names []string
		for _, t := range Tables {
			names = append(names, t.Name)
		}
		return Breakage{}, record.Invalid{Field: "table", Given: table, Allowed: strings.Join(names, ", ")}
	}
	b := Breakage{Kind: kind, Table: table, Segment: -1, Size: size, Started: since.UTC().Truncate(time.Second)}
	if segment != "" {
		if b.Segment = slices.Index(t.Segments, segment); b.Segment < 0 {
			return b, record.Invalid{Field: t.Name + " segment", Given: segment, Allowed: strings.Join(t.Segments, ", ")}
		}
	}
	if kind == Drop && (size <= 0 || size > 1) {
		return b, record.Invalid{Field: "share", Given: fmt.Sprint(size), Allowed: "more than 0, at most 1"}
	}
	conn, err := h.connect(ctx)
	if err != nil {
		return b, err
	}
	defer conn.Close(ctx)
	err = pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `select fed_to from demo.world for update`); err != nil {
			return fmt.Errorf("no demo runs on this data directory: start it with 'tinbell demo run': %w", err)
		}
		if err := b.takeBack(ctx, tx, t); err != nil {
			return err
		}
		return tx.QueryRow(ctx, `insert into demo.breakage (kind, table_name, segment, size, started) values ($1, $2, $3, $4, $5) returning id`,
			b.Kind, b.Table, b.Segment, b.Size, b.Started).Scan(&b.ID)
	})
	return b, err
}

func (b Breakage) takeBack(ctx context.Context, tx pgx.Tx, t *Table) error {
	where := fmt.Sprintf("%s >= $1", t.eventColumn())
	if b.Kind == Stall {
		where = "loaded_at >= $1"
	}
	args := []any{b.Started}
	if b.Segment >= 0 {
		where += fmt.Sprintf(" and %s = $2", t.Segment)
		args = append(args, t.Segments[b.Segment])
	}
	statement := "delete from " + t.Name + " where " + where
	switch b.Kind {
	case Drop:
		statement += fmt.Sprintf(" and id * 7919 %% 1000 < %d", int(b.Size*1000))
	case Double:
		columns := strings.Join(t.Columns[1:], ", ")
		statement = fmt.Sprintf("insert into %s (id, %s) select id + 50000, %s from %s where %s", t.Name, columns, columns, t.Name, where)
	}
	if _, err := tx.Exec(ctx, statement, args...); err != nil {
		return fmt.Errorf("break %s: %w", t.Name, err)
	}
	return nil
}

// Mend ends all breakages; what a stall held back arrives with the next
// feeding, what was dropped stays lost.
func (h *Warehouse) Mend(ctx context.Context, now time.Time) ([]Breakage, error) {
	conn, err := h.connect(ctx)
	if err != nil {
		return nil, err
	}
	defer conn.Close(ctx)
	rows, err := conn.Query(ctx, `
		update demo.breakage set ended = $1 where ended is null
		returning id, kind, table_name, segment, size, started, ended`, now.UTC().Truncate(time.Second))
	if err != nil {
		return nil, fmt.Errorf("mend: %w", err)
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Breakage])
}

// Broken gives what is broken now.
func (h *Warehouse) Broken(ctx context.Context) ([]Breakage, error) {
	conn, err := h.connect(ctx)
	if err != nil {
		return nil, err
	}
	defer conn.Close(ctx)
	rows, err := conn.Query(ctx, `select id, kind, table_name, segment, size, started, ended from demo.breakage where ended is null order by id`)
	if err != nil {
		return nil, fmt.Errorf("read breakages: %w", err)
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Breakage])
}
