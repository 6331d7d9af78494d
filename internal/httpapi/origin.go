package httpapi

import (
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
)

// unguarded are asked by machines that name the service as they reach it.
var unguarded = map[string]bool{"/livez": true, "/readyz": true}

// fromHere refuses requests of pages that are not the service's own: what changes
// something and comes from another origin (by Sec-Fetch-Site and Origin, as
// http.CrossOriginProtection has it), and what asks for a name that is not the
// service's, which a page can have point here after it was loaded from elsewhere. An
// address in figures cannot be made to point elsewhere.
func (s *server) fromHere(next http.Handler) http.Handler {
	protected := http.NewCrossOriginProtection()
	protected.SetDenyHandler(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		writeProblem(w, http.StatusForbidden, "this comes from a page of "+r.Header.Get("Origin")+
			", which may not change anything here: use the console, the command line, or a program that sends no Origin")
	}))
	if public, err := url.Parse(s.Public); err == nil && public.Host != "" {
		protected.AddTrustedOrigin(public.Scheme + "://" + public.Host) // behind a proxy that calls it otherwise
	}
	guarded := protected.Handler(next)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !unguarded[r.URL.Path] && !s.ours(r.Host) {
			writeProblem(w, http.StatusMisdirectedRequest, "this service is not "+r.Host+
				": it is reached under its address, as localhost, or as what --public-url says")
			return
		}
		guarded.ServeHTTP(w, r)
	})
}

// ours tells whether the service is called so. With sign-in and no public address it
// cannot know what it is called, and does not ask: nothing is told without a token.
func (s *server) ours(host string) bool {
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	host = strings.ToLower(strings.TrimSuffix(strings.Trim(host, "[]"), "."))
	if _, err := netip.ParseAddr(host); err == nil || host == "localhost" || strings.HasSuffix(host, ".localhost") || host == "" {
		return true
	}
	public, err := url.Parse(s.Public)
	if err == nil && public.Hostname() != "" {
		return strings.EqualFold(public.Hostname(), host) || strings.EqualFold(s.Listens, host)
	}
	return s.SignIn || strings.EqualFold(s.Listens, host)
}
