package httpapi

import (
	"bytes"
	"context"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5/middleware"

	"tinbell/internal/people"
	"tinbell/internal/vitals"
)

func (s *server) addVitals(api huma.API) {
	add(api, "GET", "/doctor", "doctor", "Look at how the service is set up and how it is doing, and say what to do",
		people.Reader, func(ctx context.Context, _ *none) (*body[vitals.Examination], error) {
			return ok(s.Vitals.Examine(ctx))
		})
}

// counted counts answers and how long they took.
func (s *server) counted(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		began := time.Now()
		answer := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		defer func() {
			if s.Vitals != nil && !strings.HasSuffix(r.URL.Path, "/events") {
				s.Vitals.Answered(answer.Status(), time.Since(began))
			}
		}()
		next.ServeHTTP(answer, r)
	})
}

// metrics writes the service's own figures in an open text format, for whoever may look.
func (s *server) metrics(w http.ResponseWriter, r *http.Request) {
	if s.SignIn {
		token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
		who, err := s.People.Whose(r.Context(), strings.TrimSpace(token))
		if err != nil || !people.Allows(who.Role, people.Reader) {
			writeProblem(w, http.StatusUnauthorized, people.ErrSignIn.Error())
			return
		}
	}
	list, err := s.Vitals.Figures(r.Context())
	if err != nil { // those of this process are told all the same
		s.Log.WarnContext(r.Context(), "own figures", "error", err)
	}
	var text bytes.Buffer
	if err := vitals.Text(&text, list); err != nil {
		writeProblem(w, http.StatusInternalServerError, "the figures could not be written")
		return
	}
	w.Header().Set("Content-Type", vitals.Media)
	w.Write(text.Bytes())
}
