// Package telemetry sends what the service knows of itself to whoever gathers it: figures
// and traces, by OTLP over HTTP.
package telemetry

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"
	"go.opentelemetry.io/contrib/instrumentation/net/http/otelhttp"
	"go.opentelemetry.io/otel"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/exporters/otlp/otlpmetric/otlpmetrichttp"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace/otlptracehttp"
	"go.opentelemetry.io/otel/metric"
	sdkmetric "go.opentelemetry.io/otel/sdk/metric"
	"go.opentelemetry.io/otel/sdk/resource"
	sdktrace "go.opentelemetry.io/otel/sdk/trace"
	"go.opentelemetry.io/otel/trace"

	"tinbell/internal/vitals"
)

const (
	figuresEvery = 30 * time.Second // how often figures are sent
	sendWithin   = 10 * time.Second
)

// Sender sends traces and figures until it is stopped.
type Sender struct {
	traces  *sdktrace.TracerProvider
	figures *sdkmetric.MeterProvider
}

// Start begins to send to an address, as http://127.0.0.1:4318. A receiver that is not there
// costs nothing but what could not be sent: it is said in the log once a minute.
func Start(ctx context.Context, to string, read func(context.Context) ([]vitals.Figure, error), log *slog.Logger) (*Sender, error) {
	address, err := url.Parse(to)
	if err != nil || address.Scheme != "http" && address.Scheme != "https" || address.Host == "" {
		return nil, fmt.Errorf("%q is no address to send traces and figures to: write it as http://127.0.0.1:4318", to)
	}
	to = strings.TrimSuffix(to, "/")
	of := resource.NewSchemaless(attribute.String("service.name", "tinbell"))
	traceTo, err := otlptracehttp.New(ctx, otlptracehttp.WithEndpointURL(to+"/v1/traces"), otlptracehttp.WithTimeout(sendWithin))
	if err != nil {
		return nil, fmt.Errorf("send traces: %w", err)
	}
	figureTo, err := otlpmetrichttp.New(ctx, otlpmetrichttp.WithEndpointURL(to+"/v1/metrics"), otlpmetrichttp.WithTimeout(sendWithin))
	if err != nil {
		return nil, fmt.Errorf("send figures: %w", err)
	}
	s := &Sender{
		traces: sdktrace.NewTracerProvider(sdktrace.WithBatcher(traceTo), sdktrace.WithResource(of)),
		figures: sdkmetric.NewMeterProvider(sdkmetric.WithReader(sdkmetric.NewPeriodicReader(figureTo,
			sdkmetric.WithInterval(figuresEvery))), sdkmetric.WithResource(of)),
	}
	otel.SetTracerProvider(s.traces)
	otel.SetErrorHandler(seldom(log))
	return s, s.measure(read)
}

// seldom says what could not be sent, once a minute.
func seldom(log *slog.Logger) otel.ErrorHandler {
	var mu sync.Mutex
	var last time.Time
	return otel.ErrorHandlerFunc(func(err error) {
		mu.Lock()
		defer mu.Unlock()
		if now := time.Now(); now.Sub(last) > time.Minute {
			last = now
			log.Warn("own traces or figures could not be sent", "error", err)
		}
	})
}

// measure gives each figure an instrument when it is first read.
func (s *Sender) measure(read func(context.Context) ([]vitals.Figure, error)) error {
	meter := s.figures.Meter("tinbell")
	first, err := read(context.Background())
	if err != nil && len(first) == 0 {
		return err
	}
	gauges, counters := map[string]metric.Float64ObservableGauge{}, map[string]metric.Float64ObservableCounter{}
	var all []metric.Observable
	for _, f := range first {
		unit, doc := metric.WithUnit(unitOf(f.Unit)), metric.WithDescription(f.Doc)
		if f.Kind == "counter" {
			c, err := meter.Float64ObservableCounter("tinbell."+f.Name, unit, doc)
			if err != nil {
				return fmt.Errorf("own figure %s: %w", f.Name, err)
			}
			counters[f.Name], all = c, append(all, c)
			continue
		}
		g, err := meter.Float64ObservableGauge("tinbell."+f.Name, unit, doc)
		if err != nil {
			return fmt.Errorf("own figure %s: %w", f.Name, err)
		}
		gauges[f.Name], all = g, append(all, g)
	}
	_, err = meter.RegisterCallback(func(ctx context.Context, o metric.Observer) error {
		list, err := read(ctx)
		for _, f := range list {
			if c, there := counters[f.Name]; there {
				o.ObserveFloat64(c, f.Value)
			} else if g, there := gauges[f.Name]; there {
				o.ObserveFloat64(g, f.Value)
			}
		}
		return err
	}, all...)
	return err
}

// unitOf is a unit as UCUM has it: what is counted stands in braces.
func unitOf(unit string) string {
	switch unit {
	case "s":
		return unit
	case "bytes":
		return "By"
	}
	return "{" + unit + "}"
}

// Traced gives each request a span, called as its route is.
func (s *Sender) Traced(next http.Handler) http.Handler {
	named := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		routes := chi.NewRouteContext()
		routes.Routes, _ = next.(chi.Routes)
		r = r.WithContext(context.WithValue(r.Context(), chi.RouteCtxKey, routes))
		next.ServeHTTP(w, r)
		if route := routes.RoutePattern(); route != "" {
			trace.SpanFromContext(r.Context()).SetName(r.Method + " " + route)
		}
	})
	return otelhttp.NewHandler(named, "request", otelhttp.WithTracerProvider(s.traces),
		otelhttp.WithFilter(func(r *http.Request) bool {
			return !strings.HasSuffix(r.URL.Path, "/events") && r.URL.Path != "/livez" && r.URL.Path != "/readyz"
		}))
}

// Stop sends what is left.
func (s *Sender) Stop(ctx context.Context) error {
	return errors.Join(s.traces.Shutdown(ctx), s.figures.Shutdown(ctx))
}
