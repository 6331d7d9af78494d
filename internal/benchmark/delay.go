package benchmark

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/timeline"
	"tinbell/internal/client"
	"tinbell/internal/collect"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/service"
	"tinbell/internal/store"
	"tinbell/internal/watch"
)

// How many series the delay is measured with, and how many of them alert at
// once: one of each dataset, so that each is told by itself.
const (
	delayDatasets = 100
	delaySegments = 100
	delayDays     = 22
)

// Delays are the times from sending samples to the arrival of each message about
// them.
type Delays struct {
	Series   int       `json:"series"`
	Alerting int       `json:"alerting"`
	Messages int       `json:"messages"`
	P50      float64   `json:"p50_seconds"`
	P99      float64   `json:"p99_seconds"`
	Stored   float64   `json:"stored_seconds" doc:"until the samples were acknowledged"`
	Each     []float64 `json:"each_seconds"`
}

// Delay measures the way from a sample to its message: many series of many
// datasets get their next samples in one request, and one in a hundred of them
// is wrong. A webhook on loopback takes the messages; the route waits for
// nothing.
func Delay(ctx context.Context, say func(string)) (Delays, error) {
	v := Delays{Series: delayDatasets * delaySegments, Alerting: delayDatasets}
	arrived := &arrivals{at: map[string]time.Time{}}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return v, err
	}
	receiver := &http.Server{Handler: arrived}
	go receiver.Serve(l)
	defer receiver.Close()
	s, stop, err := start(ctx, func(o *service.Options) { o.AllowPrivate = []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")} })
	if err != nil {
		return v, err
	}
	defer stop()
	c := client.New(s.Address, "")
	if err := c.Send(ctx, "POST", "/channels", httpapi.NewChannel{Name: "bench", Kind: record.ChannelWebhook,
		Settings: record.ChannelSettings{URL: "http://" + l.Addr().String() + "/"}, HourlyLimit: 3600}, nil); err != nil {
		return v, err
	}
	wait := int64(0)
	if err := c.Send(ctx, "POST", "/routes", httpapi.NewRoute{Name: "bench", Channel: "bench", WaitSeconds: &wait}, nil); err != nil {
		return v, err
	}
	say(fmt.Sprintf("filling %d series with %d days", v.Series, delayDays))
	until := time.Now().UTC().Truncate(time.Hour).Add(-2 * time.Hour)
	if err := populate(ctx, s, until); err != nil {
		return v, err
	}
	say("fitting their baselines")
	monitors, err := s.Parts.Store.Monitors(ctx)
	if err != nil {
		return v, err
	}
	for _, m := range monitors {
		if _, err := s.Parts.Watcher.Learn(ctx, watch.Order{Monitor: m.ID, History: false}, func(int, int) {}); err != nil {
			return v, err
		}
	}
	say("sending the next hour, with one in a hundred far too high")
	began := time.Now()
	if err := c.Stream(ctx, "POST", "/samples", "application/x-ndjson", next(until), nil); err != nil {
		return v, err
	}
	v.Stored = time.Since(began).Seconds()
	for deadline := time.Now().Add(2 * time.Minute); arrived.count() < delayDatasets && time.Now().Before(deadline); {
		select {
		case <-ctx.Done():
			return v, ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
	// What comes later than that is not waited for, and counts as missing.
	for _, at := range arrived.times() {
		v.Each = append(v.Each, at.Sub(began).Seconds())
	}
	slices.Sort(v.Each)
	if v.Messages = len(v.Each); v.Messages == 0 {
		return v, fmt.Errorf("no message arrived within two minutes")
	}
	v.P50, v.P99 = v.Each[(v.Messages-1)/2], v.Each[int(math.Ceil(0.99*float64(v.Messages)))-1]
	return v, nil
}

// arrivals takes webhooks and notes when each came first.
type arrivals struct {
	mu sync.Mutex
	at map[string]time.Time
}

func (a *arrivals) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if id := r.Header.Get("webhook-id"); a.at[id].IsZero() {
		a.at[id] = time.Now()
	}
	w.WriteHeader(http.StatusNoContent)
}

func (a *arrivals) count() int {
	a.mu.Lock()
	defer a.mu.Unlock()
	return len(a.at)
}

func (a *arrivals) times() (list []time.Time) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, at := range a.at {
		list = append(list, at)
	}
	return list
}

func delayMean(at time.Time, n int) float64 {
	return 120 * (1.1 + math.Sin(2*math.Pi*float64(at.Hour()+n)/24))
}

func delaySegment(n int) string { return fmt.Sprintf("s%02d", n) }

// populate makes the datasets with their past and monitors.
func populate(ctx context.Context, s *service.Service, until time.Time) error {
	rng := rand.New(rand.NewPCG(6, 6))
	for n := range delayDatasets {
		m, err := s.Parts.Collector.Declare(ctx, collect.Declaration{Metric: fmt.Sprintf("delay-%03d", n),
			Dataset: fmt.Sprintf("bench.table_%03d", n), Measure: record.MeasureRows,
			Kind: timeline.Count, Period: "1h", SegmentBy: []string{"part"}})
		if err != nil {
			return err
		}
		names := make([]string, delaySegments)
		for k := range names {
			names[k] = delaySegment(k)
		}
		ids, err := s.Parts.Store.EnsureSeries(ctx, m.ID, names)
		if err != nil {
			return err
		}
		var samples []record.Sample
		for _, name := range names {
			for at := until.AddDate(0, 0, -delayDays); at.Before(until); at = at.Add(time.Hour) {
				mu := delayMean(at, n)
				value := math.Round(max(mu+math.Sqrt(mu)*rng.NormFloat64(), 1))
				samples = append(samples, record.Sample{SeriesID: ids[name], At: at, Value: &value})
			}
		}
		if err := s.Parts.Store.InTx(ctx, func(tx pgx.Tx) error {
			_, err := store.PutSamples(ctx, tx, samples, store.RecentFrom(until))
			return err
		}); err != nil {
			return err
		}
		settings := record.DefaultSettings()
		settings.Spikes = true // one hour alone may alarm
		if _, err := s.Parts.Store.AddMonitor(ctx, record.Monitor{MetricID: m.ID, Name: m.Name, Settings: settings}); err != nil {
			return err
		}
	}
	return nil
}

// next are the samples of the hour that the past ends with: in each dataset one
// segment sends four times as much as ever.
func next(at time.Time) *bytes.Buffer {
	rng := rand.New(rand.NewPCG(7, 7))
	var b bytes.Buffer
	lines := json.NewEncoder(&b)
	for n := range delayDatasets {
		for k := range delaySegments {
			mu := delayMean(at, n)
			value := math.Round(max(mu+math.Sqrt(mu)*rng.NormFloat64(), 1))
			if k == n%delaySegments {
				value = 10*value + 200
			}
			lines.Encode(map[string]any{"metric": fmt.Sprintf("delay-%03d", n), "segment": delaySegment(k), "at": at, "value": value})
		}
	}
	return &b
}
