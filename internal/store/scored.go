package store

import (
	"cmp"
	"context"
	"encoding/binary"
	"fmt"
	"slices"
	"strconv"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/detect"
	"tinbell/core/score"
	"tinbell/internal/record"
)

// Scored is an alert as a scorecard counts it: small, for there may be a hundred
// thousand at once.
type Scored struct {
	score.Alert
	ID    int64
	Group int64 // 0 while it is in none
	Cause detect.Cause
	Held  record.Held
	Of    *ScoredSeries
}

// ScoredSeries is what is the same for all alerts of a series.
type ScoredSeries struct {
	Series    int64          `db:"series_id"`
	MonitorID int64          `db:"monitor_id"`
	Monitor   string         `db:"name"`
	Owner     string         `db:"owner"`
	Measure   string         `db:"measure"`
	Period    int64          `db:"period_seconds"`
	Zone      string         `db:"zone"`
	Dataset   string         `db:"dataset"`
	Segment   string         `db:"segment"`
	Tags      record.Strings `db:"tags"`
}

// RaisedAt is when it was raised.
func (a *Scored) RaisedAt() time.Time { return time.Unix(a.Start, 0).UTC() }

// Scored gives the alerts that monitors raised in [from, to), newest first.
func (s *Store) Scored(ctx context.Context, from, to time.Time) ([]Scored, error) {
	rows, err := s.reader(ctx).Query(ctx, `
		select id, monitor_id, series_id, coalesce(group_id, 0), since, raised_at, coalesce(ended_at, closed_at), planned, cause, verdict, held
		from alert where ($1::timestamptz is null or raised_at >= $1) and raised_at < $2 and monitor_id is not null`, nullTime(from), to)
	if err != nil {
		return nil, fmt.Errorf("read alerts: %w", err)
	}
	defer rows.Close()
	var alerts []Scored
	subjects, words := map[subject]*ScoredSeries{}, interned{}
	for rows.Next() {
		// Read as it comes: through scans it takes three times as long.
		raw := rows.RawValues()
		number := func(i int) int64 { return wholeNumber(raw[i], rows.FieldDescriptions()[i].Format) }
		second := func(i int) int64 { return secondOf(raw[i], rows.FieldDescriptions()[i].Format) }
		key := subject{number(1), number(2)}
		of := subjects[key]
		if of == nil {
			of = &ScoredSeries{}
			subjects[key] = of
		}
		alerts = append(alerts, Scored{ID: number(0), Group: number(3), Of: of, Cause: detect.Cause(words.of(raw[8])),
			Held: record.Held(words.of(raw[10])), Alert: score.Alert{Series: key.series, Since: second(4), Start: second(5), End: second(6),
				Planned: raw[7][0] == 1 || raw[7][0] == 't', Label: score.Verdict(words.of(raw[9]))}})
	}
	if err := rows.Err(); err != nil {
		return nil, fmt.Errorf("read alerts: %w", err)
	}
	if err := s.describe(ctx, subjects); err != nil {
		return nil, err
	}
	// What was removed between the two readings has no name any more.
	alerts = slices.DeleteFunc(alerts, func(a Scored) bool { return a.Of.Series == 0 })
	for i := range alerts {
		alerts[i].Slack = 3 * alerts[i].Of.Period
	}
	// Sorted here, which takes less than having rows of this width sorted.
	slices.SortFunc(alerts, func(a, b Scored) int { return cmp.Or(cmp.Compare(b.Start, a.Start), cmp.Compare(b.ID, a.ID)) })
	return alerts, nil
}

// subject is a series as a monitor watches it.
type subject struct{ monitor, series int64 }

// describe fills in what is known of subjects that still exist.
func (s *Store) describe(ctx context.Context, subjects map[subject]*ScoredSeries) error {
	monitors, series := make([]int64, 0, len(subjects)), make([]int64, 0, len(subjects))
	for key := range subjects {
		monitors, series = append(monitors, key.monitor), append(series, key.series)
	}
	list, err := many[ScoredSeries](ctx, s, "alerts", `
		select a.series_id, a.monitor_id, v.name, v.owner, m.measure, m.period_seconds, m.zone, d.name as dataset,
			s.segment, all_tags(d.tags, m.tags, v.tags) as tags
		from unnest($1::bigint[], $2::bigint[]) a (monitor_id, series_id)
		join monitor v on v.id = a.monitor_id join series s on s.id = a.series_id join metric m on m.id = v.metric_id
		join dataset d on d.id = m.dataset_id`, monitors, series)
	for _, one := range list {
		*subjects[subject{one.MonitorID, one.Series}] = one
	}
	return err
}

// wholeNumber reads an int8 in the protocol's binary form, or in its text form, in which
// all comes where a pooler between allows no other.
func wholeNumber(raw []byte, format int16) int64 {
	if format == pgx.BinaryFormatCode {
		return int64(binary.BigEndian.Uint64(raw))
	}
	n, _ := strconv.ParseInt(string(raw), 10, 64)
	return n
}

// secondOf reads a timestamptz likewise, as Unix seconds; 0 for null.
func secondOf(raw []byte, format int16) int64 {
	const epoch = 946_684_800 // of the protocol: 2000-01-01
	switch {
	case raw == nil:
		return 0
	case format == pgx.BinaryFormatCode:
		return time.UnixMicro(int64(binary.BigEndian.Uint64(raw))).Unix() + epoch
	}
	at, _ := time.Parse("2006-01-02 15:04:05.999999999Z07", string(raw))
	return at.Unix()
}

// interned are words that come again and again, each held once.
type interned map[string]string

func (w interned) of(text []byte) string {
	known, there := w[string(text)]
	if !there {
		known = string(text)
		w[known] = known
	}
	return known
}
