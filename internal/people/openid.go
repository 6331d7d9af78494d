package people

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"

	"tinbell/internal/record"
)

// OpenID says where people sign in by OpenID Connect, and what its groups give.
type OpenID struct {
	Issuer string
	Client string
	Secret string // empty: a public client; PKCE is used in any case
	Called string // what the way in is called
	Claim  string // of the ID token that has the groups; "groups" if empty
	Scopes []string
	Roles  []GroupRole
	Back   string // where the provider sends people back to
	Trust  *http.Client
}

// GroupRole is what a group of the provider gives: a role, or a team's place.
type GroupRole struct {
	Group string // * is anybody
	Role  string // or
	Team  string
}

// ReadGroupRole reads GROUP=ROLE, or GROUP=team:NAME.
func ReadGroupRole(text string) (GroupRole, error) {
	group, gives, there := strings.Cut(text, "=")
	g := GroupRole{Group: strings.TrimSpace(group), Role: strings.TrimSpace(gives)}
	if team, is := strings.CutPrefix(g.Role, "team:"); is {
		g.Role, g.Team = "", team
	}
	if !there || g.Group == "" || g.Team == "" && rank[g.Role] == 0 {
		return g, fmt.Errorf("%q: write GROUP=ROLE with a role of %s, or GROUP=team:NAME; a GROUP of * is anybody", text,
			strings.Join(Roles, ", "))
	}
	return g, nil
}

// Provider signs people in by OpenID Connect: authorisation code with PKCE (RFC 7636).
type Provider struct {
	OpenID
	now func() time.Time

	mu    sync.Mutex
	known *oidc.Provider // what discovery said; nil until somebody asks
}

// NewProvider makes one that asks the issuer when it is first used: the service starts
// without it.
func NewProvider(o OpenID, now func() time.Time) *Provider {
	if o.Claim == "" {
		o.Claim = "groups"
	}
	if o.Called == "" {
		o.Called = "your organisation"
	}
	return &Provider{OpenID: o, now: now}
}

const (
	providerAnswers = 10 * time.Second // at most
	wayLasts        = 10 * time.Minute // from leaving for the provider until coming back
	mostAnswered    = 1 << 20          // bytes of one of its answers
)

// ErrProvider is what signing in through the provider fails with, in words.
type ErrProvider struct {
	Said string
	Err  error
}

func (e ErrProvider) Error() string { return e.Said }
func (e ErrProvider) Unwrap() error { return e.Err }

func (p *Provider) asking(ctx context.Context) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithTimeout(ctx, providerAnswers)
	client := p.Trust
	if client == nil {
		client = &http.Client{}
	}
	bounded := *client
	bounded.Transport = short{cmp.Or(client.Transport, http.DefaultTransport)}
	return oidc.ClientContext(ctx, &bounded), cancel
}

// short cuts off answers that are longer than a provider's ever are.
type short struct{ http.RoundTripper }

func (s short) RoundTrip(r *http.Request) (*http.Response, error) {
	answer, err := s.RoundTripper.RoundTrip(r)
	if err == nil {
		answer.Body = struct {
			io.Reader
			io.Closer
		}{io.LimitReader(answer.Body, mostAnswered), answer.Body}
	}
	return answer, err
}

func (p *Provider) discover(ctx context.Context) (*oidc.Provider, *oauth2.Config, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.known == nil {
		found, err := oidc.NewProvider(ctx, p.Issuer)
		if err != nil {
			return nil, nil, ErrProvider{p.Called +
				" does not answer as a provider of sign-ins should: sign in with a token or a password, and have the issuer's address looked at", err}
		}
		p.known = found
	}
	scopes := append([]string{oidc.ScopeOpenID, "profile", "email"}, p.Scopes...)
	return p.known, &oauth2.Config{ClientID: p.Client, ClientSecret: p.Secret, Endpoint: p.known.Endpoint(), RedirectURL: p.Back,
		Scopes: scopes}, nil
}

// way is what is remembered of somebody who has left for the provider.
type way struct {
	State    string    `json:"state"`
	Nonce    string    `json:"nonce"`
	Verifier string    `json:"verifier"`
	Until    time.Time `json:"until"`
}

// Leave gives the address at the provider where somebody signs in, and what the browser
// keeps meanwhile, sealed.
func (d *Desk) Leave(ctx context.Context) (address string, kept []byte, err error) {
	if d.provider == nil {
		return "", nil, record.NotFound{Kind: "provider", Name: "to sign in through"}
	}
	ctx, cancel := d.provider.asking(ctx)
	defer cancel()
	_, config, err := d.provider.discover(ctx)
	if err != nil {
		return "", nil, err
	}
	w := way{rand.Text(), rand.Text(), oauth2.GenerateVerifier(), d.now().Add(wayLasts)}
	text, err := json.Marshal(w)
	if err != nil {
		return "", nil, err
	}
	return config.AuthCodeURL(w.State, oidc.Nonce(w.Nonce), oauth2.S256ChallengeOption(w.Verifier)), d.safe.Lock(string(text)), nil
}

// Return signs somebody in who comes back from the provider with a code.
func (d *Desk) Return(ctx context.Context, kept []byte, state, code string, from Browser) (record.Account, string, error) {
	none := record.Account{}
	if d.provider == nil {
		return none, "", record.NotFound{Kind: "provider", Name: "to sign in through"}
	}
	text, err := d.safe.Unlock(kept)
	var w way
	if err != nil || json.Unmarshal([]byte(text), &w) != nil || state == "" || state != w.State {
		return none, "", ErrProvider{"this sign-in was not begun here: begin it again", err}
	}
	if d.now().After(w.Until) {
		return none, "", ErrProvider{"signing in took longer than ten minutes: begin it again", nil}
	}
	asking, cancel := d.provider.asking(ctx)
	defer cancel()
	claims, err := d.provider.claims(asking, w, code)
	if err != nil {
		return none, "", err
	}
	role, teams := d.provider.gives(claims.groups)
	if role == None && len(teams) == 0 {
		return none, "", ErrProvider{fmt.Sprintf("%s is in none of the groups that may sign in: an administrator says which may (--openid-role)", claims.name), nil}
	}
	account, err := d.store.Provided(ctx, d.provider.Issuer+" "+claims.subject, claims.name, role, teams)
	if err != nil {
		return none, "", err
	}
	secret, err := d.enter(ctx, account, 0, "provider", from)
	return capped(account, "", nil), secret, err
}

type claimed struct {
	subject, name string
	groups        []string
}

// claims exchanges a code and reads who came.
func (p *Provider) claims(ctx context.Context, w way, code string) (c claimed, err error) {
	known, config, err := p.discover(ctx)
	if err != nil {
		return c, err
	}
	wrong := func(said string, err error) (claimed, error) { return c, ErrProvider{said, err} }
	token, err := config.Exchange(ctx, code, oauth2.VerifierOption(w.Verifier))
	if err != nil {
		return wrong(p.Called+" did not take the sign-in: begin it again", err)
	}
	raw, _ := token.Extra("id_token").(string)
	id, err := known.Verifier(&oidc.Config{ClientID: p.Client, Now: p.now}).Verify(ctx, raw)
	if ended := (*oidc.TokenExpiredError)(nil); errors.As(err, &ended) {
		return wrong(fmt.Sprintf("what %s sent had ended at %s; here it is %s: is a clock wrong?", p.Called,
			ended.Expiry.UTC().Format("15:04:05"), p.now().UTC().Format("15:04:05")), err)
	}
	if err != nil || id.Nonce != w.Nonce {
		return wrong("what "+p.Called+" sent is not signed as it should be, or for something else: begin again, and tell an administrator", err)
	}
	if ahead := id.IssuedAt.Sub(p.now()); ahead > 5*time.Minute {
		return wrong(fmt.Sprintf("what %s sent was made %s in the future: is a clock wrong?", p.Called, ahead.Round(time.Second)), nil)
	}
	var said map[string]any
	if err := id.Claims(&said); err != nil {
		return wrong("what "+p.Called+" sent cannot be read", err)
	}
	c.subject = id.Subject
	for _, key := range []string{"preferred_username", "email", "name", "sub"} {
		if name, _ := said[key].(string); name != "" && record.CheckName("name", name) == nil {
			c.name = name
			break
		}
	}
	switch groups := said[p.Claim].(type) {
	case string:
		c.groups = []string{groups}
	case []any:
		for _, g := range groups {
			if text, is := g.(string); is {
				c.groups = append(c.groups, text)
			}
		}
	}
	if c.subject == "" || c.name == "" {
		return wrong(p.Called+" did not say who it is", nil)
	}
	return c, nil
}

// gives is what groups come to: the highest role, and all teams.
func (p *Provider) gives(groups []string) (role string, teams []string) {
	role = None
	for _, g := range p.Roles {
		if g.Group != "*" && !slices.Contains(groups, g.Group) {
			continue
		}
		if g.Team != "" {
			teams = append(teams, g.Team)
		} else if rank[g.Role] > rank[role] {
			role = g.Role
		}
	}
	return role, teams
}

// WaysIn are the ways there are to sign in.
type WaysIn struct {
	Provider string `json:"provider" doc:"what people sign in through; empty: nothing"`
}

// Ways gives the ways there are to sign in.
func (d *Desk) Ways() WaysIn {
	if d.provider == nil {
		return WaysIn{}
	}
	return WaysIn{Provider: d.provider.Called}
}
