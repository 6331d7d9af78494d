package httpapi

import (
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
)

// forwarded takes who sends a request from what trusted proxies say of it: the last address
// in X-Forwarded-For, or in Forwarded (RFC 7239), that is not itself one of them. Of anybody
// else these headers say nothing.
func (s *server) forwarded(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if s.proxy(hostOf(r.RemoteAddr)) {
			chain := forwardedFor(r.Header)
			for _, address := range slices.Backward(chain) {
				a, err := netip.ParseAddr(address)
				if err != nil {
					break // a proxy that hides it: who came to that proxy is as far as is known
				}
				r.RemoteAddr = net.JoinHostPort(a.Unmap().String(), "0")
				if !s.proxy(address) {
					break
				}
			}
		}
		next.ServeHTTP(w, r)
	})
}

func (s *server) proxy(host string) bool {
	a, err := netip.ParseAddr(host)
	return err == nil && slices.ContainsFunc(s.Proxies, func(p netip.Prefix) bool { return p.Contains(a.Unmap()) })
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
