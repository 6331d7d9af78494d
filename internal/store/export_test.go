package store

import (
	"context"
	"io/fs"

	"github.com/jackc/pgx/v5"
)

// BringUpToDate is bringUpToDate with changes of a test's own.
func BringUpToDate(ctx context.Context, url string, changes fs.FS) error {
	config, err := pgx.ParseConfig(url)
	if err != nil {
		return err
	}
	return bringUpToDate(ctx, config, changes)
}

// Holding holds the lock of a process that runs.
func Holding(ctx context.Context, url string) (end func(), err error) {
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		return nil, err
	}
	_, err = conn.Exec(ctx, `select pg_advisory_lock($1, 1)`, lockProcess)
	return func() { conn.Close(ctx) }, err
}

// BothLayers is what reads samples.
const BothLayers = bothLayers
