package faults

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
func (d *Desk) Part(ctx context.Context, group int64, alerts []int64, who string) (made int64, err error) {
	err = d.store.InTx(ctx, func(tx pgx.Tx) error {
		g, one, err := d.open(ctx, tx, group)
		if err != nil {
			return err
		}
		var leave, stay []store.GroupedAlert
		for _, m := range one.Members {
			if slices.Contains(alerts, m.ID) {
				leave = append(leave, m)
			} else {
				stay = append(stay, m)
			}
		}
		switch {
		case len(leave) < len(alerts):
			return record.Conflict{What: fmt.Sprintf("not all of these alerts are of group %d: it has %s", group, numbers(one.Members))}
		case len(stay) == 0:
			return record.Conflict{What: fmt.Sprintf("group %d would be left without an alert: leave at least one of %s", group,
				numbers(one.Members))}
		}
		first := leave[0]
		other := &Group{Group: record.Group{BeganAt: first.Since, OpenedAt: first.RaisedAt, Severity: first.Severity,
			FromHistory: one.FromHistory, OriginKind: record.OriginDataset}, Fresh: true}
		ids, err := store.AddGroups(ctx, tx, []record.Group{other.Group})
		if err != nil {
			return err
		}
		other.ID = ids[0]
		made, one.Members, other.Members = other.ID, stay, leave
		one.News = append(one.News, fmt.Sprintf("%s: %s not the same fault; see group %d.", who,
			words.Agree(len(leave), "alert of it is", "alerts of it are"), made))
		if err := store.PutInGroups(ctx, tx, alerts, slices.Repeat([]int64{made}, len(alerts))); err != nil {
			return err
		}
		if err := store.PutApart(ctx, tx, group, made); err != nil {
			return err
		}
		return d.correct(ctx, tx, g, []*Group{one, other}, alerts, record.GroupAnswer{Author: who, Says: saysNotSame,
			GroupID: group, OtherID: made})
	})
	return made, err
}

// Unite makes a group part of another, because a person says that both are one
// fault.
func (d *Desk) Unite(ctx context.Context, group, other int64, who string) error {
	return d.store.InTx(ctx, func(tx pgx.Tx) error {
		if group == other {
			return record.Conflict{What: fmt.Sprintf("%d and %d are one group already", group, other)}
		}
		g, into, err := d.open(ctx, tx, group)
		if err != nil {
			return err
		}
		more, from, err := d.open(ctx, tx, other)
		if err != nil {
			return err
		}
		for id, a := range more.alerts {
			g.alerts[id] = a
		}
		var moved []int64
		for _, m := range from.Members {
			moved = append(moved, m.ID)
		}
		into.Members = append(into.Members, from.Members...)
		slices.SortFunc(into.Members, byRaised)
		if err := store.PutInGroups(ctx, tx, moved, slices.Repeat([]int64{group}, len(moved))); err != nil {
			return err
		}
		if err := store.ForgetApart(ctx, tx, group, other); err != nil {
			return err
		}
		g.groups = append(g.groups, from)
		g.fold(from, into)
		return d.correct(ctx, tx, g, []*Group{into, from}, moved, record.GroupAnswer{Author: who, Says: saysSame,
			GroupID: group, OtherID: other})
	})
}

// open reads a group that lasts or lasted, alone with grouping until the
// transaction ends.
func (d *Desk) open(ctx context.Context, tx pgx.Tx, id int64) (*gathering, *Group, error) {
	if err := store.LockGroups(ctx, tx); err != nil {
		return nil, nil, err
	}
	groups, members, err := d.store.In(tx).GroupsOfLate(ctx, d.now(), d.now(), nil, []int64{id})
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
	one := &Group{Group: groups[at], Was: groups[at]}
	g := &gathering{byID: map[int64]*Group{id: one}, groups: []*Group{one}, alerts: map[int64]store.GroupedAlert{},
		touched: map[*Group]bool{}, moved: map[int64]*Group{}}
	for _, m := range members {
		if m.GroupID == id {
			one.Members, g.alerts[m.ID] = append(one.Members, m), m
		}
	}
	return g, one, nil
}

// correct keeps what a person said, finds again where both began, and tells those
// who heard of them.
func (d *Desk) correct(ctx context.Context, tx pgx.Tx, g *gathering, groups []*Group, moved []int64, a record.GroupAnswer) error {
	a.At, a.Alerts = d.now(), moved
	if err := store.AddGroupAnswer(ctx, tx, a); err != nil {
		return err
	}
	lineage, up, err := d.graph(ctx, d.store.In(tx))
	if err != nil {
		return err
	}
	rates, err := d.surroundings(ctx, d.store.In(tx), lineage, up, g, d.now())
	if err != nil {
		return err
	}
	for _, one := range groups {
		g.touched[one] = true
		if len(one.Members) == 0 {
			continue
		}
		ids := make([]int64, len(one.Members))
		for i, m := range one.Members {
			ids[i] = m.ID
		}
		if err := store.Fix(ctx, tx, ids); err != nil {
			return err
		}
		one.fault = rates.explain(lineage, one)
		one.sum()
	}
	return d.hand(ctx, tx, g)
}

func numbers(members []store.GroupedAlert) string {
	list := make([]string, len(members))
	for i, m := range members {
		list[i] = fmt.Sprint(m.ID)
	}
	return words.List(list)
}
