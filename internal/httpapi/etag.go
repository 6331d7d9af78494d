package httpapi

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"net/http"
	"strings"
	"sync"

	"github.com/go-chi/chi/v5"
)

// Entity tags (RFC 9110, section 8.8.3) let two people who change one thing know of each
// other, and let nobody read again what has not changed. A tag has two parts: one of what
// people set, one of the whole answer. A change is let through by the first, so that a
// fit, a collection or a run in between is in nobody's way.

// tagged is how large an answer may be that gets a tag.
const tagged = 4 << 20

// byItself are members that change without anybody having changed the thing.
var byItself = []string{"learned_at", "budget", "state", "message", "next_at", "collected_to", "run_at", "computed_to",
	"failing_since", "fetched_at", "snoozed_until", "counted_to", "compared_to"}

// tagOf gives the tag of an answer; empty of what is no object.
func tagOf(answer []byte) string {
	var object map[string]json.RawMessage
	if json.Unmarshal(answer, &object) != nil {
		return ""
	}
	// Of a page about a dataset people set the dataset; the rest is what became of it.
	var about map[string]json.RawMessage
	if json.Unmarshal(object["dataset"], &about) == nil && about != nil {
		object = about
	}
	for _, name := range byItself {
		delete(object, name)
	}
	set, err := json.Marshal(object) // in the order of names
	if err != nil {
		return ""
	}
	short := func(b []byte) string {
		sum := sha256.Sum256(b)
		return base64.RawURLEncoding.EncodeToString(sum[:12])
	}
	return `"` + short(set) + "." + short(answer) + `"`
}

// setPart is the part of a tag that says what people set.
func setPart(tag string) string {
	part, _, _ := strings.Cut(strings.Trim(strings.TrimPrefix(strings.TrimSpace(tag), "W/"), `"`), ".")
	return part
}

// turnsByPath lets changes that depend on what is there go one after another.
type turnsByPath struct {
	mu    sync.Mutex
	paths map[string]*pathTurn
}

type pathTurn struct {
	sync.Mutex
	waiting int
}

func (t *turnsByPath) take(path string) (release func()) {
	t.mu.Lock()
	if t.paths == nil {
		t.paths = map[string]*pathTurn{}
	}
	turn := t.paths[path]
	if turn == nil {
		turn = &pathTurn{}
		t.paths[path] = turn
	}
	turn.waiting++
	t.mu.Unlock()
	turn.Lock()
	return func() {
		turn.Unlock()
		t.mu.Lock()
		if turn.waiting--; turn.waiting == 0 {
			delete(t.paths, path)
		}
		t.mu.Unlock()
	}
}

// tags gives answers their tags, answers 304 to who has the newest, and 412 to who would
// change what somebody else has changed meanwhile.
func tags(next http.Handler) http.Handler {
	turns := &turnsByPath{}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case !strings.HasPrefix(r.URL.Path, "/api/v1/"):
			next.ServeHTTP(w, r)
		case r.Method == http.MethodGet && strings.Contains(r.Header.Get("Accept"), "text/event-stream"):
			next.ServeHTTP(w, r)
		case r.Method == http.MethodGet:
			held := &holding{ResponseWriter: w}
			next.ServeHTTP(held, r)
			held.end(r.Header.Get("If-None-Match"))
		case r.Header.Get("If-Match") != "" && (r.Method == http.MethodPut || r.Method == http.MethodPatch ||
			r.Method == http.MethodDelete):
			defer turns.take(r.URL.Path)()
			if unchanged(next, r) {
				next.ServeHTTP(w, r)
				return
			}
			writeProblem(w, http.StatusPreconditionFailed,
				"it has changed since you read it, or is gone: read it again, then repeat the change")
		default:
			next.ServeHTTP(w, r)
		}
	})
}

// read asks for what a request is about as its reader would.
func read(next http.Handler, r *http.Request) *answered {
	routes := chi.NewRouteContext() // of its own: where the change goes is not forgotten
	routes.Routes = chi.RouteContext(r.Context()).Routes
	look := r.Clone(context.WithValue(r.Context(), chi.RouteCtxKey, routes))
	look.Method, look.Body, look.ContentLength = http.MethodGet, http.NoBody, 0
	look.URL.RawQuery = ""
	for _, name := range []string{"If-Match", "If-None-Match", "Content-Type", "Content-Length", "Accept-Encoding"} {
		look.Header.Del(name)
	}
	answer := &answered{head: http.Header{}}
	next.ServeHTTP(answer, look)
	return answer
}

// unchanged compares what people set of the thing with what a request was made of.
func unchanged(next http.Handler, r *http.Request) bool {
	answer := read(next, r)
	switch answer.status {
	case http.StatusOK:
	case http.StatusUnauthorized, http.StatusForbidden:
		return true // it is refused for that
	default:
		return false
	}
	there := setPart(tagOf(answer.Bytes()))
	for tag := range strings.SplitSeq(r.Header.Get("If-Match"), ",") {
		if strings.TrimSpace(tag) == "*" || there != "" && setPart(tag) == there {
			return true
		}
	}
	return false
}

// answered keeps an answer that nobody is sent.
type answered struct {
	bytes.Buffer
	head   http.Header
	status int
}

func (a *answered) Header() http.Header { return a.head }

func (a *answered) WriteHeader(status int) {
	if a.status == 0 {
		a.status = status
	}
}

func (a *answered) Write(b []byte) (int, error) {
	a.WriteHeader(http.StatusOK)
	return a.Buffer.Write(b)
}

// holding keeps an answer back until its tag is known; one that is too large, or that is
// sent bit by bit, goes on as it comes.
type holding struct {
	http.ResponseWriter
	body    bytes.Buffer
	status  int
	through bool
}

func (h *holding) WriteHeader(status int) {
	if h.status != 0 {
		return
	}
	h.status = status
	if status != http.StatusOK || !strings.HasPrefix(h.Header().Get("Content-Type"), "application/json") {
		h.pass()
	}
}

func (h *holding) Write(b []byte) (int, error) {
	if h.status == 0 {
		h.WriteHeader(http.StatusOK)
	}
	if !h.through && h.body.Len()+len(b) > tagged {
		h.pass()
	}
	if h.through {
		return h.ResponseWriter.Write(b)
	}
	return h.body.Write(b)
}

// Flush is asked for by what is sent bit by bit.
func (h *holding) Flush() {
	h.pass()
	if f, ok := h.ResponseWriter.(http.Flusher); ok {
		f.Flush()
	}
}

// Unwrap lets a response controller reach what lies below.
func (h *holding) Unwrap() http.ResponseWriter { return h.ResponseWriter }

func (h *holding) pass() {
	if h.through {
		return
	}
	h.through = true
	if h.status != 0 {
		h.ResponseWriter.WriteHeader(h.status)
	}
	h.ResponseWriter.Write(h.body.Bytes())
	h.body.Reset()
}

// end sends what was held back, or that it is as it was.
func (h *holding) end(known string) {
	if h.through || h.status == 0 {
		return
	}
	if tag := tagOf(h.body.Bytes()); tag != "" {
		h.Header().Set("ETag", tag)
		h.Header().Set("Cache-Control", "private, no-cache")
		for one := range strings.SplitSeq(known, ",") {
			if strings.TrimPrefix(strings.TrimSpace(one), "W/") == tag {
				h.Header().Del("Content-Length")
				h.ResponseWriter.WriteHeader(http.StatusNotModified)
				h.through = true
				return
			}
		}
	}
	h.pass()
}
