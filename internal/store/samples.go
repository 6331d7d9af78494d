package store

import (
	"context"
	"encoding/binary"
	"fmt"
	"math"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/timeline"
	"tinbell/internal/record"
	"tinbell/internal/store/pack"
)

// Samples live in two layers: rows of the last days, where late data and
// corrections arrive one by one, and a packed chunk for each series and day
// before. Writing and reading know both; nobody else does.

// recentDays is how many whole days samples stay rows.
const recentDays = 2

// RecentFrom is where the layer of rows begins: older samples are packed.
func RecentFrom(now time.Time) time.Time {
	return time.Unix(int64(pack.DayOf(now.Unix())-recentDays)*pack.DaySeconds, 0).UTC()
}

// Changes is what writing samples came to: how many were new or corrected, and of
// each series the start of the earliest such period.
type Changes struct {
	N     int64
	First map[int64]time.Time
}

func (c *Changes) note(series int64, at time.Time, n int64) {
	if c.First == nil {
		c.First = map[int64]time.Time{}
	}
	c.N += n
	if first, known := c.First[series]; !known || at.Before(first) {
		c.First[series] = at
	}
}

// PutSamples writes samples in the caller's transaction: a sample sent twice
// counts once, a corrected value replaces the old one. Samples before recent go
// into day chunks; that locks their series until the transaction ends.
func PutSamples(ctx context.Context, tx pgx.Tx, samples []record.Sample, recent time.Time) (changes Changes, err error) {
	fresh := slices.Clone(samples)
	// Of several samples for one period in a batch, the last one sent counts.
	slices.SortStableFunc(fresh, bySeriesAndTime)
	fresh = lastOfEach(fresh)
	rows, old := fresh[:0:0], fresh[:0:0]
	if i := slices.IndexFunc(fresh, func(s record.Sample) bool { return s.At.Before(recent) }); i < 0 {
		rows = fresh
	} else {
		for _, s := range fresh {
			if s.At.Before(recent) {
				old = append(old, s)
			} else {
				rows = append(rows, s)
			}
		}
	}
	for _, layer := range []struct {
		samples []record.Sample
		put     func(context.Context, pgx.Tx, []record.Sample, *Changes) error
	}{{old, putChunks}, {rows, putRows}} {
		if len(layer.samples) == 0 {
			continue
		}
		if err := layer.put(ctx, tx, layer.samples, &changes); err != nil {
			return Changes{}, err
		}
	}
	return changes, nil
}

func bySeriesAndTime(a, b record.Sample) int {
	if a.SeriesID != b.SeriesID {
		return int(min(max(a.SeriesID-b.SeriesID, -1), 1))
	}
	return a.At.Compare(b.At)
}

// lastOfEach keeps, of neighbours for the same period, the last.
func lastOfEach(sorted []record.Sample) []record.Sample {
	kept := sorted[:0]
	for i, s := range sorted {
		if i+1 == len(sorted) || sorted[i+1].SeriesID != s.SeriesID || !sorted[i+1].At.Equal(s.At) {
			kept = append(kept, s)
		}
	}
	return kept
}

// lean gives a stored sample as the core knows it.
func lean(s record.Sample) timeline.Sample {
	v := timeline.Sample{At: s.At.Unix(), Value: math.NaN()}
	if s.Value != nil {
		v.Value = *s.Value
	}
	if s.Rows != nil {
		if v.Rows = *s.Rows; s.Value == nil && v.Rows == 0 {
			v.Rows = timeline.NoRows
		}
	}
	return v
}

// same tells whether two samples say the same.
func same(a, b timeline.Sample) bool {
	return a.Rows == b.Rows && (a.Value == b.Value || a.Missing() && b.Missing())
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

// bothLayers reads the rows and the day chunks of some series in one statement, so
// as of one moment: a batch that goes into both is seen whole or not at all.
const bothLayers = `
	select series_id, at, value, rows, null::bytea as packed from sample
	where series_id = any($1) and at >= $2 and at < $3
	union all
	select series_id, to_timestamp(day * 86400::bigint), null, null, packed from sample_day
	where series_id = any($1) and day between $4 and $5
	order by series_id, at`

// EachSeries reads the samples of some series in [from, to), both layers, and
// hands over one series after another, ascending by time; those without samples
// are left out.
func (s *Store) EachSeries(ctx context.Context, series []int64, from, to time.Time, do func(id int64, list []timeline.Sample) error) error {
	if len(series) == 0 {
		return nil
	}
	found, err := s.reader(ctx).Query(ctx, bothLayers, series, from, to, pack.DayOf(from.Unix()), pack.DayOf(to.Unix()))
	if err != nil {
		return fmt.Errorf("read samples: %w", err)
	}
	defer found.Close()
	var packed, rows []timeline.Sample
	current := int64(-1)
	hand := func() error {
		list := overlay(within(packed, from, to), rows)
		if len(list) == 0 {
			return nil
		}
		return do(current, list)
	}
	for found.Next() {
		raw := found.RawValues()
		if id := int64(binary.BigEndian.Uint64(raw[0])); id != current {
			if err := hand(); err != nil {
				return err
			}
			// The next series is about as long as the last.
			current, packed, rows = id, make([]timeline.Sample, 0, len(packed)+16), make([]timeline.Sample, 0, len(rows)+4)
		}
		if raw[4] == nil {
			rows = append(rows, rawSample(raw[1], raw[2], raw[3]))
			continue
		}
		day := pack.DayOf(rawTime(raw[1]))
		if packed, err = pack.Unpack(packed, day, raw[4]); err != nil {
			return fmt.Errorf("series %d, day %d: %w", current, day, err)
		}
	}
	if err := found.Err(); err != nil {
		return fmt.Errorf("read samples: %w", err)
	}
	return hand()
}

// overlay merges two ascending lists; where both have a time, newer counts.
func overlay(older, newer []timeline.Sample) []timeline.Sample {
	if len(newer) == 0 {
		return older
	}
	if n := len(older); n == 0 || older[n-1].At < newer[0].At {
		return append(older, newer...)
	}
	merged := make([]timeline.Sample, 0, len(older)+len(newer))
	for len(older) > 0 && len(newer) > 0 {
		if older[0].At < newer[0].At {
			merged, older = append(merged, older[0]), older[1:]
			continue
		}
		if older[0].At == newer[0].At {
			older = older[1:]
		}
		merged, newer = append(merged, newer[0]), newer[1:]
	}
	return append(append(merged, older...), newer...)
}
