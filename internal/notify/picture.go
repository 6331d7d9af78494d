package notify

import (
	"crypto/hmac"
	"encoding/base64"
	"encoding/json"
	"strings"
	"time"
)

// ChartLink is a standing picture of a series that another page can show: of a stretch
// up to now, or between two instants.
type ChartLink struct {
	Series  int64  `json:"s"`
	Seconds int64  `json:"b,omitempty"` // back from whenever it is looked at
	From    int64  `json:"f,omitempty"` // or from here, Unix seconds
	To      int64  `json:"t,omitempty"` // to here
	Fill    string `json:"l,omitempty"`
	Until   int64  `json:"u"` // when it ends
}

// chartMark sets these tokens apart from those that answer.
const chartMark = "chart."

// ChartToken makes what lets its holder see one picture until it ends.
func (n *Notifier) ChartToken(l ChartLink) (string, error) {
	text, err := json.Marshal(l)
	if err != nil {
		return "", err
	}
	body := base64.RawURLEncoding.EncodeToString(text)
	return body + "." + n.sign(chartMark+body), nil
}

// ReadChartToken gives what a token shows.
func (n *Notifier) ReadChartToken(token string) (l ChartLink, err error) {
	body, signature, _ := strings.Cut(token, ".")
	if !hmac.Equal([]byte(signature), []byte(n.sign(chartMark+body))) {
		return l, ErrLink
	}
	text, err := base64.RawURLEncoding.DecodeString(body)
	if err != nil || json.Unmarshal(text, &l) != nil {
		return l, ErrLink
	}
	if n.now().Unix() > l.Until {
		return l, ErrLinkOver
	}
	return l, nil
}

// Address is where people reach the service.
func (n *Notifier) Address() string { return n.options.Address }

// Span is what the picture covers, looked at now.
func (l ChartLink) Span(now time.Time) (from, to time.Time) {
	if l.Seconds > 0 {
		return now.Add(-time.Duration(l.Seconds) * time.Second), now
	}
	return time.Unix(l.From, 0).UTC(), time.Unix(l.To, 0).UTC()
}
