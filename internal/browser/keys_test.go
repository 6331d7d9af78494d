package browser_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/browser"
	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
)

// hand goes through the console by keys alone: it tabs to what it names, and presses Enter.
type hand struct {
	*testing.T
	tab *browser.Tab
}

// reach tabs on until what has the focus says a text first, or is labelled by it.
func (h hand) reach(text string) {
	h.Helper()
	for range 200 {
		dbtest.Must(h, h.tab.Press("Tab"))
		at, err := browser.Evaluate[bool](h.tab, fmt.Sprintf(`(() => {
			const e = document.activeElement;
			return [e.matches('input, textarea') ? '' : e.innerText, e.getAttribute('aria-label'), e.labels?.[0]?.innerText].some((s) => s?.trim().startsWith(%q));
		})()`, text))
		dbtest.Must(h, err)
		if at {
			return
		}
	}
	h.Fatalf("no key leads to %q", text)
}

func (h hand) sees(text string) {
	h.Helper()
	if err := h.tab.Await(fmt.Sprintf("document.body.innerText.includes(%q)", text)); err != nil {
		h.Fatal(err)
	}
}

func (h hand) enter(text string) {
	h.Helper()
	h.reach(text)
	dbtest.Must(h, h.tab.Press("Enter"))
}

func (h hand) types(label, text string) {
	h.Helper()
	h.reach(label)
	dbtest.Must(h, h.tab.Press(text))
}

// From an empty service to the first answer that counts: a warehouse is connected, a table
// measured and monitored, its alert opened and labelled, and the score read, by keys alone.
func TestTheFirstHourByKeysAlone(t *testing.T) {
	s := dbtest.Start(t, time.Now().UTC().Truncate(time.Minute))
	address := s.NewDatabase(t)
	sell(t, address, s.Clock.Now())
	tab, err := browser.Open(t.Context(), 1280, 800, false)
	dbtest.Must(t, err)
	t.Cleanup(tab.Close)
	h := hand{t, tab}
	began := time.Now()

	dbtest.Must(t, tab.Go(s.Address+"/sign-in"))
	h.sees("with a token")
	h.enter("with a token")
	dbtest.Must(t, tab.Press(s.Token)) // its field has the focus
	dbtest.Must(t, tab.Press("Enter"))
	h.sees("Setup")
	h.enter("Setup")
	h.sees("Add a source")
	h.types("Name", "harbour")
	h.types("Address", address)
	h.enter("Try it")
	h.sees("It answers.")
	h.enter("Add source")
	h.sees("Tables of harbour")
	h.enter("Measure sales.tickets")
	h.sees("What to measure")
	h.sees("Measure 1 metric")
	h.enter("Measure 1 metric")
	h.sees("By chance, all of them together")
	h.enter("Add 1 monitor")
	dbtest.Must(t, tab.Await("document.querySelectorAll('[data-told]').length === 1"))
	h.enter("Alerts")
	h.sees("how rare")
	h.sees("sales.tickets sends")
	h.enter("sales.tickets sends")
	h.sees("What was it?")
	dbtest.Must(t, tab.Press("f"))
	h.sees("It was")
	h.enter("Scorecard")
	h.sees("1 of 1")
	t.Logf("from signing in to a score of 1 of 1: %s", time.Since(began).Round(time.Second))

	var page httpapi.AlertPage
	dbtest.Must(t, s.Admin.Get(t.Context(), "/alerts", nil, &page))
	if len(page.Alerts) == 0 || page.Alerts[0].Verdict != "fault" {
		t.Errorf("%+v", page.Alerts)
	}
}

// sell fills a table of tickets by the hour, of which the last hours lost most.
func sell(t *testing.T, address string, now time.Time) {
	conn, err := pgx.Connect(t.Context(), address)
	dbtest.Must(t, err)
	defer conn.Close(t.Context())
	for _, statement := range []string{
		"create schema sales", "create table sales.tickets (sold_at timestamptz not null, gate text not null, price numeric)",
		"select setseed(.4)",
	} {
		_, err = conn.Exec(t.Context(), statement)
		dbtest.Must(t, err)
	}
	_, err = conn.Exec(t.Context(), `
		insert into sales.tickets
		select at + random() * interval '1 hour', (array['north', 'south'])[1 + (random() * 1.99)::int % 2], round((random() * 40)::numeric, 2)
		from generate_series($1::timestamptz - interval '60 days', $1::timestamptz - interval '1 hour', interval '1 hour') at,
			lateral generate_series(1, (case when at > $1::timestamptz - interval '9 hours' then 6 else 40 end + 20 * sin(extract(hour from at) / 24 * 6.283) * case when at > $1::timestamptz - interval '9 hours' then .1 else 1 end + 10 * random())::int)`, now.Truncate(time.Hour))
	dbtest.Must(t, err)
}
