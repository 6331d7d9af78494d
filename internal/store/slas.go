package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
)

const slaSelect = `select s.*, d.name as dataset from sla s join dataset d on d.id = s.dataset_id `

// SLAs gives all promises.
func (s *Store) SLAs(ctx context.Context) ([]record.SLA, error) {
	return many[record.SLA](ctx, s, "promises", slaSelect+`order by s.name`)
}

func (s *Store) SLA(ctx context.Context, name string) (record.SLA, error) {
	return one[record.SLA](ctx, s, "sla", name, slaSelect+`where s.name = $1`, name)
}

// SetSLA adds a promise or replaces the one of that name, on the dataset that it
// names.
func SetSLA(ctx context.Context, tx pgx.Tx, v record.SLA) (id, dataset int64, err error) {
	err = tx.QueryRow(ctx, `
		insert into sla (dataset_id, name, owner, counts, at_least, days, from_minute, to_minute, zone, segment, lead_seconds, calendars, paused)
		select d.id, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13 from dataset d where d.name = $1
		on conflict (name) do update set dataset_id = excluded.dataset_id, owner = excluded.owner, counts = excluded.counts,
			at_least = excluded.at_least,
			days = excluded.days, from_minute = excluded.from_minute, to_minute = excluded.to_minute, zone = excluded.zone,
			segment = excluded.segment,
			lead_seconds = excluded.lead_seconds, calendars = excluded.calendars, paused = excluded.paused
		returning id, dataset_id`, v.Dataset, v.Name, v.Owner, v.Counts, v.AtLeast, v.Days, v.FromMinute, v.ToMinute, v.Zone,
		v.Segment, v.LeadSeconds, v.Calendars, v.Paused).Scan(&id, &dataset)
	if err == pgx.ErrNoRows {
		return 0, 0, record.NotFound{Kind: "dataset", Name: v.Dataset}
	}
	if err != nil {
		return 0, 0, clash("sla "+v.Name, err)
	}
	return id, dataset, Notify(ctx, tx, TopicSLAs)
}

// Delivered is an amount that came.
type Delivered struct {
	At     time.Time `db:"at"`
	Amount float64   `db:"amount"`
}

// Delivered gives what a promise counts of its dataset in [from, to), ascending.
func (s *Store) Delivered(ctx context.Context, v record.SLA, from, to time.Time) ([]Delivered, error) {
	query := `select at, 1::float8 as amount from load where dataset_id = $1 and at >= $2 and at < $3 and $4 = '' order by at`
	switch v.Counts {
	case "rows":
		query = `
			select at, rows::float8 as amount from load where dataset_id = $1 and at >= $2 and at < $3 and $4 = ''
				and not exists (select 1 from dataset d where d.id = $1 and d.pattern <> '')
			union all
			select landed_at, coalesce(rows, 0)::float8 from delivery
			where dataset_id = $1 and landed_at >= $2 and landed_at < $3 and ($4 = '' or segment = $4) and state = 'taken'
			order by 1`
	case "files":
		query = `
			select landed_at as at, 1::float8 as amount from delivery
			where dataset_id = $1 and landed_at >= $2 and landed_at < $3 and ($4 = '' or segment = $4) and state = 'taken'
			order by 1`
	}
	return many[Delivered](ctx, s, "deliveries", query, v.DatasetID, from, to, v.Segment)
}

// PutSLADays keeps how windows ended.
func PutSLADays(ctx context.Context, tx pgx.Tx, sla int64, days []record.SLADay) error {
	for _, d := range days {
		_, err := tx.Exec(ctx, `
			insert into sla_day (sla_id, day, standing, have, at_least, met_at, due_at) values ($1, $2, $3, $4, $5, $6, $7)
			on conflict (sla_id, day) do update set standing = excluded.standing, have = excluded.have,
				at_least = excluded.at_least, met_at = excluded.met_at, due_at = excluded.due_at`,
			sla, d.Day, d.Standing, d.Have, d.AtLeast, d.MetAt, d.DueAt)
		if err != nil {
			return fmt.Errorf("write day of a promise: %w", err)
		}
	}
	return nil
}

// SLADays gives how the windows of promises ended that were due from an instant
// on, oldest first.
func (s *Store) SLADays(ctx context.Context, from time.Time) ([]record.SLADay, error) {
	return many[record.SLADay](ctx, s, "days of promises", `select * from sla_day where due_at >= $1 order by sla_id, day`, from)
}

// ForgetSLADays drops the kept days of a promise: it counts otherwise now.
func ForgetSLADays(ctx context.Context, tx pgx.Tx, sla int64) error {
	if _, err := tx.Exec(ctx, `delete from sla_day where sla_id = $1`, sla); err != nil {
		return fmt.Errorf("drop days of a promise: %w", err)
	}
	return nil
}
