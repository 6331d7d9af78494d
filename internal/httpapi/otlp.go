package httpapi

import (
	"context"
	"errors"
	"mime"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	logscollector "go.opentelemetry.io/proto/otlp/collector/logs/v1"
	collector "go.opentelemetry.io/proto/otlp/collector/metrics/v1"
	"google.golang.org/protobuf/encoding/protojson"
	"google.golang.org/protobuf/proto"

	"tinbell/internal/collect/bound"
	"tinbell/internal/people"
)

// maxExport is the largest OTLP body that is taken; exporters send far less.
const maxExport = 8 << 20

// whole reads a body whole, of at most so many bytes when unpacked, and then waits
// for its turn to be made something of.
func (s *server) whole(ctx context.Context, in *pushInput, most int64) (body []byte, done func(), err error) {
	arrived, err := s.intake.enter(ctx)
	if err != nil {
		return nil, nil, err
	}
	defer arrived()
	reader, err := in.unzipped()
	if err != nil {
		return nil, nil, err
	}
	body, err = bound.All(reader, most)
	if large := (bound.TooLarge{}); errors.As(err, &large) {
		return nil, nil, huma.NewError(http.StatusRequestEntityTooLarge, "the body is too large: "+large.Error())
	}
	if err != nil {
		return nil, nil, huma.Error400BadRequest("the body cannot be read to its end: " + err.Error())
	}
	done, err = s.unpacked.enter(ctx)
	return body, done, err
}

type exported struct {
	ContentType string `header:"Content-Type"`
	Body        []byte
}

// addOTLP registers the paths of OTLP over HTTP.
func (s *server) addOTLP(api huma.API) {
	s.addExport(api, "metrics", func(ctx context.Context, body []byte, json bool) (proto.Message, error) {
		_, refused, err := s.Collector.Export(ctx, body, json)
		answer := &collector.ExportMetricsServiceResponse{}
		if len(refused) > 0 {
			answer.PartialSuccess = &collector.ExportMetricsPartialSuccess{RejectedDataPoints: int64(len(refused)),
				ErrorMessage: some(refused)}
		}
		return answer, err
	})
	s.addExport(api, "logs", func(ctx context.Context, body []byte, json bool) (proto.Message, error) {
		_, refused, err := s.Logs.Export(ctx, body, json)
		answer := &logscollector.ExportLogsServiceResponse{}
		if len(refused) > 0 {
			answer.PartialSuccess = &logscollector.ExportLogsPartialSuccess{RejectedLogRecords: int64(len(refused)),
				ErrorMessage: some(refused)}
		}
		return answer, err
	})
}

// some are the first of what was refused, each said once.
func some(refused []string) string {
	var list []string
	for _, r := range refused {
		if !slices.Contains(list, r) {
			if list = append(list, r); len(list) == 20 {
				break
			}
		}
	}
	return strings.Join(list, "; ")
}

// addExport registers the path of one signal.
func (s *server) addExport(api huma.API, signal string, take func(ctx context.Context, body []byte, json bool) (proto.Message, error)) {
	operation := huma.Operation{
		Method: "POST", Path: "/v1/" + signal, OperationID: "otlp-" + signal,
		Summary:      "OTLP " + signal + ", protobuf or JSON, gzip allowed",
		MaxBodyBytes: -1, SkipValidateBody: true, Metadata: map[string]any{"role": people.Editor},
		RequestBody: &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{
			"application/x-protobuf": {Schema: &huma.Schema{Type: "string", Format: "binary"}}}},
	}
	huma.Register(api, operation, func(ctx context.Context, in *pushInput) (*exported, error) {
		out, err := s.export(ctx, in, take)
		return out, problem(ctx, err)
	})
	alsoJSON(operation, &huma.Schema{Type: "object"})
}

func (s *server) export(ctx context.Context, in *pushInput, take func(ctx context.Context, body []byte, json bool) (proto.Message,
	error)) (*exported, error) {
	media, _, err := mime.ParseMediaType(in.Type)
	json := media == "application/json"
	if err != nil || !json && media != "application/x-protobuf" {
		return nil, huma.Error415UnsupportedMediaType("Content-Type " + in.Type +
			" is not taken: send application/x-protobuf or application/json")
	}
	body, done, err := s.whole(ctx, in, maxExport)
	if err != nil {
		return nil, err
	}
	defer done()
	answer, err := take(ctx, body, json)
	if err != nil {
		return nil, err
	}
	if json {
		encoded, err := protojson.Marshal(answer)
		return &exported{"application/json", encoded}, err
	}
	encoded, err := proto.Marshal(answer)
	return &exported{"application/x-protobuf", encoded}, err
}
