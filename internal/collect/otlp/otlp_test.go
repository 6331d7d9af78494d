package otlp

import (
	"math"
	"reflect"
	"strings"
	"testing"
	"time"

	logscollector "go.opentelemetry.io/proto/otlp/collector/logs/v1"
	collector "go.opentelemetry.io/proto/otlp/collector/metrics/v1"
	"google.golang.org/protobuf/encoding/protojson"
	"google.golang.org/protobuf/proto"

	"tinbell/internal/record"
)

const export = `{"resourceMetrics":[{"resource":{"attributes":[{"key":"service.name","value":{"stringValue":"feeder"}}]},"scopeMetrics":[{"metrics":[
	{"name":"queue","gauge":{"dataPoints":[{"timeUnixNano":"1781780400000000000","asDouble":4.5,"attributes":[{"key":"port","value":{"stringValue":"Ansby"}}]}]}},
	{"name":"rows","sum":{"aggregationTemporality":1,"isMonotonic":true,"dataPoints":[{"timeUnixNano":"1781780400000000000","asInt":"12"}]}},
	{"name":"rows_total","sum":{"aggregationTemporality":2,"dataPoints":[{"timeUnixNano":"1781780400000000000","asInt":"900"}]}},
	{"name":"fare","histogram":{"aggregationTemporality":1,"dataPoints":[{"timeUnixNano":"1781780400000000000","count":"4","sum":50,"bucketCounts":["4"],"explicitBounds":[]},{"timeUnixNano":"1781780400000000000","count":"4"}]}},
	{"name":"odd","sum":{"dataPoints":[{"timeUnixNano":"1781780400000000000","asInt":"1"}]}},
	{"name":"old","summary":{"dataPoints":[{"timeUnixNano":"1781780400000000000","count":"4"}]}},
	{"name":"none","gauge":{"dataPoints":[{"timeUnixNano":"1781780400000000000","flags":1},{"asDouble":1},{"timeUnixNano":"1","asDouble":"NaN"}]}}
	]}]}],"somethingNew":true}`

func TestBothEncodingsSayTheSame(t *testing.T) {
	points, refused, err := Decode([]byte(export), true)
	if err != nil {
		t.Fatal(err)
	}
	if len(points) != 4 || points[0].Value != 4.5 || points[0].Segment([]string{"port", "gate"}) != "Ansby / (none)" ||
		points[0].Segment([]string{"service.name"}) != "feeder" {
		t.Errorf("points: %+v", points)
	}
	if points[1].Shape != record.Delta || points[2].Shape != record.Cumulative || points[3].Value != 50 ||
		points[3].Weight != 4 || !math.IsNaN(points[1].Weight) {
		t.Errorf("shapes: %+v", points[1:])
	}
	for i, want := range []string{"without its sum", "deltas or cumulative", "summaries", "without a time", "no finite number"} {
		if i >= len(refused) || !strings.Contains(refused[i], want) {
			t.Errorf("want %q told: %q", want, refused)
		}
	}
	var request collector.ExportMetricsServiceRequest
	if err := (protojson.UnmarshalOptions{DiscardUnknown: true}).Unmarshal([]byte(export), &request); err != nil {
		t.Fatal(err)
	}
	binary, err := proto.Marshal(&request)
	if err != nil {
		t.Fatal(err)
	}
	again, _, err := Decode(binary, false)
	if err != nil || len(again) != len(points) {
		t.Fatalf("%d points of %d by protobuf: %v", len(again), len(points), err)
	}
	for i := range again {
		if again[i].Stream != points[i].Stream || !again[i].At.Equal(points[i].At) || again[i].Value != points[i].Value {
			t.Errorf("point %d: %+v by protobuf, %+v by JSON", i, again[i], points[i])
		}
	}
	if _, _, err := Decode([]byte("not an export"), false); err == nil {
		t.Error("bytes that are no export were read")
	}
}

func TestPointsBecomeTheSampleOfTheirPeriod(t *testing.T) {
	from := time.Date(2026, 6, 18, 11, 0, 0, 0, time.UTC)
	at := func(minute int, stream int64, shape record.Shape, value, weight float64) record.Point {
		return record.Point{At: from.Add(time.Duration(minute) * time.Minute), Stream: stream, Shape: shape, Value: value, Weight: weight}
	}
	nan := math.NaN()
	for name, c := range map[string]struct {
		points      []record.Point
		value, rows float64
		ok          bool
	}{
		"nothing": {nil, 0, nan, false},
		"gauges are averaged": {[]record.Point{at(0, 1, record.Gauge, 4, nan), at(30, 2, record.Gauge, 8, nan),
			at(60, 1, record.Gauge, 99, nan)}, 6, nan, true},
		"deltas are added": {[]record.Point{at(0, 1, record.Delta, 50, nan), at(20, 1, record.Delta, 4, nan),
			at(60, 2, record.Delta, 5, nan)}, 9, nan, true},
		"increase of a total": {[]record.Point{at(40, 1, record.Cumulative, 130, nan), at(-5, 1, record.Cumulative, 100, nan),
			at(60, 1, record.Cumulative, 150, nan), at(65, 1, record.Cumulative, 160, nan)}, 50, nan, true},
		"a total begun anew": {[]record.Point{at(-5, 1, record.Cumulative, 100, nan), at(20, 1, record.Cumulative, 7, nan),
			at(40, 1, record.Cumulative, 9, nan)}, 9, nan, true},
		"a total without before": {[]record.Point{at(20, 1, record.Cumulative, 700, nan)}, 0, nan, false},
		"histograms give a mean": {[]record.Point{at(10, 1, record.Delta, 50, 4), at(20, 2, record.Delta, 10, 6)}, 6, 10, true},
		"of nothing":             {[]record.Point{at(10, 1, record.Delta, 0, 0)}, nan, 0, true},
		"cumulative histogram": {[]record.Point{at(-1, 1, record.Cumulative, 100, 10), at(10, 1, record.Cumulative, 130, 16)},
			5, 6, true},
	} {
		value, rows, ok := Aggregate(c.points, from, from.Add(time.Hour))
		if ok != c.ok || ok && (value != c.value && !(math.IsNaN(value) && math.IsNaN(c.value)) || rows != c.rows &&
			!(math.IsNaN(rows) && math.IsNaN(c.rows))) {
			t.Errorf("%s: %g of %g (%t), want %g of %g (%t)", name, value, rows, ok, c.value, c.rows, c.ok)
		}
	}
}

func FuzzDecode(f *testing.F) {
	f.Add([]byte(export), true)
	f.Add([]byte{10, 2, 18, 0}, false)
	f.Fuzz(func(t *testing.T, body []byte, json bool) {
		points, _, _ := Decode(body, json)
		for _, p := range points {
			if math.IsNaN(p.Value) || math.IsInf(p.Value, 0) {
				t.Errorf("%+v", p)
			}
		}
	})
}

func TestLogRecordsSayTheSameInBothEncodings(t *testing.T) {
	const export = `{"resourceLogs":[{"resource":{"attributes":[{"key":"service.name","value":{"stringValue":"feeder"}}]},"scopeLogs":[{"logRecords":[
		{"timeUnixNano":"1781780400000000000","severityNumber":17,"body":{"stringValue":"gone"}},
		{"observedTimeUnixNano":"1781780400000000000","severityText":"notice","severityNumber":10,"body":{"arrayValue":{"values":[{"intValue":"3"}]}}},
		{"severityNumber":99}]}]}]}`
	lines, err := DecodeLogs([]byte(export), true)
	if err != nil || len(lines) != 3 {
		t.Fatalf("%+v %v", lines, err)
	}
	if lines[0].Service != "feeder" || lines[0].Severity != "ERROR" || lines[0].Body != "gone" || lines[0].At.Unix() != 1781780400 {
		t.Errorf("first: %+v", lines[0])
	}
	if lines[1].Severity != "notice" || lines[1].At.IsZero() || !strings.Contains(lines[1].Body, "3") ||
		lines[2].Severity != "FATAL" || !lines[2].At.IsZero() {
		t.Errorf("others: %+v", lines[1:])
	}
	var request logscollector.ExportLogsServiceRequest
	if err := protojson.Unmarshal([]byte(export), &request); err != nil {
		t.Fatal(err)
	}
	binary, err := proto.Marshal(&request)
	if err != nil {
		t.Fatal(err)
	}
	again, err := DecodeLogs(binary, false)
	if err != nil || len(again) != 3 || !reflect.DeepEqual(again[0], lines[0]) || !reflect.DeepEqual(again[2], lines[2]) {
		t.Errorf("by protobuf: %+v %v", again, err)
	}
}
