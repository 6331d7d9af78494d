package notify

import (
	"context"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/timeline"
	"tinbell/internal/faults"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// Hear puts what is to be said of groups that changed into the outbox.
func (n *Notifier) Hear(ctx context.Context, tx pgx.Tx, changed []*faults.Group) error {
	routes, err := n.store.In(tx).Routes(ctx)
	if err != nil {
		return err
	}
	hushes, err := n.store.In(tx).Hushes(ctx)
	if err != nil {
		return err
	}
	ids := make([]int64, len(changed))
	for i, one := range changed {
		ids[i] = one.ID
	}
	said, err := store.MessagesOf(ctx, tx, ids)
	if err != nil {
		return err
	}
	now := n.now()
	for _, one := range changed {
		if one.FromHistory || one.MergedInto == nil && one.Fresh && !one.Woken && now.Sub(one.OpenedAt) > newsFor {
			continue
		}
		v := verdicts{tx, one, routes, hushes, now, nil, map[int64]bool{}}
		for _, m := range said {
			if *m.GroupID == one.ID {
				v.said = append(v.said, m)
			}
			if one.Joined[*m.GroupID] && m.What == record.ToldOpened && begun(m) {
				v.joined[m.ChannelID] = true
			}
		}
		if err := v.speak(ctx); err != nil {
			return err
		}
	}
	return nil
}

// verdicts is what is to be said of one group that changed.
type verdicts struct {
	tx     pgx.Tx
	group  *faults.Group
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
	if !g.Fresh && g.Severity == "critical" && g.Was.Severity != "critical" {
		g.News = append(g.News, "It is critical now.")
	}
	for _, r := range v.routes {
		if !matches(r, g) {
			continue
		}
		heard := v.heard(r.ChannelID)
		switch {
		case g.ClosedAt != nil && heard == nil && !g.Fresh:
			continue // over before this route could care
		case heard == nil:
			if err := v.put(ctx, r, record.ToldOpened, 0, v.due(r)); err != nil {
				return err
			}
		case g.Added:
			if err := v.put(ctx, r, record.ToldAgain, v.turn(r.ChannelID, record.ToldAgain),
				v.now.Add(time.Duration(r.WaitSeconds)*time.Second)); err != nil {
				return err
			}
		case g.ClosedAt != nil && g.Was.ClosedAt == nil:
			if err := v.over(ctx, r, *heard); err != nil {
				return err
			}
		case len(g.News) > 0 && begun(*heard) && !v.joined[r.ChannelID]:
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
	if v.group.Was.MergedInto != nil {
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
		m.Why = strings.Join(v.group.News, " ")
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
	for i, m := range v.group.Members {
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
func matches(r record.Route, g *faults.Group) bool {
	if r.Severity == "critical" && g.Severity != "critical" {
		return false
	}
	return slices.ContainsFunc(g.Members, func(m store.GroupedAlert) bool {
		return (len(r.Owners) == 0 || slices.Contains(r.Owners, m.Owner)) &&
			(len(r.Tags) == 0 || slices.ContainsFunc(r.Tags, func(tag string) bool { return slices.Contains(m.Tags, tag) })) &&
			(len(r.Datasets) == 0 || slices.ContainsFunc(r.Datasets, func(pattern string) bool {
				ok, _ := path.Match(pattern, m.Dataset)
				return ok
			}))
	})
}

// Remind puts reminders and escalations into the outbox: of groups that last,
// that nobody looks after and nobody answered.
func (n *Notifier) Remind(ctx context.Context) error {
	now := n.now()
	overdue, err := n.store.Unanswered(ctx, now)
	if err != nil || len(overdue) == 0 {
		return err
	}
	return n.store.InTx(ctx, func(tx pgx.Tx) error {
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
