package store

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/jmoiron/sqlx"
)

// replica is a copy of the database that is only read, a little behind it.
type replica struct {
	pool *pgxpool.Pool
	db   *sqlx.DB
	away atomic.Int64 // until when it is not asked, since it did not answer; in Unix nanoseconds
}

// awayFor is how long a replica that did not answer is left alone.
const awayFor = 10 * time.Second

// ReadFrom has what is marked by Reading read from a replica at another address; while that
// is away, from the database itself.
func (s *Store) ReadFrom(ctx context.Context, url string) error {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return fmt.Errorf("address of the database to read from: %w", err)
	}
	config.MaxConns = max(config.MaxConns, connections)
	config.ConnConfig.ConnectTimeout = 2 * time.Second
	config.ConnConfig.RuntimeParams["default_transaction_read_only"] = "on" // whatever it is
	config.AfterConnect = s.Pool.Config().AfterConnect
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return fmt.Errorf("open the database to read from: %w", err)
	}
	s.replica = &replica{pool: pool, db: sqlx.NewDb(stdlib.OpenDBFromPool(pool), "pgx")}
	return nil
}

type readingKey struct{}

// Reading marks a request that may be answered from a replica: what it reads may be a moment
// old, and it writes nothing.
func Reading(ctx context.Context) context.Context {
	return context.WithValue(ctx, readingKey{}, true)
}

// copied gives the replica, if what is asked may be read there and it answers.
func (s *Store) copied(ctx context.Context) *replica {
	if s.replica == nil || s.inside.Tx != nil || ctx.Value(readingKey{}) == nil || s.replica.away.Load() > time.Now().UnixNano() {
		return nil
	}
	return s.replica
}

// leave leaves a replica alone for a while that did not answer, and tells whether it did not.
func (r *replica) leave(err error) bool {
	var pg *pgconn.PgError
	cut := errors.As(err, &pg) && (pg.Code == "25006" || strings.HasPrefix(pg.Code, "57P") ||
		pg.Code == "40001") // writes there, going down, in conflict with its recovery
	if err == nil || !cut && !Unavailable(err) {
		return false
	}
	if !cut || pg.Code != "25006" && pg.Code != "40001" {
		r.away.Store(time.Now().Add(awayFor).UnixNano())
	}
	return true
}

// onCopy reads from the replica, and tells whether that is the answer.
func (r *replica) onCopy(ctx context.Context, work func(context.Context, records) error) (done bool, err error) {
	limited, cancel := context.WithTimeout(ctx, 3*time.Second)
	conn, err := r.db.Connx(limited)
	cancel()
	if err != nil {
		r.away.Store(time.Now().Add(awayFor).UnixNano())
		return ctx.Err() != nil, err
	}
	defer conn.Close()
	if err = work(ctx, conn); r.leave(err) {
		return false, nil
	}
	return true, err
}

// reader is who answers a query that is read row by row: a replica, or the database.
func (s *Store) reader(ctx context.Context) Querier {
	if r := s.copied(ctx); r != nil {
		if limited, cancel := context.WithTimeout(ctx, 3*time.Second); r.pool.Ping(limited) == nil {
			cancel()
			return r.pool
		} else {
			cancel()
			r.away.Store(time.Now().Add(awayFor).UnixNano())
		}
	}
	return s.querier()
}
