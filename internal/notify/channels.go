package notify

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/mail"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/net/http/httpguts"

	"tinbell/internal/outward"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// rotation is how long webhooks are signed with the secret before as well.
const rotation = 24 * time.Hour

// Secrets are what of a channel is kept encrypted.
type Secrets struct {
	Secret  string            // password of an SMTP login, signing secret of a webhook; empty: as it is
	Headers map[string]string // that a webhook wants, such as an authorisation; nil: as they are
}

// SetChannel adds a channel or replaces the one of that name. A webhook without a
// signing secret gets a new one, which is given back to be shown once.
func (n *Notifier) SetChannel(ctx context.Context, v record.Channel, secrets Secrets) (record.Channel, string, error) {
	made := ""
	err := n.store.InTx(ctx, func(tx pgx.Tx) error {
		var err error
		made, err = n.PutChannel(ctx, tx, v, secrets)
		return err
	})
	if err != nil {
		return v, "", err
	}
	v, err = n.store.Channel(ctx, v.Name)
	return v, made, err
}

// PutChannel is SetChannel in the caller's transaction.
func (n *Notifier) PutChannel(ctx context.Context, tx pgx.Tx, v record.Channel, secrets Secrets) (made string, err error) {
	secret := secrets.Secret
	if err := n.CheckChannel(&v); err != nil {
		return "", err
	}
	before, err := n.store.In(tx).ChannelForUpdate(ctx, v.Name)
	if err != nil {
		return "", err
	}
	if v.Kind == record.ChannelWebhook {
		if err := n.lockAddress(&v, before); err != nil {
			return "", err
		}
	}
	if v.Kind == record.ChannelWebhook && secret == "" && (before.Secret == nil || before.Kind != v.Kind) {
		secret = NewSecret()
		made = secret
	}
	if secret != "" {
		v.Secret = n.safe.Lock(secret)
	}
	if err := n.lockHeaders(&v, secrets.Headers); err != nil {
		return "", err
	}
	_, err = store.SetChannel(ctx, tx, v)
	return made, err
}

// lockHeaders checks the headers of a webhook and keeps them encrypted. One without a
// value is none.
func (n *Notifier) lockHeaders(v *record.Channel, headers map[string]string) error {
	if headers == nil {
		return nil
	}
	kept := map[string]string{}
	for name, value := range headers {
		name = http.CanonicalHeaderKey(strings.TrimSpace(name))
		switch {
		case value == "":
			continue
		case v.Kind != record.ChannelWebhook:
			return record.Invalid{Field: "headers", Given: name, Allowed: "headers of a webhook; e-mail has none"}
		case !httpguts.ValidHeaderFieldName(name) || slices.Contains(ownHeaders, name) || strings.HasPrefix(name, "Webhook-"):
			return record.Invalid{Field: "header", Given: name,
				Allowed: "a header of its own, such as Authorization; not one that every message has"}
		case len(value) > longestHeader || !httpguts.ValidHeaderFieldValue(value):
			return record.Invalid{Field: "header", Given: name, Allowed: fmt.Sprintf("a value of one line and at most %d bytes",
				longestHeader)}
		}
		kept[name] = value
	}
	v.HeaderNames = record.Strings(slices.Sorted(maps.Keys(kept)))
	if v.HeaderNames == nil {
		v.HeaderNames = record.Strings{}
	}
	if len(kept) == 0 {
		return nil
	}
	text, err := json.Marshal(kept)
	v.Headers = n.safe.Lock(string(text))
	return err
}

const longestHeader = 4096

// ownHeaders are those that the service or HTTP itself sets.
var ownHeaders = []string{"Host", "Content-Length", "Content-Type", "User-Agent", "Connection", "Transfer-Encoding", "Te",
	"Trailer", "Upgrade"}

// headers are those that a webhook wants.
func (n *Notifier) headers(c record.Channel) (map[string]string, error) {
	if c.Headers == nil {
		return nil, nil
	}
	text, err := n.safe.Unlock(c.Headers)
	if err != nil {
		return nil, err
	}
	var headers map[string]string
	return headers, json.Unmarshal([]byte(text), &headers)
}

// CheckChannel fills in what is usual and refuses what cannot work.
func (n *Notifier) CheckChannel(v *record.Channel) error {
	if strings.TrimSpace(v.Name) == "" {
		return record.Invalid{Field: "name", Given: v.Name, Allowed: "a name that people know the channel by"}
	}
	if v.HourlyLimit == 0 {
		v.HourlyLimit = 30
	}
	if v.HourlyLimit < 1 || v.HourlyLimit > 3600 {
		return record.Invalid{Field: "hourly_limit", Given: fmt.Sprint(v.HourlyLimit), Allowed: "1 to 3600 messages an hour"}
	}
	switch v.Kind {
	case record.ChannelEmail:
		return checkMail(&v.Settings)
	case record.ChannelWebhook:
		return n.checkWebhook(&v.Settings)
	}
	return record.Invalid{Field: "kind", Given: string(v.Kind), Allowed: "email or webhook"}
}

func checkMail(s *record.ChannelSettings) error {
	if len(s.To) == 0 {
		return record.Invalid{Field: "to", Given: "", Allowed: "at least one e-mail address"}
	}
	for _, address := range append(slices.Clone(s.To), s.From) {
		if _, err := mail.ParseAddress(address); err != nil {
			return record.Invalid{Field: "address", Given: address, Allowed: "an e-mail address such as night@ferries.example"}
		}
	}
	if s.Host == "" || strings.ContainsAny(s.Host, "/ ") {
		return record.Invalid{Field: "host", Given: s.Host, Allowed: "the name of an SMTP server"}
	}
	if !slices.Contains([]string{"", "starttls", "tls", "none"}, s.Security) {
		return record.Invalid{Field: "security", Given: s.Security, Allowed: "starttls, tls or none"}
	}
	if s.Port < 0 || s.Port > 65535 {
		return record.Invalid{Field: "port", Given: fmt.Sprint(s.Port), Allowed: "1 to 65535"}
	}
	return nil
}

func (n *Notifier) checkWebhook(s *record.ChannelSettings) error {
	u, err := url.Parse(strings.Replace(s.URL, hidden+"@", "", 1))
	if err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Host == "" {
		return record.Invalid{Field: "url", Given: shown(s.URL), Allowed: "an address that begins with https:// (or http://)"}
	}
	if ip, err := netip.ParseAddr(u.Hostname()); err == nil {
		if err := outward.Guard(n.options.Allowed).Check(ip); err != nil {
			return record.Invalid{Field: "url", Given: shown(s.URL), Allowed: err.Error()}
		}
	}
	switch s.Form {
	case "", FormCloudEvent, FormChat, FormTicket:
		if s.Template != "" {
			return record.Invalid{Field: "template", Given: "of the form " + s.Form, Allowed: "a template with the form own alone"}
		}
	case FormOwn:
		return CheckTemplate(s.Template, s.Type)
	default:
		return record.Invalid{Field: "form", Given: s.Form, Allowed: "cloudevent, chat, ticket or own"}
	}
	return nil
}

// Rotate gives a webhook a new signing secret, shown once; messages are signed
// with the old one as well for a day.
func (n *Notifier) Rotate(ctx context.Context, name string) (string, time.Time, error) {
	c, err := n.store.Channel(ctx, name)
	if err != nil {
		return "", time.Time{}, err
	}
	if c.Kind != record.ChannelWebhook {
		return "", time.Time{}, record.Invalid{Field: "channel", Given: name, Allowed: "a webhook: others are not signed"}
	}
	secret, until := NewSecret(), n.now().Add(rotation)
	return secret, until, n.store.RotateSecret(ctx, c.ID, n.safe.Lock(secret), until)
}
