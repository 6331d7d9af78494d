package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// Exit codes, as the documentation lists them.
const (
	failed  = 1
	misused = 2
	missing = 3
)

func TestWhatTheServiceRefusesIsSaidInItsWordsWithItsOwnCode(t *testing.T) {
	t.Parallel()
	for status, code := range map[int]int{400: misused, 401: failed, 403: failed, 404: missing, 409: failed, 422: misused, 500: failed, 503: failed} {
		s := serve(t, answers{"GET /monitors": refused{status, "so it is"}})
		if r := s.run("monitor", "list"); r.code != code || r.problems != "so it is\n" || r.out != "" {
			t.Errorf("%d: code %d, not %d: %q %q", status, r.code, code, r.out, r.problems)
		}
	}
}

func TestWithoutAServiceItIsSaidWhereOneWasLookedFor(t *testing.T) {
	t.Parallel()
	s := serve(t, nil)
	s.Close()
	s.run("monitor", "list").isRefused(t, failed, "no answer from "+s.URL)
}

func TestACommandThatIsMisusedAsksForNothing(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ args, says string }{
		{"monitor list --output xml", "allowed are table, json and csv"},
		{"monitor list --zone Halifax", "the tz database does not know it"},
		{"monitor list extra", "1 argument given, wanted: nothing"},
		{"monitor lists", "lists"},
		{"monitor add gates", "NAME METRIC"},
		{"monitor rename gates", "nothing to change"},
		{"alert label 4", "give one or more alert ids"},
		{"alert label four fault", `"four" is no alert id`},
		{"incident of-alerts", "give at least one alert id"},
		{"incident of-alerts x", `"x" is no alert id`},
		{"incident merge I-1", "at least one other"},
		{"incident list --since yesterday", "neither a time"},
		{"incident add ops.sales Lost --started noon", "neither a time"},
		{"calendar add Night --from tomorrow", "write a time as"},
		{"calendar add Night --from 2026-12-01T01:00:00Z", "give --to, or --for"},
		{"calendar add Night --from 2026-12-01T01:00:00Z --to later", "--to \"later\""},
		{"sla set parcels landing.parcels --by 06:30", "give one of --rows, --loads and --files"},
		{"sla set parcels landing.parcels --rows 5 --files 2 --by 06:30", "give one of --rows, --loads and --files"},
		{"sla set parcels landing.parcels --rows 5", "and --by"},
		{"sla set parcels landing.parcels --rows 5 --by 6pm", "6pm"},
		{"channel set desk", "give either --email or --webhook"},
		{"channel set desk --email a@b.example --webhook https://c.example", "give either --email or --webhook"},
		{"tag add boarding", "nothing is named"},
		{"group part 12 forty", `alert "forty"`},
		{"group join 12 other", `group "other"`},
		{"group snooze 12 soon", "soon"},
	} {
		s := serve(t, nil)
		s.run(strings.Fields(c.args)...).isRefused(t, misused, c.says)
		if len(s.asked) > 0 {
			t.Errorf("%s: asked for %v", c.args, s.asked)
		}
	}
}

func TestAnEmptyListSaysHowSomethingComesIntoIt(t *testing.T) {
	t.Parallel()
	for path, c := range map[string]struct{ args, says string }{
		"/monitors":                   {"monitor list", "tinbell monitor add NAME METRIC"},
		"/incidents":                  {"incident list", "tinbell incident import FILE.csv"},
		"/planned-events":             {"calendar list", "tinbell calendar add"},
		"/planned-events/suggestions": {"calendar suggest", "Nothing that people called planned"},
		"/calendar-feeds":             {"calendar feeds", "tinbell calendar follow NAME ADDRESS"},
		"/slas":                       {"sla list", "tinbell sla set parcels"},
		"/channels":                   {"channel list", "tinbell channel set"},
		"/routes":                     {"route list", "nobody hears of alerts"},
		"/messages":                   {"message list", "No such message."},
		"/tags":                       {"tag list", "tinbell tag add"},
		"/notes":                      {"note list", "tinbell note add"},
		"/labels":                     {"label list", "Nothing was labelled yet."},
		"/group-answers":              {"group answers", "Nobody has said anything of groups."},
	} {
		s := serve(t, answers{"GET " + path: []object{}})
		s.sends(t, "GET", path, nil, strings.Fields(c.args)...).says(t, c.says)
		if r := s.run(append(strings.Fields(c.args), "--output", "json")...); strings.TrimSpace(r.out) != "[]" {
			t.Errorf("%s as JSON: %q", c.args, r.out)
		}
	}
}

func TestListsAreNarrowedSortedAndCutByTheService(t *testing.T) {
	t.Parallel()
	s := serve(t, answers{"GET /monitors": []object{}})
	s.sends(t, "GET", "/monitors", nil, "monitor", "list", "--dataset", "ops.sales", "--owner", "mara", "--sort", "-name", "--limit", "7", "--retired")
	if got, want := s.last(t).Query, "dataset=ops.sales&limit=7&owner=mara&retired=true&sort=-name"; got != want {
		t.Errorf("asked with %s, not %s", got, want)
	}
}

func TestMonitorsAreListedWithWhatTheyState(t *testing.T) {
	t.Parallel()
	monitor := func(name string, more object) object {
		m := object{"name": name, "metric": "gates-rows", "version": 3, "learned_at": "2026-06-17T09:00:00Z", "settings": object{
			"method": "seasonal", "direction": "low", "warn_seconds": 90 * 86400, "critical_seconds": 900 * 86400, "persist": 2, "of": 3}}
		for k, v := range more {
			m[k] = v
		}
		return m
	}
	later := time.Now().Add(time.Hour).UTC().Format(time.RFC3339)
	s := serve(t, answers{"GET /monitors": []object{
		monitor("gates", nil), monitor("new", object{"learned_at": nil}), monitor("off", object{"paused": true}),
		monitor("quiet", object{"snoozed_until": later}), monitor("woken", object{"snoozed_until": "2020-01-01T00:00:00Z"}),
		monitor("old", object{"retired_at": "2026-01-01T00:00:00Z", "paused": true}),
	}})
	r := s.sends(t, "GET", "/monitors", nil, "monitor", "list", "--wide", "--utc")
	r.says(t, "gates", "judging", "seasonal", "low", "once in 90 d", "once in 2", "2 of 3", "3", "17 Jun 09:00 UTC",
		"new", "being fitted", "not yet", "off", "paused", "quiet", "snoozed", "woken", "judging", "old", "retired")
}

func TestMonitorsAreAddedChangedAndRetired(t *testing.T) {
	t.Parallel()
	settings := object{"method": "seasonal", "direction": "both", "warn_seconds": 90 * 86400, "critical_seconds": 900 * 86400, "persist": 1, "of": 1}
	held := object{"name": "gates", "version": 4, "paused": true, "owner": "harbour", "settings": settings}
	s := serve(t, answers{"POST /monitors": held, "GET /monitors/gates": held, "PUT /monitors/gates": held, "PATCH /monitors/gates": held,
		"DELETE /monitors/gates": nil, "POST /monitors/gates/snooze": nil})
	s.sends(t, "POST", "/monitors", object{"name": "gates", "metric": "gates-rows", "owner": "harbour",
		"settings": object{"warn_seconds": 30 * 86400, "direction": "low", "persist": 2, "of": 3}},
		"monitor", "add", "gates", "gates-rows", "--warn", "30d", "--direction", "low", "--persist", "2 of 3", "--owner", "harbour").
		says(t, "Monitor gates added. By chance it will cry wolf about once in 90 d.")
	// What is not given stays, and so does that it is paused.
	s.sends(t, "PUT", "/monitors/gates", object{"version": 4, "paused": true, "settings": object{"warn_seconds": 7 * 86400, "direction": "both"}},
		"monitor", "set", "gates", "--warn", "7d")
	s.sends(t, "PUT", "/monitors/gates", object{"version": 4}, "monitor", "set", "gates", "--resume").
		says(t, "Monitor gates is now at version 4.")
	if body := s.last(t).Body.(map[string]any); body["paused"] == true {
		t.Errorf("it stays paused: %v", body)
	}
	s.run("monitor", "set", "gates").isRefused(t, misused, "nothing to change")
	s.run("monitor", "set", "gates", "--warn", "often").isRefused(t, misused, "often")
	s.sends(t, "PATCH", "/monitors/gates", object{"name": "doors", "owner": ""}, "monitor", "rename", "gates", "doors", "--owner", "").
		says(t, "It is gates, of harbour.")
	s.sends(t, "PATCH", "/monitors/gates", object{"retired": true}, "monitor", "retire", "gates").says(t, "gates is retired")
	s.sends(t, "PATCH", "/monitors/gates", object{"retired": false}, "monitor", "retire", "gates", "--back").says(t, "gates is needed again")
	s.sends(t, "POST", "/monitors/gates/snooze", object{"seconds": 4 * 3600}, "monitor", "snooze", "gates", "4h").says(t, "for 4 h")
	s.sends(t, "POST", "/monitors/gates/snooze", object{"seconds": 0}, "monitor", "snooze", "gates", "0s").says(t, "It is told again.")
}

func TestAlertsAreListedAndAnswered(t *testing.T) {
	t.Parallel()
	alert := func(id int, more object) object {
		a := object{"id": id, "raised_at": "2026-06-17T09:30:00Z", "zone": "America/Halifax", "period_seconds": 3600, "severity": "warning",
			"sentence": "gate 3 was low", "dataset": "raw.gate_events", "return_period_seconds": 60 * 86400}
		for k, v := range more {
			a[k] = v
		}
		return a
	}
	s := serve(t, answers{"POST /labels": nil, "GET /alerts": object{"alerts": []object{
		alert(4, nil), alert(5, object{"closed_at": "2026-06-17T12:00:00Z"}),
		alert(6, object{"verdict": "fault", "dataset": "", "source": "house", "return_period_seconds": 0}),
	}}})
	r := s.sends(t, "GET", "/alerts", nil, "alert", "list", "--wide", "--state", "open", "--monitor", "gates", "--tag", "night")
	r.says(t, "4", "17 Jun 06:30 ADT", "warning", "gate 3 was low", "raw.gate_events", "60 d", "open", "5", "unlabelled", "6", "house", "–", "fault")
	if got, want := s.last(t).Query, "limit=40&monitor=gates&state=open&tag=night"; got != want {
		t.Errorf("asked with %s, not %s", got, want)
	}
	s.sends(t, "POST", "/labels", object{"alerts": []int{4, 5}, "verdict": "fault", "cause": "hardware", "note": "router"},
		"alert", "label", "4", "5", "fault", "--cause", "hardware", "--note", "router")
	s.sends(t, "POST", "/labels", object{"alerts": []int{4}, "verdict": ""}, "alert", "label", "4", "none")
}

func TestAListAsCSVHasTheNamesOfTheAPI(t *testing.T) {
	t.Parallel()
	s := serve(t, answers{"GET /notes": []object{{"id": 7, "at": "2026-06-17T09:00:00Z", "text": "firmware, 4.2", "dataset": "", "author": "mara", "link": ""}}})
	r := s.sends(t, "GET", "/notes", nil, "note", "list", "--output", "csv")
	lines := strings.Split(strings.TrimSpace(r.out), "\n")
	if len(lines) != 2 || !strings.HasPrefix(lines[0], "id,") || !strings.Contains(lines[1], `"firmware, 4.2"`) {
		t.Errorf("CSV:\n%s", r.out)
	}
	s.sends(t, "GET", "/notes", nil, "note", "list", "--zone", "Asia/Tokyo").says(t, "7", "17 Jun 18:00 JST", "firmware, 4.2", "all", "mara", "–")
}

func TestIncidentsAreAddedMadeMergedAndSplit(t *testing.T) {
	t.Parallel()
	one := object{"reference": "I-41", "title": "Gate 3 sent nothing", "started_at": "2026-06-17T09:00:00Z", "zone": "UTC"}
	s := serve(t, answers{"POST /incidents": one, "POST /incidents/of-alerts": one, "POST /incidents/I-41/merge": one,
		"POST /incidents/I-41/split": []object{one, {"reference": "I-42"}}, "DELETE /incidents/I-41": nil,
		"GET /incidents": []object{{"reference": "I-41", "started_at": "2026-06-17T09:00:00Z", "dataset": "ops.sales", "also": []string{"ops.staff"},
			"title": "Lost", "severity": "critical"}}})
	s.sends(t, "POST", "/incidents", object{"dataset": "ops.sales", "title": "Lost", "started_at": "2026-06-17T10:00:00Z", "ended_at": "2026-06-17T14:00:00Z",
		"also": []string{"ops.staff"}, "severity": "critical", "downstream": true},
		"incident", "add", "ops.sales", "Lost", "--started", "2026-06-17T10:00:00Z", "--ended", "2026-06-17T14:00:00Z",
		"--also", "ops.staff", "--severity", "critical", "--downstream").says(t, "Incident I-41 added.")
	s.sends(t, "POST", "/incidents", object{"severity": "warning"}, "incident", "add", "ops.sales", "Lost", "--started", "2h")
	if body := s.last(t).Body.(map[string]any); body["ended_at"] != nil {
		t.Errorf("one that lasts was sent with an end: %v", body)
	}
	s.sends(t, "POST", "/incidents/of-alerts", object{"alerts": []int{4, 5}, "title": "Gate 3"}, "incident", "of-alerts", "4", "5", "--title", "Gate 3").
		says(t, "Incident I-41: Gate 3 sent nothing")
	s.sends(t, "POST", "/incidents/I-41/merge", object{"others": []string{"I-43", "I-44"}}, "incident", "merge", "I-41", "I-43", "I-44").
		says(t, "I-41 now begins 17 Jun 09:00 UTC.")
	s.sends(t, "POST", "/incidents/I-41/split", object{"at": "2026-06-17T12:00:00Z"}, "incident", "split", "I-41", "--at", "2026-06-17T12:00:00Z").
		says(t, "I-41 ends there; the rest is I-42.")
	s.sends(t, "DELETE", "/incidents/I-41", nil, "incident", "drop", "I-41")
	s.sends(t, "GET", "/incidents", nil, "incident", "list", "--wide", "--until", "2026-06-18T00:00:00Z").
		says(t, "I-41", "lasting", "ops.sales, ops.staff", "Lost", "critical")
	if got := s.last(t).Query; !strings.Contains(got, "to=2026-06-18T00%3A00%3A00Z") || strings.Contains(got, "from") {
		t.Errorf("asked with %s", got)
	}
}

func TestAFileIsSentAsItIsAndItsRefusedLinesAreNamed(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	file := filepath.Join(dir, "incidents.csv")
	text := "reference,dataset,title,started_at\nI-1,ops.sales,Lost,noon\n"
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	good := object{"added": 2, "replaced": 1, "refused": 0}
	bad := object{"added": 2, "replaced": 0, "refused": 1, "problems": []object{{"line": 2, "reason": "started_at: noon is no time"}}}
	s := serve(t, answers{"POST /incidents/import": good})
	s.sends(t, "POST", "/incidents/import", text, "incident", "import", file).says(t, "2 incidents added, 1 known already, 0 refused.")
	s = serve(t, answers{"POST /incidents/import": bad})
	r := s.run("incident", "import", file)
	r.isRefused(t, failed, "line 2: started_at: noon is no time")
	r.says(t, "2 incidents added, 0 known already, 1 refused.")
	s.run("incident", "import", filepath.Join(dir, "none.csv")).isRefused(t, missing, "none.csv")
}

func TestCalendarsAreFilledFollowedAndRemoved(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "harbour.ics")
	if err := os.WriteFile(file, []byte("BEGIN:VCALENDAR\r\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	s := serve(t, answers{
		"PUT /calendars/harbour": []object{{}, {}}, "POST /planned-events": []object{{}, {}, {}}, "DELETE /planned-events/a b": nil,
		"DELETE /calendars/harbour": nil, "POST /calendars/holidays": make([]object, 66),
		"PUT /calendars/harbour/feed":        object{"calendar": "harbour", "host": "calendar.example", "every_seconds": 21600},
		"POST /calendars/harbour/feed/fetch": object{"calendar": "harbour", "host": "calendar.example"},
		"POST /calendars/rota/feed/fetch":    object{"calendar": "rota", "failing_since": "2026-06-17T09:00:00Z", "message": "it answered 404"},
		"DELETE /calendars/harbour/feed":     nil,
	})
	s.sends(t, "PUT", "/calendars/harbour", "BEGIN:VCALENDAR\r\n", "calendar", "import", "harbour", file, "--effect", "widen").
		says(t, "Calendar harbour has 2 events.")
	if got := s.last(t).Query; got != "dataset=&effect=widen&empty=false" {
		t.Errorf("asked with %s", got)
	}
	s.sends(t, "POST", "/planned-events", object{"summary": "Night", "from": "2026-12-01T01:00:00Z", "to": "2026-12-01T04:00:00Z",
		"effect": "leave out", "repeat": "FREQ=WEEKLY", "zone": "America/Halifax"},
		"calendar", "add", "Night", "--from", "2026-12-01T01:00:00Z", "--for", "3h", "--effect", "leave out", "--repeat", "FREQ=WEEKLY",
		"--zone", "America/Halifax").says(t, "Added: Night, 3 times until two years from now.")
	s.sends(t, "POST", "/calendars/holidays", object{"country": "CA"}, "calendar", "holidays", "CA").says(t, "11 holidays, 66 from three years ago")
	s.sends(t, "DELETE", "/planned-events/a b", nil, "calendar", "drop", "a b").says(t, "Removed.")
	s.sends(t, "DELETE", "/calendars/harbour", nil, "calendar", "remove", "harbour").says(t, "what it concerned is fitted again")
	s.sends(t, "PUT", "/calendars/harbour/feed", object{"address": "https://calendar.example/a.ics", "every_seconds": 21600},
		"calendar", "follow", "harbour", "https://calendar.example/a.ics").says(t, "is read from calendar.example, and again every 6 h")
	s.sends(t, "POST", "/calendars/harbour/feed/fetch", nil, "calendar", "fetch", "harbour").says(t, "is as calendar.example has it")
	s.run("calendar", "fetch", "rota").isRefused(t, failed, "rota: it answered 404; the last good copy stays in force")
	s.sends(t, "DELETE", "/calendars/harbour/feed", nil, "calendar", "unfollow", "harbour").says(t, "its events stay")
}

func TestPlannedEventsOfNowAreListedAndAllWhereAskedFor(t *testing.T) {
	t.Parallel()
	event := func(name string, days int, more object) object {
		at := time.Now().AddDate(0, 0, days).UTC()
		e := object{"uid": name, "summary": name, "calendar": "by hand", "effect": "mute", "started_at": at.Format(time.RFC3339),
			"ended_at": at.Add(time.Hour).Format(time.RFC3339)}
		for k, v := range more {
			e[k] = v
		}
		return e
	}
	s := serve(t, answers{"GET /planned-events": []object{event("long-ago", -60, nil), event("lately", -20, nil),
		event("feast", 3, object{"calendar": "CA", "holiday": true}), event("far-ahead", 300, nil)}})
	r := s.run("calendar", "list", "--wide")
	r.says(t, "by hand", "lately", "mute", "lately", "CA", "feast", "holiday")
	if strings.Contains(r.out, "long-ago") || strings.Contains(r.out, "far-ahead") {
		t.Errorf("what is far away is listed:\n%s", r.out)
	}
	if strings.Count(r.out, "feast") != 1 { // what a calendar holds has no number to drop it by
		t.Errorf("a holiday can be dropped:\n%s", r.out)
	}
	s.run("calendar", "list", "--all", "--wide").says(t, "long-ago", "lately", "feast", "far-ahead")
}

func TestPromisesAreSetAndSaidInWords(t *testing.T) {
	t.Parallel()
	kept := object{"name": "parcels", "dataset": "landing.parcels", "counts": "files", "at_least": 5, "from_minute": 0, "to_minute": 390,
		"days": "mon-fri", "zone": "UTC", "standing": "behind", "have": 3, "probability": 0.42, "sentence": "parcels is behind",
		"next_to": "2026-06-18T06:30:00Z", "months": []object{{"month": "2026-05", "met": 19, "due": 21, "share": 0.9},
			{"month": "2026-06", "met": 11, "due": 12, "share": 0.92}},
		"windows": []object{{"day": "2026-06-15T00:00:00Z", "standing": "met", "have": 6, "at_least": 5, "met_at": "2026-06-15T05:10:00Z"},
			{"day": "2026-06-16T00:00:00Z", "standing": "missed", "have": 2, "at_least": 5}}}
	s := serve(t, answers{"GET /slas": []object{kept}, "POST /slas": kept, "DELETE /slas/parcels": nil})
	s.sends(t, "GET", "/slas", nil, "sla", "list", "--wide").says(t, "parcels", "landing.parcels", "5 files by 06:30, mon-fri", "behind",
		"3 of 5", "42 %", "18 Jun 06:30 UTC", "11 of 12", "30 of 33")
	s.sends(t, "GET", "/slas", nil, "sla", "show", "parcels").says(t, "parcels is behind.", "2026-05", "19", "21", "90 %",
		"Tue 16 Jun", "missed", "–", "Mon 15 Jun", "met", "15 Jun 05:10 UTC")
	s.sends(t, "POST", "/slas", object{"name": "evening", "dataset": "ops.sales", "counts": "rows", "at_least": 400, "from_minute": 17 * 60,
		"to_minute": 22 * 60, "lead_seconds": 7200, "days": "sat,sun"},
		"sla", "set", "evening", "ops.sales", "--rows", "400", "--from", "17:00", "--by", "22:00", "--lead", "2h", "--days", "sat,sun")
	// A window that ends before it begins ends on the next day.
	s.sends(t, "POST", "/slas", object{"from_minute": 22 * 60, "to_minute": 24*60 + 390},
		"sla", "set", "night", "ops.sales", "--loads", "1", "--from", "22:00", "--by", "06:30").says(t, "See how it was kept: tinbell sla show parcels")
	s.sends(t, "DELETE", "/slas/parcels", nil, "sla", "remove", "parcels").says(t, "SLA parcels is removed.")
	s.run("sla", "show", "none").isRefused(t, missing, "/slas/none")
}

func TestChannelsAreSetTriedAndTheirSecretsShownOnce(t *testing.T) {
	t.Parallel()
	own := filepath.Join(t.TempDir(), "body.json")
	if err := os.WriteFile(own, []byte(`{"t": "{{.Sentence}}"}`), 0o600); err != nil {
		t.Fatal(err)
	}
	s := serve(t, answers{
		"GET /channels": []object{
			{"name": "desk", "kind": "email", "settings": object{"to": []string{"a@b.example", "c@b.example"}}, "hourly_limit": 30},
			{"name": "pager", "kind": "webhook", "settings": object{"url": "https://pager.example/1", "form": "chat"}, "hourly_limit": 10,
				"message": "it answered 500", "failing_since": "2026-06-17T09:00:00Z"},
			{"name": "later", "kind": "email", "paused": true, "message": "x", "failing_since": "2026-06-17T09:00:00Z"}},
		"POST /channels":              object{"name": "pager", "secret": "whsec_1"},
		"POST /channels/desk/test":    object{"state": "sent", "id": "m1"},
		"POST /channels/pager/test":   object{"state": "waiting", "error": "no route to host"},
		"POST /channels/pager/rotate": object{"secret": "whsec_2", "old_until": "2026-06-18T09:00:00Z"},
		"POST /channels/pager/retry":  object{"messages": 3},
		"DELETE /channels/pager":      nil,
	})
	s.sends(t, "GET", "/channels", nil, "channel", "list", "--wide", "--utc").says(t, "desk", "email", "a@b.example, c@b.example", "reached",
		"pager", "webhook", "https://pager.example/1", "chat", "not reached since 17 Jun 09:00 UTC: it answered 500", "later", "paused")
	s.sends(t, "POST", "/channels", object{"name": "pager", "kind": "webhook", "settings": object{"url": "https://pager.example/1", "form": "own",
		"template": `{"t": "{{.Sentence}}"}`}, "headers": object{"Authorization": "Bearer x"}},
		"channel", "set", "pager", "--webhook", "https://pager.example/1", "--template", own, "--header", "Authorization=Bearer x").
		says(t, "whsec_1", "shown once", "tinbell channel test pager")
	s.sends(t, "POST", "/channels", object{"kind": "email", "settings": object{"to": []string{"a@b.example"}, "host": "smtp.b.example"}},
		"channel", "set", "desk", "--email", "a@b.example", "--host", "smtp.b.example", "--from", "bell@b.example")
	s.sends(t, "POST", "/channels/desk/test", nil, "channel", "test", "desk").says(t, "Arrived at desk as m1.")
	s.run("channel", "test", "pager").isRefused(t, failed, "pager could not be reached: no route to host")
	s.sends(t, "POST", "/channels/pager/rotate", nil, "channel", "rotate", "pager").says(t, "whsec_2", "Until 18 Jun 09:00 UTC")
	s.sends(t, "POST", "/channels/pager/retry", nil, "channel", "retry", "pager").says(t, "3 messages for pager are tried now.")
	s.sends(t, "DELETE", "/channels/pager", nil, "channel", "remove", "pager").says(t, "Channel pager is removed.")
	if r := s.run("channel", "rotate", "pager", "--quiet"); r.out != "whsec_2\n" {
		t.Errorf("quiet: %q", r.out) // a script reads the secret alone
	}
}

func TestRoutesSayWhoHearsOfWhat(t *testing.T) {
	t.Parallel()
	s := serve(t, answers{
		"GET /routes": []object{{"name": "all", "channel": "desk", "severity": "warning", "wait_seconds": 10},
			{"name": "nights", "channel": "pager", "severity": "critical", "datasets": []string{"ops.*"}, "owners": []string{"mara"},
				"tags": []string{"night"}, "hours": []string{"mon-fri 18:00-08:00"}, "remind_seconds": 14400, "escalate_seconds": 1800, "escalate_to": "desk"}},
		"POST /routes": object{"name": "nights", "channel": "pager"}, "DELETE /routes/nights": nil})
	s.sends(t, "GET", "/routes", nil, "route", "list", "--wide").says(t, "all", "desk", "all", "all", "all", "warning", "always", "10 s", "–", "–",
		"nights", "pager", "ops.*", "mara", "night", "critical", "mon-fri 18:00-08:00", "–", "4 h", "to desk after 30 min")
	s.sends(t, "POST", "/routes", object{"name": "nights", "channel": "pager", "remind_seconds": 14400, "escalate_seconds": 1800,
		"escalate_to": "desk", "wait_seconds": 0, "hours": []string{"mon-fri 18:00-08:00", "sat,sun 00:00-24:00"}, "no_recovery": true},
		"route", "set", "nights", "pager", "--remind", "4h", "--escalate", "30m", "--escalate-to", "desk", "--wait", "0",
		"--hours", "mon-fri 18:00-08:00", "--hours", "sat,sun 00:00-24:00", "--no-recovery").says(t, "Route nights leads to pager.")
	s.sends(t, "POST", "/routes", nil, "route", "set", "nights", "pager")
	if body := s.last(t).Body.(map[string]any); body["wait_seconds"] != nil {
		t.Errorf("a wait that was not given was sent: %v", body)
	}
	s.run("route", "set", "nights", "pager", "--remind", "often").isRefused(t, misused, "often")
	s.sends(t, "DELETE", "/routes/nights", nil, "route", "remove", "nights").says(t, "Route nights is removed.")
}

func TestMessagesAreShownAsTheyAreSent(t *testing.T) {
	t.Parallel()
	message := func(id, state string, more object) object {
		m := object{"id": id, "created_at": "2026-06-17T09:00:00Z", "channel": "desk", "what": "alert", "state": state, "attempts": 2, "subject": "gate 3"}
		for k, v := range more {
			m[k] = v
		}
		return m
	}
	s := serve(t, answers{
		"GET /messages":    []object{message("m1", "sent", object{"group_id": 12, "error": "first try"}), message("m2", "waiting", object{"error": "refused"})},
		"GET /messages/m1": message("m1", "sent", object{"body": object{"payload": `{"b":1}`}}),
		"GET /messages/m2": message("m2", "waiting", object{"body": object{"text": "gate 3 is silent"}}),
		"GET /messages/m3": message("m3", "waiting", object{"attempts": 1}),
	})
	r := s.sends(t, "GET", "/messages", nil, "message", "list", "--wide", "--utc", "--state", "waiting")
	r.says(t, "m1", "17 Jun 09:00 UTC", "desk", "alert", "sent", "2", "12", "gate 3", "m2", "waiting: refused", "–")
	if strings.Contains(r.out, "first try") {
		t.Error("what arrived is said to have failed")
	}
	s.run("message", "show", "m1").says(t, "alert to desk, sent after 2 attempts.", "{\n  \"b\": 1\n}")
	s.run("message", "show", "m2").says(t, "gate 3 is silent")
	s.run("message", "show", "m3").says(t, "after 1 attempt.", "It has not been written yet")
}

func TestGroupsAreTakenToldPartedAndJoined(t *testing.T) {
	t.Parallel()
	group := func(id int, more object) object {
		g := object{"id": id, "sentence": "gates fell silent", "severity": "critical", "alerts": 3, "place": "raw.gate_events", "zone": "UTC",
			"began_at": "2026-06-17T08:00:00Z", "opened_at": "2026-06-17T09:00:00Z", "taken_by": "mara"}
		for k, v := range more {
			g[k] = v
		}
		return g
	}
	s := serve(t, answers{
		"GET /groups": object{"groups": []object{group(12, nil), group(13, object{"closed_at": "2026-06-17T10:30:00Z", "taken_by": ""})}},
		"GET /groups/12": group(12, object{"members": []object{{"id": 4, "raised_at": "2026-06-17T09:00:00Z", "zone": "UTC", "severity": "warning",
			"sentence": "gate 3 is silent", "dataset": "raw.gate_events"}}}),
		"POST /groups/12/take": group(12, nil), "POST /groups/12/snooze": nil, "POST /groups/12/tell": object{"id": "m9"},
		"POST /groups/12/part": group(14, nil), "POST /groups/12/join": group(12, nil),
		"GET /group-answers": []object{{"at": "2026-06-17T09:00:00Z", "author": "mara", "group_id": 12, "other_id": 14, "says": "two faults", "alerts": []int{4, 5}}},
	})
	s.sends(t, "GET", "/groups", nil, "group", "list", "--wide", "--state", "open").says(t, "12", "17 Jun 09:00 UTC", "critical", "3",
		"gates fell silent", "raw.gate_events", "open", "mara", "13", "2 h 30 min", "–")
	s.sends(t, "GET", "/groups/12", nil, "group", "show", "12", "--wide").says(t, "gates fell silent.", "likely raw.gate_events", "mara", "no",
		"gate 3 is silent", "Nothing was told of it.")
	s.sends(t, "POST", "/groups/12/take", object{"back": false}, "group", "take", "12").says(t, "Group 12: mara looks after it.")
	s.sends(t, "POST", "/groups/12/take", object{"back": true}, "group", "take", "12", "--back").says(t, "nobody looks after it now")
	s.sends(t, "POST", "/groups/12/snooze", object{"seconds": 1800}, "group", "snooze", "12", "30m").says(t, "for 30 min")
	s.sends(t, "POST", "/groups/12/tell", object{"channel": "desk"}, "group", "tell", "12", "desk").says(t, "tinbell message show m9")
	s.sends(t, "POST", "/groups/12/part", object{"alerts": []int{4, 5}}, "group", "part", "12", "4", "5").says(t, "They are group 14 now")
	s.sends(t, "POST", "/groups/12/join", object{"group": 14}, "group", "join", "12", "14").says(t, "Group 12 has 3 alerts now")
	s.sends(t, "GET", "/group-answers", nil, "group", "answers", "--wide").says(t, "mara", "12", "14", "two faults", "4 5")
}

func TestTagsAreGivenAndTakenOff(t *testing.T) {
	t.Parallel()
	tag := object{"name": "boarding", "datasets": []string{"ops.boarding"}, "metrics": []string{}, "monitors": []string{"gates", "doors"},
		"open_alerts": 2, "channels": []string{"desk", "pager"}, "routes": []string{"nights"}}
	s := serve(t, answers{"GET /tags": []object{tag}, "GET /tags/boarding": tag, "PATCH /tags/boarding": tag, "DELETE /tags/boarding": nil})
	s.sends(t, "GET", "/tags", nil, "tag", "list").says(t, "boarding", "1", "0", "2", "2", "desk, pager")
	s.sends(t, "GET", "/tags/boarding", nil, "tag", "show", "boarding").says(t, "dataset", "ops.boarding", "monitor", "gates", "monitor", "doors",
		"route", "nights", "channel", "desk")
	s.sends(t, "PATCH", "/tags/boarding", object{"on": object{"datasets": []string{"ops.boarding*"}, "monitors": []string{"gates"}}},
		"tag", "add", "boarding", "--dataset", "ops.boarding*", "--monitor", "gates").says(t, "boarding: 1 dataset, 0 metrics, 2 monitors.")
	s.sends(t, "PATCH", "/tags/boarding", object{"off": object{"monitors": []string{"gates"}}}, "tag", "drop", "boarding", "--monitor", "gates")
}

func TestTheFilterSaysWhatItMayLose(t *testing.T) {
	t.Parallel()
	s := serve(t, answers{
		"GET /filter": object{"state": "shadow", "limit": 0.01, "labels": 40, "faults": 28, "noise": 12, "cut": 0.3, "right": 0.81, "held_now": 5,
			"held_faults": 1, "nightly": true, "checked": object{"from": "2026-05-01T00:00:00Z", "faults": 9, "faults_lost": 0, "noise": 6, "noise_held": 4}},
		"PATCH /filter": object{"state": "active", "limit": 0.02},
		"GET /alerts/4/held": object{"chance": 0.12, "cut": 0.3, "reasons": []object{{"push": 0.8, "theme": "ends by itself"}, {"push": -1.4, "theme": "small"}},
			"nearest": []object{{"id": 9, "verdict": "noise", "raised_at": "2026-06-01T09:00:00Z", "zone": "UTC", "sentence": "gate 1 was low"}}},
	})
	s.sends(t, "GET", "/filter", nil, "filter", "show", "--wide").says(t, "shadow", "1.0 % of faults", "40 labels: 28 faults, 12 noise", "30 %",
		"81 % of pairs", "lost 0 of 9 faults, held 4 of 6 noise, from 2026-05-01 on", "5 alerts held back, or would be; 1 fault", "yes")
	s.sends(t, "PATCH", "/filter", object{"state": "active", "limit": 0.02}, "filter", "on", "--limit", "0.02").
		says(t, "The filter is active; it may lose 2.0 % of faults.")
	s.sends(t, "PATCH", "/filter", object{"state": "off"}, "filter", "off")
	if body := s.last(t).Body.(map[string]any); body["limit"] != nil {
		t.Errorf("a limit that was not given was sent: %v", body)
	}
	s.run("filter", "off", "--limit", "0.1").isRefused(t, misused, "limit")
	s.sends(t, "GET", "/alerts/4/held", nil, "filter", "why", "4").says(t, "12 % sure", "under 30 %", "+0.8 for a fault", "ends by itself",
		"-1.4 for noise", "small", "9", "noise", "gate 1 was low")
}

func TestWhatTheQueueAsksIsListedWithWhatIsAlike(t *testing.T) {
	t.Parallel()
	s := serve(t, answers{"GET /label-queue": object{"sentence": "2 answers teach most.", "questions": []object{{"chance": 0.5, "alert": object{"id": 4,
		"raised_at": "2026-06-17T09:00:00Z", "zone": "UTC", "monitor": "gates", "sentence": "gate 3 was low"}, "alike": []object{{"id": 8}, {"id": 9}}}}}})
	s.sends(t, "GET", "/label-queue", nil, "label", "queue", "--wide", "--limit", "3", "--monitor", "gates").
		says(t, "4", "50 %", "17 Jun 09:00 UTC", "gates", "gate 3 was low", "8 9", "2 answers teach most.")
	if got := s.last(t).Query; got != "limit=3&monitor=gates" {
		t.Errorf("asked with %s", got)
	}
}

func TestAStretchWithoutAnAlertIsAnsweredByMetricAndSegment(t *testing.T) {
	t.Parallel()
	s := serve(t, answers{
		"GET /metrics/gates-rows": object{"name": "gates-rows", "dataset": "raw.gate_events"},
		"GET /datasets/raw.gate_events": object{"metrics": []object{{"name": "other", "series": []object{{"id": 1, "segment": "Fennick"}}},
			{"name": "gates-rows", "series": []object{{"id": 7, "segment": ""}, {"id": 8, "segment": "Fennick"}}}}},
		"POST /stretches": object{"id": 3, "incident": "I-44"},
	})
	args := []string{"label", "stretch", "gates-rows", "fault", "--from", "2026-06-18T09:00:00Z", "--to", "2026-06-18T15:00:00Z", "--note", "nothing came"}
	s.sends(t, "POST", "/stretches", object{"series_id": 7, "verdict": "fault", "note": "nothing came"}, args...).
		says(t, "Kept as incident I-44, which nobody was told of.")
	s.sends(t, "POST", "/stretches", object{"series_id": 8}, append(args, "--segment", "Fennick")...)
	s.run(append(args, "--segment", "Northmole")...).isRefused(t, missing, `no segment of gates-rows named "Northmole"`)
}
