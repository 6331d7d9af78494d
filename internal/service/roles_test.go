package service_test

import (
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tinbell/internal/client"
	"tinbell/internal/collect"
	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/people"
	"tinbell/internal/record"
	"tinbell/internal/service"
)

// beside starts another process on a service's database.
func beside(t *testing.T, s *dbtest.Service, dir string, change func(*service.Options)) (*service.Service, error) {
	t.Helper()
	o := service.Options{Dir: dir, Database: s.Database, Listen: "127.0.0.1:0", SignIn: true, Now: s.Clock.Now, Log: dbtest.Log(t)}
	change(&o)
	other, err := service.Start(t.Context(), o)
	if err == nil {
		t.Cleanup(other.Stop)
	}
	return other, err
}

func get(t *testing.T, address string) (int, string) {
	t.Helper()
	answer, err := http.Get(address)
	dbtest.Must(t, err)
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	dbtest.Must(t, err)
	return answer.StatusCode, string(text)
}

// One process answers and leaves the work, another works and answers nobody; what is sent
// to the first is judged by the second, and the first's consoles hear of it.
func TestOneProcessAnswersAndAnotherWorks(t *testing.T) {
	dir := t.TempDir()
	s := dbtest.Start(t, now, func(o *service.Options) { o.Role, o.Dir = service.RoleWeb, dir })
	low := 50.0
	declared(t, s, collect.Declaration{Metric: "gates", Kind: "count", Period: "1h", Zone: "UTC"},
		&record.Settings{Method: "fixed", Direction: "low", Low: &low})
	push1 := func(h int, v float64) {
		pushed(t, s, fmt.Sprintf(`{"metric":"gates","at":"%s","value":%g}`, now.Add(time.Duration(h)*time.Hour).Format(time.RFC3339), v))
	}
	for h := -30; h < -8; h++ {
		push1(h, 100)
	}
	for h := -8; h < -1; h++ {
		push1(h, 3)
	}
	alerts := func() int {
		var page httpapi.AlertPage
		dbtest.Must(t, s.Admin.Get(t.Context(), "/alerts", nil, &page))
		return len(page.Alerts)
	}
	time.Sleep(1500 * time.Millisecond)
	if n := alerts(); n != 0 {
		t.Errorf("a process that only answers has judged: %d alerts", n)
	}
	topics := listenTo(t, s)
	worker, err := beside(t, s, dir, func(o *service.Options) { o.Role = service.RoleWork })
	dbtest.Must(t, err)
	if status, said := get(t, worker.Address+"/api/v1/alerts"); status != 404 || !strings.Contains(said, "--role") {
		t.Errorf("a process that works answers: %d %s", status, said)
	}
	if status, _ := get(t, worker.Address+"/readyz"); status != 200 {
		t.Errorf("how it is: %d", status)
	}
	select {
	case <-topics:
	case <-time.After(time.Minute):
		t.Error("the console of the process that answers hears nothing")
	}
	for end := time.Now().Add(time.Minute); alerts() == 0; time.Sleep(100 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("nobody has judged")
		}
	}
}

// listenTo gives what the stream of changes says about alerts.
func listenTo(t *testing.T, s *dbtest.Service) <-chan string {
	t.Helper()
	request, err := http.NewRequestWithContext(t.Context(), "GET", s.Address+"/api/v1/events", nil)
	dbtest.Must(t, err)
	request.Header.Set("Authorization", "Bearer "+s.Token)
	answer, err := http.DefaultClient.Do(request)
	dbtest.Must(t, err)
	t.Cleanup(func() { answer.Body.Close() })
	heard := make(chan string, 1)
	go func() {
		var text [4096]byte
		said := ""
		for {
			n, err := answer.Body.Read(text[:])
			if said += string(text[:n]); strings.Contains(said, `"alerts"`) {
				heard <- said
				return
			}
			if err != nil {
				return
			}
		}
	}()
	return heard
}

// A process that ends takes in nothing more, says so, and is gone within twenty seconds
// though somebody still sends.
func TestAStopIsOverWithinTwentySecondsThoughSomebodyStillSends(t *testing.T) {
	s := dbtest.Start(t, now)
	declared(t, s, collect.Declaration{Metric: "gates", Kind: "count", Period: "1h", Zone: "UTC"}, nil)
	reader, writer := io.Pipe()
	defer writer.Close()
	go func() {
		request, _ := http.NewRequest("POST", s.Address+"/api/v1/samples", reader)
		request.Header.Set("Authorization", "Bearer "+s.Token)
		request.Header.Set("Content-Type", "application/x-ndjson")
		http.DefaultClient.Do(request)
	}()
	fmt.Fprintf(writer, `{"metric":"gates","at":"%s","value":1}`+"\n", now.Add(-time.Hour).Format(time.RFC3339))
	time.Sleep(200 * time.Millisecond)
	began := time.Now()
	s.Stop()
	if took := time.Since(began); took > 20*time.Second {
		t.Errorf("a stop took %s", took)
	}
}

// Without the key of its secrets a service shows what there is, says why it does no more, and
// makes no other key; with the key it goes on.
func TestAServiceWithoutItsKeyOnlyShows(t *testing.T) {
	s := dbtest.Start(t, now)
	declared(t, s, collect.Declaration{Metric: "gates", Kind: "count", Period: "1h", Zone: "UTC"}, nil)
	empty := t.TempDir()
	other, err := beside(t, s, empty, func(*service.Options) {})
	dbtest.Must(t, err)
	c := client.New(other.Address, s.Token)
	dbtest.Must(t, c.Get(t.Context(), "/metrics/gates", nil, nil))
	var me struct {
		Shows string `json:"shows_only"`
	}
	dbtest.Must(t, c.Get(t.Context(), "/me", nil, &me))
	err = c.Send(t.Context(), "POST", "/notes", map[string]any{"at": now, "text": "x"}, nil)
	if status(err) != 503 || !strings.Contains(err.Error(), "key for stored secrets is gone") || !strings.Contains(me.Shows, "secret.key") {
		t.Errorf("%v; says of itself %q", err, me.Shows)
	}
	if _, said := get(t, other.Address+"/readyz"); !strings.Contains(said, "no more") {
		t.Errorf("it says of itself: %s", said)
	}
	if _, err := os.Stat(filepath.Join(empty, "secret.key")); err == nil {
		t.Error("another key was made")
	}
	b := newBrowser(t, s)
	b.at = other.Address
	if status, said := b.ask("POST", "/api/v1/session", map[string]string{"token": s.Token}); status != 200 {
		t.Errorf("nobody can sign in: %d %s", status, said)
	}
}

// The key may come from a variable or from a command as well as from the file.
func TestTheKeyComesFromAVariableOrACommand(t *testing.T) {
	t.Setenv("BELL_KEY", "MDEyMzQ1Njc4OTAxMjM0NTY3ODkwMTIzNDU2Nzg5MDE=")
	s := dbtest.Start(t, now, func(o *service.Options) { o.Key = people.KeyFrom{Variable: "BELL_KEY"} })
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/channels", map[string]any{"name": "desk", "kind": "webhook",
		"settings": map[string]any{"url": "http://127.0.0.1:9/hook"}}, nil))
	for what, c := range map[string]struct {
		key  people.KeyFrom
		want string
	}{
		"a command":            {people.KeyFrom{Command: "printf 3031323334353637383930313233343536373839303132333435363738393031"}, ""},
		"the variable":         {people.KeyFrom{Variable: "BELL_KEY"}, ""},
		"another key":          {people.KeyFrom{Command: "head -c 32 /dev/zero | base64"}, "is not the key"},
		"a command that fails": {people.KeyFrom{Command: "echo locked >&2; exit 3"}, "locked"},
		"no key":               {people.KeyFrom{Command: "echo hello"}, "32 bytes"},
		"two of them":          {people.KeyFrom{Variable: "BELL_KEY", Command: "true"}, "twice"},
	} {
		_, err := beside(t, s, t.TempDir(), func(o *service.Options) { o.Key = c.key })
		if (err == nil) != (c.want == "") || err != nil && !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", what, err, c.want)
		}
	}
	if err := s.Admin.Send(t.Context(), "POST", "/secrets/rekey", nil, nil); status(err) != 409 {
		t.Errorf("a key that is elsewhere cannot be changed here: %v", err)
	}
}
