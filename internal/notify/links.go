package notify

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"
)

// ErrLink is what a link gives that was not made here, or was changed.
var ErrLink = errors.New("this link was not made here, or was changed on its way: open the message again, or sign in")

// ErrLinkOver is what a link gives whose time is over.
var ErrLinkOver = errors.New("this link has ended: sign in to answer the alert")

// AnswerToken makes what lets its holder answer one alert until an instant. It
// names the channel that the message went to.
func (n *Notifier) AnswerToken(alert int64, channel string, until time.Time) string {
	text := fmt.Sprintf("%d.%d.%s", alert, until.Unix(), base64.RawURLEncoding.EncodeToString([]byte(channel)))
	return text + "." + n.sign(text)
}

func (n *Notifier) sign(text string) string {
	mac := hmac.New(sha256.New, n.key)
	mac.Write([]byte(text))
	return base64.RawURLEncoding.EncodeToString(mac.Sum(nil)[:20])
}

// ReadAnswerToken gives the alert that a token answers, and the channel that it
// was sent to.
func (n *Notifier) ReadAnswerToken(token string) (alert int64, channel string, err error) {
	cut := strings.LastIndexByte(token, '.')
	if cut < 0 || !hmac.Equal([]byte(token[cut+1:]), []byte(n.sign(token[:cut]))) {
		return 0, "", ErrLink
	}
	parts := strings.Split(token[:cut], ".")
	if len(parts) != 3 {
		return 0, "", ErrLink
	}
	alert, err1 := strconv.ParseInt(parts[0], 10, 64)
	until, err2 := strconv.ParseInt(parts[1], 10, 64)
	name, err3 := base64.RawURLEncoding.DecodeString(parts[2])
	if errors.Join(err1, err2, err3) != nil {
		return 0, "", ErrLink
	}
	if n.now().Unix() > until {
		return alert, string(name), ErrLinkOver
	}
	return alert, string(name), nil
}
