package telling_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"fmt"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/service"
	"tinbell/internal/sink"
)

// try sets a channel, sends it a test, and gives what went wrong.
func (d *desk) try(c httpapi.NewChannel) string {
	d.t.Helper()
	dbtest.Must(d.t, d.Admin.Send(d.t.Context(), "POST", "/channels", c, nil))
	var m record.Message
	dbtest.Must(d.t, d.Admin.Send(d.t.Context(), "POST", "/channels/"+c.Name+"/test", nil, &m))
	return m.Error
}

func TestWebhooksThatMisbehaveAreNamedAndHarmNothing(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	hanging := make(chan struct{})
	bad := http.NewServeMux()
	bad.HandleFunc("/500", func(w http.ResponseWriter, _ *http.Request) {
		http.Error(w, "  out of\n\n cheese ", 500)
	})
	bad.HandleFunc("/large", func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(400)
		for range 10 << 10 {
			if _, err := w.Write(make([]byte, 1<<10)); err != nil {
				return
			}
		}
	})
	bad.HandleFunc("/private", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "http://10.0.0.1/admin", http.StatusTemporaryRedirect)
	})
	bad.HandleFunc("/hang", func(w http.ResponseWriter, r *http.Request) {
		select {
		case <-hanging:
		case <-r.Context().Done():
		}
	})
	server := httptest.NewServer(bad)
	t.Cleanup(server.Close)
	t.Cleanup(func() { close(hanging) })
	hook := func(name, url string) httpapi.NewChannel {
		return httpapi.NewChannel{Name: name, Kind: record.ChannelWebhook, Settings: record.ChannelSettings{URL: url}}
	}
	for name, want := range map[string]string{"500": "500 Internal Server Error out of cheese", "large": "400 Bad Request",
		"private": "redirects are not followed", "hang": "timeout"} {
		began := time.Now()
		if got := d.try(hook(name, server.URL+"/"+name)); !strings.Contains(got, want) || len(got) > 400 {
			t.Errorf("%s: %q, want %q", name, got, want)
		}
		if took := time.Since(began); took > 20*time.Second {
			t.Errorf("%s held the service for %s", name, took)
		}
	}
	if got := d.try(hook("nobody", "http://127.0.0.1:1/")); !strings.Contains(got, "connection refused") {
		t.Errorf("nobody there: %q", got)
	}
	if got := d.try(hook("good", d.hook+"/good")); got != "" {
		t.Errorf("the next one is reached all the same: %q", got)
	}
	for what, c := range map[string]httpapi.NewChannel{
		"a file":          hook("x", "file:///etc/passwd"),
		"a metadata host": hook("x", "http://169.254.169.254/latest"),
		"no address":      hook("x", ""),
		"a strange kind":  {Name: "x", Kind: "email", Settings: record.ChannelSettings{URL: server.URL}},
		"a bad template": {Name: "x", Kind: "webhook", Settings: record.ChannelSettings{URL: server.URL, Form: "own",
			Template: "{{.Nope}}"}},
		"a stray template": {Name: "x", Kind: "webhook", Settings: record.ChannelSettings{URL: server.URL, Form: "chat",
			Template: "{{.Title}}"}},
		"a broken address": {Name: "x", Kind: "email", Settings: record.ChannelSettings{To: record.Strings{"night desk"},
			From: "a@b.example", Host: "h"}},
	} {
		if err := d.Admin.Send(t.Context(), "POST", "/channels", c, nil); err == nil {
			t.Errorf("%s is taken", what)
		}
	}
}

func TestAWebhookGetsItsHeadersAndNobodyElseSeesThem(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	var got atomic.Value
	server := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { got.Store(r.Header.Clone()) }))
	t.Cleanup(server.Close)
	c := httpapi.NewChannel{Name: "tickets", Kind: record.ChannelWebhook, Settings: record.ChannelSettings{URL: server.URL,
		Form: "ticket"}, Headers: map[string]string{"authorization": "Bearer s3cret", "X-Desk": "night"}}
	if why := d.try(c); why != "" {
		t.Fatal(why)
	}
	if h := got.Load().(http.Header); h.Get("Authorization") != "Bearer s3cret" || h.Get("X-Desk") != "night" ||
		h.Get("Webhook-Signature") == "" {
		t.Errorf("it got %v", h)
	}
	shown := func() (names record.Strings) {
		var list []record.Channel
		dbtest.Must(t, d.Admin.Get(t.Context(), "/channels", nil, &list))
		if text := fmt.Sprintf("%+v", list); strings.Contains(text, "s3cret") {
			t.Errorf("shown: %s", text)
		}
		return list[0].HeaderNames
	}
	if names := shown(); !slices.Equal(names, record.Strings{"Authorization", "X-Desk"}) {
		t.Errorf("named: %v", names)
	}
	var kept string
	dbtest.Must(t, d.Parts.Store.Pool.QueryRow(t.Context(), `select channel::text || encode(headers, 'escape') from channel`).Scan(&kept))
	if strings.Contains(kept, "s3cret") {
		t.Errorf("kept as it is: %s", kept)
	}
	// Left out they stay; given anew they are others, and without a value none.
	c.Headers = nil
	if d.try(c); got.Load().(http.Header).Get("X-Desk") != "night" {
		t.Error("left out, they stay")
	}
	c.Headers = map[string]string{"Authorization": "Basic b3RoZXI=", "X-Desk": ""}
	if d.try(c); got.Load().(http.Header).Get("Authorization") != "Basic b3RoZXI=" ||
		got.Load().(http.Header).Get("X-Desk") != "" || len(shown()) != 1 {
		t.Errorf("given anew: %v", got.Load())
	}
	for name, value := range map[string]string{"Content-Type": "text/plain", "webhook-id": "1", "X Desk": "a",
		"X-Two": "a\r\nB: c", "X-Long": strings.Repeat("x", 5000)} {
		c.Headers = map[string]string{name: value}
		if err := d.Admin.Send(t.Context(), "POST", "/channels", c, nil); err == nil || !strings.Contains(err.Error(), "header") {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestAPrivateAddressIsRefusedWhereNoneIsAllowed(t *testing.T) {
	t.Parallel()
	d := newDesk(t, func(o *service.Options) { o.AllowPrivate = nil })
	c := httpapi.NewChannel{Name: "x", Kind: record.ChannelWebhook, Settings: record.ChannelSettings{URL: d.hook + "/x"}}
	if err := d.Admin.Send(t.Context(), "POST", "/channels", c, nil); err == nil || !strings.Contains(err.Error(), "--allow-private") {
		t.Errorf("an address is refused when it is set, with what to do: %v", err)
	}
	c.Settings.URL = strings.Replace(c.Settings.URL, "127.0.0.1", "localhost", 1)
	if got := d.try(c); !strings.Contains(got, "public addresses only") || len(d.box.Letters(9)) != 0 {
		t.Errorf("a name for it when it is reached: %q", got)
	}
}

func TestSecretsRotateWithoutALetterLost(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.monitor("ops.scans")
	d.webhook("pager")
	id := d.ring("ops.scans")
	var r httpapi.Rotated
	d.quiet()
	dbtest.Must(t, d.Admin.Send(t.Context(), "POST", "/channels/pager/rotate", nil, &r))
	d.over(id)
	if came := d.settle("/pager"); came[1].Signature != "valid" {
		t.Errorf("who knows the old secret alone reads it still: %s", came[1].Signature)
	}
	dbtest.Must(t, d.box.Expect("/pager", r.Secret))
	d.later(25 * time.Hour)
	d.ring("ops.scans", func(a *record.Alert) { a.Cause = "stuck" })
	if came := d.settle("/pager"); came[2].Signature != "valid" {
		t.Errorf("the new secret: %s", came[2].Signature)
	}
	dbtest.Must(t, d.box.Expect("/pager", "whsec_"+strings.Repeat("A", 32)))
	if got := d.try(httpapi.NewChannel{Name: "pager", Kind: record.ChannelWebhook,
		Settings: record.ChannelSettings{URL: d.hook + "/pager"}}); got != "" || d.settle("/pager")[3].Signature != "wrong" {
		t.Errorf("a receiver that expects another secret sees that it is wrong: %q", got)
	}
}

// certificate is one for 127.0.0.1, signed by itself.
func certificate(t *testing.T) (tls.Certificate, *x509.CertPool) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	dbtest.Must(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "sink"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: true, BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	dbtest.Must(t, err)
	pool := x509.NewCertPool()
	parsed, err := x509.ParseCertificate(der)
	dbtest.Must(t, err)
	pool.AddCert(parsed)
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, pool
}

func TestMailGoesOutByTLSAndLoginAndSaysWhatIsWrong(t *testing.T) {
	t.Parallel()
	cert, pool := certificate(t)
	d := newDesk(t, func(o *service.Options) { o.Trust = pool })
	serve := func(login sink.Login) int {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		dbtest.Must(t, err)
		t.Cleanup(func() { l.Close() })
		go d.box.ServeSMTP(l, login)
		return l.Addr().(*net.TCPAddr).Port
	}
	strange, _ := certificate(t)
	good := serve(sink.Login{User: "bell", Password: "tin", TLS: &tls.Config{Certificates: []tls.Certificate{cert}}})
	other := serve(sink.Login{TLS: &tls.Config{Certificates: []tls.Certificate{strange}}})
	mail := func(name string, port int, security, user, password string) httpapi.NewChannel {
		return httpapi.NewChannel{Name: name, Kind: record.ChannelEmail, Secret: password,
			Settings: record.ChannelSettings{To: record.Strings{"night@ferries.example"}, From: "bell@ferries.example",
				Host: "127.0.0.1", Port: port, Security: security, User: user}}
	}
	if got := d.try(mail("good", good, "starttls", "bell", "tin")); got != "" {
		t.Errorf("STARTTLS and a login: %q", got)
	}
	for name, c := range map[string]struct {
		channel httpapi.NewChannel
		want    string
	}{
		"password":   {mail("a", good, "starttls", "bell", "lead"), "535"},
		"no login":   {mail("b", good, "starttls", "", ""), "authenticate"},
		"authority":  {mail("c", other, "starttls", "", ""), "certificate"},
		"no TLS":     {mail("d", d.smtp, "starttls", "", ""), "STARTTLS"},
		"wrong form": {mail("e", d.smtp, "tls", "", ""), "tls"},
		"nobody":     {mail("f", 1, "none", "", ""), "connection refused"},
	} {
		if got := d.try(c.channel); !strings.Contains(got, c.want) {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
	}
	if came := d.settle("night@ferries.example"); len(came) != 1 {
		t.Errorf("%d letters came", len(came))
	}
}

func TestALetterSaysAllThereIsToSay(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.monitor("ops.scans")
	dbtest.Must(t, d.Admin.Send(t.Context(), "POST", "/channels", httpapi.NewChannel{Name: "desk", Kind: record.ChannelEmail,
		Settings: record.ChannelSettings{To: record.Strings{"desk@ferries.example"},
			From: "bell@ferries.example", Host: "127.0.0.1", Port: d.smtp, Security: "none"}}, nil))
	d.route("all", "desk")
	before := d.ring("ops.scans", func(a *record.Alert) {
		a.RaisedAt = now.Add(-40 * time.Hour)
		a.Since, a.EndedAt, a.ClosedAt = a.RaisedAt, &a.RaisedAt, &a.RaisedAt
	})
	dbtest.Must(t, d.Admin.Send(t.Context(), "POST", "/labels", httpapi.NewLabel{Alerts: []int64{before}, Verdict: "noise",
		Cause: "a school trip"}, nil))
	id := d.ring("ops.scans", critical)
	came := d.settle("desk@ferries.example")
	if len(came) != 1 || came[0].Subject != "Critical: ops.scans sends too little" || len(came[0].Picture) < 2000 ||
		string(came[0].Picture[1:4]) != "PNG" {
		t.Fatalf("%d letters; the first: %s, picture of %d bytes", len(came), came[0].Subject, len(came[0].Picture))
	}
	for _, want := range []string{"since      Wed 17 Jun 11:00 (America/Halifax), 1 h", "dataset    ops.scans, Harbour data",
		"observed   3 rows", "expected   9 rows", "about once in 463 days",
		"noise (a school trip): ops.scans sends too little", "/groups/", fmt.Sprintf("/answer/%d.", id),
		"as=fault", "as=noise", "as=planned"} {
		if !strings.Contains(came[0].Text, want) {
			t.Errorf("the text lacks %q:\n%s", want, came[0].Text)
		}
	}
	if !strings.Contains(came[0].HTML, `src="cid:chart.png"`) || !strings.Contains(came[0].WithPicture(), "data:image/png;base64,iVBOR") {
		t.Error("the picture is not in the letter")
	}
	var letters []sink.Letter
	if err := d.Admin.Get(t.Context(), "/mailbox", nil, &letters); err == nil || !strings.Contains(err.Error(), "comes with the demo") {
		t.Errorf("a service without a mailbox says so: %v", err)
	}
}
