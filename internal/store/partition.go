package store

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
)

// parted are the tables of samples: those of the last two days as rows, those from before
// packed by day. Both are found by series alone.
var parted = []string{"sample", "sample_day"}

// mostParts is how many parts a table of samples has at most: a reader asks each of them.
const mostParts = 128

// Partition lays the samples of a database of records into so many parts, by a hash of their
// series; 1 makes each table whole again. It is one transaction: while rows are moved nobody
// else reads or writes samples, and when it fails everything is as it was.
func Partition(ctx context.Context, database string, parts int) error {
	if parts < 1 || parts > mostParts {
		return record.Invalid{Field: "parts", Given: fmt.Sprint(parts), Allowed: fmt.Sprintf("1 (whole) to %d", mostParts)}
	}
	conn, err := pgx.Connect(ctx, database)
	if err != nil {
		return fmt.Errorf("open database: %w", err)
	}
	defer conn.Close(context.WithoutCancel(ctx))
	var there int
	if err := conn.QueryRow(ctx, `select count(*) from pg_class where oid in (to_regclass('sample'), to_regclass('sample_day'))`).Scan(&there); err != nil {
		return fmt.Errorf("partition: %w", err)
	}
	if there < len(parted) {
		return record.Refused{Field: "database", Why: "it holds no records yet: start the service on it first"}
	}
	// Whoever brings the tables up to date waits, as this does for them.
	if _, err := conn.Exec(ctx, `select pg_advisory_lock($1)`, lockTables); err != nil {
		return fmt.Errorf("partition: %w", err)
	}
	return pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
		for _, table := range parted {
			if err := part(ctx, tx, table, parts); err != nil {
				return fmt.Errorf("partition %s: %w", table, err)
			}
		}
		return nil
	})
}

// part moves the rows of a table into a new one of so many parts, which takes its name.
func part(ctx context.Context, tx pgx.Tx, table string, parts int) error {
	var do []string
	say := func(statement string, with ...any) { do = append(do, fmt.Sprintf(statement, with...)) }
	say(`lock table %s in access exclusive mode`, table)
	// New names first: the old parts keep theirs until they are dropped.
	say(`create table %s_new (like %[1]s including all) %s`, table, map[bool]string{true: "partition by hash (series_id)"}[parts > 1])
	if parts > 1 {
		for n := range parts {
			say(`create table %s_new_%d partition of %[1]s_new for values with (modulus %[3]d, remainder %[2]d)`, table, n, parts)
		}
	}
	say(`insert into %s_new select * from %[1]s`, table)
	say(`drop table %s`, table)
	say(`alter table %s_new rename to %[1]s`, table)
	say(`alter index %s_new_pkey rename to %[1]s_pkey`, table)
	if parts > 1 {
		for n := range parts {
			say(`alter table %s_new_%d rename to %[1]s_%[2]d`, table, n)
			say(`alter index %s_new_%d_pkey rename to %[1]s_%[2]d_pkey`, table, n)
		}
	}
	say(`analyze %s`, table)
	_, err := tx.Exec(ctx, strings.Join(do, ";\n"))
	return err
}

// Parts is in how many parts the samples of a database lie; 1 where they lie whole.
func Parts(ctx context.Context, database string) (n int, err error) {
	conn, err := pgx.Connect(ctx, database)
	if err != nil {
		return 0, fmt.Errorf("open database: %w", err)
	}
	defer func() { err = errors.Join(err, conn.Close(context.WithoutCancel(ctx))) }()
	err = conn.QueryRow(ctx, `select greatest(count(*), 1) from pg_inherits where inhparent = to_regclass('sample_day')`).Scan(&n)
	return n, err
}
