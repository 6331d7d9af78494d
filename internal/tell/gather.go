package tell

import (
	"context"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/group"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// Gather puts the alerts that changed into groups, and what is to be said of
// them into the outbox; then it looks who is to be reminded.
func (t *Teller) Gather(ctx context.Context) error {
	for {
		n := 0
		err := t.store.InTx(ctx, func(tx pgx.Tx) error {
			alerts, err := store.TakeChanges(ctx, tx, batch)
			if err != nil || len(alerts) == 0 {
				return err
			}
			n = len(alerts)
			return t.gather(ctx, tx, alerts)
		})
		if err != nil {
			return err
		}
		if n < batch {
			return t.remind(ctx)
		}
	}
}

// gathering is one transaction's work on groups.
type gathering struct {
	graph   *group.Graph
	groups  []*grouped
	touched map[*grouped]bool
}

// grouped is a group with its members.
type grouped struct {
	record.Group
	was     record.Group
	members []store.GroupedAlert
	cores   []group.Alert // the same as grouping sees them
	fresh   bool
	added   bool           // gained a member that lasts after it was closed
	woken   bool           // was of the past, and goes on
	joined  map[int64]bool // groups that became part of it just now
}

func (t *Teller) gather(ctx context.Context, tx pgx.Tx, alerts []record.Alert) error {
	alerts = slices.DeleteFunc(alerts, func(a record.Alert) bool { return a.Held == record.HeldBack && a.GroupID == nil })
	if len(alerts) == 0 {
		return nil
	}
	slices.SortFunc(alerts, func(a, b record.Alert) int {
		if c := a.RaisedAt.Compare(b.RaisedAt); c != 0 {
			return c
		}
		return int(a.ID - b.ID)
	})
	g, err := t.load(ctx, tx, alerts)
	if err != nil {
		return err
	}
	now := t.now()
	for _, a := range alerts {
		if a.GroupID != nil {
			for _, one := range g.groups {
				if one.ID == *a.GroupID {
					g.touched[one] = true
				}
			}
			continue
		}
		if err := g.place(ctx, tx, a, now); err != nil {
			return err
		}
	}
	for one := range g.touched {
		one.sum(g.graph)
	}
	return t.decide(ctx, tx, g, now)
}

// load reads the lineage and the groups that the alerts may belong to.
func (t *Teller) load(ctx context.Context, tx pgx.Tx, alerts []record.Alert) (*gathering, error) {
	graph, err := lineage(ctx, t.store.In(tx))
	if err != nil {
		return nil, err
	}
	const reach = (group.Growth + 86400) * time.Second
	var named []int64
	from, to := alerts[0].RaisedAt.Add(-reach), alerts[len(alerts)-1].RaisedAt.Add(reach)
	for _, a := range alerts {
		if a.GroupID != nil {
			named = append(named, *a.GroupID)
		}
	}
	groups, members, err := store.GroupsOpened(ctx, tx, from, to, named)
	if err != nil {
		return nil, err
	}
	g := &gathering{graph: graph, touched: map[*grouped]bool{}}
	byID := map[int64]*grouped{}
	for _, one := range groups {
		v := &grouped{Group: one, was: one}
		g.groups, byID[one.ID] = append(g.groups, v), v
	}
	for _, m := range members {
		byID[m.GroupID].take(m)
	}
	return g, nil
}

func (v *grouped) take(m store.GroupedAlert) {
	v.members = append(v.members, m)
	v.cores = append(v.cores, coreOf(m))
}

func coreOf(m store.GroupedAlert) group.Alert {
	place := m.Dataset
	if m.Job != 0 {
		place = jobPlace(m.Job)
	} else if m.Source != 0 && place == "" {
		place = sourcePlace(m.Source)
	}
	return group.Alert{ID: m.ID, Place: place, Period: m.Period, Since: m.Since.Unix(), Raised: m.RaisedAt.Unix(), Critical: m.Severity == "critical"}
}

func memberOf(a record.Alert) store.GroupedAlert {
	m := store.GroupedAlert{ID: a.ID, Dataset: a.Dataset, Period: a.PeriodSeconds, Since: a.Since, RaisedAt: a.RaisedAt, ClosedAt: a.ClosedAt,
		Severity: a.Severity, Owner: a.Owner, MonitorID: a.MonitorID, Verdict: a.Verdict}
	if a.OfSource != nil {
		m.Source = *a.OfSource
	}
	if a.OfJob != nil {
		m.Job = *a.OfJob
	}
	return m
}

// place makes an alert a member of the group it belongs to, or of a new one;
// groups that it holds together become the one that was made first.
func (g *gathering) place(ctx context.Context, tx pgx.Tx, a record.Alert, now time.Time) error {
	m := memberOf(a)
	var candidates [][]group.Alert
	for _, one := range g.groups {
		// The past was told to nobody: only what of it still lasts goes on in the present.
		lasting := one.FromHistory && !a.FromHistory && one.ClosedAt == nil
		if one.MergedInto != nil || one.FromHistory != a.FromHistory && !lasting {
			candidates = append(candidates, nil)
			continue
		}
		candidates = append(candidates, one.cores)
	}
	joined := g.graph.Joins(coreOf(m), candidates)
	var into *grouped
	if len(joined) == 0 {
		into = &grouped{Group: record.Group{BeganAt: a.Since, OpenedAt: a.RaisedAt, Severity: a.Severity, FromHistory: a.FromHistory}, fresh: true}
		id, err := store.AddGroup(ctx, tx, into.Group)
		if err != nil {
			return err
		}
		into.ID = id
		g.groups = append(g.groups, into)
	} else {
		into = g.groups[joined[0]]
		for _, i := range joined[1:] {
			if err := g.merge(ctx, tx, g.groups[i], into); err != nil {
				return err
			}
		}
	}
	if into.FromHistory && !a.FromHistory {
		into.FromHistory, into.woken = false, true
	}
	into.added = into.added || into.was.ClosedAt != nil && a.ClosedAt == nil
	into.take(m)
	g.touched[into] = true
	return store.PutInGroup(ctx, tx, into.ID, []int64{a.ID})
}

// merge makes one group part of another.
func (g *gathering) merge(ctx context.Context, tx pgx.Tx, from, into *grouped) error {
	ids := make([]int64, len(from.members))
	for i, m := range from.members {
		ids[i] = m.ID
		into.take(m)
	}
	from.MergedInto, from.members, from.cores = &into.ID, nil, nil
	if into.joined == nil {
		into.joined = map[int64]bool{}
	}
	into.joined[from.ID] = true
	g.touched[from], g.touched[into] = true, true
	return store.PutInGroup(ctx, tx, into.ID, ids)
}

// sum brings a group up to what its members say.
func (v *grouped) sum(graph *group.Graph) {
	if len(v.members) == 0 {
		return
	}
	v.Severity, v.ClosedAt = "warning", nil
	open := false
	for i, m := range v.members {
		if i == 0 || m.Since.Before(v.BeganAt) {
			v.BeganAt = m.Since
		}
		if i == 0 || m.RaisedAt.Before(v.OpenedAt) {
			v.OpenedAt = m.RaisedAt
		}
		if m.Severity == "critical" {
			v.Severity = m.Severity
		}
		if m.ClosedAt == nil {
			open = true
		} else if v.ClosedAt == nil || m.ClosedAt.After(*v.ClosedAt) {
			v.ClosedAt = m.ClosedAt
		}
	}
	if open {
		v.ClosedAt = nil
	}
	origin := graph.Origin(v.cores)
	v.Origin, v.OriginAlert = origin.Place, nil
	if origin.Alert != 0 {
		v.OriginAlert = &origin.Alert
	}
}
