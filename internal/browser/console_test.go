package browser_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"slices"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/timeline"
	"tinbell/internal/browser"
	"tinbell/internal/collect"
	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

func TestMain(m *testing.M) { dbtest.Main(m) }

// A crowd is what the console is to stay quick with.
const (
	manyDatasets = 1000
	manySegments = 10 // of each
)

var now = time.Date(2026, 6, 18, 12, 0, 0, 0, time.UTC)

// crowded starts a service with very many datasets and series, and one alert that is open.
func crowded(b *testing.B) (s *dbtest.Service, alert record.Alert) {
	s = dbtest.Start(b, now)
	rng := rand.New(rand.NewPCG(3, 3))
	fill := func(name, dataset string, days int, segments []string, broken time.Duration) {
		m, err := s.Parts.Collector.Declare(b.Context(), collect.Declaration{Metric: name, Dataset: dataset,
			Measure: record.MeasureRows, Kind: timeline.Count, Period: "1h"})
		dbtest.Must(b, err)
		ids, err := s.Parts.Store.EnsureSeries(b.Context(), m.ID, segments)
		dbtest.Must(b, err)
		var samples []record.Sample
		for _, id := range ids {
			for at := now.AddDate(0, 0, -days); at.Before(now); at = at.Add(time.Hour) {
				v := math.Round(max(100*(1.3+math.Sin(float64(at.Hour())/24*2*math.Pi))+9*rng.NormFloat64(), 0))
				if now.Sub(at) <= broken {
					v = math.Round(v / 5)
				}
				samples = append(samples, record.Sample{SeriesID: id, At: at, Value: &v})
			}
		}
		dbtest.Must(b, s.Parts.Store.InTx(b.Context(), func(tx pgx.Tx) error {
			_, err := store.PutSamples(b.Context(), tx, samples, store.RecentFrom(now))
			return err
		}))
		dbtest.Must(b, s.Parts.Health.Refresh(b.Context(), m.DatasetID))
	}
	var segments []string
	for k := range manySegments {
		segments = append(segments, fmt.Sprint("gate ", k))
	}
	for n := range manyDatasets {
		fill(fmt.Sprintf("crowd-%04d", n), fmt.Sprintf("crowd.table_%04d", n), 4, segments, 0)
	}
	fill("queue", "ops.queue", 60, []string{""}, 9*time.Hour)
	dbtest.Must(b, s.Admin.Send(b.Context(), "POST", "/monitors", httpapi.NewMonitor{Name: "queue", Metric: "queue"}, nil))
	for n := range manyDatasets {
		m, err := s.Parts.Store.Metric(b.Context(), fmt.Sprintf("crowd-%04d", n))
		dbtest.Must(b, err)
		_, err = s.Parts.Store.AddMonitor(b.Context(), record.Monitor{MetricID: m.ID, Name: m.Name, Paused: true,
			Settings: record.DefaultSettings()})
		dbtest.Must(b, err)
	}
	for idle := false; !idle; time.Sleep(time.Second) {
		var err error
		idle, err = s.Parts.Queue.Idle(b.Context())
		dbtest.Must(b, err)
	}
	var page httpapi.AlertPage
	dbtest.Must(b, s.Admin.Get(b.Context(), "/alerts", nil, &page))
	if len(page.Alerts) == 0 {
		b.Fatal("nothing is open")
	}
	return s, page.Alerts[0]
}

// watch is put into the page: shown(selector, path) goes to a place of the console and tells
// how long after the last answer from path there was something to see, in milliseconds.
const watch = `window.shown = (place, selector, path) => new Promise((done) => {
	performance.clearResourceTimings();
	const began = performance.now();
	const look = () => {
		if (!document.querySelector(selector)) return;
		watcher.disconnect();
		requestAnimationFrame(() => setTimeout(() => {
			const answers = performance.getEntriesByType('resource').filter((e) => e.name.includes(path) && e.startTime >= began);
			done(performance.now() - Math.max(began, ...answers.map((e) => e.responseEnd)));
		}));
	};
	const watcher = new MutationObserver(look);
	watcher.observe(document, { childList: true, subtree: true });
	history.pushState({}, '', place);
	dispatchEvent(new PopStateEvent('popstate', { state: {} }));
	look();
});
window.scrolled = (steps) => new Promise((done) => {
	let before = performance.now(), worst = 0;
	const step = (n) => requestAnimationFrame((t) => {
		worst = Math.max(worst, t - before);
		before = t;
		scrollBy(0, 400);
		if (n > 0) step(n - 1); else done(worst);
	});
	step(steps);
}); true`

// measured asks the page for a number that it promises.
func measured(b *testing.B, tab *browser.Tab, expression string) float64 {
	_, err := browser.Evaluate[bool](tab, "window.measured = undefined; "+expression+".then((v) => { window.measured = v }); true")
	dbtest.Must(b, err)
	dbtest.Must(b, tab.Await("window.measured !== undefined"))
	v, err := browser.Evaluate[float64](tab, "window.measured")
	dbtest.Must(b, err)
	return v
}

// Places of the console on 1,000 datasets with 10,000 series: how long after its data each
// shows something, and the longest pause while its list is scrolled. CONSOLE_PICTURES names a
// folder for pictures of them.
func BenchmarkConsole(b *testing.B) {
	s, alert := crowded(b)
	tab, err := browser.Open(b.Context(), 1280, 800, false)
	dbtest.Must(b, err)
	b.Cleanup(tab.Close)
	for _, place := range []struct{ name, at, shows, data string }{
		{"alert", fmt.Sprint("/alerts/", alert.ID), "svg[data-chart]", "/chart"},
		{"datasets", "/datasets", "tbody tr:nth-child(12)", "/datasets"},
		{"monitors", "/monitors", "tbody tr:nth-child(12)", "/monitors"},
		{"dataset", "/datasets/crowd.table_0500", "main h1", "/datasets/crowd.table_0500"},
		{"consistency", "/consistency", "tbody tr:nth-child(12)", "/consistency"},
		{"charts", fmt.Sprintf("/charts?series=%d&beside=week", alert.SeriesID), "svg[data-chart]", "/chart"},
		{"scorecard", "/scorecard", "tbody tr", "/scorecard"},
	} {
		b.Run(place.name, func(b *testing.B) {
			var shown, worst []float64
			for b.Loop() {
				dbtest.Must(b, tab.Go(s.Address+"/livez"))
				dbtest.Must(b, tab.Go(s.Address+"/sign-in#"+s.Token))
				dbtest.Must(b, tab.Await("location.pathname === '/' && document.querySelector('h1')?.innerText"))
				_, err := browser.Evaluate[bool](tab, watch)
				dbtest.Must(b, err)
				shown = append(shown, measured(b, tab, fmt.Sprintf("shown(%q, %q, %q)", place.at, place.shows, place.data)))
				worst = append(worst, measured(b, tab, "scrolled(60)"))
			}
			b.ReportMetric(middle(shown), "ms-after-data")
			b.ReportMetric(middle(worst), "ms-longest-pause")
			b.ReportMetric(0, "ns/op")
			if folder := os.Getenv("CONSOLE_PICTURES"); folder != "" {
				_, err := browser.Evaluate[bool](tab, "scrollTo(0, 0); true")
				dbtest.Must(b, err)
				dbtest.Must(b, tab.Picture(folder+"/"+place.name+".png"))
			}
		})
	}
}

func middle(list []float64) float64 {
	slices.Sort(list)
	return list[len(list)/2]
}
