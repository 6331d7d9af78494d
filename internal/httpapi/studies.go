package httpapi

import (
	"context"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tinbell/core/outlier"
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
	add(api, "GET", "/series/{id}/trends", "trends", "Whether a series grows and whether its level changed, tested with what a day owes to the day before allowed for", people.Reader, func(ctx context.Context, in *struct {
		Identified
		SinceSeconds int64 `query:"since_seconds" minimum:"1728000" maximum:"172800000" doc:"how far back; all of its history, 2,000 days at most, if left out"`
		Draws        int   `query:"draws" minimum:"99" maximum:"9999" default:"999" doc:"series drawn by the bootstrap"`
	}) (*body[inspect.TrendStudy], error) {
		since := time.Time{}
		if in.SinceSeconds > 0 {
			since = s.Now().Add(-time.Duration(in.SinceSeconds) * time.Second)
		}
		return ok(s.Inspector.Trends(ctx, in.ID, since, in.Draws))
	})
	add(api, "GET", "/metrics/{name}/outliers", "outliers", "Which samples of a metric stand out, by several rules side by side, segment by segment", people.Reader, func(ctx context.Context, in *struct {
		Named
		Segment  string    `query:"segment" doc:"one alone; all if left out"`
		From     time.Time `query:"from" doc:"28 days ago if left out"`
		To       time.Time `query:"to" doc:"now if left out"`
		Z        float64   `query:"z" minimum:"0" doc:"standard deviations from the mean; 3 if left out"`
		Modified float64   `query:"modified" minimum:"0" doc:"modified z; 3.5 if left out"`
		Fence    float64   `query:"fence" minimum:"0" doc:"interquartile ranges beyond the quartiles; 1.5 if left out"`
		Low      string    `query:"low" doc:"lowest value allowed"`
		High     string    `query:"high" doc:"highest value allowed"`
		Limit    int       `query:"limit" minimum:"1" maximum:"1000" default:"20" doc:"values listed of each segment"`
	}) (*body[[]inspect.OutlierStudy], error) {
		o := outlier.Options{Z: in.Z, Modified: in.Modified, Fence: in.Fence}
		for _, bound := range []struct {
			name, text string
			into       **float64
		}{{"low", in.Low, &o.Low}, {"high", in.High, &o.High}} {
			if bound.text == "" {
				continue
			}
			v, err := strconv.ParseFloat(bound.text, 64)
			if err != nil {
				return nil, record.Invalid{Field: bound.name, Given: bound.text, Allowed: "a number"}
			}
			*bound.into = &v
		}
		if in.To.IsZero() {
			in.To = s.Now()
		}
		if in.From.IsZero() {
			in.From = in.To.AddDate(0, 0, -28)
		}
		if !in.From.Before(in.To) {
			return nil, record.Invalid{Field: "to", Given: in.To.Format(time.RFC3339), Allowed: "a time after from"}
		}
		return ok(s.Inspector.Outliers(ctx, in.Name, in.Segment, in.From, in.To, o, in.Limit))
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
