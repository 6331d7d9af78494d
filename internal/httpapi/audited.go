package httpapi

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"mime"
	"net/http"
	"slices"
	"strings"

	"github.com/go-chi/chi/v5/middleware"

	"tinbell/internal/httpapi/proxies"
	"tinbell/internal/record"
)

// quiet are operations that change nothing, or bring data rather than settings: pushes are
// counted where they are kept, and looking at rows says so itself.
var quiet = map[string]bool{
	"push-samples": true, "openlineage": true, "push-logs": true, "try-source": true, "try-metric": true, "check-template": true,
	"diff-config": true, "propose-comparison": true,
	"alert-rows": true, "table-outliers": true, "reconciliation-keys": true, "link-chart": true, "rehearse": true,
	"backtest": true, "try": true,
}

// done is what a request turned out to be, told by those who serve it.
type done struct {
	who       record.Account
	operation string
}

type doneKey struct{}

// mostKept is how much of what was there before and after is kept, in bytes.
const mostKept = 64 << 10

// audited keeps who changed what, from where, with what was there before and after, where
// the same address can be read. Secrets in it are masked.
func (s *server) audited(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodGet || r.Method == http.MethodHead || r.Method == http.MethodOptions ||
			!strings.HasPrefix(r.URL.Path, "/api/v1/") {
			next.ServeHTTP(w, r)
			return
		}
		var d done
		given := &kept{}
		if media, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type")); media == "application/json" || media == "" {
			r.Body = readAlong{io.TeeReader(r.Body, given), r.Body}
		}
		before := json.RawMessage(nil)
		if r.Method != http.MethodPost {
			before = asItIs(next, r)
		}
		answer := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		next.ServeHTTP(answer, r.WithContext(context.WithValue(r.Context(), doneKey{}, &d)))
		if d.operation == "" || quiet[d.operation] || answer.Status() >= 300 {
			return
		}
		a := record.Audit{
			At: s.Now(), Who: d.who.Name, Role: d.who.Role, What: strings.ReplaceAll(d.operation, "-", " "),
			About: strings.TrimPrefix(r.URL.Path, "/api/v1/"), Origin: proxies.Host(r.RemoteAddr),
			Request: requestOf(r.Context()).id, Before: before,
		}
		switch r.Method {
		case http.MethodPost:
			a.After = masked(given.Bytes())
		case http.MethodDelete:
		default:
			if a.After = asItIs(next, r); a.After == nil {
				a.After = masked(given.Bytes())
			}
		}
		a.Note = changes(a.Before, a.After)
		if err := s.Store.AddAudit(context.WithoutCancel(r.Context()), a); err != nil {
			s.Log.ErrorContext(r.Context(), "the audit trail was not written", "request", a.Request, "who", a.Who, "what", a.What,
				"about", a.About, "error", err)
		}
	})
}

// kept holds the beginning of what is read.
type kept struct{ bytes.Buffer }

func (k *kept) Write(p []byte) (int, error) {
	k.Buffer.Write(p[:min(len(p), max(mostKept-k.Len(), 0))])
	return len(p), nil
}

// readAlong is a body whose beginning is kept as it is read.
type readAlong struct {
	io.Reader
	io.Closer
}

// asItIs reads what the address of a request gives to who sends it; nothing if it cannot be
// read, or is too much to be kept.
func asItIs(next http.Handler, r *http.Request) json.RawMessage {
	answer := read(next, r)
	if answer.status != http.StatusOK || answer.Len() > mostKept {
		return nil
	}
	return masked(answer.Bytes())
}

// secretNames are keys of JSON whose values nobody keeps twice.
var secretNames = []string{"secret", "token", "headers", "login", "address", "url"}

// masked gives JSON without its secrets; nothing where it is none. Addresses stay without
// logins and queries.
func masked(text []byte) json.RawMessage {
	v := object(text)
	if v == nil {
		return nil
	}
	out, err := json.Marshal(mask(v))
	if err != nil {
		return nil
	}
	return out
}

func mask(v any) any {
	switch v := v.(type) {
	case map[string]any:
		for key, value := range v {
			if (slices.Contains(secretNames, key) || strings.Contains(key, "password")) && value != nil && value != "" {
				if address, is := value.(string); is && (key == "address" || key == "url") && !strings.ContainsAny(address, "@?") {
					continue
				}
				v[key] = "‹masked›"
				continue
			}
			v[key] = mask(value)
		}
	case []any:
		for i := range v {
			v[i] = mask(v[i])
		}
	}
	return v
}

// changes says in a line what differs between two objects.
func changes(before, after json.RawMessage) string {
	was, _ := object(before).(map[string]any)
	is, _ := object(after).(map[string]any)
	var parts []string
	for _, key := range slices.Sorted(maps.Keys(is)) {
		a, b := fmt.Sprint(was[key]), fmt.Sprint(is[key])
		_, list := is[key].([]any)
		_, deep := is[key].(map[string]any)
		switch {
		case was == nil && (list || deep):
		case was == nil: // made anew
			parts = append(parts, key+": "+short(b))
		case a != b && key != "version" && !strings.HasSuffix(key, "_at"):
			parts = append(parts, fmt.Sprintf("%s: %s → %s", key, short(a), short(b)))
		}
	}
	return strings.Join(parts, "; ")
}

// object reads JSON, numbers as they are written; nil where it is none.
func object(text []byte) (v any) {
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	if d.Decode(&v) != nil {
		return nil
	}
	return v
}

func short(text string) string {
	if r := []rune(text); len(r) > 60 {
		return string(r[:60]) + "…"
	}
	return cmp.Or(text, "nothing")
}
