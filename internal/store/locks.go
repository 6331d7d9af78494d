package store

import (
	"context"

	"github.com/jackc/pgx/v5"
)

// Advisory locks, by what they are held for. Of each class a number says which
// one: of a monitor, a task, a comparison; a name is hashed.
const (
	lockMonitor    = 7411 // who judges a monitor
	lockTask       = 7412 // who works on a task
	lockName       = 7413 // who makes or changes a calendar or channel of a name
	lockComparison = 7414 // who runs a comparison
)

// lockGrouping is held by the one process that groups alerts.
const lockGrouping = 7412

// LockName keeps others from making or changing a thing of a kind and name until
// the transaction ends, be it there or not.
func LockName(ctx context.Context, tx pgx.Tx, kind, name string) error {
	_, err := tx.Exec(ctx, `select pg_advisory_xact_lock($1, hashtext($2))`, lockName, kind+" "+name)
	return err
}
