package store

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"

	"tinbell/internal/record"
)

const (
	// lockTables is held by the process that brings the tables up to date; others wait.
	lockTables = 7419
	// tablesWithin is how long they do.
	tablesWithin = 10 * time.Minute
)

// alone marks a change of the tables that processes of an earlier version cannot live with.
const alone = "-- Not beside earlier versions."

// bringUpToDate changes the tables to those that this version knows, on a connection of its
// own, under no time limit. Of several processes one does, and the others wait. Tables of a
// newer version are left alone, and so are those of processes that still run where they could
// not go on.
func bringUpToDate(ctx context.Context, config *pgx.ConnConfig, changes fs.FS) error {
	db := stdlib.OpenDB(*config)
	defer db.Close()
	held, err := db.Conn(ctx)
	if err != nil {
		return fmt.Errorf("open database: %w", err)
	}
	defer held.Close()
	waiting, cancel := context.WithTimeout(ctx, tablesWithin)
	defer cancel()
	if _, err := held.ExecContext(waiting, `select pg_advisory_lock($1)`, lockTables); err != nil {
		if ctx.Err() == nil && errors.Is(waiting.Err(), context.DeadlineExceeded) {
			err = fmt.Errorf("another process has been changing them for %s", tablesWithin)
		}
		return fmt.Errorf("bring the tables up to date: %w", err)
	}
	defer held.ExecContext(context.WithoutCancel(ctx), `select pg_advisory_unlock($1)`, lockTables)
	files, err := goose.NewProvider(goose.DialectPostgres, db, changes, goose.WithVerbose(false))
	if err != nil {
		return fmt.Errorf("read migrations: %w", err)
	}
	there, knows, err := files.GetVersions(ctx)
	if err != nil {
		return fmt.Errorf("read the version of the tables: %w", err)
	}
	if there > knows {
		return record.Refused{Field: "database",
			Why: fmt.Sprintf("its tables are of a newer version (%d) than this program knows (%d): start the newer program, or restore a backup from before", there, knows)}
	}
	if there > 0 && there < knows {
		if err := besideEarlier(ctx, held, files, changes, there); err != nil {
			return err
		}
	}
	if _, err := files.Up(ctx); err != nil {
		return fmt.Errorf("migrate database: %w", err)
	}
	return nil
}

// besideEarlier refuses changes of the tables that running processes of an earlier version
// could not live with.
func besideEarlier(ctx context.Context, db *sql.Conn, files *goose.Provider, changes fs.FS, there int64) error {
	for _, source := range files.ListSources() {
		if source.Version <= there {
			continue
		}
		text, err := fs.ReadFile(changes, source.Path)
		if err != nil {
			return fmt.Errorf("read migrations: %w", err)
		}
		if !bytes.Contains(text, []byte(alone)) {
			continue
		}
		var running int
		err = db.QueryRowContext(ctx, `select count(*) from pg_locks
			where locktype = 'advisory' and classid = $1 and granted
			and database = (select oid from pg_database where datname = current_database())`, lockProcess).Scan(&running)
		if err != nil {
			return fmt.Errorf("look for other processes: %w", err)
		}
		if running > 0 {
			return record.Refused{Field: "database",
				Why: fmt.Sprintf("an earlier version still runs on it (processes: %d), which could not go on after change %d of its tables: end that, then start this one", running, source.Version)}
		}
	}
	return nil
}
