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
	_, err := browser.Evaluate[bool](tab, `(() => { const f = [...document.querySelectorAll('label')].find((l) => l.innerText.startsWith('the word')).querySelector('input');
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
	_, err := browser.Evaluate[bool](tab, `(() => { const f = [...document.querySelectorAll('label')].find((l) => l.innerText.startsWith('Account')).querySelector('input');
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
	_, err = browser.Evaluate[bool](tab, "[...document.querySelectorAll('button')].find((b) => b.getAttribute('aria-label') === 'Take the token of Night desk back').click() ?? true")
	dbtest.Must(t, err)
	press(t, tab, "yes, sign it out")
	dbtest.Must(t, tab.Await("!document.querySelector('[data-tokens]').innerText.includes('Night desk')"))
	if err := night.Get(t.Context(), "/alerts", nil, nil); err == nil {
		t.Error("taken back, it still signs in")
	}
	dbtest.Must(t, tab.Go(server+"/setup/audit?what=token"))
	dbtest.Must(t, tab.Await("document.querySelector('h1').innerText.includes('each follows from the one before it') && document.querySelector('[data-audit]').innerText.includes('revoke token')"))
	dbtest.Must(t, tab.Await("document.querySelector('[data-audit]').innerText.includes('name: Night desk')"))
}
