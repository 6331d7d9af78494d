package httpapi

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"tinbell/internal/collect/bound"
	"tinbell/internal/lineage"
	"tinbell/internal/people"
	"tinbell/internal/record"
)

// What an OpenLineage body may hold.
const (
	maxEvent       = 16 << 20
	maxEventValues = 1_000_000
	maxEventDepth  = 64
)

// Heard says how many events were taken.
type Heard struct {
	Status int `json:"-"`
	Body   struct {
		Events int `json:"events"`
	}
}

// addLineage registers OpenLineage's path, and what is known from its events.
func (s *server) addLineage(api huma.API) {
	operation := huma.Operation{
		Method: "POST", Path: "/api/v1/lineage", OperationID: "openlineage",
		Summary:       "An OpenLineage event, or an array of them; gzip allowed",
		DefaultStatus: http.StatusCreated, MaxBodyBytes: -1, SkipValidateBody: true, Metadata: map[string]any{"role": people.Editor},
		RequestBody: &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{}},
	}
	huma.Register(api, operation, func(ctx context.Context, in *pushInput) (*Heard, error) {
		out, err := s.hear(ctx, in)
		return out, problem(ctx, err)
	})
	alsoJSON(operation, &huma.Schema{Type: "object"})
	add(api, "GET", "/jobs", "jobs", "Jobs with their last runs, and when the next is due", people.Reader,
		func(ctx context.Context, _ *none) (*body[[]lineage.JobHealth], error) {
			return ok(s.Lineage.Jobs(ctx))
		})
	add(api, "GET", "/jobs/{id}/runs", "job-runs", "The last runs of a job, newest first", people.Reader,
		func(ctx context.Context, in *struct {
			ID int64 `path:"id"`
		}) (*body[[]record.Run], error) {
			return ok(s.Store.Runs(ctx, in.ID, 200))
		})
	add(api, "GET", "/datasets/{name}/runs", "dataset-runs", "The last runs that wrote a dataset, newest first", people.Reader,
		func(ctx context.Context, in *Named) (*body[[]record.Run], error) {
			d, err := s.Store.Dataset(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			return ok(s.Store.RunsOf(ctx, d.Namespace, d.Name, 200))
		})
	add(api, "GET", "/datasets/{name}/lineage", "dataset-lineage", "What a dataset is made from, and what is made from it",
		people.Reader, func(ctx context.Context, in *Named) (*body[lineage.Lineage], error) {
			d, err := s.Store.Dataset(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			return ok(s.Lineage.Around(ctx, d))
		})
}

func (s *server) hear(ctx context.Context, in *pushInput) (*Heard, error) {
	whole, done, err := s.whole(ctx, in, maxEvent)
	if err != nil {
		return nil, err
	}
	defer done()
	switch values, depth := bound.Shape(whole); {
	case depth > maxEventDepth:
		return nil, record.Invalid{Field: "body", Given: fmt.Sprintf("nested %d deep", depth),
			Allowed: fmt.Sprintf("events nested at most %d deep", maxEventDepth)}
	case values > maxEventValues:
		return nil, record.Invalid{Field: "body", Given: fmt.Sprintf("%d values", values),
			Allowed: fmt.Sprintf("at most %d in one body: send several", maxEventValues)}
	}
	events := []json.RawMessage{whole}
	if trimmed := bytes.TrimSpace(whole); len(trimmed) > 0 && trimmed[0] == '[' {
		if err := json.Unmarshal(trimmed, &events); err != nil {
			return nil, record.Invalid{Field: "body", Given: "", Allowed: "an OpenLineage event or an array of them: " + err.Error()}
		}
	}
	if err := s.Collector.Hear(ctx, events); err != nil {
		return nil, err
	}
	heard := &Heard{Status: http.StatusCreated}
	heard.Body.Events = len(events)
	return heard, nil
}
