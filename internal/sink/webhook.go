package sink

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
)

// Receiver takes webhooks on every path. /down answers that it is down, /slow
// answers late, /away points elsewhere: to see what becomes of messages then.
func (m *Mailbox) Receiver() http.Handler {
	mux := chi.NewRouter()
	mux.HandleFunc("/down", func(w http.ResponseWriter, _ *http.Request) {
		http.Error(w, "down for repairs", http.StatusServiceUnavailable)
	})
	mux.HandleFunc("/slow", func(w http.ResponseWriter, r *http.Request) {
		select {
		case <-r.Context().Done():
		case <-time.After(2 * time.Minute):
		}
	})
	mux.HandleFunc("/away", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "http://169.254.0.1/", http.StatusFound)
	})
	mux.Post("/*", m.receive)
	return mux
}

func (m *Mailbox) receive(w http.ResponseWriter, r *http.Request) {
	if m.Closed() {
		http.Error(w, "down for repairs", http.StatusServiceUnavailable)
		return
	}
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxLetter))
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	l := Letter{At: time.Now().UTC(), Through: "webhook", Key: r.Header.Get("webhook-id"), From: r.UserAgent(), To: r.URL.Path,
		Text: string(body), Signature: m.checked(r, string(body))}
	l.Subject = subjectOf(body)
	if err := m.keep(l); err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

// subjectOf finds a line that says what a body is about.
func subjectOf(body []byte) string {
	var v struct {
		Text, Title string
		Data        struct{ Title string }
	}
	json.Unmarshal(body, &v)
	for _, text := range []string{v.Data.Title, v.Title, v.Text} {
		if line, _, _ := strings.Cut(text, "\n"); line != "" {
			return line
		}
	}
	return fmt.Sprintf("%d bytes", len(body))
}

// checked verifies a signature as a receiver should (Standard Webhooks 1.0): any
// of those given may fit.
func (m *Mailbox) checked(r *http.Request, body string) string {
	given := r.Header.Get("webhook-signature")
	m.mu.Lock()
	secret, known := m.secrets[r.URL.Path]
	m.mu.Unlock()
	switch {
	case given == "":
		return "none"
	case !known:
		return "not checked"
	}
	key, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(secret, "whsec_"))
	if err != nil {
		return "wrong"
	}
	mac := hmac.New(sha256.New, key)
	fmt.Fprintf(mac, "%s.%s.%s", r.Header.Get("webhook-id"), r.Header.Get("webhook-timestamp"), body)
	want := "v1," + base64.StdEncoding.EncodeToString(mac.Sum(nil))
	for _, one := range strings.Fields(given) {
		if hmac.Equal([]byte(one), []byte(want)) {
			return "valid"
		}
	}
	return "wrong"
}
