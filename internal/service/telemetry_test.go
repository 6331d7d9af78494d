package service_test

import (
	"compress/gzip"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"

	metricspb "go.opentelemetry.io/proto/otlp/collector/metrics/v1"
	tracespb "go.opentelemetry.io/proto/otlp/collector/trace/v1"
	"google.golang.org/protobuf/proto"

	"tinbell/internal/collect"
	"tinbell/internal/dbtest"
	"tinbell/internal/service"
)

// gathering takes what a service sends of itself by OTLP.
type gathering struct {
	mu      sync.Mutex
	spans   []string
	figures map[string]float64
}

func (g *gathering) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body := io.Reader(r.Body)
	if r.Header.Get("Content-Encoding") == "gzip" {
		body, _ = gzip.NewReader(r.Body)
	}
	text, _ := io.ReadAll(body)
	g.mu.Lock()
	defer g.mu.Unlock()
	var traces tracespb.ExportTraceServiceRequest
	var metrics metricspb.ExportMetricsServiceRequest
	switch r.URL.Path {
	case "/v1/traces":
		proto.Unmarshal(text, &traces)
		for _, resource := range traces.ResourceSpans {
			for _, scope := range resource.ScopeSpans {
				for _, span := range scope.Spans {
					g.spans = append(g.spans, span.Name)
				}
			}
		}
	case "/v1/metrics":
		proto.Unmarshal(text, &metrics)
		for _, resource := range metrics.ResourceMetrics {
			for _, scope := range resource.ScopeMetrics {
				for _, m := range scope.Metrics {
					for _, p := range append(m.GetGauge().GetDataPoints(), m.GetSum().GetDataPoints()...) {
						g.figures[m.Name] = p.GetAsDouble()
					}
				}
			}
		}
	}
	w.Header().Set("Content-Type", "application/x-protobuf")
}

func TestTheServiceSendsItsOwnTracesAndFigures(t *testing.T) {
	t.Parallel()
	g := &gathering{figures: map[string]float64{}}
	receiver := httptest.NewServer(g)
	t.Cleanup(receiver.Close)
	s := dbtest.Start(t, now, func(o *service.Options) { o.Telemetry = receiver.URL })
	declared(t, s, collect.Declaration{Metric: "gates", Kind: "count", Period: "1h", Zone: "UTC"}, fixed(10)) // its fit is a job
	pushed(t, s, `{"metric":"gates","at":"2026-06-18T08:00:00Z","value":4}`)
	s.Settle(t)
	dbtest.Must(t, s.Admin.Get(t.Context(), "/metrics/gates", nil, nil))
	_, text := get(t, s.Address+"/livez")
	if text == "" {
		t.Error("nothing is answered")
	}
	s.Stop() // sends what is left
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, want := range []string{"GET /api/v1/metrics/{name}", "POST /api/v1/samples"} {
		if !slices.Contains(g.spans, want) {
			t.Errorf("no span %q among %s", want, strings.Join(g.spans, "; "))
		}
	}
	if !slices.ContainsFunc(g.spans, func(name string) bool { return strings.HasPrefix(name, "job ") }) {
		t.Errorf("no span of a job among %s", strings.Join(g.spans, "; "))
	}
	if g.figures["tinbell.samples_pushed"] != 1 || g.figures["tinbell.series"] != 1 || g.figures["tinbell.memory_bytes"] == 0 {
		t.Errorf("%v", g.figures)
	}
}

func TestAReceiverOfTracesThatIsAwayChangesNothing(t *testing.T) {
	t.Parallel()
	away := httptest.NewServer(http.NotFoundHandler())
	away.Close()
	s := dbtest.Start(t, now, func(o *service.Options) { o.Telemetry = away.URL })
	dbtest.Must(t, s.Admin.Get(t.Context(), "/alerts", nil, nil))
	if _, err := service.Start(t.Context(), service.Options{Dir: t.TempDir(), Database: s.Database, Listen: "127.0.0.1:0",
		SignIn: true, Log: dbtest.Log(t), Telemetry: "gather.example"}); err == nil || !strings.Contains(err.Error(), "http://") {
		t.Errorf("an address that is none: %v", err)
	}
}
