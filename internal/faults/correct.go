package tell

import (
	"context"
	"fmt"
	"slices"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
	"tinbell/internal/store"
	"tinbell/internal/words"
)

// What people say of two groups.
const (
	saysSame    = "same"
	saysNotSame = "not the same"
)

// Part makes some alerts of a group a group of their own, because a person says
// that they have another cause; both stay as they are from then on. It gives the new
// group.
func (t *Teller) Part(ctx context.Context, group int64, alerts []int64, who string) (made int64, err error) {
	err = t.store.InTx(ctx, func(tx pgx.Tx) error {
		g, one, err := t.open(ctx, tx, group)
		if err != nil {
			return err
		}
		var leave, stay []store.GroupedAlert
		for _, m := range one.members {
			if slices.Contains(alerts, m.ID) {
				leave = append(leave, m)
			} else {
				stay = append(stay, m)
			}
		}
		switch {
		case len(leave) < len(alerts):
			return record.Conflict{What: fmt.Sprintf("not all of these alerts are of group %d: it has %s", group, numbers(one.members))}
		case len(stay) == 0:
			return record.Conflict{What: fmt.Sprintf("group %d would be left without an alert: leave at least one of %s", group,
				numbers(one.members))}
		}
		first := leave[0]
		other := &grouped{Group: record.Group{BeganAt: first.Since, OpenedAt: first.RaisedAt, Severity: first.Severity,
			FromHistory: one.FromHistory, OriginKind: record.OriginDataset}, fresh: true}
		ids, err := store.AddGroups(ctx, tx, []record.Group{other.Group})
		if err != nil {
			return err
		}
		other.ID = ids[0]
		made, one.members, other.members = other.ID, stay, leave
		one.news = append(one.news, fmt.Sprintf("%s: %s not the same fault; see group %d.", who,
			words.Agree(len(leave), "alert of it is", "alerts of it are"), made))
		if err := store.PutInGroups(ctx, tx, alerts, slices.Repeat([]int64{made}, len(alerts))); err != nil {
			return err
		}
		if err := store.PutApart(ctx, tx, group, made); err != nil {
			return err
		}
		return t.correct(ctx, tx, g, []*grouped{one, other}, alerts, record.GroupAnswer{Author: who, Says: saysNotSame,
			GroupID: group, OtherID: made})
	})
	return made, err
}

// Unite makes a group part of another, because a person says that both are one
// fault.
func (t *Teller) Unite(ctx context.Context, group, other int64, who string) error {
	return t.store.InTx(ctx, func(tx pgx.Tx) error {
		if group == other {
			return record.Conflict{What: fmt.Sprintf("%d and %d are one group already", group, other)}
		}
		g, into, err := t.open(ctx, tx, group)
		if err != nil {
			return err
		}
		more, from, err := t.open(ctx, tx, other)
		if err != nil {
			return err
		}
		for id, a := range more.alerts {
			g.alerts[id] = a
		}
		var moved []int64
		for _, m := range from.members {
			moved = append(moved, m.ID)
		}
		into.members = append(into.members, from.members...)
		slices.SortFunc(into.members, byRaised)
		if err := store.PutInGroups(ctx, tx, moved, slices.Repeat([]int64{group}, len(moved))); err != nil {
			return err
		}
		if err := store.ForgetApart(ctx, tx, group, other); err != nil {
			return err
		}
		g.groups = append(g.groups, from)
		g.fold(from, into)
		return t.correct(ctx, tx, g, []*grouped{into, from}, moved, record.GroupAnswer{Author: who, Says: saysSame,
			GroupID: group, OtherID: other})
	})
}

// open reads a group that lasts or lasted, alone with grouping until the
// transaction ends.
func (t *Teller) open(ctx context.Context, tx pgx.Tx, id int64) (*gathering, *grouped, error) {
	if err := store.LockGroups(ctx, tx); err != nil {
		return nil, nil, err
	}
	groups, members, err := t.store.In(tx).GroupsOfLate(ctx, t.now(), t.now(), nil, []int64{id})
	if err != nil {
		return nil, nil, err
	}
	at := slices.IndexFunc(groups, func(g record.Group) bool { return g.ID == id })
	if at < 0 {
		return nil, nil, record.NotFound{Kind: "group", Name: fmt.Sprint(id)}
	}
	if into := groups[at].MergedInto; into != nil {
		return nil, nil, record.Conflict{What: fmt.Sprintf("group %d is part of group %d by now", id, *into)}
	}
	one := &grouped{Group: groups[at], was: groups[at]}
	g := &gathering{byID: map[int64]*grouped{id: one}, groups: []*grouped{one}, alerts: map[int64]store.GroupedAlert{},
		touched: map[*grouped]bool{}, moved: map[int64]*grouped{}}
	for _, m := range members {
		if m.GroupID == id {
			one.members, g.alerts[m.ID] = append(one.members, m), m
		}
	}
	return g, one, nil
}

// correct keeps what a person said, finds again where both began, and tells those
// who heard of them.
func (t *Teller) correct(ctx context.Context, tx pgx.Tx, g *gathering, groups []*grouped, moved []int64, a record.GroupAnswer) error {
	a.At, a.Alerts = t.now(), moved
	if err := store.AddGroupAnswer(ctx, tx, a); err != nil {
		return err
	}
	lineage, up, err := t.graph(ctx, t.store.In(tx))
	if err != nil {
		return err
	}
	rates, err := t.surroundings(ctx, t.store.In(tx), lineage, up, g, t.now())
	if err != nil {
		return err
	}
	for _, one := range groups {
		g.touched[one] = true
		if len(one.members) == 0 {
			continue
		}
		ids := make([]int64, len(one.members))
		for i, m := range one.members {
			ids[i] = m.ID
		}
		if err := store.Fix(ctx, tx, ids); err != nil {
			return err
		}
		one.fault = rates.explain(lineage, one)
		one.sum()
	}
	return t.decide(ctx, tx, g, t.now())
}

func numbers(members []store.GroupedAlert) string {
	list := make([]string, len(members))
	for i, m := range members {
		list[i] = fmt.Sprint(m.ID)
	}
	return words.List(list)
}
