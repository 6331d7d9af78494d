package main

import (
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"tinbell/internal/browser"
	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/scorecard"
)

// learnInConsole answers the queue by key, takes an answer back, searches for
// better settings, accepts a proposal and takes that back.
func learnInConsole(t *testing.T, p *program) {
	p.t = t
	tab := signIn(t, p, false)
	at := func() int64 {
		t.Helper()
		dbtest.Must(t, tab.Await("document.querySelector('[data-question]')"))
		id, err := browser.Evaluate[int64](tab, "Number(document.querySelector('[data-question]').dataset.question)")
		dbtest.Must(t, err)
		return id
	}
	verdict := func(id int64) string {
		t.Helper()
		var d httpapi.AlertDetail
		dbtest.Must(t, p.client().Get(t.Context(), fmt.Sprintf("/alerts/%d", id), nil, &d))
		return string(d.Verdict)
	}
	dbtest.Must(t, tab.Go(p.client().Server+"/labels"))
	first := at()
	dbtest.Must(t, tab.Press("n"))
	dbtest.Must(t, tab.Await(fmt.Sprintf("document.querySelector('[data-question]')?.dataset.question !== '%d' && document.body.innerText.includes('1 so far')", first)))
	if got := verdict(first); got != "noise" {
		t.Errorf("answered by N, alert %d is %q", first, got)
	}
	dbtest.Must(t, tab.Press("z"))
	dbtest.Must(t, tab.Await("!document.body.innerText.includes('1 so far')"))
	if got := verdict(first); got != "" {
		t.Errorf("taken back, alert %d is %q", first, got)
	}
	dbtest.Must(t, tab.Go(p.client().Server+"/scorecard"))
	click := func(text string) { t.Helper(); press(t, tab, text) }
	click("search for better settings")
	dbtest.Must(t, tab.Await("document.querySelector('[data-tuned]')"))
	var open []record.Proposal
	dbtest.Must(t, p.client().Get(t.Context(), "/proposals", nil, &open))
	if len(open) > 0 {
		click("Accept")
		dbtest.Must(t, tab.Await(fmt.Sprintf("[...document.querySelectorAll('button')].filter((b) => b.innerText === 'Accept').length === %d", len(open)-1)))
		var m record.Monitor
		dbtest.Must(t, p.client().Get(t.Context(), "/monitors/"+open[0].Monitor, nil, &m))
		if m.Version != open[0].Version+1 {
			t.Errorf("accepted, %s is at version %d", m.Name, m.Version)
		}
		dbtest.Must(t, tab.Go(p.client().Server+"/monitors/"+m.Name))
		click("take back")
		dbtest.Must(t, tab.Await(fmt.Sprintf("document.body.innerText.includes('back to version %d')", open[0].Version)))
	} else {
		// Which past the demo has depends on the day; then it must say of each monitor why.
		text, err := tab.Text()
		dbtest.Must(t, err)
		if !strings.Contains(text, "none is clearly better than today's") || !strings.Contains(text, "stay as they are") {
			t.Errorf("no proposal, and no reason: %.600s", text)
		}
	}
	dbtest.Must(t, tab.Go(p.client().Server+"/incidents?find=VF-006"))
	click("edit")
	dbtest.Must(t, tab.Await("document.querySelector('form[aria-label=\"edit VF-006\"] input[name=impact]')"))
	_, err := browser.Evaluate[bool](tab,
		"(() => { document.querySelector('input[name=impact]').value = 'queues at the gates'; document.querySelector('form[aria-label=\"edit VF-006\"]').requestSubmit(); return true; })()")
	dbtest.Must(t, err)
	dbtest.Must(t, tab.Await("!document.querySelector('form[aria-label=\"edit VF-006\"]') && document.body.innerText.includes('queues at the gates')"))
	dbtest.Must(t, tab.Go(p.client().Server+"/scorecard"))
	click("month")
	dbtest.Must(t, tab.Await("[...document.querySelectorAll('td a')].some((a) => /^\\d{4}-\\d\\d$/.test(a.innerText))"))
}

// learnOnTheCommandLine goes the same way by commands.
func learnOnTheCommandLine(t *testing.T, p *program) {
	p.t = t
	run := func(says string, args ...string) string {
		t.Helper()
		out, code := p.do(args...)
		if code != 0 || !strings.Contains(out, says) {
			t.Errorf("%s: code %d\n%s", strings.Join(args, " "), code, out)
		}
		return out
	}
	run("waiting", "label", "queue", "--limit", "3")
	run("in shadow", "filter", "shadow", "--limit", "0.02")
	run("learned from", "filter", "show")
	var page httpapi.AlertPage
	dbtest.Must(t, p.client().Get(t.Context(), "/alerts", url.Values{"monitor": {"refunds-volume"}}, &page))
	run("most like it", "filter", "why", fmt.Sprint(page.Alerts[0].ID))
	run("false alarms", "monitor", "try", "refunds-volume", "--warn", "1y", "--since", "60d")
	run("version", "monitor", "versions", "refunds-volume")
	run("always told", "monitor", "always-tell", "refunds-volume")
	file := filepath.Join(t.TempDir(), "labels.csv")
	dbtest.Must(t, os.WriteFile(file, []byte(run("alert,monitor", "label", "export")), 0o600))
	run("0 labels added", "label", "import", file)
	run("reference,dataset", "incident", "export")
	run("2026", "score", "--by", "month")
	report := filepath.Join(t.TempDir(), "score.html")
	run("Written to", "score", "--since", "30d", "--compare", "60d", "--by", "dataset", "--html", report)
	html, err := os.ReadFile(report)
	dbtest.Must(t, err)
	for _, want := range []string{"<!doctype html>", "ops.refunds", "Before,", "precision"} {
		if !strings.Contains(string(html), want) {
			t.Errorf("the report lacks %q", want)
		}
	}
	if strings.Contains(string(html), "http://") || strings.Contains(string(html), "<script") {
		t.Error("the report needs something else")
	}
	var card scorecard.Scorecard
	dbtest.Must(t, p.client().Get(t.Context(), "/scorecard", url.Values{"by": {"dataset"}}, &card))
	if len(card.Groups) < 8 {
		t.Errorf("%d datasets", len(card.Groups))
	}
}
