package sink

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"html/template"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
)

// Guest is somebody whom the stand-in provider knows.
type Guest struct {
	Name   string
	Groups []string
}

// Provider is a stand-in for where an organisation's people sign in: OpenID Connect,
// authorisation code with PKCE. It asks for no password: whoever comes says who to be.
type Provider struct {
	Client, Secret string
	Guests         []Guest
	Now            func() time.Time
	Alter          func(claims map[string]any) // what it says wrongly, to see what becomes of it; nil: nothing

	key *rsa.PrivateKey

	mu     sync.Mutex
	issuer string
	codes  map[string]granted
}

// granted is a code that was given and not yet exchanged.
type granted struct {
	guest                      Guest
	back, nonce, challenge, id string
	until                      time.Time
}

// NewProvider makes a stand-in with a key of its own.
func NewProvider(client, secret string, guests ...Guest) (*Provider, error) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		return nil, fmt.Errorf("key of the stand-in provider: %w", err)
	}
	return &Provider{Client: client, Secret: secret, Guests: guests, Now: time.Now, key: key, codes: map[string]granted{}}, nil
}

// At says under which address it is reached.
func (p *Provider) At(issuer string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.issuer = issuer
}

// Handler answers as a provider.
func (p *Provider) Handler() http.Handler {
	mux := chi.NewRouter()
	mux.Get("/.well-known/openid-configuration", p.described)
	mux.Get("/keys", p.keys)
	mux.Get("/authorize", p.authorize)
	mux.Post("/token", p.exchange)
	return mux
}

func (p *Provider) address() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.issuer
}

func (p *Provider) described(w http.ResponseWriter, _ *http.Request) {
	at := p.address()
	answer(w, http.StatusOK, map[string]any{
		"issuer": at, "authorization_endpoint": at + "/authorize", "token_endpoint": at + "/token", "jwks_uri": at + "/keys",
		"response_types_supported": []string{"code"}, "subject_types_supported": []string{"public"},
		"id_token_signing_alg_values_supported": []string{"RS256"},
		"code_challenge_methods_supported":      []string{"S256"}, "scopes_supported": []string{"openid", "profile", "email"},
	})
}

func (p *Provider) keys(w http.ResponseWriter, _ *http.Request) {
	answer(w, http.StatusOK, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: &p.key.PublicKey, KeyID: "1", Algorithm: "RS256",
		Use: "sig"}}})
}

var guestsPage = template.Must(template.New("guests").Parse(`<!doctype html><html lang="en"><meta charset="utf-8"><title>Vellamar staff directory</title>
<style>body{font:16px/1.5 system-ui,sans-serif;max-width:34rem;margin:15vh auto;padding:0 1rem}a{display:block;padding:.6rem 0;border-bottom:1px solid #ccc;color:inherit}small{color:#666}</style>
<h1>Who are you?</h1><p>This is a stand-in for an organisation's directory: it asks for no password.</p>
{{range .}}<a href="{{.Address}}">{{.Name}} <small>{{range .Groups}}{{.}} {{end}}</small></a>{{end}}</html>`))

// authorize asks who somebody is, and sends them back with a code.
func (p *Provider) authorize(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	back, err := url.Parse(q.Get("redirect_uri"))
	if err != nil || q.Get("client_id") != p.Client || q.Get("response_type") != "code" || q.Get("code_challenge_method") != "S256" {
		http.Error(w, "not a request of a client that is known here: a code with PKCE is what is given", http.StatusBadRequest)
		return
	}
	if q.Get("as") == "" {
		type choice struct {
			Guest
			Address string
		}
		var list []choice
		for _, g := range p.Guests {
			as := r.URL.Query()
			as.Set("as", g.Name)
			list = append(list, choice{g, "/authorize?" + as.Encode()})
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		guestsPage.Execute(w, list)
		return
	}
	i := slices.IndexFunc(p.Guests, func(g Guest) bool { return g.Name == q.Get("as") })
	to := back.Query()
	to.Set("state", q.Get("state"))
	if i < 0 {
		to.Set("error", "access_denied")
	} else {
		code := rand.Text()
		p.mu.Lock()
		p.codes[code] = granted{guest: p.Guests[i], back: q.Get("redirect_uri"), nonce: q.Get("nonce"),
			challenge: q.Get("code_challenge"), id: fmt.Sprint(1000 + i), until: time.Now().Add(time.Minute)}
		p.mu.Unlock()
		to.Set("code", code)
	}
	back.RawQuery = to.Encode()
	http.Redirect(w, r, back.String(), http.StatusFound)
}

// exchange gives an ID token for a code, once.
func (p *Provider) exchange(w http.ResponseWriter, r *http.Request) {
	if err := r.ParseForm(); err != nil {
		answer(w, http.StatusBadRequest, map[string]string{"error": "invalid_request"})
		return
	}
	id, secret, basic := r.BasicAuth()
	if basic { // written as a form's values are (RFC 6749, section 2.3.1)
		id, _ = url.QueryUnescape(id)
		secret, _ = url.QueryUnescape(secret)
	} else {
		id, secret = r.PostForm.Get("client_id"), r.PostForm.Get("client_secret")
	}
	if id != p.Client || subtle.ConstantTimeCompare([]byte(secret), []byte(p.Secret)) != 1 {
		answer(w, http.StatusUnauthorized, map[string]string{"error": "invalid_client"})
		return
	}
	p.mu.Lock()
	g, known := p.codes[r.PostForm.Get("code")]
	delete(p.codes, r.PostForm.Get("code"))
	p.mu.Unlock()
	sum := sha256.Sum256([]byte(r.PostForm.Get("code_verifier")))
	proven := subtle.ConstantTimeCompare([]byte(base64.RawURLEncoding.EncodeToString(sum[:])), []byte(g.challenge)) == 1
	if !known || !proven || time.Now().After(g.until) || r.PostForm.Get("redirect_uri") != g.back {
		answer(w, http.StatusBadRequest, map[string]string{"error": "invalid_grant"})
		return
	}
	now := p.Now()
	claims := map[string]any{
		"iss": p.address(), "sub": g.id, "aud": p.Client, "iat": now.Unix(), "exp": now.Add(5 * time.Minute).Unix(), "nonce": g.nonce,
		"name": g.guest.Name, "preferred_username": g.guest.Name, "email": strings.ReplaceAll(strings.ToLower(g.guest.Name), " ",
			".") + "@vellamar.example", "groups": g.guest.Groups,
	}
	if p.Alter != nil {
		p.Alter(claims)
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.RS256, Key: jose.JSONWebKey{Key: p.key, KeyID: "1"}},
		(&jose.SignerOptions{}).WithType("JWT"))
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	token, err := jwt.Signed(signer).Claims(claims).Serialize()
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	answer(w, http.StatusOK, map[string]any{"access_token": rand.Text(), "token_type": "Bearer", "expires_in": 300, "id_token": token})
}

func answer(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(v)
}
