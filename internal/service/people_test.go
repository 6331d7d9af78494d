package service_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"tinbell/internal/client"
	"tinbell/internal/dbtest"
	"tinbell/internal/people"
	"tinbell/internal/record"
	"tinbell/internal/service"
	"tinbell/internal/sink"
	"tinbell/internal/store"
)

// browser is what people look at the console with: it keeps cookies.
type browser struct {
	*testing.T
	http.Client
	at string
}

func newBrowser(t *testing.T, s *dbtest.Service) *browser {
	jar, err := cookiejar.New(nil)
	dbtest.Must(t, err)
	return &browser{t, http.Client{Jar: jar}, s.Address}
}

// ask sends a request and gives its status and body.
func (b *browser) ask(method, path string, v any) (int, string) {
	b.Helper()
	var text []byte
	if v != nil {
		text, _ = json.Marshal(v)
	}
	request, err := http.NewRequestWithContext(b.Context(), method, b.at+path, bytes.NewReader(text))
	dbtest.Must(b, err)
	if v != nil {
		request.Header.Set("Content-Type", "application/json")
	}
	answer, err := b.Do(request)
	dbtest.Must(b, err)
	defer answer.Body.Close()
	said, err := io.ReadAll(answer.Body)
	dbtest.Must(b, err)
	return answer.StatusCode, string(said)
}

// secret is the session's secret as the browser has it.
func (b *browser) secret() string {
	at, _ := url.Parse(b.at)
	for _, c := range b.Jar.Cookies(at) {
		if c.Name == "tinbell_session" {
			return c.Value
		}
	}
	return ""
}

func (b *browser) keep(secret string) {
	at, _ := url.Parse(b.at)
	b.Jar.SetCookies(at, []*http.Cookie{{Name: "tinbell_session", Value: secret, Path: "/"}})
}

const good = "ferries at dawn 7"

// person makes an account with a password.
func person(t *testing.T, s *dbtest.Service, name, role string, datasets ...string) {
	t.Helper()
	dbtest.Must(t, s.Admin.Send(t.Context(), "PUT", "/accounts/"+url.PathEscape(name),
		map[string]any{"role": role, "datasets": datasets}, nil))
	dbtest.Must(t, s.Admin.Send(t.Context(), "PUT", "/accounts/"+url.PathEscape(name)+"/password",
		map[string]string{"password": good}, nil))
}

func TestASessionTurnsItsSecretAndEnds(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now, func(o *service.Options) { o.Stays = store.Stays{Idle: 24 * time.Hour, Longest: 72 * time.Hour} })
	person(t, s, "Ines", "responder")
	b := newBrowser(t, s)
	if status, said := b.ask("POST", "/api/v1/session", map[string]string{"name": "Ines", "password": good}); status != 200 ||
		!strings.Contains(said, `"role":"responder"`) {
		t.Fatalf("%d %s", status, said)
	}
	first := b.secret()
	in := func(b *browser) bool { status, _ := b.ask("GET", "/api/v1/me", nil); return status == 200 }
	if !in(b) || b.secret() != first {
		t.Error("the secret changes at once")
	}
	s.Clock.Set(now.Add(20 * time.Minute))
	if !in(b) || b.secret() == first {
		t.Error("the secret stays after 20 minutes")
	}
	// An answer that never came: the old secret is good until the new one has come.
	second := b.secret()
	b.keep(first)
	if s.Clock.Set(now.Add(22 * time.Minute)); !in(b) {
		t.Error("a browser whose answer was lost is signed out")
	}
	if third := b.secret(); third == first || third == second {
		t.Error("it is not given a new one")
	}
	// Who has a secret that was replaced and used is somebody else: the session ends for both.
	in(b)
	thief := newBrowser(t, s)
	thief.keep(first)
	if s.Clock.Set(now.Add(24 * time.Minute)); in(thief) {
		t.Error("a replaced secret lets in")
	}
	if in(b) {
		t.Error("the session goes on though its secret was used twice")
	}
	// Unused for a day, and after three days in any case.
	b.ask("POST", "/api/v1/session", map[string]string{"name": "Ines", "password": good})
	s.Clock.Set(now.Add(49 * time.Hour))
	if in(b) {
		t.Error("a session unused for a day goes on")
	}
	b.ask("POST", "/api/v1/session", map[string]string{"name": "Ines", "password": good})
	for h := range 4 {
		s.Clock.Set(now.Add(time.Duration(49+20*h) * time.Hour))
		if !in(b) {
			t.Fatalf("after %d hours of use", 20*h)
		}
	}
	if s.Clock.Set(now.Add((49 + 73) * time.Hour)); in(b) {
		t.Error("a session lasts longer than the longest")
	}
}

func TestSigningOutEverywhereEndsAllBrowsersButNotTheTokens(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	person(t, s, "Ines", "reader")
	token := signedIn(t, s, "Ines", "reader")
	phone, desk, other := newBrowser(t, s), newBrowser(t, s), newBrowser(t, s)
	for _, b := range []*browser{phone, desk} {
		b.ask("POST", "/api/v1/session", map[string]string{"name": "Ines", "password": good})
	}
	other.ask("POST", "/api/v1/session", map[string]string{"token": s.Token})
	var list []record.Session
	_, said := desk.ask("GET", "/api/v1/sessions", nil)
	dbtest.Must(t, json.Unmarshal([]byte(said), &list))
	if len(list) != 2 || !list[0].Here && !list[1].Here || list[0].By != "password" || list[0].Origin != "127.0.0.1" {
		t.Errorf("%+v", list)
	}
	if status, _ := desk.ask("GET", "/api/v1/sessions?all=true", nil); status != 403 {
		t.Errorf("a reader sees everybody's: %d", status)
	}
	var all []record.Session
	dbtest.Must(t, s.Admin.Get(t.Context(), "/sessions?all=true", nil, &all))
	if len(all) != 3 {
		t.Errorf("%+v", all)
	}
	if status, _ := desk.ask("DELETE", fmt.Sprintf("/api/v1/sessions/%d", all[len(all)-1].ID+5), nil); status != 404 {
		t.Errorf("a session that is nobody's: %d", status)
	}
	if status, _ := desk.ask("DELETE", "/api/v1/sessions", nil); status/100 != 2 {
		t.Errorf("%d", status)
	}
	for b, want := range map[*browser]int{phone: 401, desk: 401, other: 200} {
		if status, _ := b.ask("GET", "/api/v1/me", nil); status != want {
			t.Errorf("%d, want %d", status, want)
		}
	}
	dbtest.Must(t, token.Get(t.Context(), "/me", nil, nil))
	// A browser that signed in with a token is signed out with it.
	dbtest.Must(t, s.Admin.Send(t.Context(), "PUT", "/accounts/Tobin", map[string]any{"role": "admin"}, nil))
	tobin := signedIn(t, s, "Tobin", "admin")
	var tokens []record.Token
	dbtest.Must(t, tobin.Get(t.Context(), "/tokens", nil, &tokens))
	dbtest.Must(t, tobin.Send(t.Context(), "DELETE", fmt.Sprintf("/tokens/%d", tokens[len(tokens)-1].ID), nil, nil))
	if status, _ := other.ask("GET", "/api/v1/me", nil); status != 401 {
		t.Errorf("its token is taken back: %d", status)
	}
}

func TestWrongPasswordsMakeWaitAndKeepNobodyElseOut(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now, func(o *service.Options) { o.TrustedProxies = loopbackRange })
	person(t, s, "Ines", "editor")
	try := func(from, name, password string) int {
		b := newBrowser(t, s)
		b.Transport = heading{"X-Forwarded-For": from}
		status, _ := b.ask("POST", "/api/v1/session", map[string]string{"name": name, "password": password})
		return status
	}
	if got := try("198.51.100.1", "Ines", good); got != 200 {
		t.Fatalf("%d", got)
	}
	for n := range 5 {
		if got := try("203.0.113.9", "Ines", "wrong and wrong again"); got != 401 {
			t.Fatalf("try %d: %d", n, got)
		}
	}
	if got := try("203.0.113.9", "Ines", good); got != 429 {
		t.Errorf("the right one after five wrong ones, at once: %d", got)
	}
	if got := try("198.51.100.1", "Ines", good); got != 200 {
		t.Errorf("somebody else is kept out by it: %d", got)
	}
	s.Clock.Set(now.Add(11 * time.Second))
	if got := try("203.0.113.9", "Ines", good); got != 200 {
		t.Errorf("after waiting: %d", got)
	}
	// One address under many names; of IPv6 a network is one.
	for n := range 50 {
		try(fmt.Sprintf("2001:db8:1:2::%x", n+1), fmt.Sprintf("guess %d", n), "whatever it may be")
	}
	if got := try("2001:db8:1:2::ffff", "another", "whatever it may be"); got != 429 {
		t.Errorf("fifty names from one network: %d", got)
	}
	// A name from a hundred addresses: where she has signed in before she still can.
	for n := range 100 {
		try(fmt.Sprintf("192.0.2.%d", n+1), "Ines", "wrong and wrong again")
	}
	if got := try("192.0.2.250", "Ines", good); got != 429 {
		t.Errorf("from nowhere she was: %d", got)
	}
	if got := try("198.51.100.1", "Ines", good); got != 200 {
		t.Errorf("from where she was: %d", got)
	}
	// What is not there is refused as what is.
	var kept string
	dbtest.Must(t, s.Parts.Store.DB.QueryRow(`select password from account where name = 'Ines'`).Scan(&kept))
	if !strings.HasPrefix(kept, "$argon2id$") || strings.Contains(kept, good) {
		t.Errorf("kept as %q", kept)
	}
}

var loopbackRange = []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}

type heading map[string]string

func (h heading) RoundTrip(r *http.Request) (*http.Response, error) {
	r = r.Clone(r.Context())
	for name, value := range h {
		r.Header.Set(name, value)
	}
	return http.DefaultTransport.RoundTrip(r)
}

func TestPasswordsThatAreEasilyGuessedAreRefusedAndChangingOneSignsOut(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	person(t, s, "Ines", "reader")
	for _, bad := range []string{"short", "ines loves ferries", "aaaaaaaaaaaaaaaa", "tinbell-tinbell",
		strings.Repeat("long ", 50), "my Password is this"} {
		if err := s.Admin.Send(t.Context(), "PUT", "/accounts/Ines/password", map[string]string{"password": bad},
			nil); status(err) != 422 || strings.Contains(err.Error(), bad) {
			t.Errorf("%q: %v", bad, err)
		}
	}
	one, two := newBrowser(t, s), newBrowser(t, s)
	for _, b := range []*browser{one, two} {
		b.ask("POST", "/api/v1/session", map[string]string{"name": "Ines", "password": good})
	}
	if status, _ := one.ask("PUT", "/api/v1/me/password", map[string]string{"password_before": "not this one",
		"password": "harbours by night 3"}); status != 401 {
		t.Errorf("without the one before: %d", status)
	}
	if status, said := one.ask("PUT", "/api/v1/me/password", map[string]string{"password_before": good,
		"password": "harbours by night 3"}); status/100 != 2 {
		t.Errorf("%d %s", status, said)
	}
	if status, _ := one.ask("GET", "/api/v1/me", nil); status != 200 {
		t.Errorf("the browser that asked: %d", status)
	}
	if status, _ := two.ask("GET", "/api/v1/me", nil); status != 401 {
		t.Errorf("the other browser: %d", status)
	}
	var trail []record.Audit
	dbtest.Must(t, s.Admin.Get(t.Context(), "/audit?limit=50", nil, &trail))
	text, _ := json.Marshal(trail)
	if strings.Contains(string(text), good) || strings.Contains(string(text), "harbours") {
		t.Errorf("a password stands in the audit trail")
	}
}

func TestTwoAdministratorsRemovingEachOtherLeaveOne(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	a, b := signedIn(t, s, "Ada", "admin"), signedIn(t, s, "Bo", "admin")
	dbtest.Must(t, a.Send(t.Context(), "DELETE", "/accounts/administrator", nil, nil))
	var wait sync.WaitGroup
	var errs [2]error
	wait.Go(func() { errs[0] = a.Send(t.Context(), "DELETE", "/accounts/Bo", nil, nil) })
	wait.Go(func() { errs[1] = b.Send(t.Context(), "DELETE", "/accounts/Ada", nil, nil) })
	wait.Wait()
	n, err := s.Parts.Store.CountAdmins(t.Context())
	dbtest.Must(t, err)
	if n != 1 {
		t.Errorf("%d administrators are left: %v, %v", n, errs[0], errs[1])
	}
	last, name := a, "Ada"
	if errs[0] != nil {
		last, name = b, "Bo"
	}
	for _, try := range []struct {
		method, path string
		body         any
	}{{"DELETE", "/accounts/" + name, nil}, {"PUT", "/accounts/" + name + "/role", map[string]string{"role": "none"}},
		{"PUT", "/accounts/" + name, map[string]any{"role": "admin", "datasets": []string{"raw.*"}}}} {
		if err := last.Send(t.Context(), try.method, try.path, try.body, nil); status(err) != 409 ||
			!strings.Contains(err.Error(), "last administrator") {
			t.Errorf("%s %s: %v", try.method, try.path, err)
		}
	}
}

func TestPeopleSignInThroughAProviderWhoseGroupsGiveRolesAndTeams(t *testing.T) {
	t.Parallel()
	provider, err := sink.NewProvider("tin-bell", "the client's secret", sink.Guest{Name: "Maud Okonjo",
		Groups: []string{"harbour data", "on call"}}, sink.Guest{Name: "Kit Sorel", Groups: []string{"galley"}},
		sink.Guest{Name: "administrator", Groups: []string{"on call"}})
	dbtest.Must(t, err)
	at := httptest.NewServer(provider.Handler())
	t.Cleanup(at.Close)
	provider.At(at.URL)
	provider.Now = func() time.Time { return now }
	// It starts without the provider, which is asked when somebody wants in.
	roles := []people.GroupRole{{Group: "on call", Role: "responder"}, {Group: "harbour data", Team: "harbour"}}
	s := dbtest.Start(t, now, func(o *service.Options) {
		o.OpenID = &people.OpenID{Issuer: at.URL, Client: "tin-bell", Secret: "the client's secret", Called: "Vellamar staff", Roles: roles}
	})
	dbtest.Must(t, s.Admin.Send(t.Context(), "PUT", "/teams/harbour", map[string]any{"role": "editor", "datasets": []string{"raw.*"}}, nil))
	enter := func(name string) (*browser, string) {
		b := newBrowser(t, s)
		b.Transport = choosing(name)
		_, said := b.ask("GET", "/sign-in/provider", nil)
		return b, said
	}
	maud, said := enter("Maud Okonjo")
	_, who := maud.ask("GET", "/api/v1/me", nil)
	if !strings.Contains(who, `"name":"Maud Okonjo"`) || !strings.Contains(who, `"role":"editor"`) || !strings.Contains(who,
		`"team":"harbour"`) {
		t.Errorf("%s after %s", who, said)
	}
	if status, _ := maud.ask("PUT", "/api/v1/logs/gates", map[string]string{"dataset": "raw.gates"}); status/100 != 2 {
		t.Errorf("what her team may: %d", status)
	}
	if status, _ := maud.ask("PUT", "/api/v1/logs/tills", map[string]string{"dataset": "ops.tills"}); status != 403 {
		t.Errorf("what it may not: %d", status)
	}
	wrong := func(what, name, want string) {
		t.Helper()
		b := newBrowser(t, s)
		b.Transport = choosing(name)
		var last string
		b.CheckRedirect = func(r *http.Request, _ []*http.Request) error { last = r.URL.Query().Get("wrong"); return nil }
		b.ask("GET", "/sign-in/provider", nil)
		if !strings.Contains(last, want) || b.secret() != "" {
			t.Errorf("%s: %q, want %q", what, last, want)
		}
	}
	wrong("nobody of a group", "Kit Sorel", "none of the groups")
	wrong("somebody it does not know", "nobody", "refused")
	wrong("a name that is taken", "administrator", "here already")
	for what, alter := range map[string]struct {
		claims func(map[string]any)
		want   string
	}{
		"another's token":     {func(c map[string]any) { c["aud"] = "another" }, "not signed as it should be"},
		"an ended token":      {func(c map[string]any) { c["exp"] = now.Add(-time.Minute).Unix() }, "clock"},
		"a clock ten minutes": {func(c map[string]any) { c["iat"] = now.Add(10 * time.Minute).Unix() }, "in the future"},
		"an old answer":       {func(c map[string]any) { c["nonce"] = "of another time" }, "not signed as it should be"},
		"another issuer":      {func(c map[string]any) { c["iss"] = "https://elsewhere.example" }, "not signed as it should be"},
	} {
		provider.Alter = alter.claims
		wrong(what, "Maud Okonjo", alter.want)
	}
	provider.Alter = nil
	// A code that was not asked for here.
	stranger := newBrowser(t, s)
	stranger.ask("GET", "/sign-in/provider/back?state=x&code=y", nil)
	if stranger.secret() != "" {
		t.Error("a way back that was never begun lets in")
	}
	// Groups that are gone take away what they gave.
	provider.Guests[0].Groups = []string{"on call"}
	maud, _ = enter("Maud Okonjo")
	if _, who := maud.ask("GET", "/api/v1/me", nil); !strings.Contains(who, `"role":"responder"`) {
		t.Errorf("out of the group: %s", who)
	}
	at.Close()
	s = dbtest.Start(t, now, func(o *service.Options) { o.OpenID = &people.OpenID{Issuer: at.URL, Client: "tin-bell"} })
	wrong("a provider that is away", "Maud Okonjo", "does not answer")
}

// choosing says at the stand-in who to be.
type choosing string

func (c choosing) RoundTrip(r *http.Request) (*http.Response, error) {
	if r.URL.Path == "/authorize" {
		q := r.URL.Query()
		q.Set("as", string(c))
		r = r.Clone(r.Context())
		r.URL.RawQuery = q.Encode()
	}
	return http.DefaultTransport.RoundTrip(r)
}

func TestEverybodyMakesTokensOfTheOwnAccountThatSayNoMore(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	maud := signedIn(t, s, "Maud", "responder", "datasets", []string{"raw.*", "ops.*"})
	own := func(order map[string]any) (string, error) {
		var out struct{ Token string }
		err := maud.Send(t.Context(), "POST", "/me/tokens", order, &out)
		return out.Token, err
	}
	token, err := own(map[string]any{"for": "notebook", "datasets": []string{"raw.*"}})
	dbtest.Must(t, err)
	var me record.Account
	dbtest.Must(t, client.New(s.Address, token).Get(t.Context(), "/me", nil, &me))
	if me.Role != "responder" || fmt.Sprint(me.Within) != "[raw.*]" {
		t.Errorf("%+v", me)
	}
	for _, more := range []map[string]any{{"role": "admin"}, {"role": "editor"}, {"datasets": []string{"*"}}} {
		if _, err := own(more); status(err) != 403 && status(err) != 422 {
			t.Errorf("%v: %v", more, err)
		}
	}
	token, err = own(map[string]any{})
	dbtest.Must(t, err)
	if dbtest.Must(t, client.New(s.Address, token).Get(t.Context(), "/me", nil, &me)); len(me.Within) != 2 {
		t.Errorf("a token of a limited one is not limited: %+v", me)
	}
	// A token that says less does not open the whole account.
	for path, body := range map[string]any{"PUT /me/password": map[string]string{"password": good}, "DELETE /sessions": nil} {
		method, path, _ := strings.Cut(path, " ")
		if err := maud.Send(t.Context(), method, path, body, nil); status(err) != 403 || !strings.Contains(err.Error(), "says less") {
			t.Errorf("%s %s: %v", method, path, err)
		}
	}
	screen := signedIn(t, s, "administrator", "reader")
	if err := screen.Send(t.Context(), "PUT", "/me/password", map[string]string{"password": good}, nil); status(err) != 403 {
		t.Errorf("a reader's token of an administrator sets a password: %v", err)
	}
	dbtest.Must(t, s.Admin.Send(t.Context(), "PUT", "/me/password", map[string]string{"password": good}, nil))
	var list []record.Token
	dbtest.Must(t, maud.Get(t.Context(), "/me/tokens", nil, &list))
	if len(list) != 3 {
		t.Errorf("%+v", list)
	}
	dbtest.Must(t, maud.Send(t.Context(), "DELETE", fmt.Sprintf("/me/tokens/%d", list[0].ID), nil, nil))
	if err := maud.Send(t.Context(), "DELETE", "/me/tokens/1", nil, nil); status(err) != 404 {
		t.Errorf("another's: %v", err)
	}
}
