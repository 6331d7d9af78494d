package cli_test

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"reflect"
	"strings"
	"sync"
	"testing"

	"tinbell/internal/cli"
)

// asked is a request that a command sent.
type asked struct {
	Method, Path, Query string
	Body                any
}

// standIn answers requests, by method and path, as a service would, and keeps them.
type standIn struct {
	*httptest.Server
	mu    sync.Mutex
	asked []asked
}

// refused is an answer that says what is wrong, as RFC 9457 has it.
type refused struct {
	Status int
	Detail string
}

type answers map[string]any

// serve starts a stand-in on loopback. An answer is what is written as JSON; nil is an
// answer without a body.
func serve(t *testing.T, given answers) *standIn {
	t.Helper()
	s := &standIn{}
	s.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		text, err := io.ReadAll(r.Body)
		if err != nil {
			t.Error(err)
		}
		path := strings.TrimPrefix(r.URL.Path, "/api/v1")
		one := asked{Method: r.Method, Path: path, Query: r.URL.Query().Encode()}
		if len(text) > 0 && json.Unmarshal(text, &one.Body) != nil {
			one.Body = string(text)
		}
		s.mu.Lock()
		s.asked = append(s.asked, one)
		s.mu.Unlock()
		answer, known := given[r.Method+" "+path]
		if !known {
			answer = refused{http.StatusNotFound, "there is no " + path}
		}
		w.Header().Set("Content-Type", "application/json")
		if no, is := answer.(refused); is {
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(no.Status)
			answer = map[string]any{"status": no.Status, "detail": no.Detail}
		}
		if answer == nil {
			w.WriteHeader(http.StatusNoContent)
			return
		}
		if err := json.NewEncoder(w).Encode(answer); err != nil {
			t.Error(err)
		}
	}))
	t.Cleanup(s.Close)
	return s
}

// last is the newest request.
func (s *standIn) last(t *testing.T) asked {
	t.Helper()
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.asked) == 0 {
		t.Fatal("nothing was asked for")
	}
	return s.asked[len(s.asked)-1]
}

// ran is what a command said and how it ended.
type ran struct {
	out, problems string
	code          int
}

func (s *standIn) run(args ...string) ran {
	var out, problems strings.Builder
	code := cli.Main(append([]string{"--server", s.URL}, args...), &out, &problems)
	return ran{out.String(), problems.String(), code}
}

// sends runs a command that must end well and looks at what it sent last.
func (s *standIn) sends(t *testing.T, method, path string, body any, args ...string) ran {
	t.Helper()
	r := s.run(args...)
	if r.code != 0 {
		t.Errorf("%s: code %d: %s", strings.Join(args, " "), r.code, r.problems)
		return r
	}
	got := s.last(t)
	if got.Method != method || got.Path != path {
		t.Errorf("%s: asked for %s %s, not %s %s", strings.Join(args, " "), got.Method, got.Path, method, path)
	}
	if !holds(got.Body, body) {
		t.Errorf("%s: sent %v, not %v", strings.Join(args, " "), got.Body, body)
	}
	return r
}

// holds tells whether a JSON value has all that another has; nil asks for nothing.
func holds(v, wanted any) bool {
	if wanted == nil {
		return true
	}
	text, err := json.Marshal(wanted)
	if err != nil {
		return false
	}
	var plain any
	if json.Unmarshal(text, &plain) != nil {
		return false
	}
	object, is := plain.(map[string]any)
	given, also := v.(map[string]any)
	if !is || !also {
		return reflect.DeepEqual(v, plain)
	}
	for key, value := range object {
		if !holds(given[key], value) {
			return false
		}
	}
	return true
}

// says checks that a command's answer has all these words, in this order.
func (r ran) says(t *testing.T, words ...string) {
	t.Helper()
	rest := r.out
	for _, w := range words {
		i := strings.Index(rest, w)
		if i < 0 {
			t.Errorf("%q is not said, or not in its place, in:\n%s", w, r.out)
			return
		}
		rest = rest[i+len(w):]
	}
}

// isRefused checks that a command ended with a code and said why.
func (r ran) isRefused(t *testing.T, code int, words string) {
	t.Helper()
	if r.code != code || !strings.Contains(r.problems, words) {
		t.Errorf("code %d, not %d; %q is not in:\n%s", r.code, code, words, r.problems)
	}
}

type object = map[string]any
