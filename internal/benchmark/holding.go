package benchmark

import (
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"net/http"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"tinbell/core/timeline"
	"tinbell/internal/client"
	"tinbell/internal/collect"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/service"
)

// holdSpeed measures what accidents cost: many new segments at once, the first
// sample of a new one, a burst of writes, and bodies that unpack to far more than
// they are.
func holdSpeed(ctx context.Context) ([]Result, error) {
	s, stop, err := start(ctx)
	if err != nil {
		return nil, err
	}
	defer stop()
	c := client.New(s.Address, "")
	for _, d := range []collect.Declaration{
		{Metric: "many", Dataset: "bench.many", Measure: "rows", Kind: timeline.Count, Period: "1h", MaxSegments: newSegments},
		{Metric: "first", Dataset: "bench.first", Measure: "rows", Kind: timeline.Count, Period: "1h"},
	} {
		if err := c.Send(ctx, "POST", "/metrics/declare", d, nil); err != nil {
			return nil, err
		}
	}
	var results []Result
	for _, measure := range []func(context.Context, *service.Service, *client.Client) (Result, error){segmentsAtOnce, firstJudged,
		burstOfWrites, bombs} {
		r, err := measure(ctx, s, c)
		if err != nil {
			return results, err
		}
		results = append(results, r)
	}
	return results, nil
}

const newSegments = 10_000

func segmentsAtOnce(ctx context.Context, _ *service.Service, c *client.Client) (Result, error) {
	at := time.Now().UTC().Truncate(time.Hour).Add(-2 * time.Hour).Format(time.RFC3339)
	push := func() (time.Duration, error) {
		var b strings.Builder
		for i := range newSegments {
			fmt.Fprintf(&b, `{"metric":"many","segment":"s%d","at":%q,"value":%d}`+"\n", i, at, i)
		}
		began := time.Now()
		err := c.Stream(ctx, "POST", "/samples", "application/x-ndjson", strings.NewReader(b.String()), nil)
		return time.Since(began), err
	}
	fresh, err := push()
	if err != nil {
		return Result{}, err
	}
	again, err := push()
	return Result{fmt.Sprintf("one push of %d segments never seen before", newSegments), fmt.Sprintf("%.2f s", fresh.Seconds()),
		fmt.Sprintf("the same again %.2f s", again.Seconds())}, err
}

// firstJudged is how long after its acknowledgement the first sample of a new
// segment rings, under bounds.
func firstJudged(ctx context.Context, s *service.Service, c *client.Client) (Result, error) {
	low := 10.0
	settings := record.DefaultSettings()
	settings.Method, settings.Low, settings.Spikes = "fixed", &low, true
	if err := c.Send(ctx, "POST", "/monitors", httpapi.NewMonitor{Name: "first", Metric: "first", Settings: &settings}, nil); err != nil {
		return Result{}, err
	}
	at := time.Now().UTC().Truncate(time.Hour).Add(-time.Hour).Format(time.RFC3339)
	var longest time.Duration
	for i := range 20 {
		line := fmt.Sprintf(`{"metric":"first","segment":"s%d","at":%q,"value":1}`, i, at)
		if err := c.Stream(ctx, "POST", "/samples", "application/x-ndjson", strings.NewReader(line), nil); err != nil {
			return Result{}, err
		}
		began := time.Now()
		for n := 0; n <= i; {
			if err := s.Parts.Store.DB.GetContext(ctx, &n, `select count(*) from alert`); err != nil {
				return Result{}, err
			}
			if time.Since(began) > time.Minute {
				return Result{}, fmt.Errorf("the first sample of a segment is not judged within a minute")
			}
			time.Sleep(5 * time.Millisecond)
		}
		longest = max(longest, time.Since(began))
	}
	return Result{"the first sample of a new segment until it rings, longest of 20", fmt.Sprintf("%.2f s", longest.Seconds()), ""}, nil
}

// burstOfWrites sets sixty channels at once, as a script does.
func burstOfWrites(ctx context.Context, s *service.Service, c *client.Client) (Result, error) {
	const writes = 60
	var wait sync.WaitGroup
	var failed atomic.Int64
	var slowest atomic.Int64
	over := make(chan struct{})
	asked := make(chan struct{})
	go func() {
		defer close(asked)
		for {
			began := time.Now()
			if answer, err := http.Get(s.Address + "/readyz"); err != nil || answer.StatusCode != http.StatusOK {
				failed.Add(1)
			} else {
				answer.Body.Close()
			}
			slowest.Store(max(slowest.Load(), int64(time.Since(began))))
			select {
			case <-over:
				return
			case <-time.After(10 * time.Millisecond):
			}
		}
	}()
	began := time.Now()
	for i := range writes {
		wait.Go(func() {
			if c.Send(ctx, "POST", "/channels", httpapi.NewChannel{Name: fmt.Sprint("c", i), Kind: record.ChannelEmail,
				Settings: record.ChannelSettings{Host: "localhost", From: "bell@ferries.example",
					To: []string{"desk@ferries.example"}}}, nil) != nil {
				failed.Add(1)
			}
		})
	}
	wait.Wait()
	took := time.Since(began)
	close(over)
	<-asked
	return Result{fmt.Sprintf("%d channels set at once", writes), fmt.Sprintf("%.2f s, %d failed", took.Seconds(), failed.Load()),
		fmt.Sprintf("/readyz meanwhile within %s", time.Duration(slowest.Load()).Round(time.Millisecond))}, nil
}

// bombs sends six bodies side by side that unpack to far more than they are.
func bombs(ctx context.Context, s *service.Service, _ *client.Client) (Result, error) {
	body := func(prefix, again string, mb int) []byte {
		var b bytes.Buffer
		z := gzip.NewWriter(&b)
		io.WriteString(z, prefix)
		block := strings.Repeat(again, 1<<20/len(again))
		for range mb {
			io.WriteString(z, block)
		}
		z.Close()
		return b.Bytes()
	}
	list := []struct {
		path, media string
		body        []byte
	}{
		{"/v1/metrics", "application/x-protobuf", body("", "\x0a\x00", 64)}, {"/v1/metrics", "application/json",
			body(`{"resourceMetrics":[`, "{},", 64)},
		{"/api/v1/samples", "text/csv", body("metric,at,value\n\"", "x", 900)}, {"/api/v1/samples", "application/json",
			body(`[{"metric":"`, "x", 900)},
		{"/api/v1/samples", "application/x-ndjson", body("", "[", 64)}, {"/api/v1/lineage", "application/json",
			body(`{"outputs":[`, `{"a":{}},`, 14)},
	}
	runtime.GC()
	peak, measured := watchMemory()
	var wait sync.WaitGroup
	var taken atomic.Int64
	for _, one := range list {
		wait.Go(func() {
			r, err := http.NewRequestWithContext(ctx, "POST", s.Address+one.path, bytes.NewReader(one.body))
			if err != nil {
				return
			}
			r.Header.Set("Content-Type", one.media)
			r.Header.Set("Content-Encoding", "gzip")
			if answer, err := http.DefaultClient.Do(r); err == nil {
				answer.Body.Close()
				if answer.StatusCode < 400 || answer.StatusCode >= 500 {
					taken.Add(1)
				}
			}
		})
	}
	wait.Wait()
	measured()
	return Result{"six bombs side by side: OTLP, CSV, JSON, NDJSON, OpenLineage",
		fmt.Sprintf("%d MB at most, %d not refused", *peak>>20, taken.Load()), "unpacked 2,000 MB"}, nil
}
