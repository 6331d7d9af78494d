// Package store keeps all records in PostgreSQL. Each file holds one kind of
// record with its statements. Nothing here knows of HTTP, and nothing decides:
// rows go in and out.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgtype"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/jmoiron/sqlx"

	"tinbell/internal/record"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is the one door to the database: every record is read and written
// through it. What In gives is the same door inside a transaction.
type Store struct {
	Pool   *pgxpool.Pool // for the queue, which has tables of its own
	DB     *sqlx.DB
	inside bound // the transaction, if it is the store of one

	replica *replica // that some is read from; nil: none
}

const (
	// connections is how many the pool has at least.
	connections = 20
	// acquireWithin is how long a transaction or a read waits for a connection.
	acquireWithin = 20 * time.Second
	// statementWithin ends a statement that takes longer, on the server; an
	// idle transaction is ended after idleWithin, and with it what it locks.
	statementWithin, idleWithin = 5 * time.Minute, 5 * time.Minute
)

// Open connects and brings the tables up to date.
func Open(ctx context.Context, url string) (*Store, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("database address: %w", err)
	}
	if err := bringUpToDate(ctx, config.ConnConfig.Copy(), mustSub()); err != nil {
		return nil, err
	}
	config.MaxConns = max(config.MaxConns, connections)
	config.ConnConfig.ConnectTimeout = 5 * time.Second
	config.ConnConfig.RuntimeParams["statement_timeout"] = strconv.FormatInt(statementWithin.Milliseconds(), 10)
	config.ConnConfig.RuntimeParams["idle_in_transaction_session_timeout"] = strconv.FormatInt(idleWithin.Milliseconds(), 10)
	config.AfterConnect = func(_ context.Context, conn *pgx.Conn) error {
		conn.TypeMap().RegisterType(&pgtype.Type{
			Name: "timestamptz", OID: pgtype.TimestamptzOID,
			Codec: &pgtype.TimestamptzCodec{ScanLocation: time.UTC},
		})
		return nil
	}
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, fmt.Errorf("open database: %w", err)
	}
	return &Store{Pool: pool, DB: sqlx.NewDb(stdlib.OpenDBFromPool(pool), "pgx")}, nil
}

// Close ends all connections.
func (s *Store) Close() {
	if s.replica != nil {
		s.replica.db.Close()
		s.replica.pool.Close()
	}
	s.DB.Close()
	s.Pool.Close()
}

// one reads a single row into a record and turns "no rows" into NotFound.
func one[T any](ctx context.Context, s *Store, kind, name, query string, args ...any) (T, error) {
	var v T
	err := s.on(ctx, func(ctx context.Context, rows records) error { return sqlx.GetContext(ctx, rows, &v, query, args...) })
	if errors.Is(err, sql.ErrNoRows) {
		return v, record.NotFound{Kind: kind, Name: name}
	}
	if err != nil {
		return v, fmt.Errorf("read %s %s: %w", kind, name, err)
	}
	return v, nil
}

// many reads rows into records; none give an empty list, never nil.
func many[T any](ctx context.Context, s *Store, what, query string, args ...any) ([]T, error) {
	list := []T{}
	err := s.on(ctx, func(ctx context.Context, rows records) error {
		return sqlx.SelectContext(ctx, rows, &list, query, args...)
	})
	if err != nil {
		return nil, fmt.Errorf("read %s: %w", what, err)
	}
	return list, nil
}

// insert runs a named insert that returns the new id.
func insert(ctx context.Context, s *Store, what, query string, v any) (int64, error) {
	query, args, err := s.DB.BindNamed(query, v)
	if err != nil {
		return 0, fmt.Errorf("add %s: %w", what, err)
	}
	var id int64
	if err := s.on(ctx, func(ctx context.Context, rows records) error { return sqlx.GetContext(ctx, rows, &id, query, args...) }); err != nil {
		return 0, clash(what, err)
	}
	return id, nil
}

// exec runs a statement and gives nothing back.
func (s *Store) exec(ctx context.Context, what, query string, args ...any) error {
	_, err := s.affect(ctx, what, query, args...)
	return err
}

// affect runs a statement and tells how many rows it touched.
func (s *Store) affect(ctx context.Context, what, query string, args ...any) (n int64, err error) {
	err = s.patiently(ctx, func() error {
		return s.on(ctx, func(ctx context.Context, rows records) error {
			result, err := rows.ExecContext(ctx, query, args...)
			if err == nil {
				n, err = result.RowsAffected()
			}
			return err
		})
	})
	if err != nil {
		return 0, clash(what, err)
	}
	return n, nil
}

// clash turns a broken unique or check constraint into what it means.
func clash(what string, err error) error {
	var pg *pgconn.PgError
	if errors.As(err, &pg) {
		switch pg.Code {
		case "23505":
			return record.Conflict{What: fmt.Sprintf("%s exists already (%s)", what, strings.TrimSuffix(pg.Detail, "."))}
		case "23514":
			return record.Invalid{Field: what, Given: pg.ConstraintName, Allowed: pg.Message}
		}
	}
	return fmt.Errorf("write %s: %w", what, err)
}

func mustSub() fs.FS {
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		panic(err) // the folder is embedded at build time
	}
	return sub
}
