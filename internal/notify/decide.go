package tell

import (
	"context"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/timeline"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// decide keeps the groups that changed and puts what is to be said of them into
// the outbox.
func (t *Teller) decide(ctx context.Context, tx pgx.Tx, g *gathering, now time.Time) error {
	routes, err := t.store.In(tx).Routes(ctx)
	if err != nil {
		return err
	}
	monitors, err := t.store.In(tx).Hushes(ctx)
	if err != nil {
		return err
	}
	touched := slices.SortedFunc(maps.Keys(g.touched), func(a, b *grouped) int { return int(a.ID - b.ID) })
	ids := make([]int64, len(touched))
	for i, one := range touched {
		ids[i] = one.ID
	}
	said, err := store.MessagesOf(ctx, tx, ids)
	if err != nil {
		return err
	}
	var changed []record.Group
	for _, one := range touched {
		if !same(one.Group, one.was) {
			changed = append(changed, one.Group)
		}
	}
	if err := store.SetGroups(ctx, tx, changed); err != nil {
		return err
	}
	for _, one := range touched {
		if one.FromHistory || one.MergedInto == nil && one.fresh && !one.woken && now.Sub(one.OpenedAt) > newsFor {
			continue
		}
		v := verdicts{t, tx, one, routes, monitors, now, nil, map[int64]bool{}}
		for _, m := range said {
			if *m.GroupID == one.ID {
				v.said = append(v.said, m)
			}
			if one.joined[*m.GroupID] && m.What == record.ToldOpened && begun(m) {
				v.joined[m.ChannelID] = true
			}
		}
		if err := v.speak(ctx); err != nil {
			return err
		}
	}
	return store.Notify(ctx, tx, store.TopicAlerts)
}

// verdicts is what is to be said of one group that changed.
type verdicts struct {
	*Teller
	tx     pgx.Tx
	group  *grouped
	routes []record.Route
	hushes map[int64]store.Hush
	now    time.Time
	said   []record.Message
	joined map[int64]bool // channels that are told of the change as another group joins
}

func (v verdicts) speak(ctx context.Context) error {
	g := v.group
	if g.MergedInto != nil {
		return v.merged(ctx)
	}
	if !g.fresh && g.Severity == "critical" && g.was.Severity != "critical" {
		g.news = append(g.news, "It is critical now.")
	}
	for _, r := range v.routes {
		if !matches(r, g) {
			continue
		}
		heard := v.heard(r.ChannelID)
		switch {
		case g.ClosedAt != nil && heard == nil && !g.fresh:
			continue // over before this route could care
		case heard == nil:
			if err := v.put(ctx, r, record.ToldOpened, 0, v.due(r)); err != nil {
				return err
			}
		case g.added:
			if err := v.put(ctx, r, record.ToldAgain, v.turn(r.ChannelID, record.ToldAgain),
				v.now.Add(time.Duration(r.WaitSeconds)*time.Second)); err != nil {
				return err
			}
		case g.ClosedAt != nil && g.was.ClosedAt == nil:
			if err := v.over(ctx, r, *heard); err != nil {
				return err
			}
		case len(g.news) > 0 && begun(*heard) && !v.joined[r.ChannelID]:
			if err := v.put(ctx, r, record.ToldChanged, v.turn(r.ChannelID, record.ToldChanged), v.now); err != nil {
				return err
			}
		}
	}
	return nil
}

// heard gives the message that opened a group to a channel.
func (v verdicts) heard(channel int64) *record.Message {
	for i := range v.said {
		if m := &v.said[i]; m.ChannelID == channel && m.What == record.ToldOpened {
			return m
		}
	}
	return nil
}

// begun tells whether a message may have reached somebody.
func begun(m record.Message) bool {
	return m.State == record.MessageSent || m.State == record.MessageSummed || m.State == record.MessageWaiting && m.Attempts > 0
}

func (v verdicts) turn(channel int64, what record.Told) int {
	n := 0
	for _, m := range v.said {
		if m.ChannelID == channel && m.What == what {
			n++
		}
	}
	return n
}

// over tells that a group is over to a channel that heard of it. What waits for
// the end of quiet hours is not worth telling any more; what waits for a moment
// only says itself that it is over.
func (v verdicts) over(ctx context.Context, r record.Route, opened record.Message) error {
	switch {
	case opened.State == record.MessageDropped:
		return nil
	case !begun(opened):
		if opened.DueAt.Sub(opened.CreatedAt) > time.Duration(r.WaitSeconds)*time.Second+time.Minute {
			return store.DropMessages(ctx, v.tx, []string{opened.ID}, "over before it was to be told")
		}
		return nil
	case r.Recovery:
		return v.put(ctx, r, record.ToldRecovered, v.turn(r.ChannelID, record.ToldRecovered), v.now)
	}
	return nil
}

// merged tells those who heard of a group that it is part of another.
func (v verdicts) merged(ctx context.Context) error {
	if v.group.was.MergedInto != nil {
		return nil
	}
	for _, m := range v.said {
		switch {
		case m.State == record.MessageWaiting && m.Attempts == 0:
			if err := store.DropMessages(ctx, v.tx, []string{m.ID}, "part of another group"); err != nil {
				return err
			}
		case m.What == record.ToldOpened && begun(m):
			if err := store.PutMessage(ctx, v.tx, record.Message{ID: newID(), ChannelID: m.ChannelID, RouteID: m.RouteID,
				GroupID: &v.group.ID,
				What:    record.ToldChanged, Turn: v.turn(m.ChannelID, record.ToldChanged), CreatedAt: v.now, DueAt: v.now}); err != nil {
				return err
			}
		}
	}
	return nil
}

func (v verdicts) put(ctx context.Context, r record.Route, what record.Told, turn int, due time.Time) error {
	m := record.Message{ID: newID(), ChannelID: r.ChannelID, RouteID: &r.ID, GroupID: &v.group.ID, What: what, Turn: turn,
		CreatedAt: v.now, DueAt: due}
	if what == record.ToldChanged {
		m.Why = strings.Join(v.group.news, " ")
	}
	return store.PutMessage(ctx, v.tx, m)
}

// due is when a route's channel hears of a new group: after a wait for other
// alerts of the same cause, when the route's hours begin, when the monitors'
// quiet hours and snoozes are over.
func (v verdicts) due(r record.Route) time.Time {
	at := v.now.Add(time.Duration(r.WaitSeconds) * time.Second)
	if quiet := v.quietUntil(); quiet.After(at) {
		at = quiet
	}
	return opensAt(r, at)
}

// quietUntil is when the first of the group's alerts may be told: a group is
// quiet while all of its monitors are.
func (v verdicts) quietUntil() time.Time {
	var first time.Time
	for i, m := range v.group.members {
		until := v.hushes[m.MonitorID].Until(v.now, m.Severity)
		if i == 0 || until.Before(first) {
			first = until
		}
	}
	if s := v.group.SnoozedUntil; s != nil && s.After(first) {
		first = *s
	}
	return first
}

// opensAt is when a route's hours hold an instant, or begin after it.
func opensAt(r record.Route, at time.Time) time.Time {
	if len(r.Hours) == 0 {
		return at
	}
	zone, err := time.LoadLocation(r.Zone)
	if err != nil {
		zone = time.UTC
	}
	for later := at; later.Sub(at) <= 8*24*time.Hour; later = later.Truncate(time.Minute).Add(time.Minute) {
		for _, text := range r.Hours {
			if h, err := timeline.ParseHours(text); err == nil && h.Holds(later.In(zone)) {
				return later
			}
		}
	}
	return at
}

// matches tells whether a route tells of a group: of one alert of it at least.
func matches(r record.Route, g *grouped) bool {
	if r.Severity == "critical" && g.Severity != "critical" {
		return false
	}
	return slices.ContainsFunc(g.members, func(m store.GroupedAlert) bool {
		return (len(r.Owners) == 0 || slices.Contains(r.Owners, m.Owner)) &&
			(len(r.Tags) == 0 || slices.ContainsFunc(r.Tags, func(tag string) bool { return slices.Contains(m.Tags, tag) })) &&
			(len(r.Datasets) == 0 || slices.ContainsFunc(r.Datasets, func(pattern string) bool {
				ok, _ := path.Match(pattern, m.Dataset)
				return ok
			}))
	})
}

// remind puts reminders and escalations into the outbox: of groups that last,
// that nobody looks after and nobody answered.
func (t *Teller) remind(ctx context.Context) error {
	now := t.now()
	overdue, err := t.store.Unanswered(ctx, now)
	if err != nil || len(overdue) == 0 {
		return err
	}
	return t.store.InTx(ctx, func(tx pgx.Tx) error {
		for _, u := range overdue {
			m := record.Message{ID: newID(), ChannelID: u.ChannelID, RouteID: &u.RouteID, GroupID: &u.GroupID, What: u.What,
				Turn: u.Turn, CreatedAt: now, DueAt: now}
			if err := store.PutMessage(ctx, tx, m); err != nil {
				return err
			}
		}
		return nil
	})
}
