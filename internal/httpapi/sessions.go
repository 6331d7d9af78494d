package httpapi

import (
	"cmp"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"math"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tinbell/internal/httpapi/proxies"
	"tinbell/internal/people"
	"tinbell/internal/record"
)

// Sender is the browser that sends a request.
type Sender struct{ browser people.Browser }

func (s *Sender) Resolve(ctx huma.Context) []error {
	s.browser = people.Browser{Origin: proxies.Host(ctx.RemoteAddr()), Agent: ctx.Header("User-Agent")}
	return nil
}

var _ huma.Resolver = (*Sender)(nil)

// entered is an answer that begins or ends a session.
type entered struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      record.Account
}

type left struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
}

func (s *server) addSessions(api huma.API) {
	add(api, "GET", "/session/ways", "ways-in", "The ways there are to sign in", "",
		func(context.Context, *none) (*body[people.WaysIn], error) {
			return ok(s.People.Ways(), nil)
		})
	add(api, "POST", "/session", "sign-in", "Sign in with a token, or with a name and password; sets a cookie for the console", "",
		func(ctx context.Context, in *struct {
			Sender
			Body struct {
				Token    string `json:"token,omitempty"`
				Name     string `json:"name,omitempty"`
				Password string `json:"password,omitempty"`
			}
		}) (*entered, error) {
			var who record.Account
			var secret string
			var err error
			if in.Body.Name != "" || in.Body.Password != "" {
				who, secret, err = s.People.ByPassword(ctx, in.Body.Name, in.Body.Password, in.browser)
			} else {
				who, secret, err = s.People.ByToken(ctx, strings.TrimSpace(in.Body.Token), in.browser)
			}
			if err != nil {
				return nil, err
			}
			if d, asked := ctx.Value(doneKey{}).(*done); asked {
				d.who = who
			}
			return &entered{*s.sessionCookie(secret), who}, nil
		})
	add(api, "DELETE", "/session", "sign-out", "Sign this browser out", people.Reader, func(ctx context.Context, _ *none) (*left, error) {
		if who := asking(ctx); who.Session != 0 {
			if err := s.People.SignOut(ctx, who.Session, who.ID); err != nil {
				return nil, err
			}
		}
		return &left{*s.sessionCookie("")}, nil
	})
	add(api, "GET", "/sessions", "my-sessions", "The browsers that are signed in: one's own, or for administrators all",
		people.Reader, func(ctx context.Context, in *struct {
			All bool `query:"all" doc:"of all accounts; for administrators"`
		}) (*body[[]record.Session], error) {
			if in.All && !people.Everywhere(account(ctx), people.Admin) {
				return nil, people.Forbidden{Role: account(ctx).Role, Needed: people.Admin}
			}
			return ok(s.People.Sessions(ctx, asking(ctx), in.All || account(ctx).ID == 0))
		})
	add(api, "DELETE", "/sessions", "sign-out-everywhere", "Sign out everywhere: all one's own browsers", people.Reader,
		func(ctx context.Context, _ *none) (*left, error) {
			return &left{*s.sessionCookie("")}, s.signOut(ctx, 0)
		})
	add(api, "DELETE", "/sessions/{id}", "end-session", "Sign one browser out: one's own, or for administrators any",
		people.Reader, func(ctx context.Context, in *Identified) (*none, error) {
			return &none{}, s.signOut(ctx, in.ID)
		})
	add(api, "PUT", "/me/password", "change-password", "Change one's own password; all other browsers are signed out", people.Reader,
		func(ctx context.Context, in *struct {
			Sender
			Body struct {
				Before   string `json:"password_before,omitempty" doc:"the one until now, where there is one"`
				Password string `json:"password" doc:"of 12 characters and more"`
			}
		}) (*none, error) {
			if account(ctx).ID == 0 {
				return nil, record.Conflict{What: "the service runs without sign-in: nobody needs a password"}
			}
			return &none{}, s.People.ChangePassword(ctx, asking(ctx), in.Body.Before, in.Body.Password, in.browser.Origin)
		})
}

// addOwnTokens registers what everybody may do with tokens of the own account.
func (s *server) addOwnTokens(api huma.API) {
	add(api, "GET", "/me/tokens", "my-tokens", "One's own tokens, newest first", people.Reader,
		func(ctx context.Context, _ *none) (*body[[]record.Token], error) {
			return ok(s.Store.TokensOf(ctx, account(ctx).ID))
		})
	add(api, "POST", "/me/tokens", "make-my-token",
		"Make a token of one's own, which says at most what one may; it is shown once", people.Reader,
		func(ctx context.Context, in *struct {
			Body struct {
				Role     string         `json:"role,omitempty" enum:"reader,responder,editor,admin," doc:"at most one's own, which it is if left out"`
				For      string         `json:"for,omitempty" doc:"what the token is for"`
				Expires  int64          `json:"expires_seconds,omitempty" minimum:"0" doc:"after so long it no longer signs in; 0: never"`
				Datasets record.Strings `json:"datasets,omitempty" doc:"that it is for; none: all of one's own"`
			}
		}) (*body[MadeToken], error) {
			if account(ctx).ID == 0 {
				return nil, record.Conflict{What: "the service runs without sign-in: nobody needs a token"}
			}
			w := people.Wanted{Role: in.Body.Role, For: in.Body.For,
				Ends: time.Duration(min(in.Body.Expires, 1<<33)) * time.Second, Datasets: in.Body.Datasets}
			token, err := s.People.MakeOwn(ctx, account(ctx), w)
			return ok(MadeToken{token}, err)
		})
	add(api, "DELETE", "/me/tokens/{id}", "revoke-my-token", "Take one of one's own tokens back", people.Reader,
		func(ctx context.Context, in *Identified) (*none, error) {
			return &none{}, s.Store.RevokeToken(ctx, in.ID, account(ctx).ID)
		})
}

// signOut ends a session (0: all) of who asks, of anybody for administrators who name one.
func (s *server) signOut(ctx context.Context, session int64) error {
	if asking(ctx).Less {
		return people.ErrLess
	}
	of := account(ctx).ID
	if session != 0 && people.Everywhere(account(ctx), people.Admin) {
		of = 0
	}
	if session == 0 && of == 0 {
		return nil // without sign-in
	}
	return s.People.SignOut(ctx, session, of)
}

// leave sends somebody to the provider to sign in there.
func (s *server) leave(w http.ResponseWriter, r *http.Request) {
	address, kept, err := s.People.Leave(r.Context())
	if err != nil {
		s.backToSignIn(w, r, err)
		return
	}
	// Lax, not strict: the way back begins at the provider.
	http.SetCookie(w, &http.Cookie{Name: wayCookie, Value: base64.RawURLEncoding.EncodeToString(kept), Path: "/sign-in/provider",
		HttpOnly: true, Secure: s.Secure, SameSite: http.SameSiteLaxMode, MaxAge: 600})
	http.Redirect(w, r, address, http.StatusFound)
}

// comeBack takes in somebody whom the provider sends back.
func (s *server) comeBack(w http.ResponseWriter, r *http.Request) {
	http.SetCookie(w, &http.Cookie{Name: wayCookie, Path: "/sign-in/provider", MaxAge: -1})
	q := r.URL.Query()
	if refused := q.Get("error"); refused != "" {
		s.backToSignIn(w, r, people.ErrProvider{Said: "the provider refused: " + plainly(q.Get("error_description"), refused)})
		return
	}
	var kept []byte
	if c, err := r.Cookie(wayCookie); err == nil {
		kept, _ = base64.RawURLEncoding.DecodeString(c.Value)
	}
	who, secret, err := s.People.Return(r.Context(), kept, q.Get("state"), q.Get("code"),
		people.Browser{Origin: proxies.Host(r.RemoteAddr), Agent: r.UserAgent()})
	if err != nil {
		s.backToSignIn(w, r, err)
		return
	}
	entry := record.Audit{At: s.Now(), Who: who.Name, Role: who.Role, What: "sign in", About: "through the provider",
		Origin: proxies.Host(r.RemoteAddr), Request: requestOf(r.Context()).id}
	if err := s.Store.AddAudit(context.WithoutCancel(r.Context()), entry); err != nil {
		s.Log.ErrorContext(r.Context(), "the audit trail was not written", "request", entry.Request, "who", entry.Who, "what",
			entry.What, "error", err)
	}
	http.SetCookie(w, s.sessionCookie(secret))
	// A page of our own goes on: a strict cookie is not sent along with what another site began.
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	fmt.Fprint(w, `<!doctype html><meta http-equiv="refresh" content="0; url=/"><title>Tin Bell</title><p><a href="/">Signed in: go on</a>`)
}

// plainly shortens what another service said, for a sentence.
func plainly(texts ...string) string {
	text := cmp.Or(texts...)
	if r := []rune(text); len(r) > 200 {
		return string(r[:200]) + "…"
	}
	return text
}

// backToSignIn shows what went wrong where somebody can sign in otherwise.
func (s *server) backToSignIn(w http.ResponseWriter, r *http.Request, err error) {
	var provider people.ErrProvider
	said := ""
	if errors.As(err, &provider) {
		said = provider.Said
		s.Log.WarnContext(r.Context(), "signing in through the provider failed", "request", requestOf(r.Context()).id, "said",
			said, "error", provider.Err)
	} else {
		said = problem(r.Context(), err).Error()
	}
	http.Redirect(w, r, "/sign-in?wrong="+url.QueryEscape(said), http.StatusFound)
}

// waitSeconds is how long somebody is to wait, for Retry-After.
func waitSeconds(d time.Duration) string { return fmt.Sprint(int(math.Ceil(d.Seconds()))) }
