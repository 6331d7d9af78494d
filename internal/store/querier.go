package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/jmoiron/sqlx"
)

// Querier is what the pool and a transaction have in common. What takes one does
// not know which it has.
type Querier interface {
	Begin(ctx context.Context) (pgx.Tx, error)
	Exec(ctx context.Context, sql string, args ...any) (pgconn.CommandTag, error)
	Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error)
	QueryRow(ctx context.Context, sql string, args ...any) pgx.Row
	CopyFrom(ctx context.Context, table pgx.Identifier, columns []string, rows pgx.CopyFromSource) (int64, error)
}

// records is what sqlx reads and writes records through.
type records interface {
	sqlx.QueryerContext
	sqlx.ExecerContext
}

// bound is a transaction with both ways to its one connection: pgx for copies
// and for what enqueues work, sqlx for records. Its zero value is no
// transaction.
type bound struct {
	pgx.Tx
	rows records
	late *late
}

// late is what a transaction does last, by what it takes hold of.
type late map[string]func(context.Context, pgx.Tx) error

// AtEnd has a transaction do something last, after all that it reads and writes, in
// the order of keys and once for each: what many transactions take hold of is held
// briefly, and by all in one order, so that none waits for another that waits for it.
func (b bound) AtEnd(key string, do func(context.Context, pgx.Tx) error) { (*b.late)[key] = do }

// toTheEnd runs work in a transaction that has begun, and what it left for the end where
// that is its own to do.
func toTheEnd(ctx context.Context, tx bound, outer *late, work func(pgx.Tx) error) error {
	tx.late = &late{}
	if err := work(tx); err != nil {
		return err
	}
	if outer != nil {
		maps.Copy(*outer, *tx.late)
		return nil
	}
	for _, key := range slices.Sorted(maps.Keys(*tx.late)) {
		if err := (*tx.late)[key](ctx, tx); err != nil {
			return err
		}
	}
	return nil
}

// In gives the store as a transaction sees it. Everything that is read or written
// while a transaction is open goes through it: a read on the pool would wait for
// a second connection while it holds the first, and enough of these at once hold
// all there are.
func (s *Store) In(tx pgx.Tx) *Store {
	inside, ok := tx.(bound)
	if !ok {
		panic("store: a transaction that InTx did not begin") // a programming error, not a state
	}
	return &Store{Pool: s.Pool, DB: s.DB, inside: inside}
}

// querier is the transaction, or the pool where there is none.
func (s *Store) querier() Querier {
	if s.inside.Tx != nil {
		return s.inside.Tx
	}
	return s.Pool
}

// on runs work on the transaction's connection, or on one of the pool. A transaction is
// ended by pgx: were a reading in it cancelled besides, database/sql would close the
// connection from another goroutine while pgx still has it. A reading lasts no longer than
// the server lets a statement.
func (s *Store) on(ctx context.Context, work func(context.Context, records) error) error {
	if s.inside.Tx != nil {
		if err := ctx.Err(); err != nil {
			return err
		}
		return work(context.WithoutCancel(ctx), s.inside.rows)
	}
	if r := s.copied(ctx); r != nil {
		if done, err := r.onCopy(ctx, work); done {
			return err
		}
	}
	conn, err := s.acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	return work(ctx, conn)
}

// ErrBusy is wrapped where no connection became free in time.
var ErrBusy = errors.New("the database has more to do than it can: try again in a moment")

// acquire takes a connection from the pool, if one becomes free in time.
func (s *Store) acquire(ctx context.Context) (*sqlx.Conn, error) {
	limited, cancel := context.WithTimeout(ctx, acquireWithin)
	defer cancel()
	conn, err := s.DB.Connx(limited)
	if err != nil && limited.Err() != nil && ctx.Err() == nil {
		return nil, fmt.Errorf("%w (%w)", ErrBusy, err)
	}
	return conn, err
}

// deadlocks is how often a transaction that PostgreSQL ended for the sake of
// another is tried again.
const deadlocks = 6

// InTx runs work in one transaction; inside another, in a part of it that fails
// alone. Where two transactions block each other one is ended by the server and
// run again here, so work must not keep what it did the time before.
func (s *Store) InTx(ctx context.Context, work func(pgx.Tx) error) error {
	if s.inside.Tx != nil {
		return pgx.BeginFunc(ctx, s.inside.Tx, func(inner pgx.Tx) error {
			return toTheEnd(ctx, bound{Tx: inner, rows: s.inside.rows}, s.inside.late, work)
		})
	}
	return s.patiently(ctx, func() error { return s.inTx(ctx, work) })
}

// patiently tries again what PostgreSQL ended for the sake of another transaction; inside
// one it is for its beginner to try again.
func (s *Store) patiently(ctx context.Context, work func() error) error {
	for tries := 1; ; tries++ {
		err := work()
		if err == nil || tries == deadlocks || !blocked(err) || s.inside.Tx != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(time.Duration(rand.Int64N(int64(20*time.Millisecond) << tries))):
		}
	}
}

func (s *Store) inTx(ctx context.Context, work func(pgx.Tx) error) error {
	conn, err := s.acquire(ctx)
	if err != nil {
		return fmt.Errorf("begin transaction: %w", err)
	}
	defer conn.Close()
	var raw *pgx.Conn
	if err := conn.Raw(func(under any) error {
		raw = under.(*stdlib.Conn).Conn()
		return nil
	}); err != nil {
		return fmt.Errorf("begin transaction: %w", err)
	}
	return pgx.BeginFunc(ctx, raw, func(tx pgx.Tx) error { return toTheEnd(ctx, bound{Tx: tx, rows: conn}, nil, work) })
}

// blocked tells whether PostgreSQL ended a transaction because it and another
// waited for each other, or could not have run one after the other.
func blocked(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && (pg.Code == "40P01" || pg.Code == "40001")
}

// NoText tells whether a statement was refused for what it was given: text that is
// none, too long for an index, or a number or time out of range.
func NoText(err error) bool {
	var pg *pgconn.PgError
	if !errors.As(err, &pg) {
		return false
	}
	switch pg.Code {
	case "22021", "22P05", "54000", "22003", "22008", "22P02":
		return true
	}
	return false
}

// Unavailable tells whether an error is of the way to the database, or of the
// server going down or coming up, rather than of what was asked.
func Unavailable(err error) bool {
	var pg *pgconn.PgError
	if errors.As(err, &pg) {
		switch pg.Code[:2] {
		case "57", "53", "08": // operator intervention, out of resources, connection
			return pg.Code != "57014" // a statement that was cancelled
		}
		return false
	}
	var connect *pgconn.ConnectError
	return errors.As(err, &connect) || errors.Is(err, ErrBusy) || errors.Is(err, sql.ErrConnDone) || errors.Is(err,
		driver.ErrBadConn) || pgconn.SafeToRetry(err)
}
