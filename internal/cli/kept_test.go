package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// gate is the exit code of a requirement that was not met.
const gate = 4

func TestNothingIsRemovedWithoutASecondWord(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ args, path, goes string }{
		{"source remove house", "/sources/house", "with all its datasets, metrics, samples and alerts"},
		{"monitor remove gates", "/monitors/gates", "with its alerts and what was said of them (retire keeps them)"},
		{"tag remove night", "/tags/night", "off everything that has it"},
	} {
		s := serve(t, answers{"DELETE " + c.path: nil})
		s.run(strings.Fields(c.args)...).isRefused(t, misused, c.goes+"; say --yes if you mean it")
		if len(s.asked) > 0 {
			t.Errorf("%s: asked for %v", c.args, s.asked)
		}
		s.sends(t, "DELETE", c.path, nil, append(strings.Fields(c.args), "--yes")...).says(t, "removed")
	}
}

func TestSourcesAreTriedAddedAndChanged(t *testing.T) {
	t.Parallel()
	s := serve(t, answers{
		"GET /sources": []object{{"name": "house", "kind": "postgres", "address": "postgres://db.example/house", "state": "reached"},
			{"name": "landing", "kind": "folder", "state": "failed", "message": "it is no folder"}},
		"POST /sources":        object{"name": "house", "address": "postgres://db.example/house", "warnings": []string{"the login may write"}},
		"POST /sources/try":    object{"address": "postgres://db.example/house", "warnings": []string{"the login may write"}},
		"PATCH /sources/house": object{"name": "house", "address": "postgres://db2.example/house"},
		"GET /sources/house/tables": []object{{"name": "ops.sales", "kind": "table", "rows": 12400, "bytes": 4_800_000,
			"time_columns": []string{"sold_at"}, "loaded_by": "loaded_at", "columns": []object{{}, {}}}, {"name": "ops.view", "kind": "view", "rows": -1}},
		"GET /sources/landing/files": []object{{"pattern": "parcels/{depot}/*.csv", "files": 412, "bytes": 12_400_000, "newest": "2026-06-17T05:10:00Z",
			"example": "parcels/north/a.csv"}},
	})
	s.sends(t, "GET", "/sources", nil, "source", "list", "--wide").says(t, "house", "postgres", "reached", "landing", "folder", "–", "failed", "it is no folder")
	s.sends(t, "POST", "/sources", object{"name": "house", "address": "postgres://reader:pw@db.example/house"},
		"source", "add", "house", "postgres://reader:pw@db.example/house").says(t, "Source house added: postgres://db.example/house")
	s.sends(t, "POST", "/sources/try", nil, "source", "try", "postgres://db.example/house").says(t, "It answers: postgres://db.example/house")
	s.run("source", "set", "house").isRefused(t, misused, "nothing to change")
	s.sends(t, "PATCH", "/sources/house", object{"address": "postgres://db2.example/house"}, "source", "set", "house", "--address",
		"postgres://db2.example/house").says(t, "Source house: postgres://db2.example/house")
	s.sends(t, "GET", "/sources/house/tables", nil, "source", "tables", "house", "--wide").says(t, "ops.sales", "table", "12,400", "4.8 MB", "sold_at",
		"loaded_at", "2", "ops.view", "view", "not counted", "–", "–", "0")
	s.sends(t, "GET", "/sources/landing/files", nil, "source", "files", "landing", "--wide").says(t, "parcels/{depot}/*.csv", "412", "12 MB",
		"17 Jun 05:10 UTC", "none yet", "parcels/north/a.csv")
}

func TestTasksAreListedAndSteered(t *testing.T) {
	t.Parallel()
	task := func(id int, state string, done, total int) object {
		return object{"id": id, "what": "backfill", "subject": "gates", "state": state, "done": done, "total": total,
			"started_at": "2026-06-17T09:00:00Z", "message": ""}
	}
	s := serve(t, answers{"GET /tasks": []object{task(3, "running", 30, 120), task(2, "done", 0, 0)},
		"POST /tasks/3/pause": task(3, "paused", 30, 120), "POST /tasks/3/resume": task(3, "running", 30, 120),
		"POST /tasks/3/cancel": task(3, "cancelled", 30, 120)})
	s.sends(t, "GET", "/tasks", nil, "task", "list", "--wide").says(t, "3", "backfill", "gates", "25 %", "running", "17 Jun 09:00 UTC", "2", "–", "done")
	for verb, is := range map[string]string{"pause": "paused", "resume": "running", "cancel": "cancelled"} {
		s.sends(t, "POST", "/tasks/3/"+verb, nil, "task", verb, "3").says(t, "Backfill 3 is "+is)
	}
}

func TestABackfillIsFollowedToItsEnd(t *testing.T) {
	t.Parallel()
	ends := func(state, message string) *standIn {
		return serve(t, answers{"POST /backfills": object{"task_id": 3},
			"GET /tasks/3": object{"id": 3, "what": "backfill", "subject": "gates", "state": state, "message": message, "done": 4, "total": 4}})
	}
	s := ends("done", "")
	r := s.run("metric", "backfill", "gates", "doors", "--since", "2w", "--quiet=false")
	r.says(t, "Measured back to 2w ago")
	if r.code != 0 || !holds(s.asked[0].Body, object{"metrics": []string{"gates", "doors"}, "since_seconds": 14 * 86400}) {
		t.Errorf("code %d: sent %v", r.code, s.asked[0].Body)
	}
	ends("failed", "permission denied").run("metric", "backfill", "gates").isRefused(t, failed, "backfill of gates failed: permission denied")
	ends("paused", "").run("metric", "backfill", "gates").isRefused(t, failed, "tinbell task resume 3")
	s = ends("running", "")
	s.run("metric", "backfill", "gates", "--wait=false").says(t, "Backfill 3 has begun. Follow it: tinbell task list")
	if len(s.asked) != 1 {
		t.Errorf("it was waited for: %v", s.asked)
	}
	s.run("metric", "backfill").isRefused(t, misused, "name at least one metric")
}

func TestJobsSayHowTheirRunsWent(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	lines := filepath.Join(dir, "events.ndjson")
	if err := os.WriteFile(lines, []byte("{\"a\":1}\n{\"a\":2}\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	s := serve(t, answers{
		"GET /jobs": []object{{"id": 3, "name": "load-gates", "writes": "raw.gate_events", "state": "complete", "last_at": "2026-06-17T09:00:00Z",
			"seconds": 95.0, "runs": 30, "failed": 1, "next": object{"deadline": "2026-06-18T09:30:00Z"}},
			{"id": 4, "name": "gone", "runs": 2, "failed": 0, "silent_since": "2026-06-16T09:00:00Z", "state": "complete"}},
		"GET /jobs/3/runs": []object{{"job": "load-gates", "state": "failed", "started_at": "2026-06-17T09:00:00Z", "ended_at": "2026-06-17T09:01:30Z",
			"rows": 1200, "bytes": 48_000, "message": "disk full"}, {"job": "load-gates", "state": "running"}},
		"POST /lineage": object{"events": 2},
	})
	s.sends(t, "GET", "/jobs", nil, "job", "list", "--wide").says(t, "3", "load-gates", "raw.gate_events", "17 Jun 09:00 UTC", "complete", "95 s", "30",
		"1", "18 Jun 09:30 UTC", "4", "gone", "–", "–", "silent", "–", "2", "0", "–")
	s.sends(t, "GET", "/jobs/3/runs", nil, "job", "runs", "3", "--wide").says(t, "failed", "90 s", "1,200", "48 kB", "disk full", "running", "–", "–", "–")
	s.sends(t, "POST", "/lineage", []object{{"a": 1}, {"a": 2}}, "job", "send", lines).says(t, lines+": 2 events")
	s.run("job", "send", filepath.Join(dir, "none")).isRefused(t, missing, "none")
}

func TestATokenIsPrintedAloneAndOnce(t *testing.T) {
	t.Parallel()
	s := serve(t, answers{"POST /tokens": object{"token": "tb_1"}, "POST /me/tokens": object{"token": "tb_2"}, "DELETE /tokens/4": nil,
		"PUT /accounts/Ines Vautrin/role": object{"name": "Ines Vautrin", "role": "responder"},
		"GET /tokens": []object{{"id": 4, "account": "wallboard", "role": "reader", "datasets": []string{"ops.*"}, "created_at": "2026-06-01T09:00:00Z",
			"expires_at": "2026-09-01T09:00:00Z"}, {"id": 5, "account": "mara", "role": "admin", "for": "notebook", "created_at": "2026-06-02T09:00:00Z",
			"used_at": "2026-06-17T09:00:00Z"}}})
	r := s.sends(t, "POST", "/tokens", object{"name": "wallboard", "role": "reader", "expires_seconds": 90 * 86400, "datasets": []string{"ops.*"}},
		"token", "make", "wallboard", "--role", "reader", "--expires", "90d", "--datasets", "ops.*")
	if r.out != "tb_1\n" {
		t.Errorf("made: %q", r.out)
	}
	s.sends(t, "POST", "/me/tokens", object{"for": "my notebook"}, "token", "own", "--for", "my notebook")
	if body := s.last(t).Body.(map[string]any); body["role"] != nil || body["expires_seconds"] != nil {
		t.Errorf("what was not given was sent: %v", body)
	}
	s.run("token", "make", "x", "--expires", "soon").isRefused(t, misused, "soon")
	s.sends(t, "GET", "/tokens", nil, "token", "list", "--wide").says(t, "4", "wallboard", "reader", "ops.*", "–", "1 Jun", "1 Sep", "never",
		"5", "mara", "admin", "all datasets", "notebook", "2 Jun", "never", "17 Jun 09:00 UTC")
	s.sends(t, "DELETE", "/tokens/4", nil, "token", "revoke", "4").says(t, "Token 4 is revoked.")
	s.sends(t, "PUT", "/accounts/Ines Vautrin/role", object{"role": "responder"}, "token", "role", "Ines Vautrin", "responder").
		says(t, "Ines Vautrin is responder.")
}

func TestAccountsTeamsAndSessionsAreLookedAfter(t *testing.T) {
	t.Parallel()
	s := serve(t, answers{
		"GET /accounts": []object{{"name": "mara", "role": "admin", "teams": []string{"harbour", "ports"}, "password": true, "provider": true, "tokens": 1,
			"used_at": "2026-06-17T09:00:00Z"}, {"name": "loader", "role": "editor", "datasets": []string{"raw.*"}}},
		"PUT /accounts/loader": object{"name": "loader"}, "PUT /accounts/mara/password": nil, "DELETE /accounts/loader": nil,
		"GET /teams":         []object{{"name": "harbour", "role": "editor", "datasets": []string{"tag:harbour"}, "members": []string{"mara", "jon"}}},
		"PUT /teams/harbour": nil, "DELETE /teams/harbour": nil,
		"GET /sessions": []object{{"id": 3, "account": "mara", "by": "password", "origin": "192.0.2.7", "created_at": "2026-06-16T09:00:00Z",
			"used_at": "2026-06-17T09:00:00Z"}},
		"DELETE /sessions/3": nil, "DELETE /sessions": nil,
	})
	s.sends(t, "GET", "/accounts", nil, "account", "list", "--wide").says(t, "mara", "admin", "all datasets", "harbour, ports", "password, provider, 1 token",
		"17 Jun 09:00 UTC", "loader", "editor", "raw.*", "–", "–", "never")
	s.sends(t, "PUT", "/accounts/loader", object{"role": "editor", "datasets": []string{"raw.*"}}, "account", "put", "loader", "--role", "editor",
		"--datasets", "raw.*").says(t, "loader is editor in raw.*.")
	s.sends(t, "PUT", "/accounts/mara/password", object{"password": ""}, "account", "password", "mara", "--none").says(t, "mara has no password any more.")
	s.sends(t, "DELETE", "/accounts/loader", nil, "account", "remove", "loader").says(t, "loader is removed.")
	s.sends(t, "GET", "/teams", nil, "team", "list", "--wide").says(t, "harbour", "editor", "tag:harbour", "mara, jon")
	s.sends(t, "PUT", "/teams/harbour", object{"role": "editor", "members": []string{"mara", "jon"}}, "team", "set", "harbour", "--role", "editor",
		"--members", "mara,jon").says(t, "harbour gives the role editor in all datasets to 2 accounts.")
	s.sends(t, "DELETE", "/teams/harbour", nil, "team", "remove", "harbour")
	s.sends(t, "GET", "/sessions", nil, "session", "list", "--all", "--wide").says(t, "3", "mara", "password", "192.0.2.7", "–", "16 Jun", "17 Jun")
	if got := s.last(t).Query; got != "all=true" {
		t.Errorf("asked with %s", got)
	}
	s.sends(t, "DELETE", "/sessions/3", nil, "session", "end", "3").says(t, "Session 3 is signed out.")
	s.sends(t, "DELETE", "/sessions", nil, "session", "end").says(t, "All your browsers are signed out.")
}

// card is the figures of one monitor or of all.
func card(name string, precision, recall float64) object {
	of := func(v float64) object {
		return object{"estimate": v, "low": v - 0.1, "high": min(v+0.1, 1), "k": 8, "n": 10}
	}
	return object{"monitor": name, "name": name, "precision": of(precision), "recall": of(recall), "faults": 8, "noise": 2, "unlabelled": 5,
		"delay_seconds": object{"estimate": 5400}, "false_alarms_per_week": of(0.2), "stated_seconds": 90 * 86400,
		"achieved": object{"seconds": 60 * 86400, "shortest_seconds": 20 * 86400, "longest_seconds": 400 * 86400}}
}

func TestTheScorecardIsATableAndAGate(t *testing.T) {
	t.Parallel()
	s := serve(t, answers{"GET /scorecard": object{"from": "2026-05-01T00:00:00Z", "to": "2026-06-01T00:00:00Z",
		"monitors": []object{card("gates", 0.8, 0.9)}, "overall": card("", 0.8, 0.7)}})
	r := s.sends(t, "GET", "/scorecard", nil, "score", "--since", "2026-05-01T00:00:00Z", "--tag", "night", "--wide")
	r.says(t, "gates", "0.80 (0.70–0.90)", "8 of 10", "5", "8 of 10", "0.90 (0.80–1.00)", "90 min",
		"0.20 (0.10–0.30)", "1 in 90 d", "1 in 60 d (20 d–1.1 y)",
		"all together", "0.70 (0.60–0.80)")
	if got := s.last(t).Query; got != "from=2026-05-01T00%3A00%3A00Z&tag=night" {
		t.Errorf("asked with %s", got)
	}
	if r := s.run("score", "--require", "precision=0.8", "--require", "recall=0.7"); r.code != 0 {
		t.Errorf("what is reached is refused: %d %s", r.code, r.problems)
	}
	s.run("score", "--require", "recall=0.71").isRefused(t, gate, "recall is 0.700 (0.600–0.800), required is 0.71")
	s.run("score", "--require", "delay=1h").isRefused(t, misused, "write precision=0.8 or recall=0.9")
	s.run("score", "--require", "recall=most").isRefused(t, misused, "write precision=0.8 or recall=0.9")
	s.run("score", "--by", "weather").isRefused(t, misused, "allowed are monitor, dataset, measure")
}

func TestTheScorecardStandsBesideAnEarlierOne(t *testing.T) {
	t.Parallel()
	s := serve(t, answers{"GET /scorecard": object{"from": "2026-05-01T00:00:00Z", "to": "2026-06-01T00:00:00Z", "by": "dataset",
		"groups": []object{card("ops.sales", 0.8, 0.9), card("", 0.5, 0.4)}, "monitors": []object{card("gates", 0.8, 0.9)}, "overall": card("", 0.8, 0.7)}})
	s.run("score", "--by", "dataset", "--compare", "60d", "--wide").says(t, "dataset", "ops.sales", "(whole)", "all together",
		"From 2026-05-01 to 2026-06-01, beside 2026-05-01 to 2026-06-01:", "precision", "0.80", "0.70 to 0.90", "recall", "0.70", "false alarms a week")
	if got := s.last(t).Query; !strings.Contains(got, "to=2026-05-01T00%3A00%3A00Z") { // it ends where this one begins
		t.Errorf("the earlier one was asked for with %s", got)
	}
	file := filepath.Join(t.TempDir(), "score.html")
	s.run("score", "--html", file).says(t, "Written to "+file)
	if text, err := os.ReadFile(file); err != nil || !strings.Contains(string(text), "gates") {
		t.Errorf("the report: %v\n%.200s", err, text)
	}
}

func TestSegmentsHaveSettingsOfTheirOwn(t *testing.T) {
	t.Parallel()
	monitor := object{"name": "gates", "version": 5, "settings": object{"segments": []object{
		{"segment": "Fennick", "warn_seconds": 90 * 86400, "direction": "low", "owner": "ports", "note": "quiet in winter"},
		{"segment": "kiosk / *", "muted": true}}}}
	s := serve(t, answers{"GET /monitors/gates": monitor, "PUT /monitors/gates/segments": monitor, "DELETE /monitors/gates/segments": monitor})
	s.sends(t, "GET", "/monitors/gates", nil, "monitor", "segment", "list", "gates", "--wide").says(t, "Fennick", "90 d", "ports", "quiet in winter",
		"kiosk / *", "muted", "–", "–")
	// What is not given stays as it is.
	s.sends(t, "PUT", "/monitors/gates/segments", object{"segment": "Fennick", "warn_seconds": 90 * 86400, "direction": "both", "owner": "ports", "lowest": 40},
		"monitor", "segment", "set", "gates", "Fennick", "--direction", "both", "--lowest", "40")
	s.sends(t, "PUT", "/monitors/gates/segments", object{"segment": "new", "muted": true}, "monitor", "segment", "set", "gates", "new", "--muted")
	s.sends(t, "DELETE", "/monitors/gates/segments", nil, "monitor", "segment", "remove", "gates", "kiosk / *").
		says(t, "kiosk / * has the settings of gates again")
	if got := s.last(t).Query; got != "segment=kiosk+%2F+%2A" {
		t.Errorf("asked with %s", got)
	}
	s.run("monitor", "segment", "set", "gates", "Fennick", "--warn", "often").isRefused(t, misused, "often")
}
