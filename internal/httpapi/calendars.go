package httpapi

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"tinbell/internal/calendar"
	"tinbell/internal/feed"
	"tinbell/internal/people"
	"tinbell/internal/record"
)

// CalendarOf picks a calendar and what its events are taken for.
type CalendarOf struct {
	Named
	Dataset string        `query:"dataset" doc:"that events are for which name none; empty: all"`
	Effect  record.Effect `query:"effect" enum:"mute,widen,leave out," doc:"of events which say none; mute if left out"`
}

// Holidays asks for the holidays of a country.
type Holidays struct {
	Country string `json:"country" doc:"as CA, or with a part of it as DE-BY"`
	Name    string `json:"name,omitempty" doc:"of the calendar"`
	Dataset string `json:"dataset,omitempty" doc:"that they are for; empty: all"`
	Zone    string `json:"zone,omitempty" doc:"by whose clocks they begin; that of most datasets if left out"`
}

func (s *server) addCalendars(api huma.API) {
	add(api, "GET", "/planned-events", "planned-events", "All planned events", people.Reader, func(ctx context.Context, in *struct {
		Dataset string `query:"dataset"`
	}) (*body[[]record.PlannedEvent], error) {
		if err := s.there(ctx, in.Dataset, ""); err != nil {
			return nil, err
		}
		return ok(s.Store.PlannedEvents(ctx, in.Dataset))
	})
	add(api, "POST", "/planned-events", "add-event", "Add a planned event by hand; answers with its occurrences", people.Editor,
		func(ctx context.Context, in *body[calendar.NewEvent]) (*body[[]record.PlannedEvent], error) {
			return ok(s.Calendars.AddEvent(ctx, in.Body))
		})
	add(api, "DELETE", "/planned-events/{uid}", "drop-event", "Remove an event that was added by hand", people.Editor,
		func(ctx context.Context, in *struct {
			UID string `path:"uid"`
		}) (*struct{}, error) {
			return nil, s.Calendars.DropEvent(ctx, in.UID)
		})
	add(api, "GET", "/planned-events/suggestions", "suggest-events",
		"Events that people seem to plan again and again, from labels", people.Reader,
		func(ctx context.Context, _ *none) (*body[[]calendar.Suggestion], error) {
			return ok(s.Calendars.Suggestions(ctx))
		})
	add(api, "GET", "/calendars", "calendars", "All calendars", people.Reader,
		func(ctx context.Context, _ *none) (*body[[]record.Calendar], error) {
			return ok(s.Store.Calendars(ctx))
		})
	addFile(api, "PUT", "/calendars/{name}", "import-calendar", "Replace a calendar by an iCalendar file", "text/calendar",
		func(ctx context.Context, in *struct {
			CalendarOf
			Empty bool `query:"empty" doc:"a file without events empties the calendar"`
			Stream
		}) (*body[[]record.PlannedEvent], error) {
			return ok(s.Calendars.Import(ctx, record.Calendar{Name: in.Name, Dataset: in.Dataset, Effect: in.Effect},
				in.reader, in.Empty))
		})
	add(api, "POST", "/calendars/holidays", "add-holidays", "Make a calendar of a country's holidays", people.Editor,
		func(ctx context.Context, in *body[Holidays]) (*body[[]record.PlannedEvent], error) {
			return ok(s.Calendars.AddHolidays(ctx, record.Calendar{Name: in.Body.Name, Country: in.Body.Country, Dataset: in.Body.Dataset,
				Zone: in.Body.Zone}))
		})
	add(api, "GET", "/calendars/countries", "countries", "Countries and parts whose holidays are known", people.Reader,
		func(context.Context, *none) (*body[[]string], error) {
			return ok(calendar.Countries(), nil)
		})
	add(api, "GET", "/calendar-feeds", "calendar-feeds", "Calendars that are fetched by address, and what became of it",
		people.Reader, func(ctx context.Context, _ *none) (*body[[]record.Feed], error) {
			return ok(s.Store.Feeds(ctx))
		})
	add(api, "PUT", "/calendars/{name}/feed", "follow-calendar",
		"Fetch a calendar by address, now and on a schedule; a last good copy stays in force", people.Editor,
		func(ctx context.Context, in *struct {
			Named
			Body feed.Wanted
		}) (*body[record.Feed], error) {
			return ok(s.Feeds.Follow(ctx, in.Name, in.Body))
		})
	add(api, "POST", "/calendars/{name}/feed/fetch", "fetch-calendar", "Fetch a calendar now", people.Editor,
		func(ctx context.Context, in *Named) (*body[record.Feed], error) {
			return ok(s.Feeds.Fetch(ctx, in.Name))
		})
	add(api, "DELETE", "/calendars/{name}/feed", "unfollow-calendar", "Fetch a calendar no more; its events stay", people.Editor,
		func(ctx context.Context, in *Named) (*none, error) {
			return &none{}, s.Store.DropFeed(ctx, in.Name)
		})
	add(api, "DELETE", "/calendars/{name}", "drop-calendar", "Remove a calendar with its events", people.Editor,
		func(ctx context.Context, in *Named) (*struct{}, error) {
			return nil, s.Calendars.Drop(ctx, in.Name)
		})
}
