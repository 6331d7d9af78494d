package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// Advisory locks, by what they are held for. Of each class a number says which
// one: of a monitor, a task, a comparison; a name is hashed.
const (
	lockMonitor    = 7411 // who judges a monitor
	lockTask       = 7412 // who works on a task
	lockName       = 7413 // who makes or changes a calendar or channel of a name
	lockComparison = 7414 // who runs a comparison
	lockProcess    = 7415 // a process, while it lives
	lockDataset    = 7417 // who collects a dataset
	lockLead       = 7416 // the process that does what one does for all
	lockStay       = 7418 // who writes what hangs on a dataset, together; who removes of it, alone
)

// Stay keeps datasets and what hangs on them from being removed until the transaction
// ends. Who writes alerts, labels or samples takes it first of all: a removal takes with
// it what others hold, and both would wait for each other.
func Stay(ctx context.Context, tx pgx.Tx, datasets ...int64) error {
	_, err := tx.Exec(ctx, `
		select pg_advisory_xact_lock_shared($1, id::int) from (select distinct unnest($2::bigint[]) as id order by id offset 0) d`, lockStay, datasets)
	if err != nil {
		return fmt.Errorf("keep a dataset: %w", err)
	}
	return nil
}

// StayOfAlerts is Stay of the datasets that alerts are on.
func StayOfAlerts(ctx context.Context, tx pgx.Tx, alerts []int64) error {
	datasets, err := ids(ctx, tx, `
		select distinct coalesce(m.dataset_id, a.of_dataset) from alert a left join monitor v on v.id = a.monitor_id
		left join metric m on m.id = v.metric_id
		where a.id = any($1) and coalesce(m.dataset_id, a.of_dataset) is not null`, alerts)
	if err != nil {
		return fmt.Errorf("keep a dataset: %w", err)
	}
	return Stay(ctx, tx, datasets...)
}

// aloneOn waits until nobody writes to datasets, nor groups alerts, and keeps all from it
// until the transaction ends.
func aloneOn(ctx context.Context, tx pgx.Tx, datasets []int64) error {
	_, err := tx.Exec(ctx, `
		select pg_advisory_xact_lock($1, id::int) from (select distinct unnest($2::bigint[]) as id order by id offset 0) d`,
		lockStay, datasets)
	if err == nil {
		_, err = tx.Exec(ctx, `select pg_advisory_xact_lock($1)`, lockGrouping)
	}
	if err != nil {
		return fmt.Errorf("wait for who writes: %w", err)
	}
	return nil
}

// lockGrouping is held by the one process that groups alerts.
const lockGrouping = 7412

// LockName keeps others from making or changing a thing of a kind and name until
// the transaction ends, be it there or not.
func LockName(ctx context.Context, tx pgx.Tx, kind, name string) error {
	_, err := tx.Exec(ctx, `select pg_advisory_xact_lock($1, hashtext($2))`, lockName, kind+" "+name)
	return err
}

// Lock is an advisory lock on a connection of its own, outside of the pool. It
// ends with Release, with the connection, and with the process.
type Lock struct{ conn *pgx.Conn }

// lock takes an advisory lock if nobody has it.
func (s *Store) lock(ctx context.Context, class int, id int32) (lock *Lock, held bool, err error) {
	limited, cancel := context.WithTimeout(ctx, acquireWithin)
	defer cancel()
	conn, err := pgx.ConnectConfig(limited, s.Pool.Config().ConnConfig)
	if err != nil {
		return nil, false, fmt.Errorf("take a lock: %w", err)
	}
	l := &Lock{conn}
	if err := conn.QueryRow(limited, `select pg_try_advisory_lock($1, $2)`, class, id).Scan(&held); err != nil || !held {
		l.Release()
		return nil, false, err
	}
	return l, true, nil
}

// Check tells whether the connection, and so the lock, still stands.
func (l *Lock) Check(ctx context.Context) error {
	limited, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	return l.conn.Ping(limited)
}

// Release lets go. The server ends a closed connection a moment later: who asks at once
// would find the lock held still, so it is given back before.
func (l *Lock) Release() {
	limited, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	if !l.conn.IsClosed() {
		l.conn.Exec(limited, `select pg_advisory_unlock_all()`)
	}
	l.conn.Close(limited)
}

// Lead takes the lock of the process that does what one does for all.
func (s *Store) Lead(ctx context.Context) (lock *Lock, held bool, err error) {
	return s.lock(ctx, lockLead, 0)
}
