package notify

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"

	mail "github.com/wneessen/go-mail"

	"tinbell/internal/outward"
	"tinbell/internal/record"
)

// mail sends a message by SMTP. Messages about one group make one thread.
func (n *Notifier) mail(ctx context.Context, c record.Channel, m record.Message, b Body) error {
	s := c.Settings
	letter := mail.NewMsg()
	if err := letter.FromFormat("Tin Bell", s.From); err != nil {
		return fmt.Errorf("sender %s: %w", s.From, err)
	}
	if err := letter.To(s.To...); err != nil {
		return fmt.Errorf("receivers %s: %w", strings.Join(s.To, ", "), err)
	}
	_, domain, _ := strings.Cut(s.From, "@")
	letter.SetMessageIDWithValue(m.ID + "@" + domain)
	letter.SetDateWithValue(m.CreatedAt)
	letter.Subject(m.Subject)
	if b.Thread != "" && b.Thread != "group-0" && b.Thread != "group-" {
		letter.SetGenHeader(mail.HeaderReferences, "<"+b.Thread+"@"+domain+">")
	}
	letter.SetGenHeader("Auto-Submitted", "auto-generated")
	letter.SetBodyString(mail.TypeTextPlain, b.Text)
	letter.AddAlternativeString(mail.TypeTextHTML, b.HTML)
	if b.Picture != nil {
		if err := letter.EmbedReader("chart.png", bytes.NewReader(b.Picture), mail.WithFileContentID("chart.png")); err != nil {
			return err
		}
	}
	client, err := n.mailer(c)
	if err != nil {
		return err
	}
	return client.DialAndSendWithContext(ctx, letter)
}

func (n *Notifier) mailer(c record.Channel) (*mail.Client, error) {
	s := c.Settings
	dial := outward.Inside(n.options.Reach).Dial
	options := []mail.Option{mail.WithTimeout(15 * time.Second), mail.WithTLSConfig(n.tls(s.Host)), mail.WithoutNoop()}
	switch s.Security {
	case "tls":
		options = append(options, mail.WithSSL())
		plain := dial
		dial = func(ctx context.Context, network, address string) (net.Conn, error) {
			conn, err := plain(ctx, network, address)
			if err != nil {
				return nil, err
			}
			secured := tls.Client(conn, n.tls(s.Host))
			if err := secured.HandshakeContext(ctx); err != nil {
				return nil, errors.Join(err, conn.Close())
			}
			return secured, nil
		}
	case "none":
		options = append(options, mail.WithTLSPolicy(mail.NoTLS))
	default:
		options = append(options, mail.WithTLSPolicy(mail.TLSMandatory))
	}
	if s.Port != 0 {
		options = append(options, mail.WithPort(s.Port))
	}
	if s.User != "" {
		password, err := n.safe.Unlock(c.Secret)
		if err != nil {
			return nil, err
		}
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(s.User), mail.WithPassword(password))
	}
	return mail.NewClient(s.Host, append(options, mail.WithDialContextFunc(dial))...)
}

// tls trusts the system's authorities and those that the service was given.
func (n *Notifier) tls(host string) *tls.Config {
	return &tls.Config{ServerName: host, RootCAs: n.options.Trust, MinVersion: tls.VersionTLS12}
}
