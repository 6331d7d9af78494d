package service_test

import (
	"bufio"
	"errors"
	"fmt"
	"net/http"
	"reflect"
	"strings"
	"testing"

	"tinbell/core/timeline"
	"tinbell/internal/client"
	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/service"
	"tinbell/internal/store"
)

func status(err error) int {
	var refused *client.Refused
	if errors.As(err, &refused) {
		return refused.Status
	}
	if err != nil {
		return -1
	}
	return 200
}

func TestTokensAndRolesDecideWhatIsAllowed(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	ctx := t.Context()
	make := func(name, role string) *client.Client {
		var out struct{ Token string }
		dbtest.Must(t, s.Admin.Send(ctx, "POST", "/tokens", map[string]string{"name": name, "role": role}, &out))
		return client.New(s.Address, out.Token)
	}
	reader, editor := make("Maud", "reader"), make("Tobin", "editor")
	nobody, forger := client.New(s.Address, ""), client.New(s.Address, "tb_MADEUP")
	write := map[string]any{"name": "m", "metric": "none"}
	for _, c := range []struct {
		who                string
		by                 *client.Client
		read, write, admin int
	}{
		{"nobody", nobody, 401, 401, 401}, {"a forger", forger, 401, 401, 401},
		{"a reader", reader, 200, 403, 403}, {"an editor", editor, 200, 404, 403}, {"an administrator", s.Admin, 200, 404, 422},
	} {
		if got := status(c.by.Get(ctx, "/alerts", nil, nil)); got != c.read {
			t.Errorf("%s reading: %d, want %d", c.who, got, c.read)
		}
		if got := status(c.by.Send(ctx, "POST", "/monitors", write, nil)); got != c.write {
			t.Errorf("%s writing: %d, want %d", c.who, got, c.write)
		}
		if got := status(c.by.Send(ctx, "POST", "/sources", map[string]string{"name": "x", "address": "none"}, nil)); got != c.admin {
			t.Errorf("%s adding a source: %d, want %d", c.who, got, c.admin)
		}
	}
	if s.FirstToken == "" {
		t.Error("the first administrator's token must be given at the first start")
	}
	again, err := s.Parts.People.First(ctx)
	if err != nil || again != "" {
		t.Errorf("and only then: %q, %v", again, err)
	}
}

func TestATokenIsTakenBackButTheLastAdministrators(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	var made struct{ Token string }
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/tokens", map[string]string{"name": "loader", "role": "editor",
		"for": "nightly loads"}, &made))
	var list []record.Token
	dbtest.Must(t, s.Admin.Get(t.Context(), "/tokens", nil, &list))
	if len(list) != 2 || list[0].Account != "loader" || list[0].Role != "editor" || list[0].For != "nightly loads" {
		t.Fatalf("%+v", list)
	}
	loader := client.New(s.Address, made.Token)
	if err := loader.Get(t.Context(), "/tokens", nil, nil); status(err) != 403 {
		t.Errorf("an editor sees no tokens: %v", err)
	}
	dbtest.Must(t, loader.Get(t.Context(), "/me", nil, nil))
	dbtest.Must(t, s.Admin.Send(t.Context(), "DELETE", fmt.Sprintf("/tokens/%d", list[0].ID), nil, nil))
	if err := loader.Get(t.Context(), "/me", nil, nil); status(err) != 401 {
		t.Errorf("taken back: %v", err)
	}
	if err := s.Admin.Send(t.Context(), "DELETE", fmt.Sprintf("/tokens/%d", list[1].ID), nil, nil); status(err) != 409 ||
		!strings.Contains(err.Error(), "last of an administrator") {
		t.Errorf("the last administrator's: %v", err)
	}
	dbtest.Must(t, s.Admin.Get(t.Context(), "/me", nil, nil))
}

func TestWithoutSignInOnlyLoopbackIsServed(t *testing.T) {
	t.Parallel()
	for _, listen := range []string{"0.0.0.0:0", ":0", "[::]:0", "192.0.2.1:0"} {
		_, err := service.Start(t.Context(), service.Options{Dir: t.TempDir(), Listen: listen, SignIn: false})
		if !errors.Is(err, service.ErrOpenBeyondLoopback) {
			t.Errorf("%s without sign-in: %v", listen, err)
		}
	}
}

func TestSecretsAreStoredEncryptedAndNeverShown(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	address := s.Database
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/sources", httpapi.NewSource{Name: "w", Address: address}, nil))
	password := strings.Split(strings.Split(address, "@")[0], ":")[2]
	var login []byte
	var shown string
	dbtest.Must(t, s.Parts.Store.DB.QueryRow(`select login, address from source`).Scan(&login, &shown))
	if strings.Contains(string(login), password) || strings.Contains(shown, password) || len(login) == 0 {
		t.Error("the warehouse's password stands readable in the database")
	}
}

func TestChangesAreStreamed(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	request, err := http.NewRequestWithContext(t.Context(), "GET", s.Address+"/api/v1/events", nil)
	dbtest.Must(t, err)
	request.Header.Set("Authorization", "Bearer "+s.Token)
	response, err := http.DefaultClient.Do(request)
	dbtest.Must(t, err)
	defer response.Body.Close()
	if kind := response.Header.Get("Content-Type"); kind != "text/event-stream" {
		t.Fatalf("content type %s", kind)
	}
	lines := bufio.NewScanner(response.Body)
	lines.Scan() // the first line of the first sign of life: the stream is open
	declare(t, s, "queue", timeline.Count)
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/incidents", httpapi.NewIncident{Dataset: "ops.dock_queue",
		Title: "Pier closed", StartedAt: now}, nil))
	for lines.Scan() {
		if strings.Contains(lines.Text(), `"topic":"incidents"`) {
			return
		}
	}
	t.Errorf("the stream ended without telling of the incident: %v", lines.Err())
}

func TestTheStreamsTopicsAreTheOnesThatAreSent(t *testing.T) {
	t.Parallel()
	var sent []string
	for _, topic := range store.Topics {
		sent = append(sent, string(topic))
	}
	if said := reflect.TypeFor[httpapi.Changed]().Field(0).Tag.Get("enum"); said != strings.Join(sent, ",") {
		t.Errorf("the contract says %s, sent are %s", said, strings.Join(sent, ","))
	}
}
