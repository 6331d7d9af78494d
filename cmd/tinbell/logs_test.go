package main

import (
	"fmt"
	"strings"
	"testing"

	"tinbell/internal/browser"
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
	click := func(label string) {
		t.Helper()
		dbtest.Must(t, tab.Await(fmt.Sprintf("[...document.querySelectorAll('button')].some((b) => b.innerText === %q && !b.disabled)", label)))
		_, err := browser.Evaluate[bool](tab, fmt.Sprintf("[...document.querySelectorAll('button')].find((b) => b.innerText === %q).click() ?? true", label))
		dbtest.Must(t, err)
	}
	click("Read them from its files")
	dbtest.Must(t, tab.Await("document.querySelector('[data-file-lines]')?.innerText.includes('sold channel=')"))
	click("hold")
	_, err := browser.Evaluate[bool](tab, `(() => { const f = [...document.querySelectorAll('label')].find((l) => l.innerText.startsWith('the word')).querySelector('input');
		Object.getOwnPropertyDescriptor(Object.getPrototypeOf(f), 'value').set.call(f, 'sold'); f.dispatchEvent(new Event('input', { bubbles: true })); return true; })()`)
	dbtest.Must(t, err)
	click("Hold")
	dbtest.Must(t, tab.Await("document.body.innerText.includes('is constant') && document.body.innerText.includes('held constant by')"))
	dbtest.Must(t, tab.Go(p.client().Server+"/logs/sales-loader?where=channel%3Dkiosk"))
	dbtest.Must(t, tab.Await("document.body.innerText.includes('channel is kiosk') && document.querySelectorAll('[data-sentences] tbody tr').length === 1"))
}
