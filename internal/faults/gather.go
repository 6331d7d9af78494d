package faults

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/fault"
	"tinbell/internal/record"
	"tinbell/internal/store"
	"tinbell/internal/words"
)

// Gather puts the alerts that changed into groups, and hands these on.
func (d *Desk) Gather(ctx context.Context) error {
	for {
		n := 0
		err := d.store.InTx(ctx, func(tx pgx.Tx) error {
			alerts, err := d.store.In(tx).TakeChanges(ctx, tx, batch)
			if err != nil || len(alerts) == 0 {
				return err
			}
			n = len(alerts)
			return d.gather(ctx, tx, alerts)
		})
		if err != nil || n < batch {
			return err
		}
	}
}

// gathering is one transaction's work on groups.
type gathering struct {
	groups  []*Group
	byID    map[int64]*Group
	alerts  map[int64]store.GroupedAlert
	touched map[*Group]bool
	moved   map[int64]*Group // alerts that have another group now
}

// Group is a group with its members, and what one transaction changed about it.
type Group struct {
	record.Group
	Was     record.Group
	Members []store.GroupedAlert
	Fresh   bool           // made just now
	Added   bool           // gained a member that lasts after it was closed
	Woken   bool           // was of the past, and goes on
	Joined  map[int64]bool // groups that became part of it just now
	News    []string       // what changed that those who heard of it must know

	fault *fault.Fault
}

func (d *Desk) gather(ctx context.Context, tx pgx.Tx, alerts []store.GroupedAlert) error {
	alerts = slices.DeleteFunc(alerts, func(a store.GroupedAlert) bool { return a.Held == record.HeldBack && a.GroupID == 0 })
	if len(alerts) == 0 {
		return nil
	}
	lineage, up, err := d.graph(ctx, d.store.In(tx))
	if err != nil {
		return err
	}
	g, err := d.load(ctx, tx, alerts, lineage)
	if err != nil {
		return err
	}
	var past, present []store.GroupedAlert
	for _, a := range alerts {
		switch {
		case a.GroupID != 0:
			if one := g.byID[a.GroupID]; one != nil {
				g.touched[one] = true
			}
		case a.FromHistory:
			past = append(past, a)
		default:
			present = append(present, a)
		}
	}
	rates, err := d.surroundings(ctx, d.store.In(tx), lineage, up, g, d.now())
	if err != nil {
		return err
	}
	for _, part := range []struct {
		alerts  []store.GroupedAlert
		history bool
	}{{past, true}, {present, false}} {
		if len(part.alerts) == 0 {
			continue
		}
		if err := d.infer(ctx, tx, g, lineage, rates, part.alerts, part.history); err != nil {
			return err
		}
	}
	for one := range g.touched {
		one.sum()
	}
	if err := g.keep(ctx, tx); err != nil {
		return err
	}
	return d.hand(ctx, tx, g)
}

// keep makes the groups that are new, which have had numbers below zero so far, and
// puts alerts into theirs: all at once, for a flood makes thousands.
func (g *gathering) keep(ctx context.Context, tx pgx.Tx) error {
	var fresh []*Group
	var made []record.Group
	for _, one := range g.groups {
		if one.ID < 0 {
			fresh, made = append(fresh, one), append(made, one.Group)
		}
	}
	ids, err := store.AddGroups(ctx, tx, made)
	if err != nil {
		return err
	}
	for i, one := range fresh {
		one.ID, one.Was.ID = ids[i], ids[i]
	}
	alerts, into := make([]int64, 0, len(g.moved)), make([]int64, 0, len(g.moved))
	for id, one := range g.moved {
		alerts, into = append(alerts, id), append(into, one.ID)
	}
	return store.PutInGroups(ctx, tx, alerts, into)
}

// hand keeps the groups that changed, and hands all that were touched on.
func (d *Desk) hand(ctx context.Context, tx pgx.Tx, g *gathering) error {
	touched := slices.SortedFunc(maps.Keys(g.touched), func(a, b *Group) int { return int(a.ID - b.ID) })
	var changed []record.Group
	for _, one := range touched {
		if !same(one.Group, one.Was) {
			changed = append(changed, one.Group)
		}
	}
	if err := store.SetGroups(ctx, tx, changed); err != nil {
		return err
	}
	if err := d.hear(ctx, tx, touched); err != nil {
		return err
	}
	return store.Notify(ctx, tx, store.TopicAlerts)
}

// load reads the groups that the alerts may belong to.
func (d *Desk) load(ctx context.Context, tx pgx.Tx, alerts []store.GroupedAlert, lineage *fault.Lineage) (*gathering, error) {
	const reach = (fault.Grows + 86400) * time.Second
	var named []int64
	var places []string
	g := &gathering{byID: map[int64]*Group{}, alerts: map[int64]store.GroupedAlert{}, touched: map[*Group]bool{},
		moved: map[int64]*Group{}}
	for _, a := range alerts {
		if g.alerts[a.ID] = a; a.GroupID != 0 {
			named = append(named, a.GroupID)
		}
		if p := home(a); !slices.Contains(places, p) {
			places = append(places, p)
		}
	}
	groups, members, err := d.store.In(tx).GroupsOfLate(ctx, alerts[0].RaisedAt.Add(-reach),
		alerts[len(alerts)-1].RaisedAt.Add(reach), datasetsOf(lineage.Near(places)), named)
	if err != nil {
		return nil, err
	}
	for _, one := range groups {
		v := &Group{Group: one, Was: one}
		g.groups, g.byID[one.ID] = append(g.groups, v), v
	}
	for _, m := range members {
		one := g.byID[m.GroupID]
		one.Members, g.alerts[m.ID] = append(one.Members, m), m
	}
	return g, nil
}

// infer puts new alerts to the faults that explain them, and keeps what becomes of
// the groups. The past was told to nobody: only what of it still lasts goes on in
// the present.
func (d *Desk) infer(ctx context.Context, tx pgx.Tx, g *gathering, lineage *fault.Lineage, rates rates,
	alerts []store.GroupedAlert, history bool) error {
	in := fault.NewInference(lineage)
	var ids []int64
	for _, one := range g.groups {
		ids = append(ids, one.ID)
	}
	apart, err := d.store.In(tx).Apart(ctx, ids)
	if err != nil {
		return err
	}
	for _, one := range g.groups {
		if one.MergedInto != nil || len(one.Members) == 0 || one.FromHistory != history && (history || one.ClosedAt != nil) {
			continue
		}
		cores := make([]fault.Alert, len(one.Members))
		for i, m := range one.Members {
			cores[i] = rates.coreOf(m)
		}
		one.fault = in.Known(one.ID, apart[one.ID], cores, one.origin())
	}
	const together = 3600
	at := alerts[0].RaisedAt.Unix()
	for _, a := range alerts {
		if now := a.RaisedAt.Unix(); now > at+together {
			g.sync(in, history)
			at = now
		}
		in.Place(rates.coreOf(a))
	}
	g.sync(in, history)
	return nil
}

// sync lets the inference settle and brings the groups up to it.
func (g *gathering) sync(in *fault.Inference, history bool) {
	faults := in.Settle()
	of := map[*fault.Fault]*Group{}
	for _, one := range g.groups {
		if one.fault != nil {
			of[one.fault] = one
		}
	}
	for _, f := range faults {
		one := of[f]
		members := f.Members()
		if one == nil {
			first := g.alerts[members[0]]
			one = &Group{Group: record.Group{BeganAt: first.Since, OpenedAt: first.RaisedAt, Severity: first.Severity,
				FromHistory: history, OriginKind: record.OriginDataset}, Fresh: true, fault: f}
			g.groups = append(g.groups, one)
			id := -int64(len(g.groups)) // until it is kept
			one.ID, f.ID, g.byID[id], of[f] = id, id, one, one
		}
		g.refill(one, members, history)
	}
	for _, one := range g.groups {
		if one.fault == nil || len(one.fault.Members()) > 0 || one.MergedInto != nil {
			continue
		}
		into := of[in.Became(one.ID)]
		if into == nil && len(one.Members) > 0 { // its alerts moved one by one
			into = g.byID[g.alerts[one.Members[0].ID].GroupID]
		}
		if into == nil || into == one {
			continue
		}
		g.fold(one, into)
	}
}

// refill gives a group the members that its fault has.
func (g *gathering) refill(one *Group, members []int64, history bool) {
	had := map[int64]bool{}
	for _, m := range one.Members {
		had[m.ID] = true
	}
	var gained []int64
	was := one.Members
	one.Members = nil
	for _, id := range members {
		m := g.alerts[id]
		if !had[id] {
			gained = append(gained, id)
			if one.FromHistory && !history {
				one.FromHistory, one.Woken = false, true
			}
			one.Added = one.Added || one.Was.ClosedAt != nil && m.ClosedAt == nil
		}
		m.GroupID = one.ID
		g.alerts[id], one.Members = m, append(one.Members, m)
	}
	if len(gained) == 0 && len(was) == len(members) && (one.Fresh || one.sameOrigin()) {
		return
	}
	one.reaches(was, gained, g)
	if lost := len(was) + len(gained) - len(members); lost > 0 && len(members) > 0 {
		one.News = append(one.News, fmt.Sprintf("%s turned out to have another cause.", count(lost, "of its alerts")))
	}
	g.touched[one] = true
	for _, id := range gained {
		g.moved[id] = one
	}
}

// reaches keeps as news what a group has newly come to that is critical: nothing
// critical is swallowed by growth.
func (v *Group) reaches(was []store.GroupedAlert, gained []int64, g *gathering) {
	if v.Fresh {
		return
	}
	for _, id := range gained {
		m := g.alerts[id]
		if m.Severity == "critical" && m.ClosedAt == nil && m.Dataset != "" && !slices.ContainsFunc(was,
			func(o store.GroupedAlert) bool { return o.Dataset == m.Dataset }) {
			v.News = append(v.News, "It has reached "+m.Dataset+": "+m.Sentence+".")
			return
		}
	}
}

func count(n int, what string) string {
	return words.Opening(n) + " " + what
}

// fold makes one group part of another.
func (g *gathering) fold(from, into *Group) {
	from.MergedInto, from.Members, from.fault = &into.ID, nil, nil
	if into.Joined == nil {
		into.Joined = map[int64]bool{}
	}
	into.Joined[from.ID] = true
	g.touched[from], g.touched[into] = true, true
}

// sum brings a group up to what its members and its fault say.
func (v *Group) sum() {
	if len(v.Members) == 0 {
		return
	}
	v.Severity, v.ClosedAt = "warning", nil
	open := false
	for i, m := range v.Members {
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
	if v.fault == nil || v.sameOrigin() {
		return
	}
	o := v.fault.Origin
	v.Origin, v.OriginKind = unplace(o.Place)
	v.OriginIn, v.OriginAlert = partsOf(o.Segment), nil
	if o.Alert != 0 {
		v.OriginAlert = &o.Alert
	}
	if was := v.Was.Whence(); !v.Fresh && was != "" && was != v.Whence() {
		v.News = append(v.News, fmt.Sprintf("It likely began at %s, not at %s as was told.", v.Whence(), was))
	}
}

// sameOrigin tells whether the group says what its fault does of where it began.
func (v *Group) sameOrigin() bool {
	o, own := v.fault.Origin, v.origin()
	return own.Place == o.Place && own.Alert == o.Alert && slices.Equal(own.Segment, o.Segment)
}

// origin is where the group says that it began.
func (v *Group) origin() fault.Origin {
	if v.Origin == "" {
		return fault.Origin{}
	}
	o := fault.Origin{Place: place(v.OriginKind, v.Origin), Segment: segmentOf(v.OriginIn)}
	if v.OriginAlert != nil {
		o.Alert = *v.OriginAlert
	}
	return o
}

// same tells whether nothing of a group's own changed.
func same(a, b record.Group) bool {
	equal := slices.Equal(a.OriginIn, b.OriginIn)
	a.OriginIn, b.OriginIn = nil, nil
	x, y := a.ClosedAt, b.ClosedAt
	a.ClosedAt, b.ClosedAt = nil, nil
	alerts := ref(a.OriginAlert) == ref(b.OriginAlert)
	a.OriginAlert, b.OriginAlert = nil, nil
	return equal && alerts && (x == nil) == (y == nil) && (x == nil || x.Equal(*y)) && a.BeganAt.Equal(b.BeganAt) &&
		a.OpenedAt.Equal(b.OpenedAt) &&
		a.Severity == b.Severity && a.Origin == b.Origin && a.OriginKind == b.OriginKind && a.FromHistory == b.FromHistory &&
		ref(a.MergedInto) == ref(b.MergedInto)
}

func ref(p *int64) int64 {
	if p == nil {
		return 0
	}
	return *p
}

// byRaised sorts alerts as they were raised.
func byRaised(a, b store.GroupedAlert) int {
	return cmp.Or(a.RaisedAt.Compare(b.RaisedAt), cmp.Compare(a.ID, b.ID))
}
