package main

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
	"testing"

	"tinbell/internal/dbtest"
	"tinbell/internal/diagnose"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
)

// faultsApart holds what the demo begins with: what is wrong is told fault by fault,
// each from where it began, and every figure stated differs in the alert's direction.
func faultsApart(t *testing.T, p *program) {
	c := p.client()
	var page httpapi.GroupPage
	dbtest.Must(t, c.Get(t.Context(), "/groups", url.Values{"state": {"open"}}, &page))
	places := map[string]int64{}
	for _, g := range page.Groups {
		if g.Severity == "critical" {
			places[g.Place] = g.ID
		}
	}
	for _, want := range []string{"Gullstone in raw.gate_events", "raw.web_orders", "kiosk in ops.ticket_sales", "ops.crew_rosters"} {
		if places[want] == 0 {
			t.Errorf("nothing is told of %s; told of %v", want, places)
		}
	}
	var alerts httpapi.AlertPage
	dbtest.Must(t, c.Get(t.Context(), "/alerts", url.Values{"limit": {"1000"}, "held": {"all"}}, &alerts))
	n := 0
	for _, a := range alerts.Alerts {
		if a.Cause != "deviation" || a.Comparison != "" {
			continue
		}
		n++
		if off := a.Observed - a.Expected; a.Direction == "low" && off >= 0 || a.Direction == "high" && off <= 0 {
			t.Errorf("alert %d, %s: %q of %g, expected %g", a.ID, a.Direction, a.Sentence, a.Observed, a.Expected)
		}
		before, after, found := strings.Cut(a.Figures, ", expected ")
		after, _, _ = strings.Cut(after, ";")
		if !found || strings.Fields(before)[0] == strings.Fields(after)[0] && !strings.Contains(a.Figures, "%") && len(strings.Fields(after)) == 1 {
			t.Errorf("alert %d states %q", a.ID, a.Figures)
		}
	}
	if n < 50 {
		t.Errorf("only %d alerts were looked at", n)
	}
}

// whyInConsole opens the alert of the lost port and finds the answer, its rows, and
// the key that takes what was found into the note.
func whyInConsole(t *testing.T, p *program) {
	p.t = t
	open := slices.DeleteFunc(p.open("raw.gate_events"), func(a record.Alert) bool { return a.Segment != "Gullstone" || a.Cause != "deviation" })
	if len(open) == 0 {
		t.Fatal("the lost gate events are not open")
	}
	tab := signIn(t, p, false)
	dbtest.Must(t, tab.Go(fmt.Sprintf("%s/alerts/%d", p.client().Server, open[0].ID)))
	dbtest.Must(t, tab.Await("document.querySelector('[data-why] tbody tr') && document.body.innerText.includes('port = Gullstone')"))
	dbtest.Must(t, tab.Await("document.querySelector('svg[data-lineage]') && document.body.innerText.includes('it broke first')"))
	dbtest.Must(t, tab.Press("o"))
	dbtest.Must(t, tab.Await("document.querySelector('input[aria-label=\"Cause or note\"]').value.startsWith('port = Gullstone')"))
	dbtest.Must(t, tab.Await("[...document.querySelectorAll('button')].find((b) => b.innerText === 'show 100 rows here')?.click() ?? true"))
	dbtest.Must(t, tab.Await("document.body.innerText.includes('Gone when you leave this page')"))

	var w diagnose.Why
	dbtest.Must(t, p.client().Get(t.Context(), fmt.Sprintf("/alerts/%d/why", open[0].ID), nil, &w))
	if !strings.HasPrefix(w.Line, "port = Gullstone: ") || w.Lineage == nil || w.Lineage.First != "raw.gate_events" || len(w.Before) == 0 {
		t.Errorf("why: %q, %+v, %v", w.Line, w.Lineage, w.Missing)
	}
	out, code := p.do("alert", "why", fmt.Sprint(open[0].ID))
	if code != 0 || !strings.Contains(out, "port = Gullstone") || !strings.Contains(out, "Seen before") {
		t.Errorf("why on the command line: %d\n%s", code, out)
	}
	for _, a := range p.open("ml.noshow_features") {
		if a.Segment == "lead_time_hours" {
			out, code := p.do("alert", "why", fmt.Sprint(a.ID), "--rows", "bins")
			if lines := strings.Count(out, "\n"); code != 0 || lines < 8 || !strings.Contains(out, "reference") {
				t.Errorf("the bins of a feature that drifted: %d\n%s", code, out)
			}
		}
	}
	if out, code := p.do("audit"); code != 0 || !strings.Contains(out, "looked at rows") {
		t.Errorf("audit: %d\n%s", code, out)
	}
	if out, code := p.do("reconcile", "list"); code != 0 || !strings.Contains(out, "scans-against-gates") {
		t.Errorf("reconcile: %d\n%s", code, out)
	}
}

// reconcileInConsole compares ticket sales with the orders they are made from, by
// their keys, looks for rows on one side, and ends the comparison.
func reconcileInConsole(t *testing.T, p *program) {
	p.t = t
	tab := signIn(t, p, false)
	dbtest.Must(t, tab.Go(p.client().Server+"/datasets/ops.ticket_sales"))
	press := func(label string) {
		dbtest.Must(t, tab.Await("(() => { const b = [...document.querySelectorAll('button')].find((b) => b.innerText === '"+label+"' && !b.disabled); b?.click(); return b })()"))
	}
	press("compare with another stage")
	dbtest.Must(t, tab.Choose("The other stage", "raw.web_orders"))
	dbtest.Must(t, tab.Choose("It comes", "before ops.ticket_sales"))
	dbtest.Must(t, tab.Choose("Key of ops.ticket_sales", "id"))
	dbtest.Must(t, tab.Choose("Key of raw.web_orders", "id"))
	dbtest.Must(t, tab.Fill("Tolerance", "2"))
	press("Compare")
	const name = "ops.ticket_sales-against-raw.web_orders"
	dbtest.Must(t, tab.Await("[...document.querySelectorAll('td')].some((d) => d.innerText === '"+name+"')"))
	var r record.Reconciliation
	dbtest.Must(t, p.client().Get(t.Context(), "/reconciliations/"+name, nil, &r))
	if r.UpSet != "raw.web_orders" || r.DownSet != "ops.ticket_sales" || r.UpKey != "id" || r.Tolerance != 0.02 {
		t.Errorf("it was set up as %+v", r)
	}
	press("rows on one side")
	dbtest.Must(t, tab.Await("document.body.innerText.includes('Not kept; the audit trail says that you looked')"))
	dbtest.Must(t, tab.Await("(() => { const row = [...document.querySelectorAll('tr')].find((r) => r.innerText.startsWith('"+name+"')); [...row.querySelectorAll('button')].find((b) => b.innerText === 'remove').click(); return true })()"))
	dbtest.Must(t, tab.Click("End it"))
	dbtest.Must(t, tab.Await("![...document.querySelectorAll('td')].some((d) => d.innerText === '"+name+"')"))
	if out, code := p.do("reconcile", "show", name); code == 0 {
		t.Errorf("it is still there:\n%s", out)
	}
}
