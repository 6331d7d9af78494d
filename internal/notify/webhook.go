package notify

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"
	"unicode"

	"tinbell/internal/outward"
	"tinbell/internal/record"
)

// SecretPrefix begins signing secrets, as Standard Webhooks has them.
const SecretPrefix = "whsec_"

// NewSecret makes a signing secret.
func NewSecret() string {
	key := make([]byte, 24)
	rand.Read(key)
	return SecretPrefix + base64.StdEncoding.EncodeToString(key)
}

// Signature signs a webhook as Standard Webhooks 1.0 says: HMAC-SHA256 over id,
// Unix time and body.
func Signature(secret, id string, at int64, body string) (string, error) {
	key, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(secret, SecretPrefix))
	if err != nil {
		return "", fmt.Errorf("signing secret: %w", err)
	}
	mac := hmac.New(sha256.New, key)
	fmt.Fprintf(mac, "%s.%d.%s", id, at, body)
	return "v1," + base64.StdEncoding.EncodeToString(mac.Sum(nil)), nil
}

const (
	answerWithin = 15 * time.Second
	maxAnswer    = 64 << 10 // bytes read of an answer
)

// post sends a message to a webhook. Redirects are not followed: an answer may
// not choose where messages go.
func (n *Notifier) post(ctx context.Context, c record.Channel, m record.Message, b Body) error {
	ctx, cancel := context.WithTimeout(ctx, answerWithin)
	defer cancel()
	address, err := n.address(c)
	if err != nil {
		return err
	}
	request, err := http.NewRequestWithContext(ctx, "POST", address, strings.NewReader(b.Payload))
	if err != nil {
		return err
	}
	at := time.Now().Unix()
	signatures, err := n.signatures(c, m.ID, at, b.Payload)
	if err != nil {
		return err
	}
	headers, err := n.headers(c)
	if err != nil {
		return err
	}
	for name, v := range headers {
		request.Header.Set(name, v)
	}
	for name, v := range map[string]string{"Content-Type": b.Type, "User-Agent": "TinBell/1", "webhook-id": m.ID,
		"webhook-timestamp": strconv.FormatInt(at, 10), "webhook-signature": signatures} {
		request.Header.Set(name, v)
	}
	response, err := n.http.Do(request)
	var asked *url.Error // which quotes the address
	switch {
	case errors.As(err, &asked) && asked.Timeout():
		return fmt.Errorf("%s: timeout: no answer within %s", c.Settings.URL, answerWithin)
	case errors.As(err, &asked):
		return fmt.Errorf("%s: %w", c.Settings.URL, asked.Err)
	case err != nil:
		return err
	}
	defer response.Body.Close()
	said, _ := io.ReadAll(io.LimitReader(response.Body, maxAnswer))
	switch code := response.StatusCode; {
	case code >= 200 && code < 300:
		return nil
	case code >= 300 && code < 400:
		return fmt.Errorf("it answers %s and points to %q: redirects are not followed, give the channel the right address",
			response.Status, response.Header.Get("Location"))
	default:
		return fmt.Errorf("it answers %s %s", response.Status, readable(string(said)))
	}
}

// readable is what a person can read of an answer: its first words, on one line.
func readable(text string) string {
	text = strings.Map(func(r rune) rune {
		if !unicode.IsGraphic(r) {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(text, " "))
	text = strings.Join(strings.Fields(text), " ")
	if len(text) > 200 {
		text = strings.ToValidUTF8(text[:200], "") + " …"
	}
	return text
}

// signatures signs with the channel's secret and, for a while after it was
// changed, with the one before.
func (n *Notifier) signatures(c record.Channel, id string, at int64, body string) (string, error) {
	secrets := [][]byte{c.Secret}
	if c.OldUntil != nil && n.now().Before(*c.OldUntil) {
		secrets = append(secrets, c.OldSecret)
	}
	var all []string
	for _, locked := range secrets {
		if locked == nil {
			continue
		}
		secret, err := n.safe.Unlock(locked)
		if err != nil {
			return "", err
		}
		signature, err := Signature(secret, id, at, body)
		if err != nil {
			return "", err
		}
		all = append(all, signature)
	}
	return strings.Join(all, " "), nil
}

// client makes what webhooks are sent with.
func (n *Notifier) client() *http.Client {
	transport := &http.Transport{DialContext: outward.Guard(n.options.Allowed).Dial, TLSHandshakeTimeout: 10 * time.Second,
		ResponseHeaderTimeout: answerWithin,
		MaxIdleConnsPerHost:   atOnce, IdleConnTimeout: 30 * time.Second, MaxResponseHeaderBytes: 64 << 10, ForceAttemptHTTP2: true,
		TLSClientConfig: n.tls("")}
	return &http.Client{Transport: transport, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
}
