package cli

import (
	"crypto/x509"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/pflag"

	"tinbell/internal/benchmark"
	"tinbell/internal/people"
	"tinbell/internal/service"
)

// serving is what a service is told to be, as it is written on the command line.
type serving struct {
	service.Options
	private, reach, proxies  []string
	trust, role, logs        string
	idle, longest            string
	openID                   people.OpenID
	groupRoles               []string
	secretFile, openIDScopes string
}

func (w *serving) flags(f *pflag.FlagSet) {
	f.StringVar(&w.Listen, "listen", "127.0.0.1:7411", "address to listen on")
	f.StringVar(&w.Database, "database", "", "address of a PostgreSQL database (TINBELL_DATABASE)")
	f.StringVar(&w.ReadDatabase, "read-database", "",
		"address of a replica of it, from which charts, exports, studies and the scorecard are read")
	f.StringVar(&w.role, "role", "all", "what this process does: all, web (answers requests) or work (does what is due)")
	f.IntVar(&w.Keep.Samples, "keep-days", 0, "how many days samples are kept where a dataset has no rule of its own; 0: for ever")
	f.IntVar(&w.Keep.Records, "keep-records", 800, "how many days runs, loads, messages, finished tasks and the like are kept; 0: for ever")
	f.IntVar(&w.Keep.Audit, "keep-audit", 0, "how many days the audit trail is kept; 0: for ever")
	f.StringVar(&w.Public, "public-url", "", "where people reach the service, for the links in messages; where it listens if left out")
	f.StringArrayVar(&w.private, "allow-private", nil, "range of addresses that webhooks may go to though they are not public")
	f.BoolVar(&w.WatchItself, "watch-itself", false,
		"keep the service's own figures as the dataset tinbell.service, to be watched like any other")
	f.StringVar(&w.Telemetry, "otlp", os.Getenv("OTEL_EXPORTER_OTLP_ENDPOINT"),
		"address that its own traces and figures are sent to by OTLP over HTTP, as http://127.0.0.1:4318 (OTEL_EXPORTER_OTLP_ENDPOINT)")
	f.StringVar(&w.logs, "log-format", "text", "how the log is written: text or json")
	f.StringVar(&w.TLSCert, "tls-cert", "",
		"file of a certificate in PEM, with those that vouch for it: serve by HTTPS; a newer one is taken up as it comes")
	f.StringVar(&w.TLSKey, "tls-key", "", "file of its key in PEM")
	f.StringArrayVar(&w.proxies, "trusted-proxy", nil, "range of addresses of proxies whose word on who sends a request is taken")
	f.StringArrayVar(&w.reach, "reach", nil,
		"range of addresses where warehouses and mail servers may be; anywhere but link-local and metadata addresses if left out")
	f.StringVar(&w.trust, "trust", "", "file with the certificates of authorities that mail and web servers are trusted by, instead of the system's")
	f.StringVar(&w.Key.Variable, "key-variable", "",
		"environment variable with the key for stored secrets, in base64 or hex; secret.key of the data directory if left out")
	f.StringVar(&w.Key.Command, "key-command", "", "command that writes that key")
	f.BoolVar(&w.SignIn, "sign-in", true, "ask for a token; can be turned off on loopback only")
	f.StringVar(&w.idle, "session-idle", "7d", "how long a browser stays signed in unused")
	f.StringVar(&w.longest, "session-longest", "30d", "how long it does at all")
	f.StringVar(&w.openID.Issuer, "openid-issuer", "", "address of a provider (OpenID Connect) that people sign in through")
	f.StringVar(&w.openID.Client, "openid-client", "", "what the service is called there")
	f.StringVar(&w.secretFile, "openid-secret-file", "", "file with its secret there (or TINBELL_OPENID_SECRET)")
	f.StringVar(&w.openID.Called, "openid-name", "", "what the way in is called on the sign-in page")
	f.StringVar(&w.openID.Claim, "openid-groups", "groups", "claim of the ID token that has a person's groups")
	f.StringVar(&w.openIDScopes, "openid-scopes", "", "scopes to ask for beside openid, profile and email, with commas between them")
	f.StringArrayVar(&w.groupRoles, "openid-role", nil, "what a group gives: GROUP=ROLE, or GROUP=team:NAME; a GROUP of * is anybody")
}

// read checks what was given and makes options of it.
func (w *serving) read() (o service.Options, err error) {
	o = w.Options
	wrong := func(format string, more ...any) (service.Options, error) {
		return o, wrongUsage{fmt.Errorf(format, more...)}
	}
	if o.Database == "" {
		o.Database = os.Getenv("TINBELL_DATABASE")
	}
	o.Role = service.Role(w.role)
	switch {
	case !slices.Contains([]service.Role{service.RoleAll, service.RoleWeb, service.RoleWork}, o.Role):
		return wrong("--role %q: all, web or work", w.role)
	case o.Role != service.RoleAll && o.Database == "":
		return wrong("--role %s: several processes need one --database", w.role)
	case min(o.Keep.Samples, o.Keep.Records, o.Keep.Audit) < 0 || o.Keep.Records > 0 && o.Keep.Records < 120:
		return wrong("--keep-days %d --keep-records %d --keep-audit %d: days, or 0 for ever; records for 120 at least, since limits are learned from them", o.Keep.Samples, o.Keep.Records, o.Keep.Audit)
	case w.logs != "text" && w.logs != "json":
		return wrong("--log-format %q: text or json", w.logs)
	case (o.TLSCert == "") != (o.TLSKey == ""):
		return wrong("--tls-cert and --tls-key: both, or neither")
	}
	for _, one := range []struct {
		option string
		texts  []string
		into   *[]netip.Prefix
	}{{"--allow-private", w.private, &o.AllowPrivate}, {"--reach", w.reach, &o.Reach}, {"--trusted-proxy", w.proxies, &o.TrustedProxies}} {
		if *one.into, err = ranges(one.option, one.texts); err != nil {
			return o, err
		}
	}
	for _, one := range []struct {
		option, text string
		into         *time.Duration
	}{{"--session-idle", w.idle, &o.Stays.Idle}, {"--session-longest", w.longest, &o.Stays.Longest}} {
		n, err := seconds(one.text)
		if err != nil || n < 60 {
			return wrong("%s %q: a minute or longer, as 12h or 7d", one.option, one.text)
		}
		*one.into = time.Duration(n) * time.Second
	}
	if w.trust != "" {
		pem, err := os.ReadFile(w.trust)
		if err != nil {
			return o, err
		}
		if o.Trust = x509.NewCertPool(); !o.Trust.AppendCertsFromPEM(pem) {
			return wrong("--trust %s: no certificate in it; it must be PEM", w.trust)
		}
	}
	if file := os.Getenv(benchmark.ClockFile); file != "" {
		o.Now = benchmark.RehearsalClock(file)
	}
	o.OpenID, err = w.provider()
	return o, err
}

// provider is where people sign in by OpenID Connect; nil if nowhere.
func (w *serving) provider() (*people.OpenID, error) {
	id := w.openID
	if id.Issuer == "" {
		if id.Client != "" || len(w.groupRoles) > 0 {
			return nil, wrongUsage{errors.New("--openid-issuer is missing: the provider's address")}
		}
		return nil, nil
	}
	if id.Client == "" || len(w.groupRoles) == 0 {
		return nil, wrongUsage{errors.New("--openid-issuer needs --openid-client and at least one --openid-role: who of the provider's people may do what")}
	}
	for _, text := range w.groupRoles {
		gives, err := people.ReadGroupRole(text)
		if err != nil {
			return nil, wrongUsage{fmt.Errorf("--openid-role %w", err)}
		}
		id.Roles = append(id.Roles, gives)
	}
	id.Scopes = strings.FieldsFunc(w.openIDScopes, func(r rune) bool { return r == ',' || r == ' ' })
	id.Secret = os.Getenv("TINBELL_OPENID_SECRET")
	if w.secretFile != "" {
		content, err := os.ReadFile(w.secretFile)
		if err != nil {
			return nil, err
		}
		id.Secret = strings.TrimSpace(string(content))
	}
	return &id, nil
}

// ranges reads ranges of addresses.
func ranges(option string, texts []string) (list []netip.Prefix, err error) {
	for _, text := range texts {
		prefix, err := netip.ParsePrefix(text)
		if err != nil {
			return nil, wrongUsage{fmt.Errorf("%s %q: write a range of addresses as 10.1.2.0/24", option, text)}
		}
		list = append(list, prefix)
	}
	return list, nil
}
