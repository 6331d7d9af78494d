package sink

import (
	"bytes"
	"crypto/tls"
	"errors"
	"io"
	"mime"
	"net"
	"net/mail"
	"strings"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
	letter "github.com/wneessen/go-mail"
)

// maxLetter is the largest e-mail taken, in bytes.
const maxLetter = 8 << 20

// Login that the SMTP server asks for, and the certificate that it shows; the
// zero value takes everybody, without TLS.
type Login struct {
	User, Password string
	TLS            *tls.Config
}

// ServeSMTP takes e-mail until the listener is closed.
func (m *Mailbox) ServeSMTP(l net.Listener, login Login) error {
	s := smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &session{mailbox: m, login: login}, nil }))
	s.Domain, s.MaxMessageBytes, s.MaxRecipients = "sink.example", maxLetter, 50
	s.ReadTimeout, s.WriteTimeout = time.Minute, time.Minute
	s.TLSConfig, s.AllowInsecureAuth = login.TLS, login.TLS == nil
	err := s.Serve(l)
	if errors.Is(err, smtp.ErrServerClosed) || errors.Is(err, net.ErrClosed) {
		return nil
	}
	return err
}

type session struct {
	mailbox *Mailbox
	login   Login
	known   bool
	from    string
	to      []string
}

var down = &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 3, 2}, Message: "not taking mail right now"}

func (s *session) AuthMechanisms() []string {
	if s.login.User == "" {
		return nil
	}
	return []string{sasl.Plain}
}

func (s *session) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if user != s.login.User || password != s.login.Password {
			return smtp.ErrAuthFailed
		}
		s.known = true
		return nil
	}), nil
}

func (s *session) Mail(from string, _ *smtp.MailOptions) error {
	switch {
	case s.mailbox.Closed():
		return down
	case s.login.User != "" && !s.known:
		return smtp.ErrAuthRequired
	}
	s.from = from
	return nil
}

func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	s.to = append(s.to, to)
	return nil
}

func (s *session) Data(r io.Reader) error {
	raw, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	l, err := read(raw)
	if err != nil {
		return &smtp.SMTPError{Code: 554, EnhancedCode: smtp.EnhancedCode{5, 6, 0}, Message: "the message cannot be read: " + err.Error()}
	}
	l.From, l.To = s.from, strings.Join(s.to, ", ")
	return s.mailbox.keep(l)
}

func (s *session) Reset()        { s.from, s.to = "", nil }
func (s *session) Logout() error { return nil }

// read takes an e-mail apart.
func read(raw []byte) (Letter, error) {
	head, err := mail.ReadMessage(bytes.NewReader(raw))
	if err != nil {
		return Letter{}, err
	}
	l := Letter{At: time.Now().UTC(), Through: "email", Key: strings.Trim(head.Header.Get("Message-ID"), "<>")}
	if l.Subject, err = new(mime.WordDecoder).DecodeHeader(head.Header.Get("Subject")); err != nil {
		return l, err
	}
	whole, err := letter.EMLToMsgFromReader(bytes.NewReader(raw))
	if err != nil {
		return l, err
	}
	for _, part := range whole.GetParts() {
		content, err := part.GetContent()
		if err != nil {
			return l, err
		}
		switch part.GetContentType() {
		case letter.TypeTextPlain:
			l.Text = string(content)
		case letter.TypeTextHTML:
			l.HTML = string(content)
		}
	}
	for _, file := range whole.GetEmbeds() {
		var b bytes.Buffer
		if _, err := file.Writer(&b); err != nil {
			return l, err
		}
		l.Picture = b.Bytes()
	}
	return l, nil
}
