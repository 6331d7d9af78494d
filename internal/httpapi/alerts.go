package httpapi

import (
	"context"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tinbell/core/score"
	"tinbell/internal/people"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

type alertQuery struct {
	State    string        `query:"state" enum:"open,closed," default:""`
	Verdict  score.Verdict `query:"verdict" enum:"fault,noise,planned,none," default:"" doc:"none: unlabelled"`
	Dataset  string        `query:"dataset"`
	Monitor  string        `query:"monitor"`
	Series   int64         `query:"series"`
	From     time.Time     `query:"from" doc:"raised at or after"`
	To       time.Time     `query:"to" doc:"raised before"`
	Cursor   int64         `query:"cursor" doc:"next_cursor of the page before"`
	Sort     string        `query:"sort" doc:"raised_at, since, strength, return_period_seconds, effect, peak or severity; with a - before it the largest first. The newest first if left out"`
	Held     string        `query:"held" enum:"told,held,shadow,all" default:"told" doc:"told: without what the filter holds back; shadow: what it would"`
	Segment  string        `query:"segment"`
	Owner    string        `query:"owner"`
	Tag      string        `query:"tag"`
	Rule     string        `query:"rule" doc:"that opened it, as deviation, silence or overdue"`
	Channel  string        `query:"channel" doc:"told on this channel"`
	Measure  string        `query:"measure"`
	Disputed bool          `query:"disputed" doc:"only those on which people do not agree"`
	Limit    int           `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}

// AlertPage is a page of alerts, newest first.
type AlertPage struct {
	Alerts     []record.Alert `json:"alerts"`
	NextCursor int64          `json:"next_cursor" doc:"0 on the last page"`
}

// AlertDetail is one alert with its labels and others like it.
type AlertDetail struct {
	record.Alert
	Labels []record.Label `json:"labels" doc:"every label it was given, newest first"`
	Alike  []record.Alert `json:"alike" doc:"earlier alerts of the same series, then of the same monitor"`
}

// NewLabel answers one alert or many.
type NewLabel struct {
	Alerts  []int64          `json:"alerts" minItems:"1" maxItems:"1000"`
	Verdict score.Verdict    `json:"verdict" enum:"fault,noise,planned," doc:"empty takes the label back"`
	Cause   string           `json:"cause,omitempty"`
	Note    string           `json:"note,omitempty"`
	Author  string           `json:"author,omitempty" doc:"for imports; otherwise who is signed in"`
	At      time.Time        `json:"at,omitempty" doc:"for imports; otherwise now"`
	Seen    map[string]int64 `json:"seen,omitempty" doc:"by alert the label_id that was read; if another is in force by now, the answer is a conflict and nothing is kept"`
}

// there refuses names that a list is narrowed to and that nothing has: an empty answer
// would look like good news.
func (s *server) there(ctx context.Context, dataset, monitor string) error {
	if dataset != "" {
		if _, err := s.Store.Dataset(ctx, dataset); err != nil {
			return err
		}
	}
	if monitor != "" {
		if _, err := s.Store.Monitor(ctx, monitor); err != nil {
			return err
		}
	}
	return nil
}

func (s *server) addAlerts(api huma.API) {
	add(api, "GET", "/alerts", "alerts", "Alerts, newest first", people.Reader,
		func(ctx context.Context, in *alertQuery) (*body[AlertPage], error) {
			if err := s.there(ctx, in.Dataset, in.Monitor); err != nil {
				return nil, err
			}
			if err := s.tagged(ctx, in.Tag); err != nil {
				return nil, err
			}
			if in.Sort != "" && !slices.Contains(store.AlertOrders, strings.TrimPrefix(in.Sort, "-")) {
				return nil, record.Invalid{Field: "sort", Given: in.Sort, Allowed: "one of " + strings.Join(store.AlertOrders, ", ")}
			}
			list, err := s.Store.Alerts(ctx, store.AlertFilter{Sort: in.Sort, State: in.State, Verdict: in.Verdict,
				Dataset: in.Dataset, Monitor: in.Monitor,
				Series: in.Series, From: in.From, To: in.To, Cursor: in.Cursor, Limit: in.Limit + 1, Held: in.Held,
				Segment: in.Segment, Owner: in.Owner, Tag: in.Tag, Rule: in.Rule, Channel: in.Channel, Measure: in.Measure,
				Disputed: in.Disputed})
			if err != nil {
				return nil, err
			}
			page := AlertPage{Alerts: list}
			if len(list) > in.Limit {
				page.Alerts = list[:in.Limit]
				page.NextCursor = page.Alerts[in.Limit-1].ID
			}
			return ok(page, nil)
		})
	add(api, "GET", "/alerts/{id}", "alert", "One alert with its labels and others like it", people.Reader,
		func(ctx context.Context, in *struct {
			ID int64 `path:"id"`
		}) (*body[AlertDetail], error) {
			return ok(s.alertDetail(ctx, in.ID))
		})
	add(api, "POST", "/labels", "label", "Answer alerts: fault, noise or planned", people.Responder,
		func(ctx context.Context, in *body[NewLabel]) (*body[AlertPage], error) {
			l := record.Label{Verdict: in.Body.Verdict, Cause: in.Body.Cause, Note: in.Body.Note, Author: in.Body.Author, At: in.Body.At}
			if l.Author == "" {
				l.Author = account(ctx).Name
			} else if l.Author != account(ctx).Name && !people.Allows(account(ctx).Role, people.Admin) {
				return nil, people.Forbidden{Role: account(ctx).Role, Needed: people.Admin}
			}
			seen := map[int64]int64{}
			for id, label := range in.Body.Seen {
				n, err := strconv.ParseInt(id, 10, 64)
				if err != nil {
					return nil, record.Invalid{Field: "seen", Given: id, Allowed: "the numbers of alerts"}
				}
				seen[n] = label
			}
			if err := s.Labels.Label(ctx, in.Body.Alerts, l, seen); err != nil {
				return nil, err
			}
			page := AlertPage{Alerts: []record.Alert{}}
			for _, id := range in.Body.Alerts {
				a, err := s.Store.Alert(ctx, id)
				if err != nil {
					return nil, err
				}
				page.Alerts = append(page.Alerts, a)
			}
			return ok(page, nil)
		})
}

func (s *server) alertDetail(ctx context.Context, id int64) (AlertDetail, error) {
	a, err := s.Store.Alert(ctx, id)
	if err != nil {
		return AlertDetail{}, err
	}
	d := AlertDetail{Alert: a}
	if d.Labels, err = s.Store.Labels(ctx, id); err != nil {
		return d, err
	}
	d.Alike, err = s.Charts.Alike(ctx, a)
	return d, err
}
