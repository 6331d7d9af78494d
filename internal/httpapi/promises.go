package httpapi

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"tinbell/internal/health"
	"tinbell/internal/people"
	"tinbell/internal/record"
)

// NewSLA sets a promise; the one of that name is replaced.
type NewSLA struct {
	Name        string         `json:"name"`
	Dataset     string         `json:"dataset"`
	Owner       string         `json:"owner,omitempty"`
	Counts      string         `json:"counts" enum:"rows,loads,files"`
	AtLeast     float64        `json:"at_least" exclusiveMinimum:"0"`
	Days        string         `json:"days,omitempty" doc:"as mon-fri or sat,sun; every day if left out"`
	FromMinute  int            `json:"from_minute,omitempty" minimum:"0" maximum:"1439" doc:"of the local day"`
	ToMinute    int            `json:"to_minute" minimum:"1" maximum:"2880" doc:"after from_minute; beyond 1440 on the next day"`
	Zone        string         `json:"zone,omitempty" doc:"the dataset's if left out"`
	Segment     string         `json:"segment,omitempty" doc:"of files: the value in their path"`
	LeadSeconds int64          `json:"lead_seconds,omitempty" minimum:"0" doc:"how long before the end it may be told to be behind; an hour if left out"`
	Calendars   record.Strings `json:"calendars,omitempty" doc:"whose holidays and events are exceptions; all if left out"`
	Paused      bool           `json:"paused,omitempty"`
}

func (s *server) addPromises(api huma.API) {
	add(api, "GET", "/slas", "slas", "All SLAs: how they stand, how likely they are met, and how they were kept", people.Reader,
		func(ctx context.Context, _ *none) (*body[[]health.Promise], error) {
			return ok(s.Health.Promises(ctx))
		})
	add(api, "POST", "/slas", "set-sla", "Add an SLA or replace the one of that name; its past is looked at at once",
		people.Editor, func(ctx context.Context, in *body[NewSLA]) (*body[record.SLA], error) {
			v := in.Body
			return ok(s.Watcher.SetSLA(ctx, record.SLA{Name: v.Name, Dataset: v.Dataset, Owner: v.Owner, Counts: v.Counts,
				AtLeast: v.AtLeast, Days: v.Days, FromMinute: v.FromMinute,
				ToMinute: v.ToMinute, Zone: v.Zone, Segment: v.Segment, LeadSeconds: v.LeadSeconds, Calendars: v.Calendars,
				Paused: v.Paused}))
		})
	add(api, "DELETE", "/slas/{name}", "drop-sla", "Remove an SLA with its past", people.Editor,
		func(ctx context.Context, in *Named) (*struct{}, error) {
			return nil, s.Store.DropSLA(ctx, in.Name)
		})
}
