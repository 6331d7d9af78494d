package telling_test

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"tinbell/internal/client"
	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/scorecard"
	"tinbell/internal/sink"
)

func TestMain(m *testing.M) { dbtest.Main(m) }

func TestOneFaultIsOneMessageAndItsEndAnother(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	for _, name := range []string{"raw.gates", "ops.scans", "mart.load", "ops.rosters"} {
		d.monitor(name)
	}
	d.made("raw.gates", "ops.scans", "mart.load")
	d.webhook("pager", func(r *httpapi.NewRoute) { w := int64(5); r.WaitSeconds = &w })
	scans, mart := d.ring("ops.scans"), d.ring("mart.load")
	if came := d.settle("/pager"); len(came) != 0 {
		t.Fatalf("before the wait is over: %v", said(t, came))
	}
	gates := d.ring("raw.gates") // found last, and upstream of both
	alone := d.ring("ops.rosters")
	d.quiet()
	d.later(6 * time.Second)
	came := d.settle("/pager")
	same(t, "told", sorted(said(t, came)), "opened: Warning: ops.rosters sends too little",
		"opened: Warning: raw.gates sends too little (and 2 more)")
	if text := came[0].Text + came[1].Text; !strings.Contains(text, `"origin":"raw.gates"`) || came[0].Signature != "valid" {
		t.Errorf("the origin is named and the message signed: %s, %s", came[0].Signature, text)
	}
	for _, id := range []int64{scans, gates} {
		d.over(id)
	}
	if came = d.settle("/pager"); len(came) != 2 {
		t.Errorf("one of three lasts: %v", said(t, came))
	}
	d.over(mart)
	d.over(alone)
	came = d.settle("/pager")
	same(t, "over", sorted(said(t, came[2:])), "recovered: Over: ops.rosters sends too little",
		"recovered: Over: raw.gates sends too little (and 2 more)")
	keys := map[string]bool{}
	for _, l := range came {
		keys[l.Key] = true
		if l.Times != 1 {
			t.Errorf("%s came %d times", l.Subject, l.Times)
		}
	}
	if len(keys) != 4 {
		t.Errorf("%d keys of 4 messages", len(keys))
	}
}

// Two faults have a reader in common: it follows from one of them, and does not make
// them one.
func TestALateOriginCorrectsTheGroupAndACommonReaderJoinsNothing(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	for _, name := range []string{"raw.orders", "ops.sales", "raw.gates", "ops.scans", "mart.both"} {
		d.monitor(name)
	}
	d.made("raw.orders", "ops.sales", "mart.both")
	d.made("raw.gates", "ops.scans", "mart.both")
	d.webhook("pager")
	d.ring("ops.sales")
	d.ring("ops.scans")
	same(t, "two faults", sorted(said(t, d.settle("/pager"))), "opened: Warning: ops.sales sends too little",
		"opened: Warning: ops.scans sends too little")
	d.ring("raw.orders", func(a *record.Alert) { a.Since = a.Since.Add(-time.Hour) })
	same(t, "an origin that was found late", said(t, d.settle("/pager"))[2:], "changed: Changed: raw.orders sends too little (and 1 more)")
	d.ring("mart.both")
	same(t, "a reader of both", said(t, d.settle("/pager"))[3:])
	if open := d.groups("?state=open"); len(open) != 2 || open[0].Alerts+open[1].Alerts != 4 {
		t.Errorf("groups: %+v", open)
	}
}

func TestARouteOfATagHearsOfThatAlone(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.monitor("ops.scans")
	d.monitor("ops.rosters")
	dbtest.Must(t, d.Admin.Send(t.Context(), "PATCH", "/tags/gates",
		map[string]any{"on": map[string]any{"monitors": []string{"ops.scans"}}}, nil))
	d.webhook("pager", func(r *httpapi.NewRoute) { r.Tags = record.Strings{"gates", "berths"} })
	d.ring("ops.scans")
	d.ring("ops.rosters")
	same(t, "told", said(t, d.settle("/pager")), "opened: Warning: ops.scans sends too little")
	if of := d.groups("?tag=gates"); len(of) != 1 || len(of[0].Tags) != 1 || of[0].Tags[0] != "gates" {
		t.Errorf("groups of the tag: %+v", of)
	}
	var card scorecard.Scorecard
	dbtest.Must(t, d.Admin.Get(t.Context(), "/scorecard?by=channel", nil, &card))
	if len(card.Groups) != 2 || card.Groups[0].Alerts != 1 || card.Groups[1].Alerts != 1 || card.Groups[0].Name == card.Groups[1].Name {
		t.Errorf("by channel: %+v", card.Groups)
	}
}

func TestWhatPeopleSayOfGroupsIsToldAndKept(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	for _, name := range []string{"raw.orders", "ops.sales", "ops.scans"} {
		d.monitor(name)
	}
	d.made("raw.orders", "ops.sales")
	d.webhook("pager")
	origin, reader := d.ring("raw.orders", func(a *record.Alert) { a.Since = a.Since.Add(-time.Hour) }), d.ring("ops.sales")
	d.settle("/pager")
	d.ring("ops.scans")
	same(t, "two faults", sorted(said(t, d.settle("/pager"))), "opened: Warning: ops.scans sends too little",
		"opened: Warning: raw.orders sends too little (and 1 more)")
	open := d.groups("?state=open")
	scans, orders := open[0], open[1]

	// "The same": the second becomes part of the first.
	var g httpapi.GroupDetail
	dbtest.Must(t, d.Admin.Send(t.Context(), "POST", fmt.Sprintf("/groups/%d/join", orders.ID), map[string]int64{"group": scans.ID}, &g))
	if g.ID != orders.ID || g.Alerts != 3 || g.Place != "raw.orders" {
		t.Errorf("joined: %+v", g.GroupRow)
	}
	came := d.settle("/pager")[2:]
	if len(came) != 1 || !strings.Contains(came[0].Text, fmt.Sprintf("Group %d turned out to be part of this one", scans.ID)) {
		t.Errorf("those who heard of the second are told that it is part of the first: %v", said(t, came))
	}
	dbtest.Must(t, d.Admin.Get(t.Context(), fmt.Sprintf("/groups/%d", scans.ID), nil, &g))
	if g.ID != orders.ID {
		t.Errorf("the merged group's address gives group %d", g.ID)
	}

	// "Not the same": a part becomes a group of its own, and stays one.
	dbtest.Must(t, d.Admin.Send(t.Context(), "POST", fmt.Sprintf("/groups/%d/part", orders.ID), map[string][]int64{"alerts": {reader}}, &g))
	parted := g.ID
	if parted == orders.ID || g.Alerts != 1 || g.Place != "ops.sales" {
		t.Errorf("parted: %+v", g.GroupRow)
	}
	came = d.settle("/pager")[3:]
	if what := sorted(said(t, came)); len(what) != 2 || !strings.HasPrefix(what[0], "changed: ") ||
		what[1] != "opened: Warning: ops.sales sends too little" {
		t.Errorf("told of the part, and that it is gone: %v", what)
	}
	again, err := d.Parts.Store.Alert(t.Context(), origin)
	dbtest.Must(t, err)
	d.ring("raw.orders", func(a *record.Alert) { *a = again; a.Severity = "critical" })
	d.quiet()
	if open := d.groups("?state=open"); len(open) != 2 {
		t.Errorf("what a person parted is one again: %+v", open)
	}

	// What cannot be is refused, and says why; what was said is listed.
	for path, c := range map[string]struct {
		body any
		want string
	}{
		fmt.Sprintf("/groups/%d/part", parted):    {map[string][]int64{"alerts": {reader}}, "would be left without an alert"},
		fmt.Sprintf("/groups/%d/part", orders.ID): {map[string][]int64{"alerts": {reader}}, "not all of these alerts are of group"},
		fmt.Sprintf("/groups/%d/join", orders.ID): {map[string]int64{"group": orders.ID}, "one group already"},
		fmt.Sprintf("/groups/%d/join", scans.ID):  {map[string]int64{"group": parted}, "is part of group"},
	} {
		if err := d.Admin.Send(t.Context(), "POST", path, c.body, nil); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", path, err, c.want)
		}
	}
	var answers []record.GroupAnswer
	dbtest.Must(t, d.Admin.Get(t.Context(), "/group-answers", nil, &answers))
	if len(answers) != 2 || answers[0].Says != "same" || answers[1].Says != "not the same" || answers[1].OtherID != parted ||
		!slices.Equal(answers[1].Alerts, record.Numbers{reader}) {
		t.Errorf("answers: %+v", answers)
	}
}

func TestAGroupThatGetsWorseOrComesBackIsToldAgain(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.monitor("ops.scans")
	d.webhook("all")
	d.webhook("critical", func(r *httpapi.NewRoute) { r.Severity = "critical" })
	id := d.ring("ops.scans")
	if came := d.settle("/critical"); len(came) != 0 {
		t.Errorf("a warning went to who hears of critical ones alone: %v", said(t, came))
	}
	a, err := d.Parts.Store.Alert(t.Context(), id)
	dbtest.Must(t, err)
	d.ring("ops.scans", func(b *record.Alert) { *b = a; b.Severity = "critical" })
	same(t, "worse", said(t, d.settle("/all")), "opened: Warning: ops.scans sends too little",
		"changed: Changed: ops.scans sends too little")
	same(t, "to the others", said(t, d.settle("/critical")), "opened: Critical: ops.scans sends too little")
	d.over(id)
	d.quiet()
	d.later(time.Hour)
	d.ring("ops.scans", func(b *record.Alert) { b.Cause = "stuck" })
	same(t, "back", said(t, d.settle("/all"))[2:], "recovered: Over: ops.scans sends too little",
		"again: Back again: ops.scans sends too little (and 1 more)")
}

func TestNothingIsLostWhileAReceiverIsDown(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.monitor("ops.scans")
	d.monitor("ops.sales")
	d.webhook("pager")
	dbtest.Must(t, sink.Close(d.dir))
	id := d.ring("ops.scans")
	d.await("a first attempt", func() bool { return len(d.messages("waiting")) == 1 && d.messages("waiting")[0].Error != "" })
	first := d.messages("waiting")[0]
	if !strings.Contains(first.Error, "503") || !strings.Contains(first.Error, "down for repairs") || !first.DueAt.After(d.Clock.Now()) {
		t.Errorf("what is wrong, and when it is tried again: %+v", first)
	}
	var channels []record.Channel
	dbtest.Must(t, d.Admin.Get(t.Context(), "/channels", nil, &channels))
	if channels[0].FailingSince == nil || !strings.Contains(channels[0].Message, "503") {
		t.Errorf("the channel says since when it cannot be reached: %+v", channels[0])
	}
	d.over(id)
	d.ring("ops.sales")
	for range 12 { // an hour
		d.later(5 * time.Minute)
		d.quiet()
	}
	if waiting := d.messages("waiting"); len(waiting) != 3 || len(d.box.Letters(9)) != 0 {
		t.Fatalf("an hour later three messages wait: %+v", waiting)
	}
	dbtest.Must(t, sink.Reopen(d.dir))
	for range 10 {
		d.later(10 * time.Minute)
		d.quiet()
	}
	came := d.settle("/pager")
	order := map[string]int{}
	for i, what := range said(t, came) {
		order[strings.SplitN(what, ":", 2)[0]+what[len(what)-24:]] = i
		if came[i].Times != 1 {
			t.Errorf("%s came %d times", what, came[i].Times)
		}
	}
	if len(came) != 3 || order["openedops.scans sends too little"] > order["recoveredops.scans sends too little"] {
		t.Errorf("all three, the end after the beginning: %v", said(t, came))
	}
	dbtest.Must(t, d.Admin.Get(t.Context(), "/channels", nil, &channels))
	if channels[0].FailingSince != nil {
		t.Errorf("reached again: %+v", channels[0])
	}
	found := false
	for _, l := range came {
		found = found || l.Key == first.ID
	}
	if !found {
		t.Error("the key changed between attempts")
	}
}

func sorted(list []string) []string {
	slices.Sort(list)
	return list
}

func (d *desk) messages(state string) []record.Message {
	d.t.Helper()
	var list []record.Message
	dbtest.Must(d.t, d.Admin.Get(d.t.Context(), "/messages", url.Values{"state": {state}}, &list))
	return list
}

func TestAFloodBecomesOneSummary(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.webhook("pager")
	dbtest.Must(t, d.Admin.Send(t.Context(), "POST", "/channels", httpapi.NewChannel{Name: "pager", Kind: record.ChannelWebhook,
		Settings: record.ChannelSettings{URL: d.hook + "/pager"}, HourlyLimit: 3}, nil))
	for i := range 10 {
		d.monitor(fmt.Sprintf("ops.t%d", i))
	}
	for i := range 10 {
		d.ring(fmt.Sprintf("ops.t%d", i))
	}
	d.quiet()
	d.later(6 * time.Minute)
	came := said(t, d.settle("/pager"))
	if len(came) != 4 || !strings.HasPrefix(came[3], "summary: Summary: 7 messages about 7 groups") {
		t.Errorf("three and a summary of seven: %v", came)
	}
	summary := d.settle("/pager")[3]
	told := map[string]bool{}
	for i := range 10 {
		name := fmt.Sprintf("ops.t%d sends", i)
		for _, what := range came[:3] {
			told[name] = told[name] || strings.Contains(what, name)
		}
		if !told[name] && !strings.Contains(summary.Text, name) {
			t.Errorf("nobody heard of %s", name)
		}
	}
	d.later(time.Hour)
	d.monitor("ops.more")
	d.ring("ops.more")
	if came := said(t, d.settle("/pager")); !strings.HasPrefix(came[len(came)-1], "opened: ") {
		t.Errorf("an hour later it tells one by one again: %v", came)
	}
}

func TestWhoDoesNotAnswerIsRemindedAndOthersAreTold(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.monitor("ops.scans")
	d.monitor("ops.sales")
	d.webhook("boss")
	d.Admin.Send(t.Context(), "DELETE", "/routes/boss", nil, nil)
	d.webhook("desk", func(r *httpapi.NewRoute) { r.RemindSeconds, r.EscalateSeconds, r.EscalateTo = 3600, 1800, "boss" })
	d.ring("ops.scans")
	d.ring("ops.sales")
	d.quiet()
	open := d.groups("?state=open")
	var g httpapi.GroupDetail
	dbtest.Must(t, d.Admin.Send(t.Context(), "POST", fmt.Sprintf("/groups/%d/take", open[0].ID), map[string]bool{}, &g))
	if g.TakenBy != "administrator" {
		t.Errorf("taken by %q", g.TakenBy)
	}
	left := map[string]string{open[1].Sentence: ""}
	for range 5 {
		d.later(31 * time.Minute)
		d.quiet()
	}
	what := said(t, d.settle("/desk"))[2:]
	if len(what) != 2 {
		t.Errorf("two reminders in two and a half hours: %v", what)
	}
	escalated := said(t, d.settle("/boss"))
	if len(escalated) != 1 || !strings.HasPrefix(escalated[0], "escalated: Nobody looks after this: ") {
		t.Errorf("told to others once: %v", escalated)
	}
	for _, one := range append(what, escalated...) {
		for sentence := range left {
			if !strings.Contains(one, sentence) {
				t.Errorf("what is looked after is reminded of: %s", one)
			}
		}
	}
	a := d.groups("?state=open")[1]
	dbtest.Must(t, d.Admin.Send(t.Context(), "POST", "/labels", httpapi.NewLabel{Alerts: []int64{a.Lead}, Verdict: "noise"}, nil))
	d.later(3 * time.Hour)
	if again := said(t, d.settle("/desk")); len(again) != 4 {
		t.Errorf("an answer ends reminders: %v", again)
	}
}

func TestQuietHoursSnoozesAndRouteHours(t *testing.T) {
	t.Parallel()
	d := newDesk(t) // it is noon in Halifax
	for _, name := range []string{"ops.quiet", "ops.grave", "ops.snoozed", "ops.passing", "ops.office"} {
		d.monitor(name)
	}
	settings := record.DefaultSettings()
	settings.Quiet = record.Strings{"mon-fri 11:00-14:00"}
	for _, name := range []string{"ops.quiet", "ops.grave", "ops.passing"} {
		dbtest.Must(t, d.Admin.Send(t.Context(), "PUT", "/monitors/"+name, map[string]any{"version": 1, "settings": settings}, nil))
	}
	d.Settle(t)
	dbtest.Must(t, d.Admin.Send(t.Context(), "POST", "/monitors/ops.snoozed/snooze", httpapi.Snooze{Seconds: 7200}, nil))
	d.webhook("pager", func(r *httpapi.NewRoute) {
		r.Datasets = record.Strings{"ops.quiet", "ops.grave", "ops.snoozed", "ops.pass*"}
	})
	d.webhook("office", func(r *httpapi.NewRoute) {
		r.Hours, r.Zone, r.Datasets = record.Strings{"mon-fri 15:00-17:00"}, "America/Halifax", record.Strings{"ops.office"}
	})
	d.ring("ops.quiet")
	d.ring("ops.grave", critical)
	d.ring("ops.snoozed", critical)
	passing := d.ring("ops.passing")
	d.ring("ops.office")
	same(t, "at noon", said(t, d.settle("/")), "opened: Critical: ops.grave sends too little")
	d.later(90 * time.Minute)
	d.over(passing)
	d.quiet()
	d.later(time.Hour) // half past two: quiet hours and the snooze are over
	what := strings.Join(said(t, d.settle("/pager")), "\n")
	for _, want := range []string{"ops.quiet", "ops.snoozed"} {
		if !strings.Contains(what, want) {
			t.Errorf("afterwards %s is told: %s", want, what)
		}
	}
	if strings.Contains(what, "passing") {
		t.Errorf("what was over by then is told: %s", what)
	}
	if came := d.settle("/office"); len(came) != 0 {
		t.Errorf("out of its hours: %v", said(t, came))
	}
	d.later(time.Hour)
	same(t, "when its hours begin", said(t, d.settle("/office")), "opened: Warning: ops.office sends too little")
	if err := d.Admin.Send(t.Context(), "PUT", "/monitors/ops.quiet", map[string]any{"version": 2, "settings": func() record.Settings {
		s := settings
		s.Quiet = record.Strings{"at night"}
		return s
	}()}, nil); err == nil || !strings.Contains(err.Error(), "mon-fri 22:00-06:00") {
		t.Errorf("hours that cannot be read: %v", err)
	}
}

func TestTheLinksOfAMessageAnswerItsAlertAlone(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.monitor("ops.scans")
	d.monitor("ops.sales")
	d.webhook("pager")
	id, other := d.ring("ops.scans"), d.ring("ops.sales")
	d.quiet()
	token := d.Parts.Notifier.AnswerToken(id, "pager", d.Clock.Now().Add(time.Hour))
	address := d.Address + "/answer/" + token
	verdict := func(alert int64) string {
		var a httpapi.AlertDetail
		dbtest.Must(t, d.Admin.Get(t.Context(), fmt.Sprintf("/alerts/%d", alert), nil, &a))
		return string(a.Verdict)
	}
	for _, method := range []string{"GET", "HEAD"} { // a mail scanner
		request, err := http.NewRequest(method, address+"?as=noise", nil)
		dbtest.Must(t, err)
		r, err := http.DefaultClient.Do(request)
		if got := status(t, r, err); method == "GET" && got != 200 {
			t.Errorf("%s: %d", method, got)
		}
	}
	if got := verdict(id); got != "" {
		t.Fatalf("looking at the page labelled the alert %s", got)
	}
	r, err := http.PostForm(address, url.Values{"as": {"noise"}, "name": {"Ines"}, "note": {"a trip"}})
	if got := status(t, r, err); got != 200 || verdict(id) != "noise" || verdict(other) != "" {
		t.Errorf("%d: the alert is %q, the other %q", got, verdict(id), verdict(other))
	}
	var a httpapi.AlertDetail
	dbtest.Must(t, d.Admin.Get(t.Context(), fmt.Sprintf("/alerts/%d", id), nil, &a))
	if l := a.Labels[0]; l.Author != "Ines (by a link to pager)" || l.Note != "a trip" {
		t.Errorf("label: %+v", l)
	}
	for what, c := range map[string]struct {
		address, as string
		want        int
	}{
		"something else": {address, "delete", 422},
		"a changed link": {strings.Replace(address, fmt.Sprintf("/answer/%d.", id), fmt.Sprintf("/answer/%d.", other), 1), "fault", 403},
		"no link at all": {d.Address + "/answer/x", "fault", 403},
		"looking after":  {address, "take", 200},
		"an ended link": {d.Address + "/answer/" + d.Parts.Notifier.AnswerToken(other, "pager", d.Clock.Now().Add(-time.Second)),
			"fault", 410},
		"an alert unmade": {d.Address + "/answer/" + d.Parts.Notifier.AnswerToken(9999, "pager", d.Clock.Now().Add(time.Hour)), "fault", 404},
	} {
		r, err := http.PostForm(c.address, url.Values{"as": {c.as}})
		if got := status(t, r, err); got != c.want {
			t.Errorf("%s: %d, want %d", what, got, c.want)
		}
	}
	if verdict(other) != "" {
		t.Error("another alert was answered")
	}
	for address, want := range map[string]int{address + "/chart.png": 200, d.Address + "/answer/x/chart.png": 403} {
		r, err := http.Get(address)
		if got := status(t, r, err); got != want || want == 200 && r.Header.Get("Content-Type") != "image/png" {
			t.Errorf("%s: %d %s", address, got, r.Header.Get("Content-Type"))
		}
	}
	if open := d.groups("?state=open"); open[1].TakenBy != "somebody (by a link to pager)" &&
		open[0].TakenBy != "somebody (by a link to pager)" {
		t.Errorf("taken: %+v", open)
	}
}

func TestGroupsAreToldByHandSnoozedAndNeverTwice(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.monitor("ops.scans")
	d.webhook("pager")
	d.webhook("other", func(r *httpapi.NewRoute) { r.Severity = "critical" })
	d.ring("ops.scans", func(a *record.Alert) { a.FromHistory = true })
	if came := d.settle("/"); len(came) != 0 {
		t.Errorf("what was found in the past was told: %v", said(t, came))
	}
	g := d.groups("")[0]
	for range 2 {
		dbtest.Must(t, d.Admin.Send(t.Context(), "POST", fmt.Sprintf("/groups/%d/tell", g.ID), map[string]string{"channel": "other"}, nil))
		d.quiet()
	}
	same(t, "by hand", said(t, d.settle("/other")), "opened: Warning: ops.scans sends too little",
		"asked: Warning: ops.scans sends too little")
	if err := d.Admin.Send(t.Context(), "POST", fmt.Sprintf("/groups/%d/tell", g.ID), map[string]string{"channel": "nobody"},
		nil); !client.Missing(err) {
		t.Errorf("a channel that is not there: %v", err)
	}
	// What goes on of the past is news again, once.
	d.ring("ops.scans", func(a *record.Alert) { a.Cause = "stuck" })
	same(t, "it goes on", said(t, d.settle("/pager")), "opened: Warning: ops.scans sends too little (and 1 more)")
	if again := d.groups("?state=open"); len(again) != 1 || again[0].FromHistory {
		t.Errorf("groups: %+v", again)
	}
	var missing *client.Refused
	if err := d.Admin.Get(t.Context(), "/groups/77", nil, nil); !errors.As(err, &missing) || missing.Status != 404 {
		t.Errorf("a group that is not there: %v", err)
	}
}
