package proxies_test

import (
	"net/http"
	"net/http/httptest"
	"net/netip"
	"testing"

	"tinbell/internal/httpapi/proxies"
)

// Who sends a request is told by proxies that are trusted, and by nobody else.
func TestOnlyTrustedProxiesSayWhoSends(t *testing.T) {
	trusted := proxies.Trusted{netip.MustParsePrefix("10.0.0.0/8"), netip.MustParsePrefix("fd00::/8")}
	for _, c := range []struct{ from, name, value, want string }{
		{"192.0.2.7:1", "X-Forwarded-For", "198.51.100.9", "192.0.2.7"}, // anybody can write it
		{"10.0.0.1:1", "X-Forwarded-For", "198.51.100.9", "198.51.100.9"},
		{"10.0.0.1:1", "X-Forwarded-For", "203.0.113.5, 198.51.100.9, 10.0.0.2",
			"198.51.100.9"}, // what came before it is the sender's word
		{"10.0.0.1:1", "X-Forwarded-For", "10.0.0.3, 10.0.0.2", "10.0.0.3"},
		{"10.0.0.1:1", "X-Forwarded-For", "unknown", "10.0.0.1"},
		{"10.0.0.1:1", "X-Forwarded-For", "unknown, 198.51.100.9:4711", "198.51.100.9"},
		{"10.0.0.1:1", "Forwarded", `for=203.0.113.5;proto=https, for="[2001:db8::7]:4711"`, "2001:db8::7"},
		{"[fd00::1]:1", "Forwarded", "for=_hidden", "fd00::1"},
		{"10.0.0.1:1", "X-Other", "198.51.100.9", "10.0.0.1"},
	} {
		got := ""
		handler := trusted.Sender(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { got = proxies.Host(r.RemoteAddr) }))
		r := httptest.NewRequest(http.MethodGet, "/", nil)
		r.RemoteAddr = c.from
		r.Header.Set(c.name, c.value)
		handler.ServeHTTP(httptest.NewRecorder(), r)
		if got != c.want {
			t.Errorf("%s with %s: %s is %s, want %s", c.from, c.name, c.value, got, c.want)
		}
	}
}
