package notify

import (
	"net/url"
	"strings"

	"tinbell/internal/record"
)

// hidden stands in an address for what is not shown of it.
const hidden = "…"

// shown gives a webhook's address as everybody may see it: without a login, what its query
// says, and parts of its path that look like keys. It is the address itself where it has
// none of those.
func shown(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return hidden
	}
	out := u.Scheme + "://"
	if u.User != nil {
		out += hidden + "@"
	}
	parts := strings.Split(u.EscapedPath(), "/")
	for i, p := range parts {
		if keyLike(p) {
			parts[i] = hidden
		}
	}
	out += u.Host + strings.Join(parts, "/")
	if u.RawQuery != "" {
		var names []string
		for _, pair := range strings.Split(u.RawQuery, "&") {
			name, _, _ := strings.Cut(pair, "=")
			names = append(names, name+"="+hidden)
		}
		out += "?" + strings.Join(names, "&")
	}
	if u.Fragment != "" {
		out += "#" + hidden
	}
	return out
}

// keyLike tells parts of a path that are keys rather than names: long, or letters and
// digits mixed.
func keyLike(part string) bool {
	digits, letters := 0, 0
	for _, c := range part {
		switch {
		case c >= '0' && c <= '9':
			digits++
		case c|0x20 >= 'a' && c|0x20 <= 'z':
			letters++
		}
	}
	return len(part) >= 24 || len(part) >= 8 && digits >= 2 && letters >= 2
}

// lockAddress keeps a webhook's address encrypted where it holds what is not shown. One that
// is given as it is shown is the one that is kept.
func (n *Notifier) lockAddress(v *record.Channel, before record.Channel) error {
	address := v.Settings.URL
	if strings.Contains(address, hidden) {
		if before.Kind != v.Kind || before.Settings.URL != address || before.Address == nil {
			return record.Invalid{Field: "url", Given: address, Allowed: "the whole address; " + hidden +
				" stands for what is kept of the one there is, " + before.Settings.URL}
		}
		v.Address = before.Address
		return nil
	}
	if v.Settings.URL = shown(address); v.Settings.URL != address {
		v.Address = n.safe.Lock(address)
	}
	return nil
}

// address is where a webhook is reached.
func (n *Notifier) address(c record.Channel) (string, error) {
	if c.Address == nil {
		return c.Settings.URL, nil
	}
	return n.safe.Unlock(c.Address)
}
