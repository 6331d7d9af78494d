package store

import (
	"bytes"
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

// copyRows sends samples by COPY in its binary form, written as it goes over the wire: a
// general encoder boxes each value and costs as much as the server's own work. The form is
// that of PostgreSQL's manual, COPY, "Binary Format".
func copyRows(ctx context.Context, tx pgx.Tx, table string, samples []record.Sample) error {
	const row = 2 + 4*(4+8) // a count of fields, and of each its length and eight bytes
	wire := make([]byte, 0, len(copyHead)+len(samples)*row+2)
	wire = append(wire, copyHead...)
	for i := range samples {
		v := &samples[i]
		wire = binary.BigEndian.AppendUint16(wire, 4)
		wire = appendField(wire, uint64(v.SeriesID))
		wire = appendField(wire, uint64(v.At.UnixMicro()-postgresEpoch*1_000_000))
		wire = appendFloat(wire, v.Value)
		wire = appendFloat(wire, v.Rows)
	}
	wire = binary.BigEndian.AppendUint16(wire, math.MaxUint16) // no further row
	command := "copy " + table + " (series_id, at, value, rows) from stdin (format binary)"
	if _, err := tx.Conn().PgConn().CopyFrom(ctx, bytes.NewReader(wire), command); err != nil {
		return fmt.Errorf("copy samples: %w", err)
	}
	return nil
}

// copyHead begins a COPY: its signature, no flags, no extension.
const copyHead = "PGCOPY\n\377\r\n\x00" + "\x00\x00\x00\x00" + "\x00\x00\x00\x00"

func appendField(wire []byte, v uint64) []byte {
	return binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint32(wire, 8), v)
}

// appendFloat appends a number, or null as its length of -1.
func appendFloat(wire []byte, v *float64) []byte {
	if v == nil {
		return binary.BigEndian.AppendUint32(wire, math.MaxUint32)
	}
	return appendField(wire, math.Float64bits(*v))
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
