package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
)

// Deliveries gives the files of a dataset that landed in [from, to), newest
// first, at most so many.
func (s *Store) Deliveries(ctx context.Context, dataset int64, from, to time.Time, limit int) ([]record.Delivery, error) {
	return many[record.Delivery](ctx, s, "deliveries", `
		select * from delivery where dataset_id = $1 and landed_at >= $2 and landed_at < $3
		order by landed_at desc, path desc limit $4`, dataset, from, to, limit)
}

// KnownFiles gives what is known of all files of a dataset, by path, without
// their columns.
func (s *Store) KnownFiles(ctx context.Context, dataset int64) (map[string]record.Delivery, error) {
	list, err := many[record.Delivery](ctx, s, "deliveries", `
		select id, dataset_id, path, segment, bytes, rows, landed_at, seen_at, state, message, digest from delivery where dataset_id = $1`, dataset)
	known := make(map[string]record.Delivery, len(list))
	for _, d := range list {
		known[d.Path] = d
	}
	return known, err
}

// PutDelivery keeps what is known of a file.
func PutDelivery(ctx context.Context, tx pgx.Tx, d record.Delivery) error {
	_, err := tx.Exec(ctx, `
		insert into delivery (dataset_id, path, segment, bytes, rows, columns, digest, landed_at, seen_at, state, message)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11)
		on conflict (dataset_id, path) do update set bytes = excluded.bytes, rows = excluded.rows,
			columns = excluded.columns, digest = excluded.digest,
			landed_at = excluded.landed_at, seen_at = excluded.seen_at, state = excluded.state, message = excluded.message`,
		d.DatasetID, d.Path, d.Segment, d.Bytes, d.Rows, d.Columns, d.Digest, d.LandedAt, d.SeenAt, d.State, d.Message)
	if err != nil {
		return fmt.Errorf("write delivery: %w", err)
	}
	return nil
}

// SameFile gives the path of an earlier file of a dataset with the same content,
// empty if there is none.
func SameFile(ctx context.Context, tx pgx.Tx, d record.Delivery) (path string, err error) {
	err = tx.QueryRow(ctx, `
		select coalesce((select path from delivery where dataset_id = $1 and digest = $2 and path <> $3 and state = 'taken'
			order by landed_at limit 1), '')`,
		d.DatasetID, d.Digest, d.Path).Scan(&path)
	if err != nil {
		return "", fmt.Errorf("read deliveries: %w", err)
	}
	return path, nil
}

// BadFiles gives, of each segment whose newest file is broken, came before or
// lacks columns,
// that file, newest first; those that landed before an instant are forgotten.
func (s *Store) BadFiles(ctx context.Context, dataset int64, since time.Time) ([]record.Delivery, error) {
	return many[record.Delivery](ctx, s, "deliveries", `
		select * from (
			select distinct on (segment) * from delivery where dataset_id = $1 and state <> 'growing'
			order by segment, landed_at desc, path desc) newest
		where (state in ('broken', 'doubled') or message <> '') and landed_at >= $2 order by landed_at desc`, dataset, since)
}

// ColumnsBefore gives the columns of the file of the same segment that was taken
// before one.
func ColumnsBefore(ctx context.Context, tx pgx.Tx, d record.Delivery) (columns record.Columns, err error) {
	err = tx.QueryRow(ctx, `
		select coalesce((select columns from delivery
			where dataset_id = $1 and segment = $2 and state = 'taken' and landed_at < $3 order by landed_at desc limit 1), '[]')`,
		d.DatasetID, d.Segment, d.LandedAt).Scan(&columns)
	if err != nil {
		return nil, fmt.Errorf("read deliveries: %w", err)
	}
	return columns, nil
}

// ForgetDeliveries drops what is known of a dataset's files that landed before an instant,
// but for those that are there still; a bounded number at once.
func (s *Store) ForgetDeliveries(ctx context.Context, dataset int64, there []string, before time.Time) error {
	return s.exec(ctx, "old deliveries", `
		delete from delivery where id in (select id from delivery
			where dataset_id = $1 and landed_at < $2 and path <> all($3) order by landed_at limit $4)`,
		dataset, before, there, forgetStep*forgetSteps)
}
