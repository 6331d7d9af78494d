package httpapi

import (
	"compress/gzip"
	"context"
	"io"
	"mime"

	"github.com/danielgtaylor/huma/v2"

	"tinbell/internal/collect"
	"tinbell/internal/people"
	"tinbell/internal/record"
)

// pushInput reads the body as a stream, never whole.
type pushInput struct {
	Strict   bool   `query:"strict" doc:"store nothing if any line is bad"`
	Type     string `header:"Content-Type"`
	Encoding string `header:"Content-Encoding"`
	body     io.Reader
}

func (p *pushInput) Resolve(ctx huma.Context) []error {
	p.body = ctx.BodyReader()
	return nil
}

var _ huma.Resolver = (*pushInput)(nil)

// addSamples registers the push endpoint. Its body is declared in the contract
// by hand, because it is a stream of lines and not one JSON value.
func (s *server) addSamples(api huma.API) {
	lines := &huma.Schema{Type: "string", Description: "one sample a line"}
	operation := huma.Operation{
		Method: "POST", Path: "/api/v1/samples", OperationID: "push-samples",
		Summary:      "Push samples as NDJSON or CSV, gzip allowed; good lines are stored, bad ones Named",
		MaxBodyBytes: -1, SkipValidateBody: true, Metadata: map[string]any{"role": people.Editor},
		RequestBody: &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{
			"application/x-ndjson": {Schema: lines}, "text/csv": {Schema: lines}}},
	}
	huma.Register(api, operation, func(ctx context.Context, in *pushInput) (*body[collect.Receipt], error) {
		receipt, err := s.push(ctx, in)
		if err != nil && len(receipt.Problems) > 0 {
			details := make([]error, len(receipt.Problems))
			for i, p := range receipt.Problems {
				details[i] = &huma.ErrorDetail{Location: "line", Value: p.Line, Message: p.Reason}
			}
			return nil, huma.Error422UnprocessableEntity(err.Error(), details...)
		}
		out, err := ok(receipt, err)
		return out, problem(err)
	})
}

func (s *server) push(ctx context.Context, in *pushInput) (collect.Receipt, error) {
	media, _, err := mime.ParseMediaType(in.Type)
	format := map[string]string{"application/x-ndjson": "ndjson", "application/ndjson": "ndjson", "text/csv": "csv"}[media]
	if err != nil || format == "" {
		return collect.Receipt{}, huma.Error415UnsupportedMediaType("Content-Type " + in.Type + " is not taken: send application/x-ndjson or text/csv")
	}
	reader := in.body
	switch in.Encoding {
	case "", "identity":
	case "gzip":
		unzipped, err := gzip.NewReader(reader)
		if err != nil {
			return collect.Receipt{}, record.Invalid{Field: "body", Given: "gzip", Allowed: "it does not start as gzip: " + err.Error()}
		}
		reader = unzipped
	default:
		return collect.Receipt{}, huma.Error415UnsupportedMediaType("Content-Encoding " + in.Encoding + " is not taken: send gzip, or nothing")
	}
	return s.Collector.Push(ctx, reader, format, in.Strict)
}
