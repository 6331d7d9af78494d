package main

import (
	"fmt"
	"strings"
	"testing"

	"tinbell/internal/browser"
	"tinbell/internal/client"
	"tinbell/internal/dbtest"
	"tinbell/internal/logs"
)

// logsInConsole goes from a log by a value of an attribute to a sentence, reads its lines
// from the files that landed, and holds a word of it.
func logsInConsole(t *testing.T, p *program) {
	p.t = t
	var said logs.Sayings
	dbtest.Must(t, p.client().Get(t.Context(), "/logs/sales-loader/templates", nil, &said))
	number := 0
	for _, v := range said.Templates {
		if strings.Contains(v.Text, "sold channel=") {
			number = v.Number
		}
	}
	if number == 0 || said.Log.Source != "landing" {
		t.Fatalf("the sales loader's files: %+v", said.Log)
	}
	tab := signIn(t, p, false)
	dbtest.Must(t, tab.Go(fmt.Sprintf("%s/logs/sales-loader/%d", p.client().Server, number)))
	dbtest.Must(t, tab.Await("document.querySelector('[data-values] tbody tr') && document.body.innerText.includes('What it goes with')"))
	press(t, tab, "Read them from its files")
	dbtest.Must(t, tab.Await("document.querySelector('[data-file-lines]')?.innerText.includes('sold channel=')"))
	press(t, tab, "hold")
	_, err := browser.Evaluate[bool](tab,
		`(() => { const f = [...document.querySelectorAll('label')].find((l) => l.innerText.startsWith('the word')).querySelector('input');
		Object.getOwnPropertyDescriptor(Object.getPrototypeOf(f), 'value').set.call(f, 'sold'); f.dispatchEvent(new Event('input', { bubbles: true })); return true; })()`)
	dbtest.Must(t, err)
	press(t, tab, "Hold")
	dbtest.Must(t, tab.Await("document.body.innerText.includes('is constant') && document.body.innerText.includes('held constant by')"))
	dbtest.Must(t, tab.Go(p.client().Server+"/logs/sales-loader?where=channel%3Dkiosk"))
	dbtest.Must(t, tab.Await("document.body.innerText.includes('channel is kiosk') && document.querySelectorAll('[data-sentences] tbody tr').length === 1"))
}

// peopleInConsole makes a token in the console, signs in with it, sees it do what its role
// may and no more, takes it back, and finds it all in the audit trail.
func peopleInConsole(t *testing.T, p *program) {
	p.t = t
	tab := signIn(t, p, false)
	server := p.client().Server
	dbtest.Must(t, tab.Go(server+"/setup/people"))
	dbtest.Must(t, tab.Await("document.querySelector('[data-tokens] tbody tr')"))
	_, err := browser.Evaluate[bool](tab,
		`(() => { const f = [...document.querySelectorAll('label')].find((l) => l.innerText.startsWith('Account')).querySelector('input');
		Object.getOwnPropertyDescriptor(Object.getPrototypeOf(f), 'value').set.call(f, 'Night desk'); f.dispatchEvent(new Event('input', { bubbles: true })); return true; })()`)
	dbtest.Must(t, err)
	press(t, tab, "Make it")
	dbtest.Must(t, tab.Await("document.querySelector('[data-made]') && document.querySelector('[data-tokens]').innerText.includes('Night desk')"))
	token, err := browser.Evaluate[string](tab, "document.querySelector('[data-made]').innerText")
	dbtest.Must(t, err)
	night := client.New(server, token)
	dbtest.Must(t, night.Get(t.Context(), "/alerts", nil, nil))
	if err := night.Get(t.Context(), "/tokens", nil, nil); err == nil || !strings.Contains(err.Error(), "your role is responder") {
		t.Errorf("a responder sees tokens: %v", err)
	}
	_, err = browser.Evaluate[bool](tab,
		"[...document.querySelectorAll('button')].find((b) => b.getAttribute('aria-label') === 'take back the token of Night desk').click() ?? true")
	dbtest.Must(t, err)
	press(t, tab, "Take it back")
	dbtest.Must(t, tab.Await("!document.querySelector('[data-tokens]').innerText.includes('Night desk')"))
	if err := night.Get(t.Context(), "/alerts", nil, nil); err == nil {
		t.Error("taken back, it still signs in")
	}
	dbtest.Must(t, tab.Go(server+"/setup/audit?what=token"))
	dbtest.Must(t, tab.Await("document.querySelector('h1').innerText.includes('each follows from the one before it') && document.querySelector('[data-audit]').innerText.includes('revoke token')"))
	dbtest.Must(t, tab.Await("document.querySelector('[data-audit]').innerText.includes('name: Night desk')"))
}

// limitedInConsole has somebody of the stand-in directory sign in, who by its groups looks
// at everything and sets up some, and somebody whose token is for a part look at every page:
// none falls, and none shows a dataset that is not for that part.
func limitedInConsole(t *testing.T, p *program) {
	p.t = t
	server := p.client().Server
	tab, err := browser.Open(t.Context(), 1280, 800, false)
	dbtest.Must(t, err)
	t.Cleanup(tab.Close)
	dbtest.Must(t, tab.Go(server+"/sign-in"))
	dbtest.Must(t, tab.Await("document.querySelector('a[href=\"/sign-in/provider\"]')?.innerText.includes('Vellamar staff')"))
	dbtest.Must(t, tab.Go(server+"/sign-in/provider"))
	dbtest.Must(t, tab.Await("[...document.querySelectorAll('a')].some((a) => a.innerText.includes('Tobin Achterberg'))"))
	_, err = browser.Evaluate[bool](tab,
		"[...document.querySelectorAll('a')].find((a) => a.innerText.includes('Tobin Achterberg')).click() ?? true")
	dbtest.Must(t, err)
	dbtest.Must(t, tab.Await("document.querySelector('header')?.innerText.includes('Tobin Achterberg')"))
	dbtest.Must(t, tab.Go(server+"/you"))
	dbtest.Must(t, tab.Await("document.querySelector('[data-grants]')?.innerText.includes('as a member of harbour data') && document.querySelector('[data-sessions]').innerText.includes('by provider')"))
	press(t, tab, "Sign out")
	dbtest.Must(t, tab.Await("location.pathname === '/sign-in'"))

	var made struct{ Token string }
	dbtest.Must(t, p.client().Send(t.Context(), "POST", "/tokens", map[string]any{"name": "partner", "role": "reader",
		"datasets": []string{"landing.*"}}, &made))
	dbtest.Must(t, tab.Go(server+"/livez")) // what comes after the # is read when the page is
	dbtest.Must(t, tab.Go(server+"/sign-in#"+made.Token))
	dbtest.Must(t, tab.Await("document.querySelector('header')?.innerText.includes('partner')"))
	for _, page := range []string{"", "datasets", "alerts", "labels", "monitors", "incidents", "slas", "scorecard", "drift",
		"logs", "outlook", "setup", "setup/calendars", "setup/telling", "setup/people", "setup/audit", "tags", "consistency", "you"} {
		dbtest.Must(t, tab.Go(server+"/"+page))
		dbtest.Must(t, tab.Await("document.querySelector('main') && !document.querySelector('main[aria-busy]') && !document.querySelector('main').innerText.includes('still reading')"))
		said, err := browser.Evaluate[string](tab, "document.querySelector('main').innerText")
		dbtest.Must(t, err)
		for _, word := range []string{"could not be drawn", "raw.gate_events", "ops.ticket_sales", "raw.web_orders"} {
			if strings.Contains(said, word) {
				t.Errorf("/%s shows %q to who may see landing.* alone", page, word)
			}
		}
	}
}
