// Package otlp reads metrics and logs sent by the OpenTelemetry protocol, and makes the
// samples of whole periods from the points in them. It knows nothing of
// storage.
package otlp

import (
	"fmt"
	"hash/fnv"
	"maps"
	"math"
	"slices"
	"sort"
	"strings"
	"time"

	collector "go.opentelemetry.io/proto/otlp/collector/metrics/v1"
	common "go.opentelemetry.io/proto/otlp/common/v1"
	metrics "go.opentelemetry.io/proto/otlp/metrics/v1"
	"google.golang.org/protobuf/encoding/protojson"
	"google.golang.org/protobuf/proto"

	"tinbell/internal/record"
)

// Named is a point under its metric's name, with its attributes.
type Named struct {
	Metric     string
	Attributes map[string]string
	record.Point
}

// Decode reads an export request; JSON if asked for, else protobuf. Unknown
// fields are passed over, as the protocol wants.
func Decode(body []byte, json bool) (points []Named, refused []string, err error) {
	var request collector.ExportMetricsServiceRequest
	if err := checkSize(body, json, request.ProtoReflect().Descriptor()); err != nil {
		return nil, nil, err
	}
	if json {
		err = protojson.UnmarshalOptions{DiscardUnknown: true}.Unmarshal(body, &request)
	} else {
		err = proto.Unmarshal(body, &request)
	}
	if err != nil {
		return nil, nil, fmt.Errorf("not an OTLP metrics export: %w", err)
	}
	d := decoder{}
	defer func() {
		if len(d.points) > maxPoints {
			points, refused, err = nil, nil, fmt.Errorf("%d points: an export may have %d, send several", len(d.points), maxPoints)
		}
	}()
	for _, resource := range request.ResourceMetrics {
		d.base = attributes(nil, resource.GetResource().GetAttributes())
		for _, scope := range resource.ScopeMetrics {
			for _, m := range scope.Metrics {
				d.metric(m)
			}
		}
	}
	return d.points, d.refused, nil
}

type decoder struct {
	base    map[string]string
	points  []Named
	refused []string
}

func (d *decoder) metric(m *metrics.Metric) {
	switch data := m.Data.(type) {
	case *metrics.Metric_Gauge:
		d.numbers(m.Name, record.Gauge, data.Gauge.DataPoints)
	case *metrics.Metric_Sum:
		if shape, ok := d.shape(m.Name, data.Sum.AggregationTemporality, len(data.Sum.DataPoints)); ok {
			d.numbers(m.Name, shape, data.Sum.DataPoints)
		}
	case *metrics.Metric_Histogram:
		if shape, ok := d.shape(m.Name, data.Histogram.AggregationTemporality, len(data.Histogram.DataPoints)); ok {
			for _, p := range data.Histogram.DataPoints {
				d.summed(m.Name, shape, p.Attributes, p.TimeUnixNano, p.Flags, p.Sum, p.Count)
			}
		}
	case *metrics.Metric_ExponentialHistogram:
		if shape, ok := d.shape(m.Name, data.ExponentialHistogram.AggregationTemporality, len(data.ExponentialHistogram.DataPoints)); ok {
			for _, p := range data.ExponentialHistogram.DataPoints {
				d.summed(m.Name, shape, p.Attributes, p.TimeUnixNano, p.Flags, p.Sum, p.Count)
			}
		}
	case *metrics.Metric_Summary:
		d.refuse(m.Name, len(data.Summary.DataPoints), "summaries cannot be added up over a period; send a histogram")
	}
}

func (d *decoder) refuse(name string, n int, why string) {
	for range n {
		d.refused = append(d.refused, fmt.Sprintf("%s: %s", name, why))
	}
}

func (d *decoder) shape(name string, t metrics.AggregationTemporality, n int) (record.Shape, bool) {
	switch t {
	case metrics.AggregationTemporality_AGGREGATION_TEMPORALITY_DELTA:
		return record.Delta, true
	case metrics.AggregationTemporality_AGGREGATION_TEMPORALITY_CUMULATIVE:
		return record.Cumulative, true
	}
	d.refuse(name, n, "it does not say whether its sums are deltas or cumulative")
	return 0, false
}

func (d *decoder) numbers(name string, shape record.Shape, points []*metrics.NumberDataPoint) {
	for _, p := range points {
		value := p.GetAsDouble()
		if i, whole := p.Value.(*metrics.NumberDataPoint_AsInt); whole {
			value = float64(i.AsInt)
		}
		d.add(name, shape, p.Attributes, p.TimeUnixNano, p.Flags, value, math.NaN())
	}
}

func (d *decoder) summed(name string, shape record.Shape, attributes []*common.KeyValue, at uint64, flags uint32, sum *float64,
	count uint64) {
	if sum == nil {
		d.refuse(name, 1, "a histogram without its sum has no mean")
		return
	}
	d.add(name, shape, attributes, at, flags, *sum, float64(count))
}

func (d *decoder) add(name string, shape record.Shape, own []*common.KeyValue, at uint64, flags uint32, value, weight float64) {
	switch {
	case flags&uint32(metrics.DataPointFlags_DATA_POINT_FLAGS_NO_RECORDED_VALUE_MASK) != 0:
		return // the stream says that it has nothing to say
	case at == 0:
		d.refuse(name, 1, "a point without a time")
		return
	case math.IsNaN(value) || math.IsInf(value, 0):
		d.refuse(name, 1, fmt.Sprintf("%g is no finite number", value))
		return
	}
	all := attributes(d.base, own)
	d.points = append(d.points, Named{name, all, record.Point{At: time.Unix(0, int64(at)).UTC().Truncate(time.Microsecond),
		Stream: stream(name, all), Shape: shape, Value: value, Weight: weight}})
}

func attributes(base map[string]string, list []*common.KeyValue) map[string]string {
	all := maps.Clone(base)
	if all == nil {
		all = map[string]string{}
	}
	for _, kv := range list {
		all[kv.Key] = text(kv.Value)
	}
	return all
}

func text(v *common.AnyValue) string {
	switch v := v.GetValue().(type) {
	case *common.AnyValue_StringValue:
		return v.StringValue
	case *common.AnyValue_IntValue:
		return fmt.Sprint(v.IntValue)
	case *common.AnyValue_BoolValue:
		return fmt.Sprint(v.BoolValue)
	case *common.AnyValue_DoubleValue:
		return fmt.Sprint(v.DoubleValue)
	case nil:
		return ""
	}
	return v.String()
}

// stream numbers the emitter of a point: the same name and attributes give the
// same number.
func stream(name string, attributes map[string]string) int64 {
	h := fnv.New64a()
	h.Write([]byte(name))
	for _, key := range slices.Sorted(maps.Keys(attributes)) {
		fmt.Fprintf(h, "\x00%s\x01%s", key, attributes[key])
	}
	return int64(h.Sum64())
}

// Segment joins the values of the attributes that a metric is segmented by.
func (n Named) Segment(by []string) string {
	parts := make([]string, len(by))
	for i, key := range by {
		if parts[i] = n.Attributes[key]; parts[i] == "" {
			parts[i] = "(none)"
		}
	}
	return strings.Join(parts, " / ")
}

// Aggregate makes the sample of [from, to) from the points of a series: gauges
// are averaged, sums added up over streams, histograms give their mean with the
// number of values as rows (NaN where there are none to count). Points may come
// in any order and reach back before from: a cumulative stream's increase
// begins with its last point before. ok is false if nothing is known of the
// period.
func Aggregate(points []record.Point, from, to time.Time) (value, rows float64, ok bool) {
	byStream := map[int64][]record.Point{}
	for _, p := range points {
		byStream[p.Stream] = append(byStream[p.Stream], p)
	}
	var sum, weight, gauges float64
	weighted := false
	for _, id := range slices.Sorted(maps.Keys(byStream)) {
		list := byStream[id]
		sort.SliceStable(list, func(i, j int) bool { return list[i].At.Before(list[j].At) })
		for i, p := range list {
			// A sum belongs to the period in which it ended.
			in := p.At.After(from) && !p.At.After(to)
			if p.Shape == record.Gauge {
				in = !p.At.Before(from) && p.At.Before(to)
			}
			if !in {
				continue
			}
			v, w := p.Value, p.Weight
			if p.Shape == record.Cumulative {
				if i == 0 {
					continue // how much of it is new is not known
				}
				if before := list[i-1]; before.Value <= v && !(before.Weight > w) {
					v, w = v-before.Value, w-before.Weight
				} // else the stream began anew, and all of it is new
			}
			ok = true
			sum += v
			if p.Shape == record.Gauge {
				gauges++
			}
			if !math.IsNaN(w) {
				weight, weighted = weight+w, true
			}
		}
	}
	switch {
	case !ok:
		return 0, math.NaN(), false
	case weighted && weight == 0:
		return math.NaN(), 0, true
	case weighted:
		return sum / weight, weight, true
	case gauges > 0:
		return sum / gauges, math.NaN(), true
	}
	return sum, math.NaN(), true
}
