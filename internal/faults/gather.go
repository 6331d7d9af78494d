package tell

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/fault"
	"tinbell/internal/record"
	"tinbell/internal/store"
	"tinbell/internal/words"
)

// Gather puts the alerts that changed into groups, and what is to be said of
// them into the outbox; then it looks who is to be reminded.
func (t *Teller) Gather(ctx context.Context) error {
	for {
		n := 0
		err := t.store.InTx(ctx, func(tx pgx.Tx) error {
			alerts, err := t.store.In(tx).TakeChanges(ctx, tx, batch)
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
	groups  []*grouped
	byID    map[int64]*grouped
	alerts  map[int64]store.GroupedAlert
	touched map[*grouped]bool
	moved   map[int64]*grouped // alerts that have another group now
}

// grouped is a group with its members.
type grouped struct {
	record.Group
	was     record.Group
	members []store.GroupedAlert
	fault   *fault.Fault
	fresh   bool
	added   bool           // gained a member that lasts after it was closed
	woken   bool           // was of the past, and goes on
	joined  map[int64]bool // groups that became part of it just now
	news    []string       // what changed that those who heard of it must know
}

func (t *Teller) gather(ctx context.Context, tx pgx.Tx, alerts []store.GroupedAlert) error {
	alerts = slices.DeleteFunc(alerts, func(a store.GroupedAlert) bool { return a.Held == record.HeldBack && a.GroupID == 0 })
	if len(alerts) == 0 {
		return nil
	}
	lineage, up, err := t.graph(ctx, t.store.In(tx))
	if err != nil {
		return err
	}
	g, err := t.load(ctx, tx, alerts, lineage)
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
	rates, err := t.surroundings(ctx, t.store.In(tx), lineage, up, g, t.now())
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
		if err := t.infer(ctx, tx, g, lineage, rates, part.alerts, part.history); err != nil {
			return err
		}
	}
	for one := range g.touched {
		one.sum()
	}
	if err := g.keep(ctx, tx); err != nil {
		return err
	}
	return t.decide(ctx, tx, g, t.now())
}

// keep makes the groups that are new, which have had numbers below zero so far, and
// puts alerts into theirs: all at once, for a flood makes thousands.
func (g *gathering) keep(ctx context.Context, tx pgx.Tx) error {
	var fresh []*grouped
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
		one.ID, one.was.ID = ids[i], ids[i]
	}
	alerts, into := make([]int64, 0, len(g.moved)), make([]int64, 0, len(g.moved))
	for id, one := range g.moved {
		alerts, into = append(alerts, id), append(into, one.ID)
	}
	return store.PutInGroups(ctx, tx, alerts, into)
}

// load reads the groups that the alerts may belong to.
func (t *Teller) load(ctx context.Context, tx pgx.Tx, alerts []store.GroupedAlert, lineage *fault.Lineage) (*gathering, error) {
	const reach = (fault.Grows + 86400) * time.Second
	var named []int64
	var places []string
	g := &gathering{byID: map[int64]*grouped{}, alerts: map[int64]store.GroupedAlert{}, touched: map[*grouped]bool{},
		moved: map[int64]*grouped{}}
	for _, a := range alerts {
		if g.alerts[a.ID] = a; a.GroupID != 0 {
			named = append(named, a.GroupID)
		}
		if p := home(a); !slices.Contains(places, p) {
			places = append(places, p)
		}
	}
	groups, members, err := t.store.In(tx).GroupsOfLate(ctx, alerts[0].RaisedAt.Add(-reach),
		alerts[len(alerts)-1].RaisedAt.Add(reach), datasetsOf(lineage.Near(places)), named)
	if err != nil {
		return nil, err
	}
	for _, one := range groups {
		v := &grouped{Group: one, was: one}
		g.groups, g.byID[one.ID] = append(g.groups, v), v
	}
	for _, m := range members {
		one := g.byID[m.GroupID]
		one.members, g.alerts[m.ID] = append(one.members, m), m
	}
	return g, nil
}

// infer puts new alerts to the faults that explain them, and keeps what becomes of
// the groups. The past was told to nobody: only what of it still lasts goes on in
// the present.
func (t *Teller) infer(ctx context.Context, tx pgx.Tx, g *gathering, lineage *fault.Lineage, rates rates,
	alerts []store.GroupedAlert, history bool) error {
	in := fault.NewInference(lineage)
	var ids []int64
	for _, one := range g.groups {
		ids = append(ids, one.ID)
	}
	apart, err := t.store.In(tx).Apart(ctx, ids)
	if err != nil {
		return err
	}
	for _, one := range g.groups {
		if one.MergedInto != nil || len(one.members) == 0 || one.FromHistory != history && (history || one.ClosedAt != nil) {
			continue
		}
		cores := make([]fault.Alert, len(one.members))
		for i, m := range one.members {
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
	of := map[*fault.Fault]*grouped{}
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
			one = &grouped{Group: record.Group{BeganAt: first.Since, OpenedAt: first.RaisedAt, Severity: first.Severity,
				FromHistory: history, OriginKind: record.OriginDataset}, fresh: true, fault: f}
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
		if into == nil && len(one.members) > 0 { // its alerts moved one by one
			into = g.byID[g.alerts[one.members[0].ID].GroupID]
		}
		if into == nil || into == one {
			continue
		}
		g.fold(one, into)
	}
}

// refill gives a group the members that its fault has.
func (g *gathering) refill(one *grouped, members []int64, history bool) {
	had := map[int64]bool{}
	for _, m := range one.members {
		had[m.ID] = true
	}
	var gained []int64
	was := one.members
	one.members = nil
	for _, id := range members {
		m := g.alerts[id]
		if !had[id] {
			gained = append(gained, id)
			if one.FromHistory && !history {
				one.FromHistory, one.woken = false, true
			}
			one.added = one.added || one.was.ClosedAt != nil && m.ClosedAt == nil
		}
		m.GroupID = one.ID
		g.alerts[id], one.members = m, append(one.members, m)
	}
	if len(gained) == 0 && len(was) == len(members) && (one.fresh || one.sameOrigin()) {
		return
	}
	one.reaches(was, gained, g)
	if lost := len(was) + len(gained) - len(members); lost > 0 && len(members) > 0 {
		one.news = append(one.news, fmt.Sprintf("%s turned out to have another cause.", count(lost, "of its alerts")))
	}
	g.touched[one] = true
	for _, id := range gained {
		g.moved[id] = one
	}
}

// reaches keeps as news what a group has newly come to that is critical: nothing
// critical is swallowed by growth.
func (v *grouped) reaches(was []store.GroupedAlert, gained []int64, g *gathering) {
	if v.fresh {
		return
	}
	for _, id := range gained {
		m := g.alerts[id]
		if m.Severity == "critical" && m.ClosedAt == nil && m.Dataset != "" && !slices.ContainsFunc(was,
			func(o store.GroupedAlert) bool { return o.Dataset == m.Dataset }) {
			v.news = append(v.news, "It has reached "+m.Dataset+": "+m.Sentence+".")
			return
		}
	}
}

func count(n int, what string) string {
	return words.Opening(n) + " " + what
}

// fold makes one group part of another.
func (g *gathering) fold(from, into *grouped) {
	from.MergedInto, from.members, from.fault = &into.ID, nil, nil
	if into.joined == nil {
		into.joined = map[int64]bool{}
	}
	into.joined[from.ID] = true
	g.touched[from], g.touched[into] = true, true
}

// sum brings a group up to what its members and its fault say.
func (v *grouped) sum() {
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
	if v.fault == nil || v.sameOrigin() {
		return
	}
	o := v.fault.Origin
	v.Origin, v.OriginKind = unplace(o.Place)
	v.OriginIn, v.OriginAlert = partsOf(o.Segment), nil
	if o.Alert != 0 {
		v.OriginAlert = &o.Alert
	}
	if was := v.was.Whence(); !v.fresh && was != "" && was != v.Whence() {
		v.news = append(v.news, fmt.Sprintf("It likely began at %s, not at %s as was told.", v.Whence(), was))
	}
}

// sameOrigin tells whether the group says what its fault does of where it began.
func (v *grouped) sameOrigin() bool {
	o, own := v.fault.Origin, v.origin()
	return own.Place == o.Place && own.Alert == o.Alert && slices.Equal(own.Segment, o.Segment)
}

// origin is where the group says that it began.
func (v *grouped) origin() fault.Origin {
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
