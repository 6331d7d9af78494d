// Package httpapi translates between HTTP and the packages that do the work. It
// decides nothing. The contract is OpenAPI 3.1, generated from this code;
// errors are problem details (RFC 9457).
package httpapi

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"reflect"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"tinbell/internal/calendar"
	"tinbell/internal/chart"
	"tinbell/internal/collect"
	"tinbell/internal/collect/warehouse"
	"tinbell/internal/compare"
	"tinbell/internal/config"
	"tinbell/internal/diagnose"
	"tinbell/internal/faults"
	"tinbell/internal/feed"
	"tinbell/internal/flat"
	"tinbell/internal/health"
	"tinbell/internal/httpapi/proxies"
	"tinbell/internal/incident"
	"tinbell/internal/label"
	"tinbell/internal/lessons"
	"tinbell/internal/lineage"
	"tinbell/internal/logs"
	"tinbell/internal/notify"
	"tinbell/internal/people"
	"tinbell/internal/reconcile"
	"tinbell/internal/replays"
	"tinbell/internal/scorecard"
	"tinbell/internal/setup"
	"tinbell/internal/sink"
	"tinbell/internal/store"
	"tinbell/internal/study"
	"tinbell/internal/vitals"
	"tinbell/internal/watch"
	"tinbell/internal/wire"
	"tinbell/internal/work"
)

// Parts are what the API gives access to.
type Parts struct {
	Store      *store.Store
	Pulse      *store.Pulse
	Queue      *work.Queue
	Warehouses *warehouse.Pools
	Collector  *collect.Collector
	Watcher    *watch.Watcher
	Comparer   *compare.Comparer
	Labels     *label.Desk
	Incidents  *incident.Desk
	Calendars  *calendar.Desk
	Setup      *setup.Desk
	Scores     *scorecard.Desk
	Lessons    *lessons.Desk
	Bench      *replays.Bench
	Charts     *chart.Reader
	Studies    *study.Reader
	Health     *health.Reader
	Lineage    *lineage.Reader
	Diagnoser  *diagnose.Diagnoser
	Reconciler *reconcile.Reconciler
	People     *people.Desk
	Config     *config.Keeper
	Faults     *faults.Desk
	Notifier   *notify.Notifier
	Feeds      *feed.Reader
	Logs       *logs.Keeper
	Mailbox    *sink.Mailbox // of the demo; nil where there is none
	Hub        *Hub
	Now        func() time.Time
	Log        *slog.Logger
	SignIn     bool
	Vitals     *vitals.Reader
	Public     string          // where people reach the service; empty: where it listens
	Secure     bool            // whether people reach it by HTTPS
	ReadOnly   string          // why it only shows what there is; empty: it does everything
	Works      bool            // whether this process works and answers nothing but how it is
	Ending     func() bool     // whether it takes in nothing more; nil: never
	Listens    string          // the host that it listens on
	Proxies    proxies.Trusted // whose word on who sends a request is taken
	Console    http.Handler
}

type server struct {
	Parts
	intake   turns // streams
	unpacked turns // bodies that are read whole
}

// New makes the handler for everything the service answers.
func New(p Parts) http.Handler {
	router := chi.NewRouter()
	s := &server{p, make(turns, intakeAtOnce), make(turns, unpackedAtOnce)}
	router.Use(s.Proxies.Sender, s.identified, s.counted, s.recovered, paceBodies,
		middleware.Compress(2, "application/json", "text/html", "text/css", "application/javascript", "text/javascript", "image/svg+xml"))
	router.Use(tags, s.guardHeaders, s.fromHere, s.shows, s.audited)
	router.Get("/livez", func(w http.ResponseWriter, _ *http.Request) { w.Write([]byte("ok\n")) })
	router.Get("/readyz", s.ready)
	router.Get("/metrics", s.metrics)
	if p.Works {
		router.Handle("/*", http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			writeProblem(w, http.StatusNotFound,
				"this process works and answers nobody (--role work): ask one that runs with --role web or all")
		}))
		return router
	}
	s.register(router)
	router.Get("/sign-in/provider", s.leave)
	router.Get("/sign-in/provider/back", s.comeBack)
	router.Get("/charts/{token}", s.chartPicture)
	router.Get("/answer/{token}", s.answerPage)
	router.Post("/answer/{token}", s.answered)
	router.Get("/answer/{token}/chart.png", s.answerPicture)
	router.Handle("/api/*", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		writeProblem(w, http.StatusNotFound, "no such address in the API: "+r.URL.Path+"; see /openapi.json")
	}))
	if p.Console != nil {
		router.Handle("/*", p.Console)
	}
	return router
}

// OpenAPI is the contract as JSON.
func OpenAPI() ([]byte, error) {
	api := (&server{}).register(chi.NewRouter())
	return api.OpenAPI().MarshalJSON()
}

// Lists are never null in answers (package wire writes them), nor in the contract.
func init() { huma.DefaultArrayNullable = false }

func (s *server) register(router chi.Router) huma.API {
	config := huma.DefaultConfig("Tin Bell", "1")
	config.Info.Description = "Monitors table and ingestion metrics, and scores its own alerts. Sign in with 'Authorization: Bearer TOKEN'."
	config.OpenAPIPath, config.DocsPath, config.SchemasPath = "/openapi", "", ""
	config.CreateHooks = nil
	lists := huma.Format{Marshal: wire.Write, Unmarshal: json.Unmarshal}
	config.Formats = map[string]huma.Format{"application/json": lists, "json": lists}
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{"token": {Type: "http", Scheme: "bearer"}}
	config.Security = []map[string][]string{{"token": {}}}
	api := humachi.New(router, config)
	api.UseMiddleware(s.signedIn(api), s.listed)
	s.addPeople(api)
	s.addSources(api)
	s.addDatasets(api)
	s.addMetrics(api)
	s.addTasks(api)
	s.addTags(api)
	s.addFinding(api)
	s.addConfig(api)
	s.addSamples(api)
	s.addOTLP(api)
	s.addLineage(api)
	s.addMonitors(api)
	s.addStudies(api)
	s.addPictures(api)
	s.addAlerts(api)
	s.addWhy(api)
	s.addLogs(api)
	s.addReconciliations(api)
	s.addGroups(api)
	s.addIncidents(api)
	s.addCalendars(api)
	s.addPromises(api)
	s.addChannels(api)
	s.addScores(api)
	s.addLearning(api)
	s.addDrift(api)
	s.addExports(api)
	s.addNotes(api)
	s.addEvents(api)
	s.addVitals(api)
	sayRoles(api.OpenAPI())
	return api
}

// sayRoles writes into the contract which role each operation needs.
func sayRoles(contract *huma.OpenAPI) {
	for _, path := range contract.Paths {
		for _, o := range []*huma.Operation{path.Get, path.Put, path.Post, path.Delete, path.Patch} {
			if o == nil {
				continue
			}
			if role, _ := o.Metadata["role"].(string); role != "" {
				o.Extensions = map[string]any{"x-role": role}
			}
		}
	}
}

// ready tells whether the database answers, without asking it: this has to be
// said also when everything else waits.
func (s *server) ready(w http.ResponseWriter, _ *http.Request) {
	if since, err := s.Pulse.Gone(); err != nil {
		writeProblem(w, http.StatusServiceUnavailable, "the database has not answered since "+since.UTC().Format(time.RFC3339))
		return
	}
	switch {
	case s.Ending != nil && s.Ending():
		writeProblem(w, http.StatusServiceUnavailable, "this process is ending: it finishes what it has and takes nothing more")
	case s.ReadOnly != "":
		fmt.Fprintln(w, "ready, to show what there is and no more:", s.ReadOnly)
	default:
		w.Write([]byte("ready\n"))
	}
}

// reading are what may be sent where the service only shows what there is.
var reading = map[string]bool{"/api/v1/session": true}

// shows refuses changes where the service only shows what there is.
func (s *server) shows(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if s.ReadOnly != "" && r.Method != http.MethodGet && r.Method != http.MethodHead && !reading[r.URL.Path] {
			writeProblem(w, http.StatusServiceUnavailable, "nothing can be changed: "+s.ReadOnly)
			return
		}
		next.ServeHTTP(w, r)
	})
}

func (s *server) guardHeaders(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "same-origin")
		if s.Secure {
			h.Set("Strict-Transport-Security", "max-age=31536000")
		}
		h.Set("Content-Security-Policy",
			"default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data: blob:; frame-ancestors 'none'")
		next.ServeHTTP(w, r)
	})
}

// mayBeOld are readings of the past that take long, and may come from a replica where there
// is one.
var mayBeOld = map[string]bool{"chart": true, "series": true, "earlier": true, "explain": true, "forecast": true,
	"forecasts": true, "smoothing": true, "suitability": true, "trends": true, "character": true,
	"outliers": true, "consistency": true, "scorecard": true, "dataset-runs": true, "dataset-deliveries": true,
	"drift-feature": true, "drift-pair": true, "drift-models": true, "compare-log": true, "losses": true}

// add registers one operation, with the role that it needs. What is
// listed can be narrowed, sorted and read page by page.
func add[I, O any](api huma.API, method, path, id, summary, role string, handle func(context.Context, *I) (*O, error)) {
	operation := huma.Operation{Method: method, Path: "/api/v1" + path, OperationID: id, Summary: summary,
		Metadata: map[string]any{"role": role, "confined": true}}
	given := reflect.TypeFor[I]()
	of := listOf(reflect.TypeFor[O]())
	if of != nil && method == http.MethodGet {
		operation.Metadata["list"], operation.Parameters = true, listParameters(of, given)
	}
	ofDatasets := method == http.MethodGet && (listsDatasets[id] || of != nil && flat.Has(of, "dataset"))
	huma.Register(api, operation, func(ctx context.Context, in *I) (*O, error) {
		limits := confinedTo(ctx)
		if limits != nil {
			if err := limits.before(ctx, in, ofDatasets); err != nil {
				return nil, problem(ctx, err)
			}
		}
		asked := ctx
		if method == http.MethodGet && mayBeOld[id] {
			asked = store.Reading(ctx)
		}
		out, err := handle(asked, in)
		if limits != nil && err == nil {
			err = limits.after(ctx, out)
		}
		if one := askedFor(ctx); one != nil && err == nil {
			err = one.cut(ctx, given, reflect.ValueOf(out).Elem().FieldByName("Body"))
		}
		return out, problem(ctx, err)
	})
}

// body wraps an answer.
type body[T any] struct{ Body T }

func ok[T any](v T, err error) (*body[T], error) {
	if err != nil {
		return nil, err
	}
	return &body[T]{v}, nil
}

// Named picks a thing by its name.
type Named struct {
	Name string `path:"name"`
}

type none struct{}
