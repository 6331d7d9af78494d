package service_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"tinbell/internal/client"
	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/people"
	"tinbell/internal/record"
	"tinbell/internal/service"
	"tinbell/internal/store"
)

// signedIn makes an account's token and gives who signs in with it.
func signedIn(t *testing.T, s *dbtest.Service, name, role string, more ...any) *client.Client {
	t.Helper()
	order := map[string]any{"name": name, "role": role}
	for i := 0; i+1 < len(more); i += 2 {
		order[more[i].(string)] = more[i+1]
	}
	var out struct{ Token string }
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/tokens", order, &out))
	return client.New(s.Address, out.Token)
}

// Every operation of the API says which role it needs, and lets that one and those above
// it in and nobody else: asked with nothing sensible, so that who is let in is told what is
// missing.
func TestEveryOperationIsForItsRoleAlone(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	text, err := httpapi.OpenAPI()
	dbtest.Must(t, err)
	var contract struct {
		Paths map[string]map[string]struct {
			ID   string `json:"operationId"`
			Role string `json:"x-role"`
		} `json:"paths"`
	}
	dbtest.Must(t, json.Unmarshal(text, &contract))
	tokens := map[string]string{}
	for _, role := range people.Roles {
		tokens[role] = signedIn(t, s, "one who is "+role, role).Token
	}
	open := map[string]bool{"sign-in": true, "ways-in": true}
	// Long answers and what would take the rights away that the test needs.
	passed := map[string]bool{"events": true, "set-role": true, "revoke-token": true, "remove-account": true}
	blank := regexp.MustCompile(`\{[a-z_]+\}`)
	asked := 0
	for path, methods := range contract.Paths {
		for method, operation := range methods {
			needed := operation.Role
			if needed == "" {
				if !open[operation.ID] {
					t.Errorf("%s %s says no role", method, path)
				}
				continue
			}
			if !slices.Contains(people.Roles, needed) {
				t.Errorf("%s %s needs the role %q", method, path, needed)
			}
			for _, role := range people.Roles {
				allowed := people.Allows(role, needed)
				if allowed && passed[operation.ID] {
					continue
				}
				request, err := http.NewRequestWithContext(t.Context(), strings.ToUpper(method),
					s.Address+blank.ReplaceAllString(path, "999999999"), nil)
				dbtest.Must(t, err)
				request.Header.Set("Authorization", "Bearer "+tokens[role])
				answer, err := http.DefaultClient.Do(request)
				dbtest.Must(t, err)
				answer.Body.Close()
				asked++
				if refused := answer.StatusCode == http.StatusForbidden; refused == allowed {
					t.Errorf("%s for %s by %s: %d", operation.ID, needed, role, answer.StatusCode)
				}
				if answer.StatusCode == http.StatusUnauthorized {
					t.Errorf("%s by %s: not signed in", operation.ID, role)
				}
			}
		}
	}
	if asked < 600 {
		t.Errorf("only %d requests were made", asked)
	}
}

// A responder answers and writes down, and sets up nothing.
func TestAResponderAnswersAndSetsUpNothing(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	dbtest.Must(t, s.Admin.Send(t.Context(), "PUT", "/logs/gates", map[string]string{"dataset": "raw.gates"}, nil))
	night := signedIn(t, s, "night watch", "responder")
	dbtest.Must(t, night.Send(t.Context(), "POST", "/incidents", httpapi.NewIncident{Dataset: "raw.gates",
		Title: "gates are silent", StartedAt: now.Add(-time.Hour), EndedAt: ptr(now)}, nil))
	for path, body := range map[string]any{"/logs/gates": map[string]any{"keep_samples": 0}} {
		if err := night.Send(t.Context(), "PATCH", path, body, nil); status(err) != 403 || !strings.Contains(err.Error(),
			"your role is responder") {
			t.Errorf("%s: %v", path, err)
		}
	}
}

// A token says at most what its account may, ends when it was to end, and tells when it was
// used; the last administrator stays one.
func TestATokenSaysNoMoreThanItsAccountAndEnds(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	board := signedIn(t, s, "administrator", "reader", "for", "wall board", "expires_seconds", 3600)
	dbtest.Must(t, board.Get(t.Context(), "/alerts", nil, nil))
	if err := board.Get(t.Context(), "/tokens", nil, nil); status(err) != 403 {
		t.Errorf("a reader's token of an administrator: %v", err)
	}
	signedIn(t, s, "Ines", "reader")
	err := s.Admin.Send(t.Context(), "POST", "/tokens", map[string]string{"name": "Ines", "role": "admin"}, nil)
	if status(err) != 409 || !strings.Contains(err.Error(), "Ines is there as reader") {
		t.Errorf("a token that says more than its account: %v", err)
	}
	var list []record.Token
	dbtest.Must(t, s.Admin.Get(t.Context(), "/tokens", nil, &list))
	i := slices.IndexFunc(list, func(v record.Token) bool { return v.For == "wall board" })
	if i < 0 || list[i].Role != "reader" || list[i].UsedAt == nil || list[i].ExpiresAt == nil ||
		!list[i].ExpiresAt.Equal(now.Add(time.Hour)) {
		t.Errorf("listed: %+v", list)
	}
	s.Clock.Set(now.Add(61 * time.Minute))
	if err := board.Get(t.Context(), "/alerts", nil, nil); status(err) != 401 {
		t.Errorf("after its end: %v", err)
	}
	// An account that becomes less takes its tokens along.
	editor := signedIn(t, s, "Tobin", "editor")
	dbtest.Must(t, s.Admin.Send(t.Context(), "PUT", "/accounts/Tobin/role", map[string]string{"role": "reader"}, nil))
	if err := editor.Send(t.Context(), "PATCH", "/logs/x", map[string]int{"keep_samples": 0}, nil); status(err) != 403 {
		t.Errorf("an editor who became a reader: %v", err)
	}
	if err := s.Admin.Send(t.Context(), "PUT", "/accounts/administrator/role", map[string]string{"role": "editor"},
		nil); status(err) != 409 || !strings.Contains(err.Error(), "last administrator") {
		t.Errorf("the last administrator: %v", err)
	}
	dbtest.Must(t, s.Admin.Get(t.Context(), "/tokens", nil, nil))
}

// With sign-in off a page from elsewhere changes nothing, with or without a content type,
// and a name that is pointed here is not answered.
func TestPagesFromElsewhereChangeNothing(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now, func(o *service.Options) { o.SignIn = false })
	ask := func(method, path, host string, headers map[string]string) int {
		t.Helper()
		request, err := http.NewRequestWithContext(t.Context(), method, s.Address+path, strings.NewReader(`{"name":"x","role":"admin"}`))
		dbtest.Must(t, err)
		if host != "" {
			request.Host = host
		}
		for k, v := range headers {
			request.Header.Set(k, v)
		}
		answer, err := http.DefaultClient.Do(request)
		dbtest.Must(t, err)
		answer.Body.Close()
		return answer.StatusCode
	}
	own := s.Address
	for _, c := range []struct {
		what, method, path, host string
		headers                  map[string]string
		want                     int
	}{
		{"a program", "POST", "/api/v1/tokens", "", map[string]string{"Content-Type": "application/json"}, 200},
		{"the console", "POST", "/api/v1/tokens", "", map[string]string{"Content-Type": "application/json", "Origin": own,
			"Sec-Fetch-Site": "same-origin"}, 200},
		{"a page of elsewhere", "POST", "/api/v1/tokens", "", map[string]string{"Content-Type": "application/json",
			"Origin": "https://elsewhere.example"}, 403},
		{"a page without content type", "POST", "/api/v1/tokens", "", map[string]string{"Origin": "https://elsewhere.example",
			"Sec-Fetch-Site": "cross-site"}, 403},
		{"a form of nowhere", "POST", "/api/v1/tokens", "", map[string]string{"Origin": "null", "Content-Type": "text/plain"}, 403},
		{"a line of a page", "POST", "/api/v1/logs?log=x", "", map[string]string{"Origin": "https://elsewhere.example",
			"Content-Type": "text/plain"}, 403},
		{"a name that is pointed here", "GET", "/api/v1/alerts", "rebound.example:80", nil, 421},
		{"localhost", "GET", "/api/v1/alerts", "localhost:7411", nil, 200},
		{"an address of another kind", "GET", "/api/v1/alerts", "[::1]:7411", nil, 200},
		{"a watcher of this process", "GET", "/livez", "anything.example", nil, 200},
	} {
		if got := ask(c.method, c.path, c.host, c.headers); got != c.want {
			t.Errorf("%s: %d, want %d", c.what, got, c.want)
		}
	}
	known := dbtest.Start(t, now, func(o *service.Options) { o.Public = "https://bell.harbour.example" })
	for host, want := range map[string]int{"bell.harbour.example": 401, "other.example": 421} {
		request, err := http.NewRequestWithContext(t.Context(), "GET", known.Address+"/api/v1/alerts", nil)
		dbtest.Must(t, err)
		request.Host = host
		answer, err := http.DefaultClient.Do(request)
		dbtest.Must(t, err)
		answer.Body.Close()
		if answer.StatusCode != want {
			t.Errorf("known under a public name, asked as %s: %d, want %d", host, answer.StatusCode, want)
		}
	}
}

// Processes that start at once on one directory keep secrets with one key; one with another
// key does not start, and says what to copy.
func TestSecretsOfADatabaseHaveOneKey(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	var wait sync.WaitGroup
	var mu sync.Mutex
	keys := map[string]bool{}
	for range 20 {
		wait.Go(func() {
			safe, err := people.OpenSafe(filepath.Join(folder, "secret.key"))
			if err != nil {
				t.Error(err)
				return
			}
			mu.Lock()
			defer mu.Unlock()
			keys[string(safe.Fingerprint())] = true
		})
	}
	wait.Wait()
	if left, _ := os.ReadDir(folder); len(keys) != 1 || len(left) != 1 {
		t.Errorf("%d keys, %d files", len(keys), len(left))
	}
	s := dbtest.Start(t, now)
	_, err := service.Start(t.Context(), service.Options{Dir: folder, Database: s.Database, Listen: "127.0.0.1:0", SignIn: true,
		Log: s.Parts.Log})
	if !errors.Is(err, service.ErrOtherKey) || !strings.Contains(err.Error(), "copy the file") {
		t.Errorf("with another key: %v", err)
	}
}

// A condition that would end its statement, or act, is refused when it is set; a login that
// may do more than read is warned of when it is tried.
func TestAConditionCannotActAndAMightyLoginIsWarnedOf(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	var added record.Source
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/sources", httpapi.NewSource{Name: "w", Address: s.NewDatabase(t)}, &added))
	if len(added.Warnings) != 1 || !strings.Contains(added.Warnings[0], "superuser") {
		t.Errorf("warned of: %v", added.Warnings)
	}
	at, err := url.Parse(s.Database)
	dbtest.Must(t, err)
	at.RawQuery = "default_query_exec_mode=simple_protocol"
	if err := s.Admin.Send(t.Context(), "POST", "/sources", httpapi.NewSource{Name: "x", Address: at.String()},
		nil); status(err) != 422 || !strings.Contains(err.Error(), "after the question mark only") {
		t.Errorf("how statements are sent: %v", err)
	}
	_, err = s.Parts.Store.DB.Exec(`create schema ops; create table ops.scans (at timestamptz, port text)`)
	dbtest.Must(t, err)
	_, err = s.Parts.Store.DB.Exec(`insert into ops.scans select $1::timestamptz - n * interval '1 minute', 'a' from generate_series(1, 3000) n`, now)
	dbtest.Must(t, err)
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/sources", httpapi.NewSource{Name: "own", Address: s.Database}, nil))
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/datasets", httpapi.NewDataset{Source: "own", Name: "ops.scans"}, nil))
	for filter, why := range map[string]string{"true); commit; create table ops.pwned(); --": "not opened",
		"pg_sleep(60) is null": "acts", "lo_create(4711) > 0": "acts"} {
		err := s.Admin.Send(t.Context(), "POST", "/metrics", httpapi.NewMetric{Dataset: "ops.scans", Name: "scans",
			Measure: "rows", TimeColumn: "at", EverySeconds: 300, PeriodSeconds: 3600, RowFilter: filter}, nil)
		if status(err) != 422 || !strings.Contains(err.Error(), why) {
			t.Errorf("%s: %v", filter, err)
		}
	}
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/metrics", httpapi.NewMetric{Dataset: "ops.scans", Name: "scans",
		Measure: "rows", TimeColumn: "at", EverySeconds: 300, PeriodSeconds: 3600, RowFilter: "port = 'a'"}, nil))
	err = s.Admin.Send(t.Context(), "POST", "/metrics", httpapi.NewMetric{Dataset: "ops.scans", Name: "cast",
		Measure: "expression", Expression: "sum(port::int)", TimeColumn: "at", EverySeconds: 300, PeriodSeconds: 3600}, nil)
	if status(err) != 422 || strings.Contains(err.Error(), `"a"`) || !strings.Contains(err.Error(), "not shown") {
		t.Errorf("a value of a row in an error: %v", err)
	}
	var there int
	dbtest.Must(t, s.Parts.Store.DB.Get(&there, `select count(*) from pg_class where relname = 'pwned'`))
	if there != 0 {
		t.Error("a condition made a table")
	}
}

// What is secret in a webhook's address is shown to nobody, stands readable in no column,
// and in no error; the channel is reached there all the same, also after it was changed as
// it is shown or written to a file.
func TestASecretInAWebhooksAddressIsShownToNobody(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	var asked []string
	hook := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { asked = append(asked, r.URL.String()) }))
	t.Cleanup(hook.Close)
	secretly := strings.Replace(hook.URL, "http://", "http://bell:s3cret@", 1) + "/hooks/T0AB12CD9X/in?token=hushhush"
	set := func(address string) (out httpapi.SetChannel, err error) {
		order := httpapi.NewChannel{Name: "chat", Kind: "webhook", Settings: record.ChannelSettings{URL: address}}
		return out, s.Admin.Send(t.Context(), "POST", "/channels", order, &out)
	}
	made, err := set(secretly)
	dbtest.Must(t, err)
	for range 2 {
		dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/channels/chat/test", nil, nil))
		_, err = set(made.Settings.URL)
		dbtest.Must(t, err)
	}
	if len(asked) != 2 || asked[0] != "/hooks/T0AB12CD9X/in?token=hushhush" || asked[1] != asked[0] {
		t.Errorf("asked was %v", asked)
	}
	hook.Close()
	said := fmt.Sprint(s.Admin.Send(t.Context(), "POST", "/channels/chat/test", nil, nil))
	var all any
	for _, path := range []string{"/channels", "/config", "/messages"} {
		dbtest.Must(t, s.Admin.Get(t.Context(), path, nil, &all))
		said += fmt.Sprint(all)
	}
	var row string
	dbtest.Must(t, s.Parts.Store.DB.Get(&row, `select string_agg(channel::text, ' ') from channel`))
	for _, secret := range []string{"s3cret", "T0AB12CD9X", "hushhush"} {
		if strings.Contains(said+row, secret) {
			t.Errorf("%q is shown: %s %s", secret, said, row)
		}
	}
	if !strings.Contains(said, "/hooks/…/in?token=…") {
		t.Errorf("what is no secret is shown: %s", said)
	}
	if _, err := set("https://elsewhere.example/…"); status(err) != 422 || !strings.Contains(err.Error(), "the whole address") {
		t.Errorf("an address that is not known: %v", err)
	}
}

// Every change is kept with who made it, from where, and what was there before and after,
// secrets masked; looking and pushing are not changes. An entry that is altered or removed,
// which the database refuses, is found by the seals of those after it.
func TestEveryChangeIsKeptAndSealed(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	editor := signedIn(t, s, "Tobin", "editor", "for", "tests")
	dbtest.Must(t, editor.Send(t.Context(), "PUT", "/logs/gates", map[string]string{"dataset": "raw.gates"}, nil))
	dbtest.Must(t, editor.Send(t.Context(), "PATCH", "/logs/gates", map[string]any{"watched": []string{"error"},
		"masked": []string{`/a\d"/`}}, nil))
	told(t, s, "log=gates", "text/plain", "INFO a line\n")
	order := httpapi.NewChannel{Name: "chat", Kind: "webhook",
		Settings: record.ChannelSettings{URL: "http://127.0.0.1:9/in?key=hushhush"}, Secret: "whsec_aHVzaGh1c2hodXNoaHVzaA==",
		Headers: map[string]string{"Authorization": "Bearer hushhush"}}
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/channels", order, nil))
	if err := editor.Send(t.Context(), "DELETE", "/channels/chat", nil, nil); status(err) != 403 {
		t.Fatal(err)
	}
	dbtest.Must(t, s.Admin.Send(t.Context(), "DELETE", "/channels/chat", nil, nil))
	var list []record.Audit
	dbtest.Must(t, s.Admin.Get(t.Context(), "/audit", nil, &list))
	said := ""
	for _, a := range slices.Backward(list) {
		said += a.Who + " " + a.What + " " + a.About + "; "
		if a.Origin != "127.0.0.1" || a.Request == "" || a.Role == "" {
			t.Errorf("from where: %+v", a)
		}
	}
	if said != "administrator make token tokens; Tobin add log logs/gates; Tobin set log logs/gates; administrator set channel channels; administrator drop channel channels/chat; " {
		t.Errorf("kept is: %s", said)
	}
	if set := list[2]; !strings.Contains(set.Note, "watched: [] → [ERROR]") || !strings.Contains(string(set.Before),
		`"watched":[]`) || !strings.Contains(string(set.After), `"watched":["ERROR"]`) {
		t.Errorf("what differs: %+v", set)
	}
	text, err := json.Marshal(list)
	dbtest.Must(t, err)
	if strings.Contains(string(text), "hushhush") || strings.Contains(string(text), "aHVzaG") || !strings.Contains(string(text), "masked") {
		t.Errorf("secrets are kept: %s", text)
	}
	dbtest.Must(t, s.Admin.Get(t.Context(), "/audit", url.Values{"who": {"Tobin"}, "what": {"set"}}, &list))
	if len(list) != 1 {
		t.Errorf("of one account and kind: %+v", list)
	}
	proof := func() (p store.Proof) {
		t.Helper()
		dbtest.Must(t, s.Admin.Get(t.Context(), "/audit/proof", nil, &p))
		return p
	}
	if p := proof(); p.Entries != 5 || p.Broken != 0 {
		t.Errorf("as it was written: %+v", p)
	}
	if _, err := s.Parts.Store.DB.Exec(`update audit set who = 'somebody'`); err == nil || !strings.Contains(err.Error(),
		"neither changed nor removed") {
		t.Errorf("an entry is altered: %v", err)
	}
	for statement, broken := range map[string]int64{`update audit set note = 'nothing' where id = 3`: 3,
		`delete from audit where id = 2`: 3} {
		tx, err := s.Parts.Store.DB.Beginx()
		dbtest.Must(t, err)
		_, err = tx.Exec(`alter table audit disable trigger all`)
		dbtest.Must(t, err)
		_, err = tx.Exec(statement)
		dbtest.Must(t, err)
		dbtest.Must(t, tx.Commit())
		if p := proof(); p.Broken != broken {
			t.Errorf("%s: the first that does not follow is %d, want %d", statement, p.Broken, broken)
		}
	}
}

// Many who change something at once are all kept, one sealed after another.
func TestChangesAtOnceAreSealedOneAfterAnother(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	dbtest.Must(t, s.Admin.Send(t.Context(), "PUT", "/logs/gates", map[string]string{"dataset": "raw.gates"}, nil))
	var wait sync.WaitGroup
	for i := range 40 {
		wait.Go(func() {
			if err := s.Admin.Send(t.Context(), "PATCH", "/logs/gates", map[string]int{"keep_samples": i % 20}, nil); err != nil {
				t.Error(err)
			}
		})
	}
	wait.Wait()
	var p store.Proof
	dbtest.Must(t, s.Admin.Get(t.Context(), "/audit/proof", nil, &p))
	if p.Entries != 41 || p.Broken != 0 {
		t.Errorf("%+v", p)
	}
}

// All secrets are kept with a new key while the service runs: it and others on the same
// directory go on, the old key opens none, and one that was killed before it put the key in
// its place does so when it starts again.
func TestTheKeyOfSecretsIsChangedWithoutAStop(t *testing.T) {
	t.Parallel()
	folder := dbtest.Folder(t)
	s := dbtest.Start(t, now, func(o *service.Options) { o.Dir = folder })
	path := filepath.Join(folder, "secret.key")
	old, err := os.ReadFile(path)
	dbtest.Must(t, err)
	other, err := service.Start(t.Context(), service.Options{Dir: folder, Database: s.Database, Listen: "127.0.0.1:0",
		SignIn: true, Now: s.Clock.Now, Log: s.Parts.Log})
	dbtest.Must(t, err)
	t.Cleanup(other.Stop)
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/sources", httpapi.NewSource{Name: "house", Address: s.NewDatabase(t)}, nil))
	channel := httpapi.NewChannel{Name: "chat", Kind: "webhook",
		Settings: record.ChannelSettings{URL: "http://127.0.0.1:9/in?key=hushhush"},
		Headers:  map[string]string{"Authorization": "Bearer hushhush"}}
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/channels", channel, nil))
	var done httpapi.Rekeyed
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/secrets/rekey", nil, &done))
	if done.Secrets != 4 { // a login, a signing secret, headers, an address
		t.Errorf("%d secrets", done.Secrets)
	}
	if now, err := os.ReadFile(path); err != nil || bytes.Equal(now, old) {
		t.Errorf("the key is the same: %v", err)
	}
	for who, c := range map[string]*client.Client{"this": s.Admin, "the other": client.New(other.Address, s.Token)} {
		if err := c.Get(t.Context(), "/sources/house/tables", nil, nil); err != nil {
			t.Errorf("%s process: %v", who, err)
		}
	}
	var login []byte
	dbtest.Must(t, s.Parts.Store.DB.Get(&login, `select login from source where name = 'house'`))
	elsewhere := filepath.Join(t.TempDir(), "secret.key")
	dbtest.Must(t, os.WriteFile(elsewhere, old, 0o600))
	before, err := people.OpenSafe(elsewhere)
	dbtest.Must(t, err)
	if _, err := before.Unlock(login); err == nil {
		t.Error("the old key opens what is kept since")
	}
	// Cut off between the database and the file: the new key lies beside the old.
	present, err := os.ReadFile(path)
	dbtest.Must(t, err)
	dbtest.Must(t, os.WriteFile(path, old, 0o600))
	dbtest.Must(t, os.WriteFile(path+".next", present, 0o600))
	again, err := service.Start(t.Context(), service.Options{Dir: folder, Database: s.Database, Listen: "127.0.0.1:0",
		SignIn: true, Now: s.Clock.Now, Log: s.Parts.Log})
	dbtest.Must(t, err)
	t.Cleanup(again.Stop)
	dbtest.Must(t, client.New(again.Address, s.Token).Get(t.Context(), "/sources/house/tables", nil, nil))
	if kept, err := os.ReadFile(path); err != nil || !bytes.Equal(kept, present) {
		t.Errorf("the key is not in its place: %v", err)
	}
}

// A mail server is dialled where the operator lets it be alone: the address is refused where
// it is decided, before anything is sent.
func TestMailGoesNowhereBeyondReach(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	for name, host := range map[string]string{"a": "169.254.169.254", "b": "100.100.100.200"} {
		for _, security := range []string{"none", "tls"} {
			settings := record.ChannelSettings{To: record.Strings{"night@ferries.example"}, From: "bell@ferries.example",
				Host: host, Port: 25, Security: security}
			dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/channels", httpapi.NewChannel{Name: name, Kind: "email",
				Settings: settings}, nil))
			var m record.Message
			err := s.Admin.Send(t.Context(), "POST", "/channels/"+name+"/test", nil, &m)
			if said := fmt.Sprint(err, m.Error); !strings.Contains(said, "never at link-local and metadata addresses") {
				t.Errorf("%s by %s: %s", host, security, said)
			}
		}
	}
}
