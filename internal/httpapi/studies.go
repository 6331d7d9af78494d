package httpapi

import (
	"cmp"
	"context"
	"math"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tinbell/core/outlier"
	"tinbell/core/timeline"
	"tinbell/internal/diagnose"
	"tinbell/internal/people"
	"tinbell/internal/record"
	"tinbell/internal/study"
)

// Identified picks a thing by its number.
type Identified struct {
	ID int64 `path:"id"`
}

// Spanned picks a week, month or year by a day in it.
type Spanned struct {
	By  string `query:"by" enum:"week,month,year" default:"week" doc:"weeks begin on Mondays"`
	Day string `query:"day" format:"date" doc:"a day of it; the newest one that is over if left out"`
}

func (s Spanned) day() (time.Time, error) {
	if s.Day == "" {
		return time.Time{}, nil
	}
	at, err := time.Parse(time.DateOnly, s.Day)
	if err != nil || at.Year() < 1970 || at.Year() > 9000 {
		return at, record.Invalid{Field: "day", Given: s.Day, Allowed: "a date as 2026-10-31"}
	}
	return at, nil
}

// OddFrom says from where on a value stands out.
type OddFrom struct {
	Z        float64 `query:"z" json:"z,omitempty" minimum:"0" doc:"standard deviations from the mean; 3 if left out"`
	Modified float64 `query:"modified" json:"modified,omitempty" minimum:"0" doc:"modified z; 3.5 if left out"`
	Fence    float64 `query:"fence" json:"fence,omitempty" minimum:"0" doc:"interquartile ranges beyond the quartiles; 1.5 if left out"`
	Low      string  `query:"low" json:"low,omitempty" doc:"lowest value allowed"`
	High     string  `query:"high" json:"high,omitempty" doc:"highest value allowed"`
}

func (f OddFrom) options() (outlier.Options, error) {
	o := outlier.Options{Z: f.Z, Modified: f.Modified, Fence: f.Fence}
	for _, bound := range []struct {
		name, text string
		into       **float64
	}{{"low", f.Low, &o.Low}, {"high", f.High, &o.High}} {
		if bound.text == "" {
			continue
		}
		v, err := strconv.ParseFloat(bound.text, 64)
		if err != nil {
			return o, record.Invalid{Field: bound.name, Given: bound.text, Allowed: "a number"}
		}
		*bound.into = &v
	}
	return o, nil
}

// Foretold is what is asked of days to come.
type Foretold struct {
	Days        int     `query:"days" minimum:"1" maximum:"2000" default:"30"`
	Coverage    float64 `query:"coverage" minimum:"0.5" maximum:"0.99" default:"0.9" doc:"of the interval"`
	Limit       string  `query:"limit" doc:"a value whose crossing is asked about"`
	Probability float64 `query:"probability" minimum:"0.01" maximum:"0.99" default:"0.8" doc:"with which the limit is to be reached"`
}

func (f Foretold) asked() (study.Ahead, error) {
	q := study.Ahead{Days: f.Days, Coverage: f.Coverage, Probability: f.Probability}
	if f.Limit != "" {
		v, err := strconv.ParseFloat(f.Limit, 64)
		if err != nil || math.IsNaN(v) || math.IsInf(v, 0) {
			return q, record.Invalid{Field: "limit", Given: f.Limit, Allowed: "a number"}
		}
		q.Limit = &v
	}
	return q, nil
}

// Outlook picks the series of a forecast.
type Outlook struct {
	Foretold
	Metrics []string `query:"metric,explode" required:"true" minItems:"1" doc:"by name; may come several times"`
	Segment string   `query:"segment" doc:"of one segment alone"`
	Whole   bool     `query:"whole" doc:"all segments of each metric together: counts alone"`
}

func (s *server) addStudies(api huma.API) {
	add(api, "GET", "/metrics/{name}/series", "series", "The series of a metric, one per segment", people.Reader,
		func(ctx context.Context, in *Named) (*body[[]record.Series], error) {
			m, err := s.Store.Metric(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			return ok(s.Store.SeriesOf(ctx, m.ID))
		})
	add(api, "GET", "/series/{id}/character", "character",
		"What a series is like, in words: when anything comes, its rhythms, its noise", people.Reader,
		func(ctx context.Context, in *Identified) (*body[study.CharacterStudy], error) {
			return ok(s.Studies.Character(ctx, in.ID))
		})
	add(api, "GET", "/series/{id}/suitability", "suitability",
		"Whether a series is predictable enough for a band, why, and what to use instead", people.Reader,
		func(ctx context.Context, in *Identified) (*body[study.SuitabilityStudy], error) {
			return ok(s.Studies.Suits(ctx, in.ID))
		})
	add(api, "GET", "/series/{id}/smoothing", "smoothing", "What a moving median or mean before detection would do to a series",
		people.Reader, func(ctx context.Context, in *struct {
			Identified
			SinceSeconds int64            `query:"since_seconds" minimum:"86400" default:"3628800" doc:"how far back"`
			Fill         timeline.Filling `query:"fill" enum:"none,zero,previous,linear," doc:"what stands where nothing came"`
		}) (*body[study.SmoothingStudy], error) {
			return ok(s.Studies.SmoothingBench(ctx, in.ID, s.Now().Add(-time.Duration(in.SinceSeconds)*time.Second), in.Fill))
		})
	add(api, "GET", "/series/{id}/trends", "trends",
		"Whether a series grows and whether its level changed, tested with what a day owes to the day before allowed for",
		people.Reader, func(ctx context.Context, in *struct {
			Identified
			SinceSeconds int64 `query:"since_seconds" minimum:"1728000" maximum:"788400000" doc:"how far back, 25 years at most; all of its history, its last 2,000 days or longer periods at most, if left out"`
			Draws        int   `query:"draws" minimum:"99" maximum:"9999" default:"999" doc:"series drawn by the bootstrap"`
		}) (*body[study.TrendStudy], error) {
			since := time.Time{}
			if in.SinceSeconds > 0 {
				since = s.Now().Add(-time.Duration(in.SinceSeconds) * time.Second)
			}
			return ok(s.Studies.Trends(ctx, in.ID, since, in.Draws))
		})
	add(api, "GET", "/metrics/{name}/outliers", "outliers",
		"Which samples of a metric stand out, by several rules side by side, segment by segment", people.Reader,
		func(ctx context.Context, in *struct {
			Named
			Segment string    `query:"segment" doc:"one alone; all if left out"`
			From    time.Time `query:"from" doc:"28 days ago if left out"`
			To      time.Time `query:"to" doc:"now if left out"`
			OddFrom
			Limit int `query:"limit" minimum:"1" maximum:"1000" default:"20" doc:"values listed of each segment"`
		}) (*body[[]study.OutlierStudy], error) {
			o, err := in.options()
			if err != nil {
				return nil, err
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
			return ok(s.Studies.Outliers(ctx, in.Name, in.Segment, in.From, in.To, o, in.Limit))
		})
	add(api, "POST", "/datasets/{name}/outliers", "table-outliers",
		"Which rows of a table stand out by a number column, and the SQL that finds them: its values are shown and not kept, and the audit trail says who looked", people.Editor, func(ctx context.Context, in *struct {
			Named
			Body struct {
				OddFrom
				Column string         `json:"column" doc:"with numbers"`
				Key    string         `json:"key,omitempty" doc:"judge the rows of each of its values by themselves"`
				Pairs  record.Strings `json:"pairs,omitempty" minItems:"2" maxItems:"2" doc:"two columns: which of their categories seldom meet, given how common each is"`
				Time   string         `json:"time_column,omitempty" doc:"with each row's time; that of the dataset's metrics if left out"`
				From   time.Time      `json:"from,omitzero" doc:"28 days ago if left out"`
				To     time.Time      `json:"to,omitzero" doc:"now if left out"`
				Limit  int            `json:"limit,omitempty" minimum:"1" maximum:"1000" doc:"rows listed of each key; 20 if left out"`
			}
		}) (*body[diagnose.TableOutliers], error) {
			o, err := in.Body.options()
			if err != nil {
				return nil, err
			}
			b := in.Body
			if b.To.IsZero() {
				b.To = s.Now()
			}
			if b.From.IsZero() {
				b.From = b.To.AddDate(0, 0, -28)
			}
			if !b.From.Before(b.To) {
				return nil, record.Invalid{Field: "to", Given: b.To.Format(time.RFC3339), Allowed: "a time after from"}
			}
			return ok(s.Diagnoser.Outliers(ctx, diagnose.InTable{Dataset: in.Name, Column: b.Column, Key: b.Key, Pairs: b.Pairs,
				Time: b.Time, From: b.From, To: b.To, Most: cmp.Or(b.Limit, 20), Options: o}, account(ctx).Name))
		})
	add(api, "GET", "/consistency", "consistency",
		"How a week, month or year of many series lies beside those before, each against what its own weekdays had, farthest outside first", people.Reader, func(ctx context.Context, in *struct {
			Spanned
			Dataset   string   `query:"dataset" doc:"of this dataset alone"`
			Owner     string   `query:"owner" doc:"of this team alone"`
			Tag       string   `query:"tag" doc:"with this tag alone, its dataset's counted"`
			Metrics   []string `query:"metric,explode" doc:"these alone, by name; may come several times"`
			Back      int      `query:"back" minimum:"2" maximum:"60" default:"8" doc:"spans before it that it is held against"`
			Tolerance float64  `query:"tolerance" minimum:"0" maximum:"10" default:"0.1" doc:"as a share, how far off is never outside"`
		}) (*body[study.Sheet], error) {
			day, err := in.day()
			if err != nil {
				return nil, err
			}
			return ok(s.Studies.Sheet(ctx, study.Asked{Dataset: in.Dataset, Owner: in.Owner, Tag: in.Tag, Metrics: in.Metrics,
				By: in.By, Day: day, Back: in.Back, Tolerance: in.Tolerance}))
		})
	add(api, "GET", "/series/{id}/earlier", "earlier",
		"A week, month or year of a series beside the same of earlier years and weeks, by weekday and holiday", people.Reader,
		func(ctx context.Context, in *struct {
			Identified
			Spanned
		}) (*body[study.EarlierStudy], error) {
			day, err := in.day()
			if err != nil {
				return nil, err
			}
			return ok(s.Studies.Earlier(ctx, in.ID, in.By, day))
		})
	add(api, "GET", "/series/{id}/forecast", "forecast", "What a series is expected to do in days to come", people.Reader,
		func(ctx context.Context, in *struct {
			Identified
			Foretold
		}) (*body[study.Forecast], error) {
			q, err := in.asked()
			if err != nil {
				return nil, err
			}
			return ok(s.Studies.Forecast(ctx, in.ID, q))
		})
	add(api, "GET", "/forecasts", "forecasts",
		"What the series of metrics are expected to do in days to come, one by one or all segments of each together",
		people.Reader, func(ctx context.Context, in *Outlook) (*body[[]study.Forecast], error) {
			q, err := in.asked()
			if err != nil {
				return nil, err
			}
			return ok(s.Studies.Outlook(ctx, in.Metrics, in.Segment, in.Whole, q))
		})
	addExport(api, "/forecasts/export", "export-forecasts",
		"The days that forecasts were made from and those to come, with intervals, totals and chances",
		func(ctx context.Context, in *struct {
			Outlook
			Formatted
		}, put func(study.ForecastDay) error) error {
			q, err := in.asked()
			if err != nil {
				return err
			}
			list, err := s.Studies.Outlook(ctx, in.Metrics, in.Segment, in.Whole, q)
			for i := range list {
				if err == nil {
					err = list[i].EachDay(put)
				}
			}
			return err
		})
	add(api, "POST", "/alerts/{id}/new-normal", "new-normal",
		"Say that what a series shows since an alert began is its new normal", people.Responder,
		func(ctx context.Context, in *Identified) (*body[record.Alert], error) {
			return ok(s.Labels.NewNormal(ctx, in.ID, account(ctx).Name))
		})
}
