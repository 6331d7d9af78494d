// Package vitals reads how the service itself is: what waits, what fails, what it uses.
package vitals

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"runtime/metrics"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"tinbell/core/timeline"
	"tinbell/internal/collect"
	"tinbell/internal/store"
)

// Figure is one figure about the service.
type Figure struct {
	Name  string // as jobs_waiting
	Kind  string // gauge or counter
	Doc   string
	Unit  string
	Own   bool // whether it is watched as a series where the service watches itself
	Value float64
}

// Reader reads them.
type Reader struct {
	store     *store.Store
	collector *collect.Collector
	now       func() time.Time
	about     About
	classes   [6]atomic.Int64 // requests answered, by the first digit of their status
	nanos     atomic.Int64    // that they took
	works     works

	watching sync.Mutex
	watched  time.Time // the period of the last sample of own figures
}

// About is how the service was started.
type About struct {
	Dir    string // its data directory
	Public string // where people reach it; empty: where it listens
	SignIn bool
}

// New makes a reader.
func New(s *store.Store, c *collect.Collector, about About, now func() time.Time) *Reader {
	return &Reader{store: s, collector: c, about: about, now: now}
}

// Answered counts a request.
func (r *Reader) Answered(status int, took time.Duration) {
	r.classes[min(max(status/100, 0), 5)].Add(1)
	r.nanos.Add(int64(took))
}

// Figures reads all figures. Without the database those of this process are left.
func (r *Reader) Figures(ctx context.Context) ([]Figure, error) {
	list := append(r.process(), r.worked()...)
	v, err := r.store.Vitals(ctx, r.now())
	if err != nil {
		return list, err
	}
	gauge := func(name, unit, doc string, own bool, value float64) {
		list = append(list, Figure{name, "gauge", doc, unit, own, value})
	}
	gauge("jobs_waiting", "jobs", "jobs that are due and wait", true, v.JobsWaiting)
	gauge("oldest_job_seconds", "s", "how long the oldest of them has waited", true, v.OldestJob)
	gauge("jobs_given_up", "jobs", "jobs that were given up within the last hour", true, v.JobsGivenUp)
	gauge("messages_waiting", "messages", "messages that are not sent yet", true, v.MessagesWaiting)
	gauge("oldest_message_seconds", "s", "how long the oldest of them is overdue", true, v.OldestMessage)
	gauge("told_after_seconds", "s", "from a message's being due to its sending, on average over the last hour", true, v.ToldAfter)
	gauge("metrics_failed", "metrics", "metrics that could not be measured the last time", true, v.MetricsFailed)
	gauge("sources_failed", "sources", "sources that could not be read the last time", false, v.SourcesFailed)
	gauge("channels_failed", "channels", "channels that could not be reached the last time", false, v.ChannelsFailed)
	gauge("alerts_open", "alerts", "alerts that are open", false, v.AlertsOpen)
	gauge("series", "series", "series that are kept", false, v.Series)
	gauge("database_bytes", "bytes", "size of the database of records", true, v.Bytes)
	gauge("database_connections", "connections", "connections to that server, of all that use it", true, v.Connections)
	return list, nil
}

// process are the figures of this process.
func (r *Reader) process() (list []Figure) {
	for class := 2; class <= 5; class++ {
		list = append(list, Figure{fmt.Sprintf("requests_%dxx", class), "counter",
			fmt.Sprintf("requests answered with %dxx since the start", class), "requests", false, float64(r.classes[class].Load())})
	}
	list = append(list, Figure{"request_seconds", "counter", "time that requests took since the start", "s", false,
		time.Duration(r.nanos.Load()).Seconds()})
	sample := []metrics.Sample{{Name: "/memory/classes/total:bytes"}, {Name: "/sched/goroutines:goroutines"},
		{Name: "/cpu/classes/user:cpu-seconds"}}
	metrics.Read(sample)
	list = append(list,
		Figure{"memory_bytes", "gauge", "memory that this process holds", "bytes", true, float64(sample[0].Value.Uint64())},
		Figure{"goroutines", "gauge", "things that this process does at once", "goroutines", false, float64(sample[1].Value.Uint64())},
		Figure{"cpu_seconds", "counter", "processor time of this process since the start, estimated", "s", false,
			sample[2].Value.Float64()})
	if r.store != nil {
		pool := r.store.Pool.Stat()
		list = append(list,
			Figure{"pool_acquired", "gauge", "connections of this process in use", "connections", false, float64(pool.AcquiredConns())},
			Figure{"pool_connections", "gauge", "connections that this process may use", "connections", false, float64(pool.MaxConns())})
	}
	return list
}

// Text writes figures in the OpenMetrics text format, version 1.0.
func Text(w io.Writer, list []Figure) error {
	for _, f := range list {
		name, suffix := "tinbell_"+f.Name, ""
		if f.Kind == "counter" {
			suffix = "_total"
		}
		if _, err := fmt.Fprintf(w, "# TYPE %[1]s %[2]s\n# HELP %[1]s %[3]s.\n%[1]s%[4]s %[5]s\n", name, f.Kind, f.Doc, suffix,
			strconv.FormatFloat(f.Value, 'g', -1, 64)); err != nil {
			return err
		}
	}
	_, err := io.WriteString(w, "# EOF\n")
	return err
}

// Media is the media type of Text.
const Media = "application/openmetrics-text; version=1.0.0; charset=utf-8"

// Dataset is what the service's own figures are kept under.
const Dataset = "tinbell.service"

// Watch makes samples of the service's own figures: they are a dataset like any other, with
// bands, labels and a score.
func (r *Reader) Watch(ctx context.Context) error {
	list, err := r.Figures(ctx)
	if err != nil {
		return err
	}
	at := r.now().UTC().Truncate(period).Add(-period) // the period that is over: its figure is what is read first after it
	r.watching.Lock()
	defer r.watching.Unlock()
	if r.watched == at {
		return nil
	}
	var lines bytes.Buffer
	write := json.NewEncoder(&lines)
	for _, f := range list {
		if !f.Own {
			continue
		}
		metric, value := "tinbell-"+f.Name, f.Value
		declared := collect.Declaration{Metric: metric, Dataset: Dataset, Measure: "own_figure", Kind: timeline.Value,
			Unit: f.Unit, Period: "5m"}
		if err := errors.Join(write.Encode(collect.Line{Declare: &declared}),
			write.Encode(map[string]any{"metric": metric, "at": at, "value": value})); err != nil {
			return err
		}
	}
	receipt, err := r.collector.Push(ctx, &lines, "ndjson", false, nil)
	if err == nil && receipt.Refused > 0 {
		err = fmt.Errorf("own figures: %d were refused, the first: %s", receipt.Refused, receipt.Problems[0].Reason)
	}
	if err == nil {
		r.watched = at
	}
	return err
}

const period = 5 * time.Minute
