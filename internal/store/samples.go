package store

import (
	"context"
	"encoding/binary"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/timeline"
	"tinbell/internal/record"
)

// PutSamples writes samples in the caller's transaction: a sample sent twice
// counts once, a corrected value replaces the old one. It gives how many were
// new or changed and the start of the earliest changed period.
func PutSamples(ctx context.Context, tx pgx.Tx, samples []record.Sample) (changed int64, earliest time.Time, err error) {
	if len(samples) == 0 {
		return 0, time.Time{}, nil
	}
	if _, err := tx.Exec(ctx, `
		create temp table if not exists incoming
			(n bigint, series_id bigint, at timestamptz, value double precision, rows double precision) on commit drop;
		truncate incoming`); err != nil {
		return 0, earliest, fmt.Errorf("prepare samples: %w", err)
	}
	rows := pgx.CopyFromSlice(len(samples), func(i int) ([]any, error) {
		v := &samples[i]
		return []any{int64(i), v.SeriesID, v.At, v.Value, v.Rows}, nil
	})
	if _, err := tx.CopyFrom(ctx, pgx.Identifier{"incoming"}, []string{"n", "series_id", "at", "value", "rows"}, rows); err != nil {
		return 0, earliest, fmt.Errorf("copy samples: %w", err)
	}
	// Of several samples for one period in a batch, the last one sent counts.
	var first *time.Time
	err = tx.QueryRow(ctx, `
		with written as (
			insert into sample (series_id, at, value, rows)
			select distinct on (series_id, at) series_id, at, value, rows from incoming order by series_id, at, n desc
			on conflict (series_id, at) do update set value = excluded.value, rows = excluded.rows
				where (sample.value, sample.rows) is distinct from (excluded.value, excluded.rows)
			returning at)
		select count(*), min(at) from written`).Scan(&changed, &first)
	if err != nil {
		return 0, earliest, fmt.Errorf("write samples: %w", err)
	}
	if first != nil {
		earliest = *first
	}
	return changed, earliest, nil
}

// Samples gives the samples of some series in [from, to), by series, ascending.
func (s *Store) Samples(ctx context.Context, series []int64, from, to time.Time) (map[int64][]timeline.Sample, error) {
	samples := make(map[int64][]timeline.Sample, len(series))
	err := s.EachSeries(ctx, series, from, to, func(id int64, list []timeline.Sample) error {
		samples[id] = list
		return nil
	})
	return samples, err
}

// EachSeries reads the samples of some series in [from, to) and hands over one
// series after another, ascending by id and time; those without samples are
// left out. Rows come as a binary COPY, which costs a fraction of a query's
// decoding.
func (s *Store) EachSeries(ctx context.Context, series []int64, from, to time.Time, do func(id int64, list []timeline.Sample) error) error {
	if len(series) == 0 {
		return nil
	}
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return fmt.Errorf("read samples: %w", err)
	}
	defer conn.Release()
	ids := make([]string, len(series))
	for i, id := range series {
		ids[i] = strconv.FormatInt(id, 10)
	}
	query := fmt.Sprintf(`copy (select series_id, at, value, rows from sample
		where series_id in (%s) and at >= '%s' and at < '%s' order by series_id, at) to stdout (format binary)`,
		strings.Join(ids, ","), from.UTC().Format(time.RFC3339Nano), to.UTC().Format(time.RFC3339Nano))
	reader := copied{do: do}
	if _, err := conn.Conn().PgConn().CopyTo(ctx, &reader, query); err != nil {
		return fmt.Errorf("read samples: %w", err)
	}
	return reader.end()
}

// copied decodes binary COPY rows of (series_id, at, value, rows) as they
// arrive: a header of 19 bytes, per row a field count and length-prefixed
// fields in network order, −1 for null, and −1 as the last field count.
type copied struct {
	do     func(id int64, list []timeline.Sample) error
	rest   []byte
	begun  bool
	ended  bool
	series int64
	list   []timeline.Sample
}

// postgresEpoch is where PostgreSQL counts time from, in Unix seconds.
const postgresEpoch = 946684800

func (c *copied) Write(b []byte) (int, error) {
	n := len(b)
	if len(c.rest) > 0 {
		b = append(c.rest, b...)
	}
	if !c.begun {
		if len(b) < 19 {
			c.rest = append(c.rest[:0:0], b...)
			return n, nil
		}
		b, c.begun = b[19:], true
	}
	for !c.ended {
		used, err := c.row(b)
		if err != nil {
			return n, err
		}
		if used == 0 {
			break
		}
		b = b[used:]
	}
	c.rest = append(c.rest[:0:0], b...)
	return n, nil
}

// row decodes one row and gives how many bytes it took, 0 if it is not there
// as a whole.
func (c *copied) row(b []byte) (int, error) {
	if len(b) < 2 {
		return 0, nil
	}
	if int16(binary.BigEndian.Uint16(b)) == -1 {
		c.ended = true
		return 2, nil
	}
	var fields [4]uint64
	var null [4]bool
	at := 2
	for i := range fields {
		if len(b) < at+4 {
			return 0, nil
		}
		size := int32(binary.BigEndian.Uint32(b[at:]))
		at += 4
		if null[i] = size < 0; null[i] {
			continue
		}
		if size != 8 {
			return 0, fmt.Errorf("a field of %d bytes where 8 were expected", size)
		}
		if len(b) < at+8 {
			return 0, nil
		}
		fields[i] = binary.BigEndian.Uint64(b[at:])
		at += 8
	}
	if id := int64(fields[0]); id != c.series {
		if err := c.end(); err != nil {
			return 0, err
		}
		// The next series is about as long as the last.
		c.series, c.list = id, make([]timeline.Sample, 0, len(c.list)+16)
	}
	v := timeline.Sample{At: int64(fields[1])/1_000_000 + postgresEpoch, Value: math.Float64frombits(fields[2])}
	if null[2] {
		v.Value = math.NaN()
	}
	if !null[3] {
		if v.Rows = math.Float64frombits(fields[3]); null[2] && v.Rows == 0 {
			v.Rows = timeline.NoRows
		}
	}
	c.list = append(c.list, v)
	return at, nil
}

func (c *copied) end() error {
	if len(c.list) == 0 {
		return nil
	}
	list := c.list
	c.list = c.list[len(c.list):]
	return c.do(c.series, list)
}

// PutLoads replaces a dataset's loads in (after, until] by what the warehouse
// holds now: rows that were taken back were never loaded.
func PutLoads(ctx context.Context, tx pgx.Tx, dataset int64, after, until time.Time, loads []record.Load) error {
	at, counts := make([]time.Time, len(loads)), make([]int64, len(loads))
	for i, l := range loads {
		at[i], counts[i] = l.At, l.Rows
	}
	_, err := tx.Exec(ctx, `
		with found as (select unnest($3::timestamptz[]) as at, unnest($4::bigint[]) as rows),
			gone as (delete from load where dataset_id = $1 and at > $2 and at <= $5 and at not in (select at from found))
		insert into load (dataset_id, at, rows) select $1, at, rows from found
		on conflict (dataset_id, at) do update set rows = excluded.rows where load.rows <> excluded.rows`, dataset, after, at, counts, until)
	if err != nil {
		return fmt.Errorf("write loads: %w", err)
	}
	return nil
}

// Loads gives the loads of a dataset in [from, to), ascending.
func (s *Store) Loads(ctx context.Context, dataset int64, from, to time.Time) ([]record.Load, error) {
	return many[record.Load](ctx, s, "loads", `
		select at, rows from load where dataset_id = $1 and at >= $2 and at < $3 order by at`, dataset, from, to)
}
