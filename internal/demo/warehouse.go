package demo

import (
	"context"
	"fmt"
	"runtime"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/errgroup"
)

// Login of the warehouse that may only read.
const (
	ReaderLogin    = "vellamar_reader"
	ReaderPassword = "only-reads"
)

// Warehouse is the demo's warehouse database, as its owner.
type Warehouse struct {
	address string
	world   *World
}

// OpenWarehouse remembers the address of the demo's warehouse.
func OpenWarehouse(address string, w *World) *Warehouse { return &Warehouse{address, w} }

// World is the past that it was filled with.
func (h *Warehouse) World() *World { return h.world }

func (h *Warehouse) connect(ctx context.Context) (*pgx.Conn, error) {
	return pgx.Connect(ctx, h.address)
}

// Loaded tells up to when the warehouse was filled; zero if it is empty.
func (h *Warehouse) Loaded(ctx context.Context) (seed uint64, asOf, fed time.Time, err error) {
	conn, err := h.connect(ctx)
	if err != nil {
		return
	}
	defer conn.Close(ctx)
	var there bool
	if err = conn.QueryRow(ctx, `select to_regclass('demo.world') is not null`).Scan(&there); err != nil || !there {
		return
	}
	var signed int64
	err = conn.QueryRow(ctx, `select seed, as_of, fed_to from demo.world`).Scan(&signed, &asOf, &fed)
	return uint64(signed), asOf, fed, err
}

// Fill makes the tables and loads the past by COPY, telling how far it is.
func (h *Warehouse) Fill(ctx context.Context, progress func(done, total int)) (rows int64, err error) {
	conn, err := h.connect(ctx)
	if err != nil {
		return 0, err
	}
	defer conn.Close(ctx)
	var ddl strings.Builder
	ddl.WriteString("drop schema if exists ops, ml, mart, raw, demo cascade; create schema ops; create schema ml; create schema mart; create schema raw; create schema demo;")
	for i := range Tables {
		ddl.WriteString(Tables[i].create() + ";")
	}
	ddl.WriteString(`create table demo.breakage (id bigint generated always as identity primary key, kind text not null, table_name text not null,
		segment int not null, size double precision not null, started timestamptz not null, ended timestamptz);`)
	ddl.WriteString(`do $$ begin if not exists (select from pg_roles where rolname = '` + ReaderLogin + `') then
		create role ` + ReaderLogin + ` login password '` + ReaderPassword + `'; end if; end $$;`)
	if _, err := conn.Exec(ctx, ddl.String()); err != nil {
		return 0, fmt.Errorf("make warehouse tables: %w", err)
	}
	counts := make([]int64, len(Tables))
	finished := make(chan struct{}, len(Tables))
	group, inner := errgroup.WithContext(ctx)
	group.SetLimit(runtime.NumCPU())
	h.world.on("")
	h.world.holidays()
	for i := range Tables {
		group.Go(func() error {
			var err error
			counts[i], err = h.copyPast(inner, &Tables[i])
			finished <- struct{}{}
			return err
		})
	}
	go func() {
		for n := range Tables {
			<-finished
			progress(n+1, len(Tables))
		}
	}()
	if err := group.Wait(); err != nil {
		return 0, err
	}
	for _, n := range counts {
		rows += n
	}
	_, err = conn.Exec(ctx, `
		grant usage on schema ops, ml, mart, raw to `+ReaderLogin+`;
		grant select on all tables in schema ops, ml, mart, raw to `+ReaderLogin+`;
		create table demo.world (seed bigint, as_of timestamptz, fed_to timestamptz)`)
	if err != nil {
		return rows, fmt.Errorf("finish warehouse: %w", err)
	}
	_, err = conn.Exec(ctx, `insert into demo.world values ($1, $2, $2)`, int64(h.world.Seed), h.world.AsOf)
	return rows, err
}

func (h *Warehouse) copyPast(ctx context.Context, t *Table) (int64, error) {
	conn, err := h.connect(ctx)
	if err != nil {
		return 0, err
	}
	defer conn.Close(ctx)
	source := &past{world: h.world, table: t, at: h.world.Start()}
	n, err := conn.CopyFrom(ctx, strings.Split(t.Name, "."), t.Columns, source)
	if err != nil {
		return n, fmt.Errorf("load %s: %w", t.Name, err)
	}
	_, err = conn.Exec(ctx, fmt.Sprintf(`create index on %s (%s); create index on %s (loaded_at); analyze %s`,
		t.Name, t.eventColumn(), t.Name, t.Name))
	return n, err
}

// past feeds COPY hour by hour with what had been loaded by the world's time.
type past struct {
	world *World
	table *Table
	at    time.Time
	rows  []Row
	next  int
}

func (p *past) Next() bool {
	for {
		for p.next < len(p.rows) {
			p.next++
			if !p.rows[p.next-1].Loaded.After(p.world.AsOf) {
				return true
			}
		}
		if !p.at.Before(p.world.AsOf) {
			return false
		}
		p.rows, p.next = p.world.Rows(p.table, p.at), 0
		p.at = p.at.Add(time.Hour)
	}
}

func (p *past) Values() ([]any, error) { return p.rows[p.next-1].Values, nil }
func (p *past) Err() error             { return nil }

// Feed appends the rows loaded since the last feeding up to now, with the
// breakages in force, and gives the loads.
func (h *Warehouse) Feed(ctx context.Context, now time.Time) ([]Load, error) {
	conn, err := h.connect(ctx)
	if err != nil {
		return nil, err
	}
	defer conn.Close(ctx)
	var loads []Load
	err = pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
		var fed time.Time
		if err := tx.QueryRow(ctx, `select fed_to from demo.world for update`).Scan(&fed); err != nil {
			return err
		}
		world, longest, err := h.broken(ctx, tx)
		if err != nil || !now.After(fed) {
			return err
		}
		for i := range Tables {
			t := &Tables[i]
			from := fed.Add(-longest - 30*time.Hour).Truncate(time.Hour)
			fresh := world.Loads(t, from, fed, now)
			var rows [][]any
			for _, l := range fresh {
				rows = append(rows, l.Rows...)
			}
			if _, err := tx.CopyFrom(ctx, strings.Split(t.Name, "."), t.Columns, pgx.CopyFromRows(rows)); err != nil {
				return fmt.Errorf("feed %s: %w", t.Name, err)
			}
			loads = append(loads, fresh...)
		}
		_, err = tx.Exec(ctx, `update demo.world set fed_to = $1`, now)
		return err
	})
	return loads, err
}

// broken is the world with what people broke, and how far back the longest
// stall reaches.
func (h *Warehouse) broken(ctx context.Context, tx pgx.Tx) (*World, time.Duration, error) {
	list, err := breakages(ctx, tx)
	if err != nil {
		return nil, 0, err
	}
	w := *h.world
	w.byTable = nil
	w.Effects = append([]Effect(nil), w.Effects...)
	longest := 2 * time.Hour
	for _, e := range w.Effects {
		if e.Kind == Stall && e.To.After(w.AsOf) {
			longest = max(longest, w.AsOf.Sub(e.From))
		}
	}
	for _, b := range list {
		w.Effects = append(w.Effects, b.effect())
		if b.Kind == Stall {
			longest = max(longest, time.Since(b.Started))
		}
	}
	return &w, min(longest, 7*24*time.Hour), nil
}
