package httpapi

import (
	"context"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tinbell/core/timeline"
	"tinbell/internal/inspect"
	"tinbell/internal/people"
	"tinbell/internal/record"
)

// Identified picks a thing by its number.
type Identified struct {
	ID int64 `path:"id"`
}

func (s *server) addStudies(api huma.API) {
	add(api, "GET", "/metrics/{name}/series", "series", "The series of a metric, one per segment", people.Reader, func(ctx context.Context, in *Named) (*body[[]record.Series], error) {
		m, err := s.Store.Metric(ctx, in.Name)
		if err != nil {
			return nil, err
		}
		return ok(s.Store.SeriesOf(ctx, m.ID))
	})
	add(api, "GET", "/series/{id}/suitability", "suitability", "Whether a series is predictable enough for a band, why, and what to use instead", people.Reader, func(ctx context.Context, in *Identified) (*body[inspect.SuitabilityStudy], error) {
		return ok(s.Inspector.Suits(ctx, in.ID))
	})
	add(api, "GET", "/series/{id}/smoothing", "smoothing", "What a moving median or mean before detection would do to a series", people.Reader, func(ctx context.Context, in *struct {
		Identified
		SinceSeconds int64            `query:"since_seconds" minimum:"86400" default:"3628800" doc:"how far back"`
		Fill         timeline.Filling `query:"fill" enum:"none,zero,previous,linear," doc:"what stands where nothing came"`
	}) (*body[inspect.SmoothingStudy], error) {
		return ok(s.Inspector.SmoothingBench(ctx, in.ID, s.Now().Add(-time.Duration(in.SinceSeconds)*time.Second), in.Fill))
	})
	add(api, "GET", "/series/{id}/forecast", "forecast", "What a series is expected to do in days to come", people.Reader, func(ctx context.Context, in *struct {
		Identified
		Days     int     `query:"days" minimum:"1" maximum:"2000" default:"30"`
		Coverage float64 `query:"coverage" minimum:"0.5" maximum:"0.99" default:"0.9" doc:"of the interval"`
		Limit    string  `query:"limit" doc:"a value whose crossing is asked about"`
	}) (*body[inspect.Forecast], error) {
		var limit *float64
		if in.Limit != "" {
			v, err := strconv.ParseFloat(in.Limit, 64)
			if err != nil {
				return nil, record.Invalid{Field: "limit", Given: in.Limit, Allowed: "a number"}
			}
			limit = &v
		}
		return ok(s.Inspector.Ahead(ctx, in.ID, in.Days, in.Coverage, limit))
	})
	add(api, "POST", "/alerts/{id}/new-normal", "new-normal", "Say that what a series shows since an alert began is its new normal", people.Editor, func(ctx context.Context, in *Identified) (*body[record.Alert], error) {
		return ok(s.Desk.NewNormal(ctx, in.ID, account(ctx).Name))
	})
}
