package main

import (
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"tinbell/internal/browser"
	"tinbell/internal/chart"
	"tinbell/internal/dbtest"
	"tinbell/internal/health"
	"tinbell/internal/httpapi"
	"tinbell/internal/lineage"
	"tinbell/internal/record"
)

// setUpInConsole adds the demo's own warehouse under another name, by its
// owner's address, and measures a table that nobody measures yet.
func setUpInConsole(t *testing.T, p *program) {
	p.t = t
	address, err := os.ReadFile(filepath.Join(p.dir, "warehouse"))
	dbtest.Must(t, err)
	tab := signIn(t, p, false)
	dbtest.Must(t, tab.Go(p.client().Server+"/setup"))
	dbtest.Must(t, tab.Await("document.body.innerText.includes('Add a source')"))
	act := func(script string) {
		t.Helper()
		done, err := browser.Evaluate[bool](tab, "(() => { "+script+" })()")
		dbtest.Must(t, err)
		if !done {
			t.Fatalf("could not: %s", script)
		}
	}
	fill := func(label, text string) {
		t.Helper()
		dbtest.Must(t, tab.Fill(label, text))
	}
	click := func(text, within string) {
		t.Helper()
		what := fmt.Sprintf(`[...document.querySelectorAll('button, label')].find((b) => b.innerText.startsWith(%q) &&
			(%q === '' || b.closest('tr')?.innerText.includes(%q)))`, text, within, within)
		dbtest.Must(t, tab.Await("!!"+what))
		act("const b = " + what + "; b?.click(); return !!b;")
	}
	fill("Name", "ferry house")
	fill("Address", strings.Replace(string(address), "@", "x@", 1))
	click("Try it", "")
	dbtest.Must(t, tab.Await("document.body.innerText.includes('password authentication failed')"))
	fill("Address", string(address))
	click("Try it", "")
	dbtest.Must(t, tab.Await("document.body.innerText.includes('It answers.')"))
	click("Add source", "")
	dbtest.Must(t, tab.Await("document.body.innerText.includes('Tables of ferry house') && document.body.innerText.includes('demo.breakage')"))
	click("measure", "demo.breakage")
	dbtest.Must(t, tab.Await("document.body.innerText.includes('What to measure') && document.body.innerText.includes('is new here')"))
	click("different kind", "")
	click("Measure 2 metrics", "")
	dbtest.Must(t, tab.Await("document.querySelector('[data-first-chart] svg')"))
	dbtest.Must(t, tab.Await(`document.querySelector('pre')?.innerText.includes('from "demo"."breakage"')`))
	// Monitors are proposed for what is measured, one budget for all; what they would have told stands there.
	click("3 months", "")
	click("Add 2 monitors", "")
	dbtest.Must(t, tab.Await("document.querySelectorAll('[data-told]').length === 2 && document.body.innerText.includes('would have told')"))
	var watched []record.Monitor
	dbtest.Must(t, p.client().Get(t.Context(), "/monitors", nil, &watched))
	watched = slices.DeleteFunc(watched, func(m record.Monitor) bool { return m.Dataset != "demo.breakage" })
	if len(watched) != 2 || watched[0].Settings.WarnSeconds != 2*91*86400 {
		t.Errorf("accepted as proposed: %+v", watched)
	}
	var page health.Page
	dbtest.Must(t, p.client().Get(t.Context(), "/datasets/demo.breakage", nil, &page))
	if len(page.Metrics) != 2 || page.Dataset.Source != "ferry house" {
		t.Errorf("measured: %+v", page.Metrics)
	}
	metric := page.Metrics[0].Name
	click("change", metric)
	dbtest.Must(t, tab.Await("[...document.querySelectorAll('label')].some((l) => l.innerText.startsWith('Reads back'))"))
	fill("Reads back", "two hours")
	dbtest.Must(t, tab.Await("document.body.innerText.includes('Write durations as')"))
	fill("Reads back", "2h")
	click("Save", "")
	dbtest.Must(t, tab.Await("![...document.querySelectorAll('label')].some((l) => l.innerText.startsWith('Reads back'))"))
	var changed record.Metric
	dbtest.Must(t, p.client().Get(t.Context(), "/metrics/"+metric, nil, &changed))
	if changed.LookbackSeconds != 7200 {
		t.Errorf("changed in the console: %+v", changed)
	}
	click("remove", metric)
	dbtest.Must(t, tab.Await("document.querySelector('[role=alertdialog]')"))
	click("Remove it", "")
	dbtest.Must(t, tab.Await(fmt.Sprintf("![...document.querySelectorAll('td')].some((td) => td.innerText === %q)", metric)))
	dbtest.Must(t, tab.Go(p.client().Server+"/setup?source=landing"))
	dbtest.Must(t, tab.Await("document.body.innerText.includes('parcels/{partner}/*')"))
	click("measure", "parcels/{partner}")
	fill("Dataset", "landing.again")
	click("Measure 3 metrics", "")
	dbtest.Must(t, tab.Await("document.querySelector('[data-first-chart] svg')"))
	dbtest.Must(t, tab.Go(p.client().Server+"/datasets"))
	dbtest.Must(t, tab.Await("document.querySelector('[data-brush]') && document.querySelectorAll('tbody tr').length > 10"))
	act(`const b = document.querySelector('[data-brush]'); const r = b.getBoundingClientRect(); b.setPointerCapture = () => {};
		const at = (type, share) => b.dispatchEvent(new PointerEvent(type, { bubbles: true, pointerId: 1, clientX: r.left + share * r.width, clientY: r.top + 10 }));
		at('pointerdown', 0.4); at('pointermove', 0.6); at('pointerup', 0.6); return true;`)
	dbtest.Must(t, tab.Await("location.search.includes('from=') && document.body.innerText.includes('against expected')"))
}

// sentToUs looks at what the demo sends over open protocols.
func sentToUs(t *testing.T, p *program) {
	p.t = t
	var jobs []lineage.JobHealth
	dbtest.Must(t, p.client().Get(t.Context(), "/jobs", nil, &jobs))
	if len(jobs) != 11 || jobs[0].Runs < 20 {
		t.Errorf("jobs: %+v", jobs)
	}
	var files []record.Delivery
	dbtest.Must(t, p.client().Get(t.Context(), "/datasets/landing.parcels/deliveries", nil, &files))
	kinds := map[string]bool{}
	for _, f := range files {
		if f.State != "taken" || f.Rows == nil {
			t.Errorf("%s is %s: %s", f.Path, f.State, f.Message)
		}
		kinds[f.Path[strings.Index(f.Path, "."):]] = true
	}
	if len(kinds) != 5 {
		t.Errorf("files of %v, want five formats", kinds)
	}
	var chart chart.Chart
	var series []record.Series
	dbtest.Must(t, p.client().Get(t.Context(), "/metrics/gate-wait/series", nil, &series))
	now := time.Now().UTC()
	dbtest.Must(t, p.client().Get(t.Context(), fmt.Sprintf("/series/%d/chart", series[0].ID),
		url.Values{"from": {now.AddDate(0, 0, -1).Format("2006-01-02T15:04:05Z")}, "to": {now.Format("2006-01-02T15:04:05Z")}}, &chart))
	if len(chart.Observed) < 90 || chart.Rows[0] == nil || *chart.Rows[0] < 1 {
		t.Errorf("the gates' waits over a day: %d values", len(chart.Observed))
	}
	var page httpapi.AlertPage
	dbtest.Must(t, p.client().Get(t.Context(), "/alerts", url.Values{"state": {"open"}, "dataset": {"edge.gates"}}, &page))
	for _, a := range page.Alerts { // a mild one rings now and then where nothing is wrong
		if a.Severity == "critical" || a.Strength > 1.5 {
			t.Errorf("the gates are well, yet %s", a.Sentence)
		}
	}
}
