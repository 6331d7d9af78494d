package httpapi

import (
	"context"
	"encoding/json"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tinbell/internal/people"
	"tinbell/internal/record"
)

const cookie = "tinbell_token"

type accountKey struct{}

// account is who makes the request.
func account(ctx context.Context) record.Account {
	a, _ := ctx.Value(accountKey{}).(record.Account)
	return a
}

// signedIn lets a request pass if its token's role is enough. Without sign-in
// (loopback only) everybody is the local administrator.
func (s *server) signedIn(api huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		who := record.Account{Name: "local", Role: people.Admin}
		needed, _ := ctx.Operation().Metadata["role"].(string)
		if s.SignIn && needed != "" {
			var err error
			if who, err = s.People.Whose(ctx.Context(), tokenOf(ctx)); err == nil && !people.Allows(who.Role, needed) {
				err = people.Forbidden{Role: who.Role, Needed: needed}
			}
			if err != nil {
				ctx.SetHeader("Connection", "close") // its body is not waited for
				wrong := problem(ctx.Context(), err)
				huma.WriteErr(api, ctx, statusOf(wrong), wrong.Error())
				return
			}
		}
		if d, asked := ctx.Context().Value(doneKey{}).(*done); asked {
			d.who, d.operation = who, ctx.Operation().OperationID
		}
		next(huma.WithValue(ctx, accountKey{}, who))
	}
}

func tokenOf(ctx huma.Context) string {
	if token, there := strings.CutPrefix(ctx.Header("Authorization"), "Bearer "); there {
		return strings.TrimSpace(token)
	}
	if c, err := huma.ReadCookie(ctx, cookie); err == nil {
		return c.Value
	}
	return ""
}

func writeProblem(w http.ResponseWriter, status int, detail string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(huma.ErrorModel{Status: status, Title: http.StatusText(status), Detail: detail})
}

// MadeToken is a new token, shown once.
type MadeToken struct {
	Token string `json:"token"`
}

// Rekeyed says what a change of keys came to.
type Rekeyed struct {
	Secrets int `json:"secrets" doc:"that are kept with the new key"`
}

type me struct {
	record.Account
	Now    time.Time `json:"now" doc:"the service's clock"`
	SignIn bool      `json:"sign_in" doc:"false when the service runs without sign-in"`
}

func (s *server) addPeople(api huma.API) {
	add(api, "GET", "/me", "me", "Who am I", people.Reader, func(ctx context.Context, _ *none) (*body[me], error) {
		return ok(me{account(ctx), s.Now().UTC(), s.SignIn}, nil)
	})
	add(api, "POST", "/session", "sign-in", "Sign in with a token; sets a cookie for the console", "",
		func(ctx context.Context, in *struct {
			Body struct {
				Token string `json:"token"`
			}
		}) (*struct {
			SetCookie http.Cookie `header:"Set-Cookie"`
			Body      record.Account
		}, error) {
			who, err := s.People.Whose(ctx, strings.TrimSpace(in.Body.Token))
			if err != nil {
				return nil, err
			}
			if d, asked := ctx.Value(doneKey{}).(*done); asked {
				d.who = who
			}
			return &struct {
				SetCookie http.Cookie `header:"Set-Cookie"`
				Body      record.Account
			}{http.Cookie{Name: cookie, Value: strings.TrimSpace(in.Body.Token), Path: "/", HttpOnly: true, Secure: s.Secure, SameSite: http.SameSiteStrictMode, MaxAge: 90 * 86400}, who}, nil
		})
	add(api, "POST", "/tokens", "make-token", "Make a token for a person or program; it is shown once", people.Admin,
		func(ctx context.Context, in *struct {
			Body struct {
				Name    string `json:"name" doc:"of the account, made if new"`
				Role    string `json:"role" enum:"reader,responder,editor,admin" doc:"that the token gives; at most the account's"`
				For     string `json:"for,omitempty" doc:"what the token is for"`
				Expires int64  `json:"expires_seconds,omitempty" minimum:"0" doc:"after so long it no longer signs in; 0: never"`
			}
		}) (*body[MadeToken], error) {
			w := people.Wanted{Name: in.Body.Name, Role: in.Body.Role, For: in.Body.For, Ends: time.Duration(min(in.Body.Expires, 1<<33)) * time.Second}
			token, err := s.People.Make(ctx, w)
			return ok(MadeToken{token}, err)
		})
	add(api, "PUT", "/accounts/{name}/role", "set-role", "Change what an account may do; tokens of it that say more say that from then on", people.Admin,
		func(ctx context.Context, in *struct {
			Named
			Body struct {
				Role string `json:"role" enum:"reader,responder,editor,admin"`
			}
		}) (*body[record.Account], error) {
			return ok(s.People.SetRole(ctx, in.Name, in.Body.Role))
		})
	add(api, "POST", "/secrets/rekey", "rekey", "Keep all secrets with a new key, which takes the place of the one in the data directory", people.Admin, func(ctx context.Context, _ *none) (*body[Rekeyed], error) {
		n, err := s.People.Rekey(ctx)
		return ok(Rekeyed{n}, err)
	})
	add(api, "GET", "/tokens", "tokens", "The tokens there are, newest first; what they say is not kept", people.Admin, func(ctx context.Context, _ *none) (*body[[]record.Token], error) {
		return ok(s.Store.Tokens(ctx))
	})
	add(api, "DELETE", "/tokens/{id}", "revoke-token", "Take a token back: whoever has it is signed out at once", people.Admin, func(ctx context.Context, in *Identified) (*none, error) {
		return &none{}, s.Store.RevokeToken(ctx, in.ID)
	})
}
