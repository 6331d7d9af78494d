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
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgtype"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"

	"tinbell/internal/record"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is the one door to the database. Records go through DB (sqlx); bulk
// copies and writes that enqueue work in the same transaction go through Pool.
type Store struct {
	Pool *pgxpool.Pool
	DB   *sqlx.DB
}

// Open connects and brings the tables up to date.
func Open(ctx context.Context, url string) (*Store, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("database address: %w", err)
	}
	config.MaxConns = max(config.MaxConns, 20)
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
	db := stdlib.OpenDBFromPool(pool)
	s := &Store{Pool: pool, DB: sqlx.NewDb(db, "pgx")}
	if err := migrate(ctx, db); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

func migrate(ctx context.Context, db *sql.DB) error {
	files, err := goose.NewProvider(goose.DialectPostgres, db, mustSub(), goose.WithVerbose(false))
	if err != nil {
		return fmt.Errorf("read migrations: %w", err)
	}
	if _, err := files.Up(ctx); err != nil {
		return fmt.Errorf("migrate database: %w", err)
	}
	return nil
}

// Close ends all connections.
func (s *Store) Close() {
	s.DB.Close()
	s.Pool.Close()
}

// InTx runs work in one transaction on the pool.
func (s *Store) InTx(ctx context.Context, work func(pgx.Tx) error) error {
	return pgx.BeginFunc(ctx, s.Pool, work)
}

// one reads a single row into a record and turns "no rows" into NotFound.
func one[T any](ctx context.Context, s *Store, kind, name, query string, args ...any) (T, error) {
	var v T
	err := s.DB.GetContext(ctx, &v, query, args...)
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
	if err := s.DB.SelectContext(ctx, &list, query, args...); err != nil {
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
	if err := s.DB.GetContext(ctx, &id, query, args...); err != nil {
		return 0, clash(what, err)
	}
	return id, nil
}

func (s *Store) exec(ctx context.Context, what, query string, args ...any) error {
	if _, err := s.DB.ExecContext(ctx, query, args...); err != nil {
		return clash(what, err)
	}
	return nil
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
