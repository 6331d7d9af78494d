package httpapi

import (
	"compress/gzip"
	"context"
	"errors"
	"io"
	"mime"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"tinbell/internal/collect"
	"tinbell/internal/people"
	"tinbell/internal/record"
)

// Streamed is a body that is read as a stream, never whole.
type Streamed struct {
	Type     string `header:"Content-Type"`
	Encoding string `header:"Content-Encoding"`
	body     io.Reader
}

func (p *Streamed) Resolve(ctx huma.Context) []error {
	p.body = ctx.BodyReader()
	return nil
}

type pushInput struct {
	Streamed
	Strict bool `query:"strict" doc:"store nothing if any line is bad"`
}

var _ huma.Resolver = (*pushInput)(nil)

// addSamples registers the push endpoint. Its body is declared in the contract
// by hand, because it is a stream of lines and not one JSON value.
func (s *server) addSamples(api huma.API) {
	lines := &huma.Schema{Type: "string", Description: "one sample a line"}
	operation := huma.Operation{
		Method: "POST", Path: "/api/v1/samples", OperationID: "push-samples",
		Summary:      "Push samples as NDJSON, JSON or CSV, gzip allowed; good lines are stored, bad ones named",
		MaxBodyBytes: -1, SkipValidateBody: true, Metadata: map[string]any{"role": people.Editor, "confined": true},
		RequestBody: &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{
			"application/x-ndjson": {Schema: lines}, "text/csv": {Schema: lines}}},
	}
	huma.Register(api, operation, func(ctx context.Context, in *pushInput) (*body[collect.Receipt], error) {
		receipt, err := s.push(ctx, in)
		if told := problem(ctx, err); told != nil && statusOf(told) == http.StatusUnprocessableEntity && len(receipt.Problems) > 0 {
			details := make([]error, len(receipt.Problems))
			for i, p := range receipt.Problems {
				details[i] = &huma.ErrorDetail{Location: "line", Value: p.Line, Message: p.Reason}
			}
			return nil, huma.Error422UnprocessableEntity(err.Error(), details...)
		}
		out, err := ok(receipt, err)
		return out, problem(ctx, err)
	})
	alsoJSON(operation, &huma.Schema{Type: "array", Items: &huma.Schema{Type: "object"}})
}

func statusOf(err error) int {
	var status huma.StatusError
	if errors.As(err, &status) {
		return status.GetStatus()
	}
	return 0
}

// alsoJSON declares that a stream may be JSON too. Said before registering, the
// body would be read whole.
func alsoJSON(operation huma.Operation, schema *huma.Schema) {
	operation.RequestBody.Content["application/json"] = &huma.MediaType{Schema: schema}
}

func (s *server) push(ctx context.Context, in *pushInput) (collect.Receipt, error) {
	media, _, err := mime.ParseMediaType(in.Type)
	format := map[string]string{"application/x-ndjson": "ndjson", "application/ndjson": "ndjson", "text/csv": "csv",
		"application/json": "json"}[media]
	if err != nil || format == "" {
		return collect.Receipt{}, huma.Error415UnsupportedMediaType("Content-Type " + in.Type +
			" is not taken: send application/x-ndjson, application/json or text/csv")
	}
	done, err := s.intake.enter(ctx)
	if err != nil {
		return collect.Receipt{}, err
	}
	defer done()
	reader, err := in.unzipped()
	if err != nil {
		return collect.Receipt{}, err
	}
	receipt, err := s.Collector.Push(ctx, reader, format, in.Strict, confinedTo(ctx).pushed(ctx))
	s.Vitals.Took(receipt.Accepted)
	return receipt, err
}

// unzipped is the body as it was before it was packed for the way.
func (p *Streamed) unzipped() (io.Reader, error) {
	switch p.Encoding {
	case "", "identity":
		return p.body, nil
	case "gzip":
		reader, err := gzip.NewReader(p.body)
		if err != nil {
			return nil, record.Invalid{Field: "body", Given: "gzip", Allowed: "it does not start as gzip: " + err.Error()}
		}
		return reader, nil
	}
	return nil, huma.Error415UnsupportedMediaType("Content-Encoding " + p.Encoding + " is not taken: send gzip, or nothing")
}
