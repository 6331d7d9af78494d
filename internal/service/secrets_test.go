package service_test

import (
	"bytes"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"regexp"
	"strings"
	"sync"
	"testing"

	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/people"
	"tinbell/internal/record"
	"tinbell/internal/service"
)

// lines keeps a log whole.
type lines struct {
	mu sync.Mutex
	bytes.Buffer
}

func (l *lines) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.Buffer.Write(p)
}

// Secrets are given once and never come back: not in any answer of the API to anybody, not in
// the audit trail or the configuration, not in the log though everything that uses them fails.
func TestNoAnswerAndNoLineOfTheLogHoldsASecret(t *testing.T) {
	t.Parallel()
	var log lines
	s := dbtest.Start(t, now, func(o *service.Options) {
		o.OpenID = &people.OpenID{Issuer: "http://127.0.0.1:9", Client: "tin-bell", Secret: "of-the-client-3x"}
		o.Log = slog.New(slog.NewTextHandler(&log, &slog.HandlerOptions{Level: slog.LevelDebug}))
	})
	secrets := []string{"hunter2hunter2", "whsec-of-the-desk", "Bearer-of-the-hook", "in-the-path-K7Q2M9XR4T", "smtp-pass-word",
		"calendar-token-9f8e7d", good, "not it but a try at it"}
	gone := "127.0.0.1:9" // nobody listens there
	for _, set := range []struct {
		method, path string
		body         any
	}{
		{"POST", "/sources", httpapi.NewSource{Name: "w", Address: "postgres://reader:" + secrets[0] + "@" + gone + "/db"}},
		{"POST", "/channels", httpapi.NewChannel{Name: "hook", Kind: "webhook", Secret: secrets[1],
			Headers:  map[string]string{"Authorization": secrets[2]},
			Settings: record.ChannelSettings{URL: "http://" + gone + "/" + secrets[3] + "?token=" + secrets[3]}}},
		{"POST", "/channels", httpapi.NewChannel{Name: "mail", Kind: "email", Secret: secrets[4],
			Settings: record.ChannelSettings{Host: "127.0.0.1", Port: 9, User: "bell", From: "bell@quay.example",
				To: record.Strings{"desk@quay.example"}}}},
		{"PUT", "/calendars/closures/feed", map[string]any{"address": "http://" + gone + "/feed.ics?key=" + secrets[5],
			"effect": "suppress", "every_seconds": 3600}},
		{"PUT", "/accounts/Ines", map[string]any{"role": "editor"}},
		{"PUT", "/accounts/Ines/password", map[string]string{"password": secrets[6]}},
		{"POST", "/sources/try", map[string]any{"name": "x", "address": "postgres://reader:" + secrets[0] + "@" + gone + "/db"}},
		{"POST", "/channels/hook/test", nil}, {"POST", "/channels/mail/test", nil}, {"POST", "/calendars/closures/feed/fetch", nil},
	} {
		err := s.Admin.Send(t.Context(), set.method, set.path, set.body, nil) // what cannot be reached is refused
		if got := status(err); got >= 500 && got != 502 {
			t.Errorf("%s: %v", set.path, err)
		}
		for _, secret := range secrets {
			if err != nil && strings.Contains(err.Error(), secret) {
				t.Errorf("%s answers with a secret: %v", set.path, err)
			}
		}
	}
	b := newBrowser(t, s)
	b.ask("POST", "/api/v1/session", map[string]string{"name": "Ines", "password": secrets[7]})
	b.ask("POST", "/api/v1/session", map[string]string{"name": "Ines", "password": secrets[6]})
	b.ask("GET", "/sign-in/provider", nil) // which is away, and that is logged
	secrets = append(secrets, s.Token, b.secret(), "of-the-client-3x")
	s.Settle(t)

	text, err := httpapi.OpenAPI()
	dbtest.Must(t, err)
	var contract struct {
		Paths map[string]map[string]any `json:"paths"`
	}
	dbtest.Must(t, json.Unmarshal(text, &contract))
	gap := regexp.MustCompile(`\{[a-z_]+\}`)
	asked := 0
	for path, methods := range contract.Paths {
		if methods["get"] == nil || strings.HasSuffix(path, "/events") {
			continue
		}
		for _, name := range []string{"w", "hook", "mail", "closures", "Ines", "1"} {
			request, err := http.NewRequestWithContext(t.Context(), "GET", s.Address+gap.ReplaceAllString(path, name), nil)
			dbtest.Must(t, err)
			request.Header.Set("Authorization", "Bearer "+s.Token)
			answer, err := http.DefaultClient.Do(request)
			dbtest.Must(t, err)
			said, err := io.ReadAll(answer.Body)
			dbtest.Must(t, err)
			answer.Body.Close()
			asked++
			for _, secret := range secrets {
				if strings.Contains(string(said), secret) {
					t.Errorf("%s holds %q", request.URL.Path, secret)
				}
			}
			if !strings.Contains(path, "{") {
				break
			}
		}
	}
	if asked < 200 {
		t.Errorf("only %d were asked", asked)
	}
	log.mu.Lock()
	defer log.mu.Unlock()
	for _, secret := range secrets {
		if strings.Contains(log.String(), secret) {
			t.Errorf("the log holds %q", secret)
		}
	}
	if log.Len() == 0 {
		t.Error("nothing was logged: the test sees nothing")
	}
}
