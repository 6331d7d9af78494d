package httpapi

import (
	"context"
	"errors"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tinbell/internal/people"
	"tinbell/internal/record"
	"tinbell/internal/scorecard"
	"tinbell/internal/store"
)

// GroupPage is a page of groups, newest first.
type GroupPage struct {
	Groups     []store.GroupRow `json:"groups"`
	NextCursor int64            `json:"next_cursor" doc:"0 on the last page"`
}

// GroupDetail is a group with its alerts and what was said of it.
type GroupDetail struct {
	store.GroupRow
	Members  []record.Alert   `json:"members" doc:"oldest first"`
	Messages []record.Message `json:"messages" doc:"newest first"`
}

// NumberedGroup picks a group by its number.
type NumberedGroup struct {
	ID int64 `path:"id"`
}

// Snooze says for how long nothing is told.
type Snooze struct {
	Seconds int64 `json:"seconds" minimum:"0" maximum:"7776000" doc:"from now on; 0 ends it"`
}

func (s *server) until(v Snooze) *time.Time {
	if v.Seconds == 0 {
		return nil
	}
	at := s.Now().UTC().Add(time.Duration(v.Seconds) * time.Second)
	return &at
}

func (s *server) addGroups(api huma.API) {
	add(api, "GET", "/groups", "groups", "Groups of alerts that are told as one, newest first", people.Reader,
		func(ctx context.Context, in *struct {
			State   string    `query:"state" enum:"open,"`
			Dataset string    `query:"dataset"`
			Owner   string    `query:"owner"`
			Tag     string    `query:"tag"`
			From    time.Time `query:"from" doc:"opened at or after"`
			To      time.Time `query:"to" doc:"opened before"`
			Cursor  int64     `query:"cursor" doc:"next_cursor of the page before"`
			Sort    string    `query:"sort" enum:"opened_at,-opened_at,began_at,-began_at," doc:"the newest opened first if left out"`
			Limit   int       `query:"limit" minimum:"1" maximum:"1000" default:"100"`
		}) (*body[GroupPage], error) {
			if err := s.there(ctx, in.Dataset, ""); err != nil {
				return nil, err
			}
			if err := s.tagged(ctx, in.Tag); err != nil {
				return nil, err
			}
			list, err := s.Store.Groups(ctx, store.GroupFilter{Open: in.State == "open", Dataset: in.Dataset, Owner: in.Owner,
				Tag: in.Tag, Sort: in.Sort, From: in.From, To: in.To, Cursor: in.Cursor, Limit: in.Limit + 1})
			page := GroupPage{Groups: list}
			if len(list) > in.Limit {
				page.Groups = list[:in.Limit]
				page.NextCursor = page.Groups[in.Limit-1].ID
			}
			return ok(page, err)
		})
	add(api, "GET", "/groups/{id}", "group", "One group; one that was merged into another gives that", people.Reader,
		func(ctx context.Context, in *NumberedGroup) (*body[GroupDetail], error) {
			return ok(s.group(ctx, in.ID))
		})
	add(api, "POST", "/groups/{id}/take", "take-group", "Say that you look after a group: reminders and escalation end",
		people.Responder, func(ctx context.Context, in *struct {
			NumberedGroup
			Body struct {
				Back bool `json:"back,omitempty" doc:"take it back"`
			}
		}) (*body[GroupDetail], error) {
			who := account(ctx).Name
			if in.Body.Back {
				who = ""
			}
			if err := s.Store.TakeGroup(ctx, in.ID, who, s.Now().UTC()); err != nil {
				return nil, err
			}
			return ok(s.group(ctx, in.ID))
		})
	add(api, "POST", "/groups/{id}/snooze", "snooze-group", "Tell nothing of a group for a while", people.Responder,
		func(ctx context.Context, in *struct {
			NumberedGroup
			Body Snooze
		}) (*body[GroupDetail], error) {
			if err := s.Store.SnoozeGroup(ctx, in.ID, s.until(in.Body)); err != nil {
				return nil, err
			}
			return ok(s.group(ctx, in.ID))
		})
	add(api, "POST", "/groups/{id}/part", "part-group",
		"Say that some alerts of a group are not the same fault: they become a group of their own", people.Responder,
		func(ctx context.Context, in *struct {
			NumberedGroup
			Body struct {
				Alerts []int64 `json:"alerts" minItems:"1" maxItems:"1000" doc:"that have another cause"`
			}
		}) (*body[GroupDetail], error) {
			made, err := s.Faults.Part(ctx, in.ID, in.Body.Alerts, account(ctx).Name)
			if err != nil {
				return nil, problem(ctx, err)
			}
			return ok(s.group(ctx, made))
		})
	add(api, "POST", "/groups/{id}/join", "join-group", "Say that another group is the same fault: it becomes part of this one",
		people.Responder, func(ctx context.Context, in *struct {
			NumberedGroup
			Body struct {
				Group int64 `json:"group" doc:"that becomes part of it"`
			}
		}) (*body[GroupDetail], error) {
			if err := s.Faults.Unite(ctx, in.ID, in.Body.Group, account(ctx).Name); err != nil {
				return nil, problem(ctx, err)
			}
			return ok(s.group(ctx, in.ID))
		})
	add(api, "GET", "/group-answers", "group-answers", "What people said of groups, whether they are one fault, oldest first",
		people.Reader, func(ctx context.Context, in *struct {
			Cursor int64 `query:"cursor" doc:"id of the last answer of the page before"`
			Limit  int   `query:"limit" minimum:"1" maximum:"10000" default:"1000"`
		}) (*body[[]record.GroupAnswer], error) {
			return ok(s.Store.GroupAnswers(ctx, in.Cursor, in.Limit))
		})
	add(api, "GET", "/lineage/lags", "lineage-lags",
		"How long after its upstream each dataset shows a disturbance, and which share of its rows comes from there", people.Reader,
		func(ctx context.Context, _ *none) (*body[[]store.LineageLag], error) {
			return ok(s.Store.LineageLags(ctx))
		})
	add(api, "POST", "/groups/{id}/tell", "tell-group", "Tell a channel of a group at once", people.Responder,
		func(ctx context.Context, in *struct {
			NumberedGroup
			Body struct {
				Channel string `json:"channel"`
			}
		}) (*body[record.Message], error) {
			return ok(s.Notifier.TellNow(ctx, in.ID, in.Body.Channel))
		})
	add(api, "POST", "/monitors/{name}/snooze", "snooze-monitor", "Tell nothing of a monitor's alerts for a while; they are kept",
		people.Responder, func(ctx context.Context, in *struct {
			Named
			Body Snooze
		}) (*body[record.Monitor], error) {
			m, err := s.Store.Monitor(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			until, who := s.until(in.Body), account(ctx).Name
			if until == nil {
				who = ""
			}
			if err := s.Store.Snooze(ctx, m.ID, until, who); err != nil {
				return nil, err
			}
			return ok(s.Store.Monitor(ctx, in.Name))
		})
	add(api, "GET", "/telling", "telling", "How many messages people got, one an alert and one a group", people.Reader,
		func(ctx context.Context, in *struct {
			From time.Time `query:"from"`
			To   time.Time `query:"to"`
		}) (*body[scorecard.Telling], error) {
			return ok(s.Scores.Telling(ctx, in.From, in.To))
		})
}

func (s *server) group(ctx context.Context, id int64) (GroupDetail, error) {
	g, err := s.Store.Group(ctx, id)
	var missing record.NotFound
	if errors.As(err, &missing) {
		if into, e := s.Store.MergedInto(ctx, id); e == nil && into != 0 {
			g, err = s.Store.Group(ctx, into)
		}
	}
	if err != nil {
		return GroupDetail{}, err
	}
	d := GroupDetail{GroupRow: g, Members: []record.Alert{}}
	members, err := s.Store.Alerts(ctx, store.AlertFilter{Group: g.ID, Limit: 1000})
	if err != nil {
		return d, err
	}
	for i := len(members) - 1; i >= 0; i-- {
		d.Members = append(d.Members, members[i])
	}
	d.Messages, err = s.Store.Messages(ctx, store.MessageFilter{Group: g.ID, Limit: 200})
	return d, err
}
