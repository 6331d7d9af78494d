package httpapi

import (
	"context"
	"errors"
	"log/slog"
	"net/http"
	"runtime/debug"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"tinbell/internal/collect"
	"tinbell/internal/contain"
	"tinbell/internal/people"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// requestHeader carries the id of a request, which the log knows it by.
const requestHeader = "X-Request-Id"

// request is what is known of a request where it fails.
type request struct {
	id     string
	method string
	path   string
	log    *slog.Logger
}

type requestKey struct{}

// identified gives each request an id, which is in its answer.
func (s *server) identified(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		one := request{uuid.NewString(), r.Method, r.URL.Path, s.Log}
		w.Header().Set(requestHeader, one.id)
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), requestKey{}, one)))
	})
}

// recovered ends a request that panics, and it alone.
func (s *server) recovered(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer func() {
			switch value := recover(); {
			case value == nil:
			case value == http.ErrAbortHandler:
				panic(value)
			default:
				one := requestOf(r.Context())
				s.Log.ErrorContext(r.Context(), "a request broke off", "request", one.id, "method", one.method, "path", one.path,
					"error", value, "stack", string(debug.Stack()))
				writeProblem(w, http.StatusInternalServerError, failedHere(one.id))
			}
		}()
		next.ServeHTTP(w, r)
	})
}

func requestOf(ctx context.Context) request {
	one, _ := ctx.Value(requestKey{}).(request)
	return one
}

func failedHere(id string) string {
	return "something failed here, and nothing you gave was wrong: the log has it under request " + id
}

// problem turns what went wrong into a problem document. What is not of the
// request is logged with its id, and people see a sentence and the id.
func problem(ctx context.Context, err error) error {
	if err == nil {
		return nil
	}
	var (
		missing   record.NotFound
		invalid   record.Invalid
		refused   record.Refused
		conflict  record.Conflict
		forbidden people.Forbidden
		wait      people.Wait
		status    huma.StatusError
	)
	one := requestOf(ctx)
	switch {
	case errors.As(err, &status):
		return err
	case errors.As(err, &missing):
		return huma.Error404NotFound(err.Error())
	case errors.As(err, &invalid):
		return huma.Error422UnprocessableEntity(err.Error(), &huma.ErrorDetail{Location: invalid.Field, Value: invalid.Given,
			Message: invalid.Allowed})
	case errors.As(err, &refused):
		return huma.Error422UnprocessableEntity(err.Error(), &huma.ErrorDetail{Location: refused.Field, Message: refused.Why})
	case errors.As(err, &conflict):
		return huma.Error409Conflict(err.Error())
	case errors.As(err, &forbidden):
		return huma.Error403Forbidden(err.Error())
	case errors.Is(err, people.ErrSignIn), errors.Is(err, people.ErrPassword):
		return huma.Error401Unauthorized(err.Error())
	case errors.As(err, &wait):
		return huma.ErrorWithHeaders(huma.Error429TooManyRequests(err.Error()), http.Header{"Retry-After": {waitSeconds(wait.For)}})
	case errors.Is(err, collect.ErrStrict):
		return huma.Error422UnprocessableEntity(err.Error())
	case errors.Is(err, errStalled):
		return huma.NewError(http.StatusRequestTimeout, errStalled.Error())
	case ctx.Err() != nil && errors.Is(err, context.Canceled):
		return huma.NewError(499, "the request was given up")
	case store.NoText(err):
		return huma.Error422UnprocessableEntity("what was given holds text that cannot be kept: a NUL or broken UTF-8, a date out of range, or a name of more than a few kilobytes")
	case store.Unavailable(err):
		if one.log != nil {
			one.log.WarnContext(ctx, "a request met no database", "request", one.id, "method", one.method, "path", one.path, "error", err)
		}
		away := huma.Error503ServiceUnavailable("the database does not answer, or has too much to do: try again in a moment; what was acknowledged is kept (request " + one.id + ")")
		return huma.ErrorWithHeaders(away, http.Header{"Retry-After": {"5"}})
	}
	if broke := (*contain.Panic)(nil); one.log != nil && errors.As(err, &broke) {
		one.log.ErrorContext(ctx, "a request broke off", "request", one.id, "method", one.method, "path", one.path, "error", err,
			"stack", broke.Stack)
	} else if one.log != nil {
		one.log.ErrorContext(ctx, "a request failed", "request", one.id, "method", one.method, "path", one.path, "error", err)
	}
	return huma.Error500InternalServerError(failedHere(one.id))
}
