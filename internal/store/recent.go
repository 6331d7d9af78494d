package store

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"tinbell/core/timeline"
	"tinbell/internal/record"
)

var sampleColumns = []string{"series_id", "at", "value", "rows"}

// manyRows is from how many samples on a batch is first tried as a plain COPY,
// which is twice as fast and fails if one of them is there already.
const manyRows = 2000

// putRows writes samples, sorted and each once, into the layer of rows.
func putRows(ctx context.Context, tx pgx.Tx, samples []record.Sample, changes *Changes) error {
	if len(samples) >= manyRows {
		err := pgx.BeginFunc(ctx, tx, func(tx pgx.Tx) error { return copyRows(ctx, tx, "sample", samples) })
		if err == nil {
			for _, s := range samples {
				changes.note(s.SeriesID, s.At, 1)
			}
			return nil
		}
		var pg *pgconn.PgError
		if !errors.As(err, &pg) || pg.Code != "23505" {
			return err
		}
	}
	if _, err := tx.Exec(ctx, `
		create temp table if not exists incoming
			(series_id bigint, at timestamptz, value double precision, rows double precision) on commit drop;
		truncate incoming`); err != nil {
		return fmt.Errorf("prepare samples: %w", err)
	}
	if err := copyRows(ctx, tx, "incoming", samples); err != nil {
		return err
	}
	rows, err := tx.Query(ctx, `
		with written as (
			insert into sample (series_id, at, value, rows) select series_id, at, value, rows from incoming
			on conflict (series_id, at) do update set value = excluded.value, rows = excluded.rows
				where (sample.value, sample.rows) is distinct from (excluded.value, excluded.rows)
			returning series_id, at)
		select series_id, min(at), count(*) from written group by series_id`)
	if err != nil {
		return fmt.Errorf("write samples: %w", err)
	}
	var (
		series, n int64
		first     time.Time
	)
	if _, err := pgx.ForEachRow(rows, []any{&series, &first, &n}, func() error {
		changes.note(series, first, n)
		return nil
	}); err != nil {
		return fmt.Errorf("write samples: %w", err)
	}
	return nil
}

func copyRows(ctx context.Context, tx pgx.Tx, table string, samples []record.Sample) error {
	rows := pgx.CopyFromSlice(len(samples), func(i int) ([]any, error) {
		v := &samples[i]
		return []any{v.SeriesID, v.At, v.Value, v.Rows}, nil
	})
	if _, err := tx.CopyFrom(ctx, pgx.Identifier{table}, sampleColumns, rows); err != nil {
		return fmt.Errorf("copy samples: %w", err)
	}
	return nil
}

// bySeries collects rows of (series_id, at, value, rows), ordered by series.
func bySeries(rows pgx.Rows) (map[int64][]timeline.Sample, error) {
	defer rows.Close()
	found := map[int64][]timeline.Sample{}
	var list []timeline.Sample
	series := int64(-1)
	for rows.Next() {
		raw := rows.RawValues()
		if id := int64(binary.BigEndian.Uint64(raw[0])); id != series {
			if len(list) > 0 {
				found[series] = list
			}
			// The next series is about as long as the last.
			series, list = id, make([]timeline.Sample, 0, len(list)+4)
		}
		list = append(list, rawSample(raw[1], raw[2], raw[3]))
	}
	if len(list) > 0 {
		found[series] = list
	}
	return found, rows.Err()
}

// postgresEpoch is where PostgreSQL counts time from, in Unix seconds.
const postgresEpoch = 946684800

// rawTime reads the binary form of an instant, in Unix seconds.
func rawTime(at []byte) int64 { return int64(binary.BigEndian.Uint64(at))/1_000_000 + postgresEpoch }

// rawSample reads the binary form of a row, which costs a fraction of scanning
// it.
func rawSample(at, value, rows []byte) timeline.Sample {
	v := timeline.Sample{At: rawTime(at), Value: math.NaN()}
	if value != nil {
		v.Value = math.Float64frombits(binary.BigEndian.Uint64(value))
	}
	if rows != nil {
		if v.Rows = math.Float64frombits(binary.BigEndian.Uint64(rows)); value == nil && v.Rows == 0 {
			v.Rows = timeline.NoRows
		}
	}
	return v
}
