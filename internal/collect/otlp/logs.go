package otlp

import (
	"fmt"
	"strings"
	"time"

	collector "go.opentelemetry.io/proto/otlp/collector/logs/v1"
	common "go.opentelemetry.io/proto/otlp/common/v1"
	"google.golang.org/protobuf/encoding/protojson"
	"google.golang.org/protobuf/proto"
)

// Line is a log record.
type Line struct {
	Service  string    // service.name of its resource
	At       time.Time // zero: it says none
	Severity string    // as its emitter calls it, or by its number; empty: it says none
	Body     string

	Attributes map[string]string // of the record, and of its resource
}

// maxLines is how many log records an export may hold.
const maxLines = 50_000

// DecodeLogs reads a logs export request; JSON if asked for, else protobuf.
func DecodeLogs(body []byte, json bool) ([]Line, error) {
	var request collector.ExportLogsServiceRequest
	if err := checkSize(body, json, request.ProtoReflect().Descriptor()); err != nil {
		return nil, err
	}
	var err error
	if json {
		err = protojson.UnmarshalOptions{DiscardUnknown: true}.Unmarshal(body, &request)
	} else {
		err = proto.Unmarshal(body, &request)
	}
	if err != nil {
		return nil, fmt.Errorf("not an OTLP logs export: %w", err)
	}
	var lines []Line
	for _, resource := range request.ResourceLogs {
		about := attributes(nil, resource.GetResource().GetAttributes())
		for _, scope := range resource.ScopeLogs {
			for _, r := range scope.LogRecords {
				l := Line{Service: about["service.name"], Attributes: attributes(about, r.Attributes), Severity: r.SeverityText,
					Body: said(r.Body)}
				if at := max(r.TimeUnixNano, 0); at > 0 {
					l.At = time.Unix(0, int64(at)).UTC()
				} else if r.ObservedTimeUnixNano > 0 {
					l.At = time.Unix(0, int64(r.ObservedTimeUnixNano)).UTC()
				}
				if l.Severity == "" {
					l.Severity = severities[min(max(int(r.SeverityNumber)+3, 0)/4, len(severities)-1)]
				}
				if lines = append(lines, l); len(lines) > maxLines {
					return nil, fmt.Errorf("more than %d log records: send several exports", maxLines)
				}
			}
		}
	}
	return lines, nil
}

// severities are those of the data model by their numbers: four for each, from 1.
var severities = []string{"", "TRACE", "DEBUG", "INFO", "WARN", "ERROR", "FATAL"}

// said is what a body says: its text, or what it holds as JSON.
func said(v *common.AnyValue) string {
	switch v.GetValue().(type) {
	case *common.AnyValue_KvlistValue, *common.AnyValue_ArrayValue:
		if encoded, err := protojson.Marshal(v); err == nil {
			return strings.Join(strings.Fields(string(encoded)), " ")
		}
	}
	return text(v)
}
