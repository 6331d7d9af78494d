package demo

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"time"

	"github.com/parquet-go/parquet-go"

	"tinbell/internal/client"
)

// Load is the rows of a table that arrive together.
type Load struct {
	Table *Table
	At    time.Time
	Rows  [][]any
}

// Loads gives the loads of a table in (after, until], ascending, of rows whose
// events lie at from or later.
func (w *World) Loads(t *Table, from, after, until time.Time) []Load {
	at := map[int64]int{}
	var loads []Load
	for hour := from.Truncate(time.Hour); hour.Before(until); hour = hour.Add(time.Hour) {
		for _, r := range w.Rows(t, hour) {
			if !r.Loaded.After(after) || r.Loaded.After(until) {
				continue
			}
			i, there := at[r.Loaded.UnixNano()]
			if !there {
				i = len(loads)
				at[r.Loaded.UnixNano()], loads = i, append(loads, Load{Table: t, At: r.Loaded})
			}
			loads[i].Rows = append(loads[i].Rows, r.Values)
		}
	}
	sort.Slice(loads, func(i, j int) bool { return loads[i].At.Before(loads[j].At) })
	return loads
}

// upstream are the datasets that each table is made from.
var upstream = map[string][]string{
	"ops.boarding_scans": {"raw.gate_events"}, "ops.ticket_sales": {"raw.web_orders"}, "ops.refunds": {"ops.ticket_sales"},
	"ml.noshow_features": {"ops.ticket_sales", "ops.boarding_scans"}, "ops.parcel_manifests": {"landing.parcels"},
	"mart.daily_load_factor": {"ops.boarding_scans"}, "mart.daily_revenue": {"ops.ticket_sales", "ops.refunds"},
}

// Emitter tells the service what happens outside the warehouse, over the open
// protocols: runs of the loaders, files of the parcel partners, and the gates'
// own figures.
type Emitter struct {
	Client *client.Client
	Folder string // where partners' files land
	World  *World
	said   map[int64]time.Time // up to when the lines about a breakage are written
}

// namespace of everything the ferry line runs.
const namespace = "vellamar"

// Runs sends two OpenLineage events for each load.
func (e *Emitter) Runs(ctx context.Context, loads []Load) error {
	const atOnce = 1000
	var events []any
	send := func() error {
		if len(events) == 0 {
			return nil
		}
		body, err := json.Marshal(events)
		if err != nil {
			return err
		}
		events = nil
		return e.Client.Stream(ctx, "POST", "/lineage", "application/json", bytes.NewReader(body), nil)
	}
	for _, l := range loads {
		if events = append(events, e.event(l, "START"), e.event(l, "COMPLETE")); len(events) >= atOnce {
			if err := send(); err != nil {
				return err
			}
		}
	}
	return send()
}

func (e *Emitter) event(l Load, kind string) map[string]any {
	id := e.World.hash(l.Table.Name+" run", l.At.UnixNano())
	at := l.At
	if kind == "START" {
		at = at.Add(-time.Duration(2000+15*len(l.Rows)+int(id%1500)) * time.Millisecond)
	}
	output := map[string]any{"namespace": namespace, "name": l.Table.Name}
	if kind == "COMPLETE" {
		output["outputFacets"] = map[string]any{"outputStatistics": map[string]any{"rowCount": len(l.Rows), "size": len(l.Rows) * 60}}
		output["facets"] = map[string]any{"schema": map[string]any{"fields": fields(l.Table)}}
	}
	inputs := []any{}
	for _, name := range upstream[l.Table.Name] {
		inputs = append(inputs, map[string]any{"namespace": namespace, "name": name})
	}
	return map[string]any{
		"eventType": kind, "eventTime": at.UTC().Format(time.RFC3339Nano), "producer": "https://vellamar.example/feeder",
		"schemaURL": "https://openlineage.io/spec/2-0-2/OpenLineage.json#/$defs/RunEvent",
		"run":       map[string]any{"runId": fmt.Sprintf("%08x-%04x-7000-8000-%012x", uint32(id>>32), uint16(id>>16), id&0xffffffffffff)},
		"job":       map[string]any{"namespace": namespace, "name": "load " + l.Table.Name},
		"inputs":    inputs, "outputs": []any{output},
	}
}

func fields(t *Table) []map[string]string {
	list := []map[string]string{{"name": "id", "type": "bigint"}}
	for _, column := range strings.Split(t.DDL, ", ") {
		name, kind, _ := strings.Cut(column, " ")
		list = append(list, map[string]string{"name": name, "type": kind})
	}
	return list
}

// parcel is a line of a partner's file.
type parcel struct {
	Partner string  `json:"partner" parquet:"partner"`
	Parcels int     `json:"parcels" parquet:"parcels"`
	Weight  float64 `json:"weight_kg" parquet:"weight_kg"`
}

// endings are how the five partners send.
var endings = []string{".csv", ".csv.gz", ".ndjson", ".parquet", ".ndjson.gz"}

// Land writes the files of parcel loads, as each partner does, complete and
// dated as they came.
func (e *Emitter) Land(loads []Load) error {
	for _, l := range loads {
		if l.Table.Name != "ops.parcel_manifests" || len(l.Rows) == 0 {
			continue
		}
		var lines []parcel
		for _, row := range l.Rows {
			lines = append(lines, parcel{row[1].(string), row[2].(int), math.Round(float64(row[3].(float32))*10) / 10})
		}
		ending := endings[0]
		for i, p := range partners {
			if p == lines[0].Partner {
				ending = endings[i]
			}
		}
		// A file is dropped shortly before the loader comes for it.
		at := l.At.Add(-90 * time.Second)
		full := filepath.Join(e.Folder, "parcels", lines[0].Partner, at.In(e.World.Zone).Format("2006-01-02")+ending)
		if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
			return err
		}
		content, err := encode(lines, ending)
		if err != nil {
			return err
		}
		if err := os.WriteFile(full+".part", content, 0o644); err != nil {
			return err
		}
		if err := os.Chtimes(full+".part", at, at); err != nil {
			return err
		}
		if err := os.Rename(full+".part", full); err != nil {
			return err
		}
	}
	return nil
}

func encode(lines []parcel, ending string) ([]byte, error) {
	var b bytes.Buffer
	switch strings.TrimSuffix(ending, ".gz") {
	case ".csv":
		out := csv.NewWriter(&b)
		out.Write([]string{"partner", "parcels", "weight_kg"})
		for _, l := range lines {
			out.Write([]string{l.Partner, fmt.Sprint(l.Parcels), fmt.Sprint(l.Weight)})
		}
		out.Flush()
	case ".ndjson":
		out := json.NewEncoder(&b)
		for _, l := range lines {
			if err := out.Encode(l); err != nil {
				return nil, err
			}
		}
	case ".parquet":
		if err := parquet.Write(&b, lines); err != nil {
			return nil, err
		}
	}
	if !strings.HasSuffix(ending, ".gz") {
		return b.Bytes(), nil
	}
	return packed(b.Bytes())
}

func packed(text []byte) ([]byte, error) {
	var zipped bytes.Buffer
	z := gzip.NewWriter(&zipped)
	if _, err := z.Write(text); err != nil {
		return nil, err
	}
	err := z.Close()
	return zipped.Bytes(), err
}

// queue is how many people stand at a port's gates, and wait how many seconds
// each of so many waited.
func (w *World) queue(port int, at time.Time) (queue, wait float64, people int) {
	rate := w.rate("ops.boarding_scans", port, at.Truncate(time.Hour))
	noise := math.Exp(0.15 * w.normal(ports[port]+" queue", at.Unix()/60))
	queue = math.Max(0.4+rate/9*noise, 0)
	return queue, 20 + 3.1*queue, int(math.Round(rate/6*noise)) + 1
}

// Gates pushes what the gates themselves report, by OTLP: the queue as a gauge
// and the waits of the last ten seconds as a histogram.
func (e *Emitter) Gates(ctx context.Context, now time.Time) error {
	var queues, waits []any
	for i, port := range ports {
		queue, wait, people := e.World.queue(i, now)
		rng := rand.New(rand.NewPCG(e.World.hash(port, now.Unix()), 3))
		people = max(people/360, 1+rng.IntN(2))
		stamp := fmt.Sprint(now.UnixNano())
		attributes := []any{map[string]any{"key": "port", "value": map[string]any{"stringValue": port}}}
		queues = append(queues, map[string]any{"timeUnixNano": stamp, "asDouble": math.Round(10*queue) / 10, "attributes": attributes})
		waits = append(waits, map[string]any{"timeUnixNano": stamp, "count": fmt.Sprint(people),
			"sum": math.Round(10*wait*float64(people)) / 10, "attributes": attributes})
	}
	body, err := json.Marshal(map[string]any{"resourceMetrics": []any{map[string]any{"scopeMetrics": []any{map[string]any{"metrics": []any{
		map[string]any{"name": "gate.queue", "unit": "{person}", "gauge": map[string]any{"dataPoints": queues}},
		map[string]any{"name": "gate.wait", "unit": "s", "histogram": map[string]any{"aggregationTemporality": 1, "dataPoints": waits}},
	}}}}}})
	if err != nil {
		return err
	}
	return e.Client.Export(ctx, bytes.NewReader(body))
}

// gatePeriod is the period of the gates' metrics.
const gatePeriod = 15 * time.Minute

// GateLog sends the gates' own log of [from, until) as NDJSON samples: their past,
// and what nobody listened to.
func (e *Emitter) GateLog(ctx context.Context, from, until time.Time) error {
	log := e.World.gateLog(from, until)
	return e.Client.Stream(ctx, "POST", "/samples", "application/x-ndjson", bytes.NewReader(log), nil)
}

func (w *World) gateLog(from, until time.Time) []byte {
	var b bytes.Buffer
	for at := from.Truncate(gatePeriod).Add(gatePeriod); !at.Add(gatePeriod).After(until); at = at.Add(gatePeriod) {
		for i, port := range ports {
			queue, wait, people := w.queue(i, at)
			fmt.Fprintf(&b, "{\"metric\":\"gate-queue\",\"segment\":%q,\"at\":%q,\"value\":%.1f}\n", port, stamp(at), queue)
			fmt.Fprintf(&b, "{\"metric\":\"gate-wait\",\"segment\":%q,\"at\":%q,\"value\":%.1f,\"rows\":%d}\n", port, stamp(at),
				wait, people)
		}
	}
	return b.Bytes()
}
