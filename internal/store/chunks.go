package store

import (
	"context"
	"encoding/binary"
	"fmt"
	"slices"
	"sort"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/timeline"
	"tinbell/internal/record"
	"tinbell/internal/store/pack"
)

// dayKey names a chunk.
type dayKey struct {
	series int64
	day    int32
}

// putChunks writes samples, sorted and each once, into the chunks of their
// days. Rows of these days are older and go into the chunks as well.
func putChunks(ctx context.Context, tx pgx.Tx, samples []record.Sample, changes *Changes) error {
	byDay := map[dayKey][]timeline.Sample{}
	var ids []int64
	for _, s := range samples {
		if n := len(ids); n == 0 || ids[n-1] != s.SeriesID {
			ids = append(ids, s.SeriesID)
		}
		key := dayKey{s.SeriesID, pack.DayOf(s.At.Unix())}
		byDay[key] = append(byDay[key], lean(s))
	}
	from, to := samples[0].At, samples[0].At
	for _, s := range samples {
		if s.At.Before(from) {
			from = s.At
		}
		if s.At.After(to) {
			to = s.At
		}
	}
	if err := lockSeries(ctx, tx, ids); err != nil {
		return err
	}
	before, err := takeRows(ctx, tx, ids, startOf(pack.DayOf(from.Unix())), startOf(pack.DayOf(to.Unix())+1))
	if err != nil {
		return err
	}
	chunks, err := mergeChunks(ctx, tx, before, byDay)
	if err != nil {
		return err
	}
	written := map[dayKey][]timeline.Sample{}
	for key, fresh := range byDay {
		list := chunks[key]
		was := changes.N
		i := 0
		for _, s := range fresh {
			for i < len(list) && list[i].At < s.At {
				i++
			}
			if i < len(list) && list[i].At == s.At && same(list[i], s) {
				continue
			}
			changes.note(key.series, time.Unix(s.At, 0).UTC(), 1)
		}
		if changes.N > was {
			chunks[key] = overlay(list, fresh)
			written[key] = chunks[key]
		}
	}
	for key := range before {
		written[key] = chunks[key]
	}
	return writeChunks(ctx, tx, written)
}

// lockSeries keeps others from packing the same series until the transaction
// ends. Ids are ascending, so that two who lock wait instead of blocking each
// other.
func lockSeries(ctx context.Context, tx pgx.Tx, ids []int64) error {
	if _, err := tx.Exec(ctx, `select from series where id = any($1) order by id for no key update`, ids); err != nil {
		return fmt.Errorf("lock series: %w", err)
	}
	return nil
}

// takeRows takes the rows of some series in [from, to) out of their layer.
func takeRows(ctx context.Context, tx pgx.Tx, ids []int64, from, to time.Time) (map[dayKey][]timeline.Sample, error) {
	rows, err := tx.Query(ctx, `
		with taken as (delete from sample where series_id = any($1) and at >= $2 and at < $3 returning series_id, at, value, rows)
		select * from taken order by series_id, at`, ids, from, to)
	if err != nil {
		return nil, fmt.Errorf("take rows: %w", err)
	}
	found, err := bySeries(rows)
	if err != nil {
		return nil, fmt.Errorf("take rows: %w", err)
	}
	taken := map[dayKey][]timeline.Sample{}
	for id, list := range found {
		for len(list) > 0 {
			day := pack.DayOf(list[0].At)
			n := sort.Search(len(list), func(i int) bool { return pack.DayOf(list[i].At) > day })
			taken[dayKey{id, day}], list = list[:n:n], list[n:]
		}
	}
	return taken, nil
}

// mergeChunks reads the chunks of all days named in either map, with the rows
// that were taken laid above.
func mergeChunks(ctx context.Context, tx pgx.Tx, rows, others map[dayKey][]timeline.Sample) (map[dayKey][]timeline.Sample, error) {
	var ids []int64
	var days []int32
	for _, keys := range []map[dayKey][]timeline.Sample{rows, others} {
		for key := range keys {
			ids, days = append(ids, key.series), append(days, key.day)
		}
	}
	found, err := tx.Query(ctx, `
		select series_id, day, packed from sample_day
		join (select distinct unnest($1::bigint[]) as series_id, unnest($2::int[]) as day) wanted using (series_id, day)`, ids, days)
	if err != nil {
		return nil, fmt.Errorf("read chunks: %w", err)
	}
	defer found.Close()
	chunks := map[dayKey][]timeline.Sample{}
	for found.Next() {
		raw := found.RawValues()
		key := dayKey{int64(binary.BigEndian.Uint64(raw[0])), int32(binary.BigEndian.Uint32(raw[1]))}
		if chunks[key], err = pack.Unpack(nil, key.day, raw[2]); err != nil {
			return nil, fmt.Errorf("series %d, day %d: %w", key.series, key.day, err)
		}
	}
	for key, newer := range rows {
		chunks[key] = overlay(chunks[key], newer)
	}
	return chunks, found.Err()
}

func writeChunks(ctx context.Context, tx pgx.Tx, chunks map[dayKey][]timeline.Sample) error {
	if len(chunks) == 0 {
		return nil
	}
	keys := make([]dayKey, 0, len(chunks))
	for key := range chunks {
		keys = append(keys, key)
	}
	slices.SortFunc(keys, func(a, b dayKey) int {
		if a.series != b.series {
			return int(min(max(a.series-b.series, -1), 1))
		}
		return int(a.day - b.day)
	})
	ids, days, packed := make([]int64, len(keys)), make([]int32, len(keys)), make([][]byte, len(keys))
	for i, key := range keys {
		ids[i], days[i], packed[i] = key.series, key.day, pack.Pack(chunks[key])
	}
	_, err := tx.Exec(ctx, `
		insert into sample_day (series_id, day, packed) select unnest($1::bigint[]), unnest($2::int[]), unnest($3::bytea[])
		on conflict (series_id, day) do update set packed = excluded.packed`, ids, days, packed)
	if err != nil {
		return fmt.Errorf("write chunks: %w", err)
	}
	return nil
}

// within gives the part of an ascending list in [from, to).
func within(list []timeline.Sample, from, to time.Time) []timeline.Sample {
	first := sort.Search(len(list), func(i int) bool { return list[i].At >= from.Unix() })
	end := sort.Search(len(list), func(i int) bool { return list[i].At >= to.Unix() })
	return list[first:max(first, end)]
}

func startOf(day int32) time.Time { return time.Unix(int64(day)*pack.DaySeconds, 0).UTC() }

// packedAtOnce is how many series one transaction packs.
const packedAtOnce = 200

// PackDays moves rows from before recent into day chunks, and tells how many.
// Several processes may call it at once.
func (s *Store) PackDays(ctx context.Context, recent time.Time) (moved int, err error) {
	for after := int64(0); ; {
		ids, err := many[int64](ctx, s, "series", `select id from series where id > $1 order by id limit $2`, after, packedAtOnce)
		if err != nil {
			return moved, fmt.Errorf("pack days: %w", err)
		}
		if len(ids) == 0 {
			return moved, nil
		}
		after = ids[len(ids)-1]
		n := 0
		err = s.InTx(ctx, func(tx pgx.Tx) error {
			n = 0
			if err := lockSeries(ctx, tx, ids); err != nil {
				return err
			}
			rows, err := takeRows(ctx, tx, ids, time.Time{}, recent)
			if err != nil || len(rows) == 0 {
				return err
			}
			chunks, err := mergeChunks(ctx, tx, rows, nil)
			if err != nil {
				return err
			}
			for _, list := range rows {
				n += len(list)
			}
			return writeChunks(ctx, tx, chunks)
		})
		if err != nil {
			return moved, fmt.Errorf("pack days: %w", err)
		}
		moved += n
	}
}

// ForgetOld drops what is older than datasets keep: keepDays where they have no
// rule of their own, 0 for ever. It tells how many chunks went.
func (s *Store) ForgetOld(ctx context.Context, now time.Time, keepDays int) (int64, error) {
	today := pack.DayOf(now.Unix())
	return s.affect(ctx, "old samples", `
		delete from sample_day using series, metric, dataset
		where series.id = sample_day.series_id and metric.id = series.metric_id and dataset.id = metric.dataset_id
			and case when dataset.keep_days > 0 then dataset.keep_days else $2::int end > 0
			and sample_day.day < $1::int - case when dataset.keep_days > 0 then dataset.keep_days else $2::int end`, today, keepDays)
}
