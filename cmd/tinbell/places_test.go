package main

import (
	"fmt"
	"maps"
	"net/url"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"tinbell/internal/browser"
	"tinbell/internal/dbtest"
	"tinbell/internal/record"
)

// said is what each place of the console says in the demo.
var said = map[string]string{
	"/": "alerts of one cause together", "/alerts": "how rare", "/labels": "alerts waiting", "/incidents": "VF-006",
	"/slas":     "evening-sales",
	"/datasets": "raw.gate_events", "/datasets/ops.ticket_sales": "telephone", "/datasets/landing.parcels": "Norrland Haul",
	"/consistency": "tolerance", "/tags": "harbour",
	"/monitors": "boarding-scans-volume", "/monitors/boarding-scans-volume": "Silence", "/scorecard": "Alert load", "/outlook": "growth",
	"/drift": "noshow", "/drift/noshow": "lead_time_hours", "/drift/noshow?view=models": "came true over said",
	"/drift/noshow?view=pairs": "Any two",
	"/logs/gates-loader":       "refuses connections", "/logs/gates-loader/1": "window ends",
	"/setup": "vellamar", "/setup/calendars": "Winter timetable", "/setup/telling": "harbour-chat", "/setup/people": "Night desk",
	"/setup/audit": "who", "/setup/mailbox": "As it came", "/you": "sign",
}

// Each place says what is there, in light and in dark, and breaks no rule of accessibility
// (WCAG 2.2 A and AA and good practice, as axe-core checks them); of those, only the one
// of contrast knows of colours.
func places(t *testing.T, p *program) {
	p = p.of(t)
	rules, err := os.ReadFile("../../web/node_modules/axe-core/axe.min.js")
	dbtest.Must(t, err)
	a := p.judged("")[0]
	all := maps.Clone(said)
	all[fmt.Sprint("/alerts/", a.ID)], all[fmt.Sprint("/groups/", *a.GroupID)],
		all[fmt.Sprint("/series/", a.SeriesID)] = a.Dataset, a.Dataset, "tands out"
	all["/monitors/"+a.Monitor+"/past"] = a.Monitor
	tab := signIn(t, p, false)
	for path, says := range all {
		dbtest.Must(t, tab.Go(p.client().Server+path))
		if err := tab.Await(fmt.Sprintf("document.querySelector('h1')?.innerText && document.body.innerText.includes(%q)",
			says)); err != nil {
			t.Errorf("%s: %v", path, err)
		}
		_, err := browser.Evaluate[bool](tab, string(rules)+"; true")
		dbtest.Must(t, err)
		for _, shown := range []struct {
			dark         bool
			ground, asks string
		}{{false, "rgb(244, 240, 231)", ""}, {true, "rgb(23, 28, 34)", "runOnly: ['color-contrast']"}} {
			dbtest.Must(t, tab.Dark(shown.dark))
			ground, err := browser.Evaluate[string](tab, "getComputedStyle(document.body).backgroundColor")
			if err != nil || ground != shown.ground {
				t.Errorf("%s (dark: %v) has ground %s, want %s", path, shown.dark, ground, shown.ground)
			}
			if broken := breaks(t, tab, shown.asks); broken != "" {
				t.Errorf("%s (dark: %v) breaks rules of accessibility:\n%s", path, shown.dark, broken)
			}
		}
		dbtest.Must(t, tab.Dark(false))
	}
}

// breaks says which of the rules of accessibility that are asked for a page breaks, and where.
func breaks(t *testing.T, tab *browser.Tab, asks string) string {
	t.Helper()
	_, err := browser.Evaluate[bool](tab, `
		window.broken = undefined;
		axe.run({ resultTypes: ['violations'], selectors: false, preload: false, `+asks+` }).then((r) => { window.broken = r.violations.map((v) => v.id + ': ' + v.help + '\n' + v.nodes.slice(0, 3).map((n) => '  ' + n.html.slice(0, 200)).join('\n')).join('\n') });
		true`)
	dbtest.Must(t, err)
	dbtest.Must(t, tab.Await("window.broken !== undefined"))
	broken, err := browser.Evaluate[string](tab, "window.broken")
	dbtest.Must(t, err)
	return broken
}

// Whatever role somebody has, each place opens when its link is followed: it shows what there
// is, or says which role it takes, and is never empty or broken.
func placesByRole(t *testing.T, p *program) {
	p = p.of(t)
	server := p.client().Server
	tab, err := browser.Open(t.Context(), 1280, 800, false)
	dbtest.Must(t, err)
	t.Cleanup(tab.Close)
	for _, role := range []string{"reader", "responder", "editor"} {
		var made struct{ Token string }
		dbtest.Must(t, p.client().Send(t.Context(), "POST", "/tokens", map[string]any{"name": "a " + role, "role": role}, &made))
		dbtest.Must(t, tab.Go(server+"/livez"))
		dbtest.Must(t, tab.Go(server+"/sign-in#"+made.Token))
		dbtest.Must(t, tab.Await(fmt.Sprintf("document.querySelector('header')?.innerText.includes('a %s')", role)))
		for path, says := range said {
			if strings.Contains(path, "?") { // another view of a page, which stays
				dbtest.Must(t, tab.Go(server+path))
			} else {
				dbtest.Must(t, tab.Follow(path))
			}
			if path == "/setup/people" || path == "/setup/audit" || path == "/setup/mailbox" {
				says = "" // an administrator's
			}
			if err := tab.Await(fmt.Sprintf("document.querySelector('main') && !document.querySelector('main[aria-busy]') && document.querySelector('main').innerText.includes(%q) && (%q || document.querySelector('h1').innerText || document.querySelector('[role=alert]'))", says, says)); err != nil {
				t.Errorf("%s for a %s: %v", path, role, err)
			}
			if broken, err := browser.Evaluate[bool](tab, "document.body.innerText.includes('could not be drawn')"); err != nil || broken {
				t.Errorf("%s for a %s is broken (%v)", path, role, err)
			}
		}
	}
}

// Charts are pinned by address beside a week before, and a stretch that is dragged over is
// noted for everybody; words lead to anything by keys alone.
func lookInConsole(t *testing.T, p *program) {
	p.t = t
	tab := signIn(t, p, false)
	server := p.client().Server
	var found []record.Match
	dbtest.Must(t, p.client().Get(t.Context(), "/find", url.Values{"words": {"web-orders-rows"}}, &found))
	i := slices.IndexFunc(found, func(f record.Match) bool { return f.Kind == "series" })
	if i < 0 {
		t.Fatalf("no series is found: %+v", found)
	}
	dbtest.Must(t, tab.Go(fmt.Sprintf("%s/charts?series=%d&beside=week", server, found[i].ID)))
	dbtest.Must(t, tab.Await("document.querySelector('svg[data-chart] [data-over=\"a week before\"]')?.getAttribute('d').length > 100"))
	for _, step := range []struct {
		kind string
		at   float64
	}{{"pointerdown", 0.3}, {"pointermove", 0.4}, {"pointermove", 0.5}, {"pointerup", 0.5}} {
		_, err := browser.Evaluate[bool](tab, fmt.Sprintf(`(() => {
			const plot = [...document.querySelectorAll('svg[data-chart] rect')].findLast((r) => r.getAttribute('fill') === 'transparent'), r = plot.getBoundingClientRect();
			return plot.dispatchEvent(new PointerEvent(%q, { bubbles: true, clientX: r.x + %f * r.width, clientY: r.y + 20 }));
		})()`, step.kind, step.at))
		dbtest.Must(t, err)
		time.Sleep(60 * time.Millisecond) // for what moved to be drawn
	}
	dbtest.Must(t, tab.Await("document.querySelector('[aria-label=\"The chosen stretch\"]')"))
	dbtest.Must(t, tab.Click("Why?"))
	dbtest.Must(t, tab.Await("/Farthest from expected|Nothing in it lies away/.test(document.body.innerText)"))
	dbtest.Must(t, tab.Fill("What was seen", "a race in the harbour"))
	dbtest.Must(t, tab.Click("Note it"))
	dbtest.Must(t, tab.Await("document.body.innerText.includes('Noted on the charts of raw.web_orders')"))
	var notes []record.Note
	dbtest.Must(t, p.client().Get(t.Context(), "/notes", url.Values{"dataset": {"raw.web_orders"}}, &notes))
	if !slices.ContainsFunc(notes, func(n record.Note) bool { return n.Text == "a race in the harbour" }) {
		t.Errorf("it is not kept: %+v", notes)
	}
	dbtest.Must(t, tab.Click("Look closer"))
	dbtest.Must(t, tab.Await("location.search.includes('from=') && location.search.includes('to=')"))

	dbtest.Must(t, tab.Press("/"))
	dbtest.Must(t, tab.Await("document.activeElement?.getAttribute('role') === 'combobox'"))
	for _, letter := range "gate-events-vol" {
		dbtest.Must(t, tab.Press(string(letter)))
	}
	dbtest.Must(t, tab.Await("document.querySelector('[role=option][aria-selected=true]')?.innerText.includes('gate-events-volume')"))
	dbtest.Must(t, tab.Press("\r"))
	dbtest.Must(t, tab.Await("location.pathname === '/monitors/gate-events-volume'"))
}
