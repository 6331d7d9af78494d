package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/detect"
	"tinbell/core/timeline"
	"tinbell/internal/record"
)

// Channels gives all channels.
func (s *Store) Channels(ctx context.Context) ([]record.Channel, error) {
	return many[record.Channel](ctx, s, "channels", `select * from channel order by name`)
}

func (s *Store) Channel(ctx context.Context, name string) (record.Channel, error) {
	return one[record.Channel](ctx, s, "channel", name, `select * from channel where name = $1`, name)
}

// ChannelForUpdate gives a channel and keeps others from changing it until the
// transaction ends; an empty one where there is none of the name, whose making is
// kept from others as well.
func (s *Store) ChannelForUpdate(ctx context.Context, name string) (record.Channel, error) {
	if err := LockName(ctx, s.inside, "channel", name); err != nil {
		return record.Channel{}, err
	}
	list, err := many[record.Channel](ctx, s, "channels", `select * from channel where name = $1 for update`, name)
	if err != nil || len(list) == 0 {
		return record.Channel{}, err
	}
	return list[0], nil
}

// SetChannel adds a channel or replaces the one of that name; without a secret
// or header names those it has stay. It gives the channel's id.
func SetChannel(ctx context.Context, tx pgx.Tx, v record.Channel) (int64, error) {
	var id int64
	var names any // null keeps the headers there are
	if v.HeaderNames != nil {
		names = v.HeaderNames
	}
	err := tx.QueryRow(ctx, `
		insert into channel (name, kind, settings, secret, hourly_limit, paused, headers, header_names, address)
		values ($1, $2, $3, $4, $5, $6, $7, coalesce($8, '[]'::jsonb), $9)
		on conflict (name) do update set kind = excluded.kind, settings = excluded.settings, secret = coalesce(excluded.secret, channel.secret),
			hourly_limit = excluded.hourly_limit, paused = excluded.paused, address = excluded.address,
			headers = case when $8 is null then channel.headers else excluded.headers end, header_names = coalesce($8, channel.header_names)
		returning id`, v.Name, v.Kind, v.Settings, v.Secret, v.HourlyLimit, v.Paused, v.Headers, names, v.Address).Scan(&id)
	if err != nil {
		return 0, clash("channel "+v.Name, err)
	}
	return id, Notify(ctx, tx, TopicTell)
}

// RotateSecret makes a new signing secret the one that counts; the one before is
// signed with too until then.
func (s *Store) RotateSecret(ctx context.Context, channel int64, secret []byte, until time.Time) error {
	return s.exec(ctx, "channel", `update channel set old_secret = secret, old_until = $3, secret = $2 where id = $1`, channel,
		secret, until)
}

// Reached keeps whether a channel could be reached: why not, or empty.
func (s *Store) Reached(ctx context.Context, channel int64, why string, now time.Time) error {
	return s.exec(ctx, "channel", `
		update channel set message = $2, failing_since = case when $2 = '' then null else coalesce(failing_since, $3::timestamptz) end
		where id = $1 and (message <> $2 or failing_since is not null)`, channel, why, now)
}

// DropChannel removes a channel with its routes and messages.
func (s *Store) DropChannel(ctx context.Context, name string) error {
	return s.drop(ctx, "channel", name)
}

// DropRoute removes a route.
func (s *Store) DropRoute(ctx context.Context, name string) error { return s.drop(ctx, "route", name) }

// DropSLA removes a promise with its past.
func (s *Store) DropSLA(ctx context.Context, name string) error { return s.drop(ctx, "sla", name) }

// DropReconciliation ends a reconciliation; the metric of the difference stays.
func (s *Store) DropReconciliation(ctx context.Context, name string) error {
	return s.drop(ctx, "reconciliation", name)
}

// drop removes a row by its name; the table's name is one of ours.
func (s *Store) drop(ctx context.Context, table, name string) error {
	n, err := s.affect(ctx, table, `delete from `+table+` where name = $1`, name)
	if err == nil && n == 0 {
		err = record.NotFound{Kind: table, Name: name}
	}
	return err
}

const routeSelect = `
	select r.id, r.name, r.channel_id, c.name as channel, r.datasets, r.owners, r.tags, r.severity, r.hours, r.zone, r.wait_seconds, r.remind_seconds,
		r.escalate_seconds, r.escalate_to as escalate_to_id, coalesce(e.name, '') as escalate_to, r.recovery, r.created_at
	from route r join channel c on c.id = r.channel_id left join channel e on e.id = r.escalate_to `

// Routes gives all routes.
func (s *Store) Routes(ctx context.Context) ([]record.Route, error) {
	return many[record.Route](ctx, s, "routes", routeSelect+`order by r.name`)
}

func (s *Store) Route(ctx context.Context, name string) (record.Route, error) {
	return one[record.Route](ctx, s, "route", name, routeSelect+`where r.name = $1`, name)
}

// SetRoute adds a route or replaces the one of that name; its channels are given
// by their names.
func SetRoute(ctx context.Context, tx pgx.Tx, v record.Route) error {
	var id int64
	err := tx.QueryRow(ctx, `
		insert into route (name, channel_id, datasets, owners, severity, hours, zone, wait_seconds, remind_seconds,
			escalate_seconds, escalate_to, recovery, tags)
		select $1, c.id, $3, $4, $5, $6, $7, $8, $9, $10, (select id from channel where name = $11), $12, $13 from channel c where c.name = $2
		on conflict (name) do update set channel_id = excluded.channel_id, datasets = excluded.datasets,
			owners = excluded.owners, severity = excluded.severity,
			hours = excluded.hours, zone = excluded.zone, wait_seconds = excluded.wait_seconds, remind_seconds = excluded.remind_seconds,
			escalate_seconds = excluded.escalate_seconds, escalate_to = excluded.escalate_to, recovery = excluded.recovery, tags = excluded.tags
		returning id`,
		v.Name, v.Channel, v.Datasets, v.Owners, v.Severity, v.Hours, v.Zone, v.WaitSeconds, v.RemindSeconds, v.EscalateSeconds,
		v.EscalateTo, v.Recovery, v.Tags).Scan(&id)
	if err == pgx.ErrNoRows {
		return record.NotFound{Kind: "channel", Name: v.Channel}
	}
	if err != nil {
		return clash("route "+v.Name, err)
	}
	return Notify(ctx, tx, TopicTell)
}

const messageColumns = `m.id::text as id, m.channel_id, m.route_id, m.group_id, m.what, m.turn, m.state, m.created_at, m.due_at, m.attempts, m.sent_at, m.error, m.subject, m.why`

// PutMessage puts a message into the outbox; one of the same kind and turn for
// the same group and channel is there already and stays.
func PutMessage(ctx context.Context, tx pgx.Tx, m record.Message) error {
	_, err := tx.Exec(ctx, `
		insert into message (id, channel_id, route_id, group_id, what, turn, created_at, due_at, why) values ($1, $2, $3, $4, $5, $6, $7, $8, $9)
		on conflict (group_id, channel_id, what, turn) do nothing`, m.ID, m.ChannelID, m.RouteID, m.GroupID, m.What, m.Turn,
		m.CreatedAt, m.DueAt, m.Why)
	if err != nil {
		return fmt.Errorf("put message: %w", err)
	}
	return Notify(ctx, tx, TopicTell)
}

// MessagesOf gives the messages about groups, oldest first.
func MessagesOf(ctx context.Context, tx pgx.Tx, groups []int64) ([]record.Message, error) {
	rows, err := tx.Query(ctx, `select `+messageColumns+
		`, null::jsonb as body, c.name as channel from message m join channel c on c.id = m.channel_id
		where m.group_id = any($1) order by m.created_at, m.id`, groups)
	if err != nil {
		return nil, fmt.Errorf("read messages: %w", err)
	}
	list, err := pgx.CollectRows(rows, pgx.RowToStructByName[record.Message])
	if err != nil {
		return nil, fmt.Errorf("read messages: %w", err)
	}
	return list, nil
}

// DropMessages says why messages that wait are not sent.
func DropMessages(ctx context.Context, tx pgx.Tx, messages []string, why string) error {
	_, err := tx.Exec(ctx, `update message set state = 'dropped', error = $2 where id = any($1::uuid[]) and state = 'waiting'`,
		messages, why)
	if err != nil {
		return fmt.Errorf("drop messages: %w", err)
	}
	return nil
}

// next is what waits and would be sent next: what is about the same group waits
// for what is to be said before it.
const next = `m.state = 'waiting' and not c.paused
	and not exists (select 1 from message e
	where e.group_id = m.group_id and e.channel_id = m.channel_id and e.state = 'waiting' and e.created_at < m.created_at)`

// Lease hands out messages that are due, at most so many, to be sent before an
// instant: afterwards another process may take them. About one group a channel
// hears in order, so only the earliest that waits is handed out. What is being
// sent, and what paused channels wait for, is left.
func (s *Store) Lease(ctx context.Context, process int32, now, until time.Time, limit int) ([]record.Message, error) {
	return many[record.Message](ctx, s, "messages", `
		with due as (
			select m.id from message m join channel c on c.id = m.channel_id
			where `+next+` and m.due_at <= $1 and (m.leased_to is null or m.leased_to < $1)
			order by m.due_at limit $3 for update of m skip locked)
		update message m set leased_to = $2, leased_by = $4, attempts = m.attempts + 1 from due, channel c
		where m.id = due.id and c.id = m.channel_id
		returning `+messageColumns+`, m.body, c.name as channel`, now, until, limit, process)
}

// FreeLeases gives back what processes hold that live no more, and says how many messages
// that is: they are sent again under the same key.
func (s *Store) FreeLeases(ctx context.Context, living []int32) (n int, err error) {
	freed, err := many[string](ctx, s, "messages", `
		update message set leased_to = null, leased_by = null
		where state = 'waiting' and leased_to is not null and leased_by <> all($1) returning id::text`, living)
	return len(freed), err
}

// Rendered keeps what a message says, so that every attempt says the same.
func (s *Store) Rendered(ctx context.Context, m record.Message) error {
	return s.exec(ctx, "message", `update message set subject = $2, body = $3 where id = $1`, m.ID, m.Subject, string(m.Body))
}

// EndMessage keeps that a message was sent, or why it is tried again later, or
// not at all.
func (s *Store) EndMessage(ctx context.Context, m record.Message) error {
	return s.InTx(ctx, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, `update message set state = $2, sent_at = $3, error = $4, due_at = $5, leased_to = null
			where id = $1`, m.ID, m.State, m.SentAt, m.Error, m.DueAt)
		if err != nil {
			return fmt.Errorf("write message: %w", err)
		}
		return Notify(ctx, tx, TopicMessages)
	})
}

// Fold makes summaries of what would go beyond the channels' hourly limits: what
// is due and not begun is put under the summary that waits, or a new one, due
// after a while.
func (s *Store) Fold(ctx context.Context, now time.Time, after time.Duration, newID func() string) error {
	return s.InTx(ctx, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `
			select m.id::text, m.channel_id from message m join channel c on c.id = m.channel_id
			where m.state = 'waiting' and m.due_at <= $1 and m.attempts = 0 and m.group_id is not null
				and m.what <> 'escalated' and (m.leased_to is null or m.leased_to < $1)
				and (select count(*) from message s
				where s.channel_id = c.id and s.state = 'sent' and s.sent_at > $1 - interval '1 hour' and s.group_id is not null)
					+ (select count(*) from message w
					where w.channel_id = c.id and w.state = 'waiting' and w.group_id is not null
					and (w.attempts > 0 or (w.due_at, w.id) < (m.due_at, m.id)))
					>= c.hourly_limit
			for update of m skip locked`, now)
		if err != nil {
			return fmt.Errorf("read messages: %w", err)
		}
		type over struct {
			ID      string
			Channel int64
		}
		list, err := pgx.CollectRows(rows, pgx.RowToStructByPos[over])
		if err != nil {
			return fmt.Errorf("read messages: %w", err)
		}
		byChannel := map[int64][]string{}
		for _, m := range list {
			byChannel[m.Channel] = append(byChannel[m.Channel], m.ID)
		}
		for channel, folded := range byChannel {
			var summary string
			err := tx.QueryRow(ctx, `select id::text from message
				where channel_id = $1 and what = 'summary' and state = 'waiting' and attempts = 0 limit 1`, channel).Scan(&summary)
			if err == pgx.ErrNoRows {
				summary = newID()
				err = PutMessage(ctx, tx, record.Message{ID: summary, ChannelID: channel, What: record.ToldSummary,
					CreatedAt: now, DueAt: now.Add(after)})
			}
			if err == nil {
				_, err = tx.Exec(ctx, `update message set state = 'summed', summary_id = $2,
					error = 'beyond the hourly limit: told in a summary' where id = any($1::uuid[])`, folded, summary)
			}
			if err != nil {
				return fmt.Errorf("sum messages up: %w", err)
			}
		}
		return nil
	})
}

// Summed gives the messages that a summary stands for, oldest first.
func (s *Store) Summed(ctx context.Context, summary string) ([]record.Message, error) {
	return many[record.Message](ctx, s, "messages", `
		select `+messageColumns+`, m.body, c.name as channel from message m join channel c on c.id = m.channel_id where m.summary_id = $1 order by m.created_at, m.id`, summary)
}

// NextDue gives when the next message is due or free again; zero if none waits.
func (s *Store) NextDue(ctx context.Context) (time.Time, error) {
	at, err := one[*time.Time](ctx, s, "next message", "", `
		select min(greatest(m.due_at, coalesce(m.leased_to, m.due_at))) from message m join channel c on c.id = m.channel_id where `+next)
	if err != nil || at == nil {
		return time.Time{}, err
	}
	return *at, nil
}

// MessageFilter narrows a list of messages; zero values do not filter.
type MessageFilter struct {
	Channel string
	State   string
	Group   int64
	Limit   int
}

// Messages gives messages, newest first.
func (s *Store) Messages(ctx context.Context, f MessageFilter) ([]record.Message, error) {
	return many[record.Message](ctx, s, "messages", `
		select `+messageColumns+`, m.body, c.name as channel from message m join channel c on c.id = m.channel_id
		where ($1 = '' or c.name = $1) and ($2 = '' or m.state = $2) and ($3 = 0 or m.group_id = $3) order by m.created_at desc, m.id limit $4`,
		f.Channel, f.State, f.Group, f.Limit)
}

func (s *Store) Message(ctx context.Context, id string) (record.Message, error) {
	return one[record.Message](ctx, s, "message", id, `
		select `+messageColumns+`, m.body, c.name as channel from message m join channel c on c.id = m.channel_id where m.id::text = $1`, id)
}

// Retry makes failed and waiting messages of a channel due at once.
func (s *Store) Retry(ctx context.Context, channel string, now time.Time) (int64, error) {
	var n int64
	err := s.InTx(ctx, func(tx pgx.Tx) error {
		result, err := tx.Exec(ctx, `
			update message set state = 'waiting', due_at = $2, leased_to = null where state in ('waiting', 'failed') and attempts > 0
				and channel_id = (select id from channel where name = $1)`, channel, now)
		if err != nil {
			return fmt.Errorf("write messages: %w", err)
		}
		n = result.RowsAffected()
		return Notify(ctx, tx, TopicTell)
	})
	return n, err
}

// NothingToTell tells whether no changed alert waits for its group and no message
// is due.
func (s *Store) NothingToTell(ctx context.Context, now time.Time) (bool, error) {
	return one[bool](ctx, s, "outbox", "", `
		select not exists (select 1 from alert_change) and not exists (select 1 from message m join channel c on c.id = m.channel_id
			where `+next+` and m.due_at <= $1)`, now)
}

// Unanswered is a channel that is to hear of a group again.
type Unanswered struct {
	GroupID   int64       `db:"group_id"`
	RouteID   int64       `db:"route_id"`
	ChannelID int64       `db:"channel_id"`
	What      record.Told `db:"what"`
	Turn      int         `db:"turn"`
}

// Unanswered gives the reminders and escalations that are due now: about groups
// that last, nobody looks after, has answered or snoozed.
func (s *Store) Unanswered(ctx context.Context, now time.Time) ([]Unanswered, error) {
	return many[Unanswered](ctx, s, "unanswered groups", `
		with lasting as (
			select g.id, r.id as route_id, r.channel_id, r.remind_seconds, r.escalate_seconds, r.escalate_to, m.sent_at
			from alert_group g join message m on m.group_id = g.id and m.what = 'opened' and m.state = 'sent' join route r on r.id = m.route_id
			where g.closed_at is null and g.merged_into is null and g.taken_by = '' and (g.snoozed_until is null or g.snoozed_until <= $1)
				and (r.remind_seconds > 0 or r.escalate_seconds > 0)
				and not exists (select 1 from alert a where a.group_id = g.id and a.verdict <> ''))
		select l.id as group_id, l.route_id, l.channel_id, 'reminder' as what,
			(select count(*) from message x where x.group_id = l.id and x.channel_id = l.channel_id
			and x.what = 'reminder')::int as turn
		from lasting l
		where l.remind_seconds > 0 and not exists (
			select 1 from message x where x.group_id = l.id and x.channel_id = l.channel_id
				and (x.state = 'waiting' or coalesce(x.sent_at, x.created_at) > $1 - l.remind_seconds * interval '1 second'))
		union all
		select l.id, l.route_id, l.escalate_to, 'escalated', 0 from lasting l
		where l.escalate_seconds > 0 and l.escalate_to is not null and l.sent_at <= $1 - l.escalate_seconds * interval '1 second'
			and not exists (select 1 from message x where x.group_id = l.id and x.channel_id = l.escalate_to and x.what = 'escalated')`, now)
}

// Hush is when a monitor's alerts are not told.
type Hush struct {
	MonitorID    int64          `db:"id"`
	SnoozedUntil *time.Time     `db:"snoozed_until"`
	Quiet        record.Strings `db:"quiet"`
	Zone         string         `db:"zone"`
}

// Until gives when an alert of the monitor that was raised now may be told: now
// where nothing speaks against it. Critical alerts heed a snooze, and no quiet
// hours.
func (v Hush) Until(now time.Time, severity detect.Severity) time.Time {
	at := now
	if v.SnoozedUntil != nil && v.SnoozedUntil.After(at) {
		at = *v.SnoozedUntil
	}
	if severity == "critical" || len(v.Quiet) == 0 {
		return at
	}
	zone, err := time.LoadLocation(v.Zone)
	if err != nil {
		zone = time.UTC
	}
	var hours []timeline.Hours
	for _, text := range v.Quiet {
		if h, err := timeline.ParseHours(text); err == nil {
			hours = append(hours, h)
		}
	}
	return timeline.QuietUntil(hours, at.In(zone)).UTC()
}

// Hushes gives the monitors that have quiet hours or are snoozed, by id.
func (s *Store) Hushes(ctx context.Context) (map[int64]Hush, error) {
	list, err := many[Hush](ctx, s, "quiet hours", `
		select v.id, v.snoozed_until, coalesce(v.settings -> 'quiet', '[]') as quiet, m.zone from monitor v join metric m on m.id = v.metric_id
		where v.snoozed_until is not null or jsonb_array_length(coalesce(nullif(v.settings -> 'quiet', 'null'), '[]')) > 0`)
	byMonitor := map[int64]Hush{}
	for _, v := range list {
		byMonitor[v.MonitorID] = v
	}
	return byMonitor, err
}

// Snooze keeps until when nothing is told of a monitor's alerts; nil: from now on
// it is.
func (s *Store) Snooze(ctx context.Context, monitor int64, until *time.Time, who string) error {
	return s.exec(ctx, "monitor", `update monitor set snoozed_until = $2, snoozed_by = $3 where id = $1`, monitor, until, who)
}

// PutTest keeps a test message that the caller sends by itself.
func (s *Store) PutTest(ctx context.Context, m record.Message, until time.Time) error {
	return s.exec(ctx, "message", `insert into message (id, channel_id, what, created_at, due_at, leased_to, attempts)
		values ($1, $2, $3, $4, $5, $6, 1)`,
		m.ID, m.ChannelID, m.What, m.CreatedAt, m.DueAt, until)
}
