package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
)

// PutCalendar keeps what a calendar was made from.
func PutCalendar(ctx context.Context, tx pgx.Tx, v record.Calendar) error {
	_, err := tx.Exec(ctx, `
		insert into calendar (name, ical, country, dataset, effect, zone) values ($1, $2, $3, $4, $5, $6)
		on conflict (name) do update set ical = excluded.ical, country = excluded.country, dataset = excluded.dataset,
			effect = excluded.effect, zone = excluded.zone, put_at = now()`,
		v.Name, v.ICal, v.Country, v.Dataset, v.Effect, v.Zone)
	if err != nil {
		return clash("calendar "+v.Name, err)
	}
	return nil
}

// DropCalendar removes a calendar with all of its events.
func DropCalendar(ctx context.Context, tx pgx.Tx, name string) error {
	gone, err := tx.Exec(ctx, `delete from calendar where name = $1`, name)
	if err != nil {
		return clash("calendar", err)
	}
	events, err := tx.Exec(ctx, `delete from planned_event where calendar = $1`, name)
	if err != nil {
		return clash("calendar", err)
	}
	if gone.RowsAffected()+events.RowsAffected() == 0 {
		return record.NotFound{Kind: "calendar", Name: name}
	}
	return nil
}

// Calendars gives all calendars with their files.
func (s *Store) Calendars(ctx context.Context) ([]record.Calendar, error) {
	return many[record.Calendar](ctx, s, "calendars", `select name, ical, country, dataset, effect, zone from calendar order by name`)
}

// CalendarForUpdate gives a calendar and keeps others from changing it meanwhile;
// one without a file if there is none.
func CalendarForUpdate(ctx context.Context, tx pgx.Tx, name string) (record.Calendar, error) {
	v := record.Calendar{Name: name, Effect: record.EffectMute}
	if err := LockName(ctx, tx, "calendar", name); err != nil {
		return v, clash("calendar", err)
	}
	err := tx.QueryRow(ctx, `select ical, country, dataset, effect, zone from calendar where name = $1`, name).Scan(&v.ICal,
		&v.Country, &v.Dataset, &v.Effect, &v.Zone)
	if err != nil && err != pgx.ErrNoRows {
		return v, clash("calendar", err)
	}
	return v, nil
}

// PutPlannedEvents replaces a calendar's events; ones known before keep the
// time they became known. It gives whether anything is other than before.
func PutPlannedEvents(ctx context.Context, tx pgx.Tx, calendar string, events []record.PlannedEvent) (bool, error) {
	n := len(events)
	uids, starts, ends, known := make([]string, n), make([]time.Time, n), make([]time.Time, n), make([]time.Time, n)
	summaries, datasets, effects := make([]string, n), make([]string, n), make([]record.Effect, n)
	holiday, lasting := make([]bool, n), make([]bool, n)
	for i, e := range events {
		uids[i], starts[i], ends[i], known[i] = e.UID, e.StartedAt, e.EndedAt, e.KnownAt
		summaries[i], datasets[i], effects[i], holiday[i], lasting[i] = e.Summary, e.Dataset, e.Effect, e.Holiday, e.Lasting
	}
	// All at once; of two with the same key the last counts.
	written, err := tx.Exec(ctx, `
		insert into planned_event as known (calendar, uid, summary, dataset, holiday, lasting, effect, started_at, ended_at, known_at)
		select distinct on (uid, started_at) $1, uid, summary, dataset, holiday, lasting, effect, started_at, ended_at, known_at
		from unnest($2::text[], $3::text[], $4::text[], $5::bool[], $6::bool[], $7::text[], $8::timestamptz[], $9::timestamptz[], $10::timestamptz[])
			with ordinality as e(uid, summary, dataset, holiday, lasting, effect, started_at, ended_at, known_at, place)
		order by uid, started_at, place desc
		on conflict (calendar, uid, started_at) do update set summary = excluded.summary, dataset = excluded.dataset,
			holiday = excluded.holiday, lasting = excluded.lasting, effect = excluded.effect, ended_at = excluded.ended_at
		where (known.dataset, known.holiday, known.lasting, known.effect, known.ended_at, known.summary)
			is distinct from (excluded.dataset, excluded.holiday, excluded.lasting, excluded.effect, excluded.ended_at, excluded.summary)`,
		calendar, uids, summaries, datasets, holiday, lasting, effects, starts, ends, known)
	if err != nil {
		return false, clash("planned events of "+calendar, err)
	}
	result, err := tx.Exec(ctx, `
		delete from planned_event where calendar = $1
			and (uid, started_at) not in (select unnest($2::text[]), unnest($3::timestamptz[]))`, calendar, uids, starts)
	if err != nil {
		return false, clash("calendar "+calendar, err)
	}
	return written.RowsAffected()+result.RowsAffected() > 0, nil
}

// CountPlannedEvents tells how many events a calendar has.
func (s *Store) CountPlannedEvents(ctx context.Context, calendar string) (int, error) {
	return one[int](ctx, s, "planned events", calendar, `select count(*) from planned_event where calendar = $1`, calendar)
}

// PlannedEvents gives the planned events for a dataset (its own and those for
// all), ascending; without a dataset, all.
func (s *Store) PlannedEvents(ctx context.Context, dataset string) ([]record.PlannedEvent, error) {
	return many[record.PlannedEvent](ctx, s, "planned events", `
		select * from planned_event where $1 = '' or dataset in ('', $1) order by started_at`, dataset)
}

// PlannedSpan is a stretch that people called planned.
type PlannedSpan struct {
	Dataset string    `db:"dataset"`
	Zone    string    `db:"zone"`
	From    time.Time `db:"from_at"`
	To      time.Time `db:"to_at"`
	Cause   string    `db:"cause"`
}

// PlannedSpans gives the alerts and stretches that people called planned, by
// dataset and time.
func (s *Store) PlannedSpans(ctx context.Context) ([]PlannedSpan, error) {
	return many[PlannedSpan](ctx, s, "planned stretches", `
		select d.name as dataset, d.zone, a.since as from_at, greatest(a.ended_at, a.since + m.period_seconds * interval '1 second') as to_at, l.cause
		from alert a join series s on s.id = a.series_id join metric m on m.id = s.metric_id
		join dataset d on d.id = m.dataset_id join label l on l.id = a.label_id
		where a.verdict = 'planned' and a.ended_at is not null
		union all
		select d.name, d.zone, x.from_at, x.to_at, x.cause
		from stretch x join series s on s.id = x.series_id join metric m on m.id = s.metric_id
		join dataset d on d.id = m.dataset_id where x.verdict = 'planned'
		order by 1, 3`)
}
