package httpapi

import (
	"context"
	"io"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tinbell/core/detect"
	"tinbell/internal/flat"
	"tinbell/internal/people"
	"tinbell/internal/record"
)

// NewIncident is a fault that did happen.
type NewIncident struct {
	Reference string          `json:"reference,omitempty" doc:"a running one if left out"`
	Dataset   string          `json:"dataset"`
	Measure   string          `json:"measure,omitempty" doc:"any if left out"`
	Segment   string          `json:"segment,omitempty" doc:"any if left out"`
	StartedAt time.Time       `json:"started_at"`
	EndedAt   *time.Time      `json:"ended_at,omitempty" doc:"left out while it lasts"`
	Title     string          `json:"title"`
	Cause     string          `json:"cause,omitempty"`
	Severity  detect.Severity `json:"severity,omitempty" enum:"warning,critical"`
	Note      string          `json:"note,omitempty"`

	Impact     string `json:"impact,omitempty" doc:"what it did to whom"`
	Downstream bool   `json:"downstream,omitempty" doc:"what reads the dataset is hit too"`

	Also record.Strings `json:"also,omitempty" doc:"other datasets that it hit"`
}

func (v NewIncident) record() record.Incident {
	return record.Incident{Reference: v.Reference, Dataset: v.Dataset, Measure: v.Measure, Segment: v.Segment,
		StartedAt: v.StartedAt, EndedAt: v.EndedAt,
		Title: v.Title, Cause: v.Cause, Severity: v.Severity, Note: v.Note, Impact: v.Impact, Downstream: v.Downstream, Also: v.Also}
}

// IncidentOfAlerts makes an incident of alerts, which become labelled faults.
type IncidentOfAlerts struct {
	Alerts     []int64 `json:"alerts" minItems:"1" maxItems:"1000"`
	Title      string  `json:"title,omitempty" doc:"the first alert's sentence if left out"`
	Cause      string  `json:"cause,omitempty"`
	Impact     string  `json:"impact,omitempty"`
	Note       string  `json:"note,omitempty"`
	Downstream bool    `json:"downstream,omitempty"`
}

// Stream is a body read as it comes.
type Stream struct{ reader io.Reader }

func (b *Stream) Resolve(ctx huma.Context) []error {
	b.reader = ctx.BodyReader()
	return nil
}

var _ huma.Resolver = (*Stream)(nil)

// addFile registers an operation whose body is a file of a media type.
func addFile[I, O any](api huma.API, method, path, id, summary, media string, handle func(context.Context, *I) (*O, error)) {
	operation := huma.Operation{
		Method: method, Path: "/api/v1" + path, OperationID: id, Summary: summary,
		MaxBodyBytes: 32 << 20, SkipValidateBody: true, Metadata: map[string]any{"role": people.Editor},
		RequestBody: &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{media: {Schema: &huma.Schema{Type: "string"}}}},
	}
	huma.Register(api, operation, func(ctx context.Context, in *I) (*O, error) {
		out, err := handle(ctx, in)
		return out, problem(ctx, err)
	})
}

func (s *server) addIncidents(api huma.API) {
	type query struct {
		Dataset string    `query:"dataset"`
		From    time.Time `query:"from"`
		To      time.Time `query:"to"`
	}
	add(api, "GET", "/incidents", "incidents", "The incident catalogue, newest first", people.Reader,
		func(ctx context.Context, in *query) (*body[[]record.Incident], error) {
			if err := s.there(ctx, in.Dataset, ""); err != nil {
				return nil, err
			}
			return ok(s.Store.Incidents(ctx, in.Dataset, in.From, in.To))
		})
	add(api, "POST", "/incidents", "add-incident", "Add an incident by hand", people.Responder,
		func(ctx context.Context, in *body[NewIncident]) (*body[record.Incident], error) {
			v := in.Body.record()
			v.Author = account(ctx).Name
			return ok(s.Incidents.Add(ctx, v))
		})
	add(api, "PUT", "/incidents/{name}", "change-incident", "Replace what is said of an incident", people.Responder,
		func(ctx context.Context, in *struct {
			Named
			Body NewIncident
		}) (*body[record.Incident], error) {
			v := in.Body.record()
			v.Reference = in.Name
			return ok(s.Incidents.Change(ctx, v))
		})
	add(api, "POST", "/incidents/of-alerts", "incident-of-alerts", "Make an incident of alerts; they become labelled faults",
		people.Responder, func(ctx context.Context, in *body[IncidentOfAlerts]) (*body[record.Incident], error) {
			b := in.Body
			return ok(s.Labels.FromAlerts(ctx, b.Alerts, record.Incident{Title: b.Title, Cause: b.Cause, Impact: b.Impact, Note: b.Note,
				Downstream: b.Downstream, Author: account(ctx).Name}))
		})
	add(api, "POST", "/incidents/{name}/merge", "merge-incidents", "Make one incident of several", people.Responder,
		func(ctx context.Context, in *struct {
			Named
			Body struct {
				Others []string `json:"others" minItems:"1" doc:"references; they are gone afterwards"`
			}
		}) (*body[record.Incident], error) {
			return ok(s.Incidents.Merge(ctx, in.Name, in.Body.Others))
		})
	add(api, "POST", "/incidents/{name}/split", "split-incident", "End an incident at a time and make a second one of the rest",
		people.Responder, func(ctx context.Context, in *struct {
			Named
			Body struct {
				At time.Time `json:"at"`
			}
		}) (*body[[]record.Incident], error) {
			return ok(s.Incidents.Split(ctx, in.Name, in.Body.At))
		})
	add(api, "DELETE", "/incidents/{name}", "drop-incident", "Remove an incident", people.Responder,
		func(ctx context.Context, in *Named) (*struct{}, error) {
			return nil, s.Incidents.Drop(ctx, in.Name)
		})
	addFile(api, "POST", "/incidents/import", "import-incidents",
		"Import a catalogue as CSV, NDJSON or a JSON array; known references are replaced", "text/csv",
		func(ctx context.Context, in *Stream) (*body[flat.Import], error) {
			return ok(s.Incidents.Import(ctx, in.reader))
		})
}
