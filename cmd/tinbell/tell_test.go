package main

import (
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tinbell/internal/browser"
	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/sink"
)

// tellInConsole looks after a group, sends a test, reads the mailbox, adds a
// promise and an event, each by the page that is for it.
func tellInConsole(t *testing.T, p *program) {
	p.t = t
	tab := signIn(t, p, false)
	c := p.client()
	see := func(text string) {
		t.Helper()
		dbtest.Must(t, tab.Await(fmt.Sprintf("document.body.innerText.includes(%q)", text)))
	}
	do := func(script string) {
		t.Helper()
		_, err := browser.Evaluate[bool](tab, "(() => { "+script+"; return true; })()")
		dbtest.Must(t, err)
	}
	var open httpapi.GroupPage
	dbtest.Must(t, c.Get(t.Context(), "/groups", url.Values{"state": {"open"}}, &open))
	g := open.Groups[0]
	dbtest.Must(t, tab.Go(fmt.Sprintf("%s/groups/%d", c.Server, g.ID)))
	see("Nobody looks after it yet")
	dbtest.Must(t, tab.Press("t"))
	see("administrator looks after it")
	var detail httpapi.GroupDetail
	dbtest.Must(t, c.Get(t.Context(), fmt.Sprintf("/groups/%d", g.ID), nil, &detail))
	if detail.TakenBy != "administrator" {
		t.Errorf("the group is taken by %q", detail.TakenBy)
	}
	dbtest.Must(t, tab.Go(fmt.Sprintf("%s/alerts/%d", c.Server, g.Lead)))
	see("Told together")

	dbtest.Must(t, tab.Go(c.Server+"/setup/telling"))
	dbtest.Must(t, tab.Await("document.querySelector('[data-channel=pager] button')"))
	do("document.querySelector('[data-channel=pager] button').click()")
	see("The test has arrived.")
	dbtest.Must(t, tab.Go(c.Server+"/setup/mailbox"))
	see("Test: this channel can be reached")
	see("signature valid")

	dbtest.Must(t, tab.Go(c.Server+"/slas"))
	dbtest.Must(t, tab.Await("document.querySelector('[data-sla=parcels]')"))
	dbtest.Must(t, tab.Press("a"))
	dbtest.Must(t, tab.Choose("Dataset", "ops.boarding_scans"))
	do(`const f = document.querySelector('form[aria-label="new SLA"]');
		f.elements["name"].value = "scans";
		f.elements["at_least"].value = "100"; f.elements["by"].value = "23:00"; f.requestSubmit()`)
	dbtest.Must(t, tab.Await("document.querySelector('[data-sla=scans]')"))

	dbtest.Must(t, tab.Go(c.Server+"/setup/calendars"))
	dbtest.Must(t, tab.Await("document.querySelector('form[aria-label=\"new event\"]')"))
	day := time.Now().AddDate(0, 0, 9).Format("2006-01-02")
	do(fmt.Sprintf(`const f = document.querySelector('form[aria-label="new event"]');
		f.elements["summary"].value = "Dry dock"; f.elements["from"].value = "%sT08:00"; f.elements["to"].value = "%sT12:00"; f.requestSubmit()`, day, day))
	see("Added, 1 time")
	var events []record.PlannedEvent
	dbtest.Must(t, c.Get(t.Context(), "/planned-events", nil, &events))
	found := false
	for _, e := range events {
		found = found || e.Summary == "Dry dock" && e.EndedAt.Sub(e.StartedAt) == 4*time.Hour
	}
	if !found {
		t.Error("the event was not kept")
	}
}

// tellOnTheCommandLine goes the same way by commands, and takes the receivers
// down meanwhile.
func tellOnTheCommandLine(t *testing.T, p *program) {
	p.t = t
	run := func(says string, args ...string) string {
		t.Helper()
		out, code := p.do(args...)
		if code != 0 || !strings.Contains(out, says) {
			t.Errorf("%s: code %d\n%s", strings.Join(args, " "), code, out)
		}
		return out
	}
	list := run("origin_kind", "group", "list", "--state", "open", "--output", "csv")
	id, _, _ := strings.Cut(strings.Split(list, "\n")[1], ",")
	run("likely", "group", "show", id)
	run("looks after it", "group", "take", id)
	run("Nothing is told of it for 4 h", "group", "snooze", id, "4h")
	run("It is told again", "group", "snooze", id, "0s")
	run("Nothing is told", "monitor", "snooze", "refunds-volume", "1h")
	run("one a group", "bench", "messages")

	run("They refuse everything", "demo", "receiver", "down")
	if out, code := p.do("channel", "test", "pager"); code != 1 || !strings.Contains(out, "503") {
		t.Errorf("a receiver that is down: code %d\n%s", code, out)
	}
	run("Put into the outbox", "group", "tell", id, "pager")
	p.await("the message waits", 30*time.Second, func() bool {
		out, _ := p.do("message", "list", "--state", "waiting")
		return strings.Contains(out, "503")
	})
	run("not reached since", "channel", "list")
	run("They take messages again", "demo", "receiver", "up")
	run("tried now", "channel", "retry", "pager")
	p.await("the message arrives", 30*time.Second, func() bool {
		out, _ := p.do("message", "list", "--state", "waiting")
		return strings.Contains(out, "No such")
	})
	run("Arrived at data-desk", "channel", "test", "data-desk")
	var letters []sink.Letter
	dbtest.Must(t, p.client().Get(t.Context(), "/mailbox", nil, &letters))
	run("this channel can be reached", "mailbox", "show", fmt.Sprint(letters[0].ID))

	run("whsec_", "channel", "set", "tickets", "--webhook", "http://127.0.0.1:9/t", "--form", "ticket")
	run("leads to tickets", "route", "set", "desk", "tickets", "--severity", "critical", "--remind", "4h")
	run("tickets", "route", "list")
	broken := filepath.Join(t.TempDir(), "body.json")
	dbtest.Must(t, os.WriteFile(broken, []byte("{\"a\":\n  {{.Nope}}}"), 0o600))
	if out, code := p.do("channel", "set", "tickets", "--webhook", "http://127.0.0.1:9/t", "--template", broken); code == 0 ||
		!strings.Contains(out, "line 2, column 5") {
		t.Errorf("a template that cannot work: code %d\n%s", code, out)
	}
	run("is removed", "channel", "remove", "tickets")

	run("parcels", "sla", "list")
	run("5 files by 06:30, mon-fri", "sla", "show", "parcels")
	run("Dry dock", "calendar", "list")
	run("Added: Stocktaking", "calendar", "add", "Stocktaking", "--from", time.Now().AddDate(0, 0, 5).Format(time.RFC3339),
		"--for", "3h", "--dataset", "ops.refunds", "--effect", "widen")
	run("holidays", "calendar", "holidays", "CA", "--dataset", "ops.refunds")
	run("is removed", "calendar", "remove", "holidays CA")
	if out, code := p.do("sla", "show", "none"); code != 3 && code != 1 {
		t.Errorf("an SLA that is not there: code %d\n%s", code, out)
	}
}
