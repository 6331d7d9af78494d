package tell

import (
	"context"
	"fmt"
	"net/mail"
	"net/netip"
	"net/url"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/timeline"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// rotation is how long webhooks are signed with the secret before as well.
const rotation = 24 * time.Hour

// SetChannel adds a channel or replaces the one of that name. secret is the
// password of an SMTP login or the signing secret of a webhook; empty keeps what
// there is. A webhook without one gets a new one, which is given back to be shown
// once.
func (t *Teller) SetChannel(ctx context.Context, v record.Channel, secret string) (record.Channel, string, error) {
	made := ""
	err := t.store.InTx(ctx, func(tx pgx.Tx) error {
		var err error
		made, err = t.PutChannel(ctx, tx, v, secret)
		return err
	})
	if err != nil {
		return v, "", err
	}
	v, err = t.store.Channel(ctx, v.Name)
	return v, made, err
}

// PutChannel is SetChannel in the caller's transaction.
func (t *Teller) PutChannel(ctx context.Context, tx pgx.Tx, v record.Channel, secret string) (made string, err error) {
	if err := t.CheckChannel(&v); err != nil {
		return "", err
	}
	before, err := t.store.In(tx).ChannelForUpdate(ctx, v.Name)
	if err != nil {
		return "", err
	}
	if v.Kind == record.ChannelWebhook && secret == "" && (before.Secret == nil || before.Kind != v.Kind) {
		secret = NewSecret()
		made = secret
	}
	if secret != "" {
		v.Secret = t.safe.Lock(secret)
	}
	_, err = store.SetChannel(ctx, tx, v)
	return made, err
}

// CheckChannel fills in what is usual and refuses what cannot work.
func (t *Teller) CheckChannel(v *record.Channel) error {
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
		return t.checkWebhook(&v.Settings)
	}
	return record.Invalid{Field: "kind", Given: v.Kind, Allowed: "email or webhook"}
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

func (t *Teller) checkWebhook(s *record.ChannelSettings) error {
	u, err := url.Parse(s.URL)
	if err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Host == "" {
		return record.Invalid{Field: "url", Given: s.URL, Allowed: "an address that begins with https:// (or http://)"}
	}
	if ip, err := netip.ParseAddr(u.Hostname()); err == nil {
		if err := guard(t.options.Allowed).check(ip); err != nil {
			return record.Invalid{Field: "url", Given: s.URL, Allowed: err.Error()}
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
func (t *Teller) Rotate(ctx context.Context, name string) (string, time.Time, error) {
	c, err := t.store.Channel(ctx, name)
	if err != nil {
		return "", time.Time{}, err
	}
	if c.Kind != record.ChannelWebhook {
		return "", time.Time{}, record.Invalid{Field: "channel", Given: name, Allowed: "a webhook: others are not signed"}
	}
	secret, until := NewSecret(), t.now().Add(rotation)
	return secret, until, t.store.RotateSecret(ctx, c.ID, t.safe.Lock(secret), until)
}

// SetRoute adds a route or replaces the one of that name.
func (t *Teller) SetRoute(ctx context.Context, v record.Route) (record.Route, error) {
	if err := CheckRoute(&v); err != nil {
		return v, err
	}
	if v.EscalateTo != "" {
		if _, err := t.store.Channel(ctx, v.EscalateTo); err != nil {
			return v, err
		}
	}
	if err := t.store.InTx(ctx, func(tx pgx.Tx) error { return store.SetRoute(ctx, tx, v) }); err != nil {
		return v, err
	}
	return t.store.Route(ctx, v.Name)
}

// CheckRoute fills in what is usual and refuses what cannot be followed.
func CheckRoute(v *record.Route) error {
	if v.Severity == "" {
		v.Severity = "warning"
	}
	if v.Zone == "" {
		v.Zone = "UTC"
	}
	switch _, err := time.LoadLocation(v.Zone); {
	case strings.TrimSpace(v.Name) == "":
		return record.Invalid{Field: "name", Given: v.Name, Allowed: "a name that people know the route by"}
	case err != nil:
		return record.Invalid{Field: "zone", Given: v.Zone, Allowed: "a name of the tz database, such as America/Halifax"}
	case v.Severity != "warning" && v.Severity != "critical":
		return record.Invalid{Field: "severity", Given: v.Severity, Allowed: "warning or critical"}
	case min(v.WaitSeconds, v.RemindSeconds, v.EscalateSeconds) < 0 || v.WaitSeconds > 3600:
		return record.Invalid{Field: "wait", Given: fmt.Sprint(v.WaitSeconds), Allowed: "0 to 3600 seconds; times are not negative"}
	case v.RemindSeconds > 0 && v.RemindSeconds < 60:
		return record.Invalid{Field: "remind", Given: fmt.Sprint(v.RemindSeconds), Allowed: "a minute at least, or 0 for none"}
	case v.EscalateSeconds > 0 && v.EscalateTo == "":
		return record.Invalid{Field: "escalate_to", Given: "", Allowed: "the channel that is told when nobody looks after it"}
	case v.EscalateTo != "" && v.EscalateTo == v.Channel:
		return record.Invalid{Field: "escalate_to", Given: v.EscalateTo, Allowed: "another channel than the route's own"}
	}
	for _, hours := range v.Hours {
		if _, err := timeline.ParseHours(hours); err != nil {
			return record.Invalid{Field: "hours", Given: hours, Allowed: err.Error()}
		}
	}
	for _, pattern := range v.Datasets {
		if _, err := path.Match(pattern, ""); err != nil {
			return record.Invalid{Field: "datasets", Given: pattern, Allowed: "a name, or a pattern with * and ? such as ops.*"}
		}
	}
	return nil
}
