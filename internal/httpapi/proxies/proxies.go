// Package proxies tells who sends a request that came through proxies.
package proxies

import (
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
)

// Trusted are the networks of the proxies whose word is taken.
type Trusted []netip.Prefix

// Sender takes who sends a request from what trusted proxies say of it: the last address
// in X-Forwarded-For, or in Forwarded (RFC 7239), that is not itself one of them. Of anybody
// else these headers say nothing. A sender learned that way has port 0.
func (t Trusted) Sender(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if t.has(Host(r.RemoteAddr)) {
			chain := forwardedFor(r.Header)
			for _, address := range slices.Backward(chain) {
				a, err := netip.ParseAddr(address)
				if err != nil {
					break // a proxy that hides it: who came to that proxy is as far as is known
				}
				r.RemoteAddr = net.JoinHostPort(a.Unmap().String(), "0")
				if !t.has(address) {
					break
				}
			}
		}
		next.ServeHTTP(w, r)
	})
}

// Host is an address without its port.
func Host(address string) string {
	if host, _, err := net.SplitHostPort(address); err == nil {
		return host
	}
	return address
}

func (t Trusted) has(host string) bool {
	a, err := netip.ParseAddr(host)
	return err == nil && slices.ContainsFunc(t, func(p netip.Prefix) bool { return p.Contains(a.Unmap()) })
}

// forwardedFor are the addresses that a request came through, the nearest last.
func forwardedFor(h http.Header) (list []string) {
	for _, line := range h.Values("X-Forwarded-For") {
		for part := range strings.SplitSeq(line, ",") {
			list = append(list, bare(part))
		}
	}
	if list != nil {
		return list
	}
	for _, line := range h.Values("Forwarded") {
		for element := range strings.SplitSeq(line, ",") {
			for pair := range strings.SplitSeq(element, ";") {
				if name, value, _ := strings.Cut(strings.TrimSpace(pair), "="); strings.EqualFold(name, "for") {
					list = append(list, bare(strings.Trim(value, `"`)))
				}
			}
		}
	}
	return list
}

// bare is an address without port and brackets.
func bare(address string) string {
	address = strings.TrimSpace(address)
	if host, _, err := net.SplitHostPort(address); err == nil {
		return host
	}
	return strings.Trim(address, "[]")
}
