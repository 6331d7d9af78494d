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

const (
	cookie    = "tinbell_session"
	wayCookie = "tinbell_way" // of who has left for the provider
)

type whoKey struct{}

// asking is who makes the request, and in which session.
func asking(ctx context.Context) people.Who {
	who, _ := ctx.Value(whoKey{}).(people.Who)
	return who
}

// account is who makes the request.
func account(ctx context.Context) record.Account { return asking(ctx).Account }

// signedIn lets a request pass if the role of who makes it is enough. Without sign-in
// (loopback only) everybody is the local administrator.
func (s *server) signedIn(api huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		who := people.Who{Account: people.Local()}
		operation := ctx.Operation()
		needed, _ := operation.Metadata["role"].(string)
		if s.SignIn && needed != "" {
			var err error
			if who, err = s.whose(ctx); err == nil {
				err = enough(who.Account, needed, operation)
			}
			if err != nil {
				ctx.SetHeader("Connection", "close") // its body is not waited for
				wrong := problem(ctx.Context(), err)
				huma.WriteErr(api, ctx, statusOf(wrong), wrong.Error())
				return
			}
			if who.Fresh != "" {
				ctx.AppendHeader("Set-Cookie", s.sessionCookie(who.Fresh).String())
			}
			if operation.Metadata["confined"] != nil && !people.Everywhere(who.Account, needed) {
				ctx = huma.WithValue(ctx, confinedKey{}, &confined{server: s, operation: operation.OperationID,
					path: operation.Path, needed: needed, who: who.Account})
			}
		}
		if d, asked := ctx.Context().Value(doneKey{}).(*done); asked {
			d.who, d.operation = who.Account, operation.OperationID
		}
		next(huma.WithValue(ctx, whoKey{}, who))
	}
}

// enough tells whether somebody may ask for an operation at all; about which datasets is
// looked at where it is known.
func enough(who record.Account, needed string, operation *huma.Operation) error {
	if !people.Allows(who.Role, needed) {
		return people.Forbidden{Role: who.Role, Needed: needed}
	}
	if !people.Everywhere(who, needed) && operation.Metadata["confined"] == nil && !forAnybody[operation.OperationID] {
		return people.Forbidden{Role: who.Role, Needed: needed, Limited: true}
	}
	return nil
}

// whose gives who sends a request: by the token that it bears, or by its session.
func (s *server) whose(ctx huma.Context) (people.Who, error) {
	if token, there := strings.CutPrefix(ctx.Header("Authorization"), "Bearer "); there {
		return s.People.Whose(ctx.Context(), strings.TrimSpace(token))
	}
	c, err := huma.ReadCookie(ctx, cookie)
	if err != nil {
		return people.Who{}, people.ErrSignIn
	}
	return s.People.In(ctx.Context(), c.Value)
}

func (s *server) sessionCookie(secret string) *http.Cookie {
	c := &http.Cookie{Name: cookie, Value: secret, Path: "/", HttpOnly: true, Secure: s.Secure, SameSite: http.SameSiteStrictMode,
		MaxAge: int(s.People.Stays().Longest.Seconds())}
	if secret == "" {
		c.MaxAge = -1
	}
	return c
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
	Shows  string    `json:"shows_only" doc:"why the service only shows what there is; empty: it does everything"`
}

// RoleGiven is what an account or token may do.
type RoleGiven struct {
	Role string `json:"role" enum:"reader,responder,editor,admin,none"`
}

func (s *server) addPeople(api huma.API) {
	add(api, "GET", "/me", "me", "Who am I", people.Reader, func(ctx context.Context, _ *none) (*body[me], error) {
		return ok(me{account(ctx), s.Now().UTC(), s.SignIn, s.ReadOnly}, nil)
	})
	add(api, "POST", "/tokens", "make-token", "Make a token for a person or program; it is shown once", people.Admin,
		func(ctx context.Context, in *struct {
			Body struct {
				Name     string         `json:"name" doc:"of the account, made if new"`
				Role     string         `json:"role" enum:"reader,responder,editor,admin" doc:"that the token gives; at most the account's"`
				For      string         `json:"for,omitempty" doc:"what the token is for"`
				Expires  int64          `json:"expires_seconds,omitempty" minimum:"0" doc:"after so long it no longer signs in; 0: never"`
				Datasets record.Strings `json:"datasets,omitempty" doc:"that it is for: names, with * for any part, or tag:NAME; none: all of the account's"`
			}
		}) (*body[MadeToken], error) {
			w := people.Wanted{Name: in.Body.Name, Role: in.Body.Role, For: in.Body.For,
				Ends: time.Duration(min(in.Body.Expires, 1<<33)) * time.Second, Datasets: in.Body.Datasets}
			token, err := s.People.Make(ctx, w)
			return ok(MadeToken{token}, err)
		})
	add(api, "GET", "/tokens", "tokens", "The tokens there are, newest first; what they say is not kept", people.Admin,
		func(ctx context.Context, _ *none) (*body[[]record.Token], error) {
			return ok(s.Store.Tokens(ctx))
		})
	add(api, "DELETE", "/tokens/{id}", "revoke-token", "Take a token back: whoever has it is signed out at once", people.Admin,
		func(ctx context.Context, in *Identified) (*none, error) {
			return &none{}, s.Store.RevokeToken(ctx, in.ID, 0)
		})
	add(api, "POST", "/secrets/rekey", "rekey",
		"Keep all secrets with a new key, which takes the place of the one in the data directory", people.Admin,
		func(ctx context.Context, _ *none) (*body[Rekeyed], error) {
			n, err := s.People.Rekey(ctx)
			return ok(Rekeyed{n}, err)
		})
	s.addAccounts(api)
	s.addSessions(api)
	s.addOwnTokens(api)
}

func (s *server) addAccounts(api huma.API) {
	add(api, "GET", "/accounts", "accounts", "The accounts there are, by name, with what they may and how they sign in",
		people.Admin, func(ctx context.Context, _ *none) (*body[[]record.Person], error) {
			return ok(s.People.People(ctx))
		})
	add(api, "PUT", "/accounts/{name}", "put-account", "Say what an account may do itself, and make it if it is new", people.Admin,
		func(ctx context.Context, in *struct {
			Named
			Body struct {
				RoleGiven
				Datasets record.Strings `json:"datasets,omitempty" doc:"that the role is for: names, with * for any part, or tag:NAME; none: all"`
			}
		}) (*body[record.Account], error) {
			datasets := in.Body.Datasets
			if datasets == nil {
				datasets = record.Strings{}
			}
			return ok(s.People.SetAccount(ctx, in.Name, in.Body.Role, datasets))
		})
	add(api, "PUT", "/accounts/{name}/role", "set-role",
		"Change what an account may do; tokens of it that say more say that from then on", people.Admin,
		func(ctx context.Context, in *struct {
			Named
			Body RoleGiven
		}) (*body[record.Account], error) {
			return ok(s.People.SetRole(ctx, in.Name, in.Body.Role))
		})
	add(api, "PUT", "/accounts/{name}/password", "set-password",
		"Give an account a password, or (empty) take it away; its browsers are signed out", people.Admin,
		func(ctx context.Context, in *struct {
			Named
			Body struct {
				Password string `json:"password" doc:"of 12 characters and more"`
			}
		}) (*none, error) {
			return &none{}, s.People.SetPassword(ctx, in.Name, in.Body.Password)
		})
	add(api, "DELETE", "/accounts/{name}", "remove-account", "Remove an account with its tokens; the last administrator stays",
		people.Admin, func(ctx context.Context, in *Named) (*none, error) {
			return &none{}, s.Store.RemoveAccount(ctx, in.Name)
		})
	add(api, "GET", "/teams", "teams", "The teams there are, by name: what they give, and to whom", people.Admin,
		func(ctx context.Context, _ *none) (*body[[]record.Team], error) {
			return ok(s.Store.Teams(ctx))
		})
	add(api, "PUT", "/teams/{name}", "put-team", "Keep a team as it is given, with its members", people.Admin,
		func(ctx context.Context, in *struct {
			Named
			Body struct {
				Role     string         `json:"role" enum:"reader,responder,editor,admin"`
				Datasets record.Strings `json:"datasets,omitempty" doc:"that the role is for: names, with * for any part, or tag:NAME; none: all"`
				Members  record.Strings `json:"members,omitempty" doc:"names of accounts"`
			}
		}) (*none, error) {
			return &none{}, s.People.PutTeam(ctx, record.Team{Name: in.Name, Role: in.Body.Role, Datasets: in.Body.Datasets,
				Members: in.Body.Members})
		})
	add(api, "DELETE", "/teams/{name}", "remove-team", "Remove a team; its members keep what they have otherwise", people.Admin,
		func(ctx context.Context, in *Named) (*none, error) {
			return &none{}, s.Store.RemoveTeam(ctx, in.Name)
		})
}
