package httpapi

import (
	"context"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tinbell/core/timeline"
	"tinbell/internal/chart"
	"tinbell/internal/compare"
	"tinbell/internal/flat"
	"tinbell/internal/incident"
	"tinbell/internal/label"
	"tinbell/internal/people"
	"tinbell/internal/record"
	"tinbell/internal/scorecard"
	"tinbell/internal/store"
)

// Formatted says how records are to be written.
type Formatted struct {
	Format flat.Format `query:"format" enum:"csv,ndjson,parquet" default:"csv"`
}

func (f Formatted) format() flat.Format { return f.Format }

// formatted is a request that names a format.
type formatted interface{ format() flat.Format }

// addExport registers an operation that answers with records as a file: CSV, NDJSON or
// Parquet. It is written to the disk first, so that what fails is told as a failure and
// no file comes half.
func addExport[I formatted, T any](api huma.API, path, id, summary string, list func(ctx context.Context, in *I, put func(T) error) error) {
	content := map[string]*huma.MediaType{}
	for _, f := range []flat.Format{flat.CSV, flat.NDJSON, flat.Parquet} {
		content[f.Media()] = &huma.MediaType{Schema: &huma.Schema{Type: "string"}}
	}
	operation := huma.Operation{Method: "GET", Path: "/api/v1" + path, OperationID: id, Summary: summary,
		Metadata:  map[string]any{"role": people.Reader, "confined": true},
		Responses: map[string]*huma.Response{"200": {Description: "the file", Content: content}}}
	huma.Register(api, operation, func(ctx context.Context, in *I) (*huma.StreamResponse, error) {
		if limits := confinedTo(ctx); limits != nil {
			if err := limits.before(ctx, in, false); err != nil {
				return nil, problem(ctx, err)
			}
		}
		format := (*in).format()
		file, err := spooled(format, func(put func(T) error) error { return list(store.Reading(ctx), in, put) })
		if err != nil {
			return nil, problem(ctx, err)
		}
		return &huma.StreamResponse{Body: func(out huma.Context) {
			defer file.Close()
			out.SetHeader("Content-Type", format.Media())
			out.SetHeader("Content-Disposition", fmt.Sprintf("attachment; filename=%q", id+"."+string(format)))
			io.Copy(out.BodyWriter(), file)
		}}, nil
	})
}

// spooled writes records to a file that has no name any more, and rewinds it.
func spooled[T any](format flat.Format, list func(put func(T) error) error) (*os.File, error) {
	file, err := os.CreateTemp("", "tinbell-export-*")
	if err != nil {
		return nil, err
	}
	os.Remove(file.Name())
	w, err := flat.NewWriter[T](file, format)
	if err == nil {
		err = list(w.Put)
	}
	if err == nil {
		err = w.Close()
	}
	if err == nil {
		_, err = file.Seek(0, io.SeekStart)
	}
	if err != nil {
		file.Close()
		return nil, err
	}
	return file, nil
}

// all hands over a list that is whole.
func all[T any](list []T, err error, put func(T) error) error {
	for _, v := range list {
		if err != nil {
			return err
		}
		err = put(v)
	}
	return err
}

func (s *server) addExports(api huma.API) {
	type values struct {
		Named
		Formatted
		From    time.Time        `query:"from" doc:"start; 28 days ago if left out"`
		To      time.Time        `query:"to" doc:"end; now if left out"`
		Segment string           `query:"segment" doc:"of one segment alone"`
		Fill    timeline.Filling `query:"fill" enum:"none,zero,previous,linear," doc:"what stands where nothing came; such values are marked as filled"`
	}
	addExport(api, "/metrics/{name}/export", "export-values",
		"The values of a metric by segment and period, with the band, its verdicts and what was masked",
		func(ctx context.Context, in *values, put func(chart.SeriesValue) error) error {
			if in.To.IsZero() {
				in.To = s.Now()
			}
			if in.From.IsZero() {
				in.From = in.To.AddDate(0, 0, -28)
			}
			if !in.From.Before(in.To) {
				return record.Invalid{Field: "from", Given: in.From.Format(time.RFC3339), Allowed: "a time before the end, " +
					in.To.Format(time.RFC3339)}
			}
			return s.Charts.Values(ctx, in.Name, in.Segment, in.From, in.To, in.Fill, put)
		})
	type alerts struct {
		Formatted
		Dataset string    `query:"dataset"`
		Monitor string    `query:"monitor"`
		From    time.Time `query:"from" doc:"raised at or after"`
		To      time.Time `query:"to" doc:"raised before"`
	}
	addExport(api, "/alerts/export", "export-alerts", "All alerts with their verdicts, newest first, those held back too",
		func(ctx context.Context, in *alerts, put func(record.Alert) error) error {
			if err := s.there(ctx, in.Dataset, in.Monitor); err != nil {
				return err
			}
			f := store.AlertFilter{Dataset: in.Dataset, Monitor: in.Monitor, From: in.From, To: in.To, Limit: 1000}
			for {
				page, err := s.Store.Alerts(ctx, f)
				if err := all(page, err, put); err != nil || len(page) < f.Limit {
					return err
				}
				f.Cursor = page[len(page)-1].ID
			}
		})
	type span struct {
		Formatted
		From time.Time `query:"from" doc:"since judging began if left out"`
		To   time.Time `query:"to" doc:"now if left out"`
	}
	addExport(api, "/scorecard/export", "export-scorecard", "The figures of each monitor", func(ctx context.Context, in *span,
		put func(scorecard.Card) error) error {
		card, err := s.Scores.Score(ctx, in.From, in.To, "", "")
		return all(card.Monitors, err, put)
	})
	addExport(api, "/labels/export", "export-labels", "Every label, as it is imported", func(ctx context.Context, _ *Formatted,
		put func(label.Row) error) error {
		list, err := s.Labels.Rows(ctx)
		return all(list, err, put)
	})
	type incidents struct {
		Formatted
		Dataset string    `query:"dataset"`
		From    time.Time `query:"from"`
		To      time.Time `query:"to"`
	}
	addExport(api, "/incidents/export", "export-incidents", "The incident catalogue, as it is imported",
		func(ctx context.Context, in *incidents, put func(incident.Row) error) error {
			if err := s.there(ctx, in.Dataset, ""); err != nil {
				return err
			}
			list, err := s.Store.Incidents(ctx, in.Dataset, in.From, in.To)
			return all(incident.Rows(list), err, put)
		})
	type comparison struct {
		Named
		Formatted
	}
	addExport(api, "/drift/{name}/export", "export-drift", "Every figure of a comparison: period, feature, measure, value, limit",
		func(ctx context.Context, in *comparison, put func(compare.Figure) error) error {
			list, err := s.Comparer.Figures(ctx, in.Name)
			return all(list, err, put)
		})
}
