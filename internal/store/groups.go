package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
)

// TakeChanges takes the alerts that changed since they were last grouped, oldest
// first, at most so many. In another transaction at the same time there are
// none. Alerts that are being changed at this moment are left for the next time.
func (s *Store) TakeChanges(ctx context.Context, tx pgx.Tx, limit int) ([]GroupedAlert, error) {
	var alone bool
	if err := tx.QueryRow(ctx, `select pg_try_advisory_xact_lock($1)`, lockGrouping).Scan(&alone); err != nil || !alone {
		return nil, err
	}
	taken, err := ids(ctx, tx, `
		delete from alert_change where id in (
			select c.id from alert_change c join alert a on a.id = c.alert_id order by a.raised_at, a.id limit $1
			for no key update of a skip locked) returning alert_id`, limit)
	if err != nil || len(taken) == 0 {
		return nil, err
	}
	return s.Grouped(ctx, taken)
}

// AddGroups makes groups and gives their numbers, in their order.
func AddGroups(ctx context.Context, tx pgx.Tx, groups []record.Group) ([]int64, error) {
	made := make([]int64, len(groups))
	var batch pgx.Batch
	for i, g := range groups {
		batch.Queue(`insert into alert_group (began_at, opened_at, severity, from_history) values ($1, $2, $3, $4) returning id`,
			g.BeganAt, g.OpenedAt, g.Severity, g.FromHistory).QueryRow(func(row pgx.Row) error { return row.Scan(&made[i]) })
	}
	if err := tx.SendBatch(ctx, &batch).Close(); err != nil {
		return nil, fmt.Errorf("add groups: %w", err)
	}
	return made, nil
}

// PutInGroups makes alerts members of groups, each of its own.
func PutInGroups(ctx context.Context, tx pgx.Tx, alerts, groups []int64) error {
	_, err := tx.Exec(ctx, `update alert a set group_id = p.dest from unnest($1::bigint[], $2::bigint[]) as p(id, dest)
		where a.id = p.id`, alerts, groups)
	if err != nil {
		return fmt.Errorf("write groups of alerts: %w", err)
	}
	return nil
}

// SetGroups keeps what their members make of groups.
func SetGroups(ctx context.Context, tx pgx.Tx, groups []record.Group) error {
	var batch pgx.Batch
	for _, g := range groups {
		batch.Queue(`
			update alert_group set began_at = $2, opened_at = $3, closed_at = $4, severity = $5, origin = $6, origin_kind = $7, origin_segment = $8,
				origin_alert = $9, merged_into = $10, from_history = $11 where id = $1`,
			g.ID, g.BeganAt, g.OpenedAt, g.ClosedAt, g.Severity, g.Origin, g.OriginKind, g.OriginIn, g.OriginAlert, g.MergedInto,
			g.FromHistory)
	}
	if err := tx.SendBatch(ctx, &batch).Close(); err != nil {
		return fmt.Errorf("write groups: %w", err)
	}
	return nil
}

// TakeGroup keeps who looks after a group; an empty name takes it back.
func (s *Store) TakeGroup(ctx context.Context, id int64, who string, at time.Time) error {
	return s.changeGroup(ctx, id, `update alert_group set taken_by = $2,
		taken_at = case when $2 = '' then null else $3::timestamptz end where id = $1`, who, at)
}

// SnoozeGroup keeps until when nothing is told of a group.
func (s *Store) SnoozeGroup(ctx context.Context, id int64, until *time.Time) error {
	return s.changeGroup(ctx, id, `update alert_group set snoozed_until = $2 where id = $1`, until)
}

func (s *Store) changeGroup(ctx context.Context, id int64, statement string, args ...any) error {
	return s.InTx(ctx, func(tx pgx.Tx) error {
		result, err := tx.Exec(ctx, statement, append([]any{id}, args...)...)
		if err != nil {
			return fmt.Errorf("write group: %w", err)
		}
		if result.RowsAffected() == 0 {
			return record.NotFound{Kind: "group", Name: fmt.Sprint(id)}
		}
		if err := Notify(ctx, tx, TopicTell); err != nil {
			return err
		}
		return Notify(ctx, tx, TopicAlerts)
	})
}

// GroupRow is a group with what a list shows of it.
type GroupRow struct {
	record.Group
	Sentence string         `db:"sentence" json:"sentence" doc:"of the alert that stands for it"`
	Place    string         `db:"place" json:"place" doc:"its likely origin as people know it"`
	Alerts   int            `db:"alerts" json:"alerts"`
	Open     int            `db:"open" json:"open" doc:"alerts that still last"`
	Datasets record.Strings `db:"datasets" json:"datasets"`
	Tags     record.Strings `db:"tags" json:"tags" doc:"of its alerts"`
	Owner    string         `db:"owner" json:"owner"`
	Zone     string         `db:"zone" json:"zone"`
	Lead     int64          `db:"lead" json:"lead" doc:"the alert that stands for it: its origin's, one that lasts"`
	Answered int            `db:"answered" json:"answered" doc:"alerts with a label"`
}

const groupSelect = `
	select g.*, case when g.origin = '' then '' when g.origin_kind <> 'dataset' then 'the ' || g.origin_kind || ' ' || g.origin
			when g.origin_segment <> '[]' then (select string_agg(p ->> 'value', ' / ')
			from jsonb_array_elements(g.origin_segment) p) || ' in ' || g.origin
			else g.origin end as place, l.sentence, l.id as lead, m.alerts, m.open, m.datasets, m.tags, m.answered,
			coalesce(l.owner, '') as owner, coalesce(l.zone, 'UTC') as zone
	from alert_group g
	join lateral (
		select count(*) as alerts, count(*) filter (where a.closed_at is null) as open, count(*) filter (where a.verdict <> '') as answered,
			coalesce(jsonb_agg(distinct d.name) filter (where d.name is not null), '[]') as datasets,
			coalesce((select jsonb_agg(distinct t order by t)
			from jsonb_array_elements_text(all_tags(variadic array_agg(d.tags) || array_agg(mt.tags) || array_agg(v.tags))) t), '[]') as tags
		from alert a left join monitor v on v.id = a.monitor_id left join series s on s.id = a.series_id
		left join metric mt on mt.id = s.metric_id left join dataset d on d.id = coalesce(mt.dataset_id, a.of_dataset)
		where a.group_id = g.id) m on m.alerts > 0
	join lateral (
		select a.id, a.sentence, coalesce(nullif(a.owner, ''), nullif(v.owner, ''), d.owner) as owner, coalesce(mt.zone, d.zone) as zone
		from alert a left join monitor v on v.id = a.monitor_id left join metric mt on mt.id = v.metric_id
		left join dataset d on d.id = coalesce(mt.dataset_id, a.of_dataset)
			left join series s on s.id = a.series_id
		where a.group_id = g.id
		order by a.id = g.origin_alert and a.closed_at is null desc nulls last, (a.closed_at is null) desc,
			d.name = g.origin desc nulls last, a.id = g.origin_alert desc nulls last, coalesce(s.segment, '') = '' desc,
			a.severity = 'critical' desc, a.raised_at, a.id limit 1) l on true `

// GroupFilter narrows a list of groups; zero values do not filter.
type GroupFilter struct {
	Open     bool
	Dataset  string
	Owner    string
	Tag      string
	From, To time.Time // opened in [From, To)
	Sort     string    // opened_at or began_at, with a - before it the newest first; empty: -opened_at
	Cursor   int64     // id of the last group of the page before
	Limit    int
}

// Groups gives a page of groups, newest first if nothing else is asked for.
func (s *Store) Groups(ctx context.Context, f GroupFilter) ([]GroupRow, error) {
	column, way, beyond := "g.opened_at", " desc", "<"
	if strings.TrimPrefix(f.Sort, "-") == "began_at" {
		column = "g.began_at"
	}
	if f.Sort != "" && !strings.HasPrefix(f.Sort, "-") {
		way, beyond = "", ">"
	}
	return many[GroupRow](ctx, s, "groups", groupSelect+`
		where g.merged_into is null and (not $1 or g.closed_at is null) and ($2 = '' or m.datasets ? $2)
			and ($7 = '' or l.owner = $7) and ($8 = '' or m.tags ? $8)
			and ($3::timestamptz is null or g.opened_at >= $3) and ($4::timestamptz is null or g.opened_at < $4)
			and ($5 = 0 or (`+column+`, g.id) `+beyond+` (select `+column+`, g.id from alert_group g where g.id = $5))
		order by `+column+way+`, g.id`+way+` limit $6`, f.Open, f.Dataset, nullTime(f.From), nullTime(f.To), f.Cursor, f.Limit,
		f.Owner, f.Tag)
}

// Group gives one group.
func (s *Store) Group(ctx context.Context, id int64) (GroupRow, error) {
	return one[GroupRow](ctx, s, "group", fmt.Sprint(id), groupSelect+`where g.id = $1`, id)
}

// ToldOn gives, by group, the channels that heard of it since an instant.
func (s *Store) ToldOn(ctx context.Context, from time.Time) (map[int64][]string, error) {
	type row struct {
		GroupID int64  `db:"group_id"`
		Channel string `db:"channel"`
	}
	list, err := many[row](ctx, s, "messages", `
		select distinct m.group_id, c.name as channel from message m join channel c on c.id = m.channel_id
		where m.group_id is not null and m.state in ('sent', 'summed') and ($1::timestamptz is null or m.created_at >= $1)
		order by 1, 2`, nullTime(from))
	told := map[int64][]string{}
	for _, r := range list {
		told[r.GroupID] = append(told[r.GroupID], r.Channel)
	}
	return told, err
}

// MergedInto gives the group that one was merged into, following it to the last;
// 0 if there is none.
func (s *Store) MergedInto(ctx context.Context, id int64) (int64, error) {
	into, err := many[int64](ctx, s, "groups", `
		with recursive chain as (
			select id, merged_into from alert_group where id = $1
			union select g.id, g.merged_into from alert_group g join chain on g.id = chain.merged_into)
		select id from chain where merged_into is null and id <> $1`, id)
	if err != nil || len(into) == 0 {
		return 0, err
	}
	return into[0], nil
}
