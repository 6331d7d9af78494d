package httpapi

import (
	"errors"
	"io"
	"net/http"
	"time"
)

const (
	// stalledAfter is how long a body may send nothing until its sender is given
	// up.
	stalledAfter = 20 * time.Second
	// slowAfter is from when on a body must have come at slowest bytes a second on
	// average: drop by drop it would be read for ever.
	slowAfter, slowest = time.Minute, 200
)

// errStalled ends a body that does not come.
var errStalled = errors.New("the body does not come: nothing for 20 s, or less than 200 bytes a second for a minute")

// paceBodies gives each read of a body its time. Without, a sender that sends
// nothing is waited for without end.
func paceBodies(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Body != nil && r.Body != http.NoBody {
			control := http.NewResponseController(w)
			r.Body = &paced{ReadCloser: r.Body, control: control, began: time.Now()}
			control.SetReadDeadline(time.Now().Add(stalledAfter))
		}
		next.ServeHTTP(w, r)
	})
}

type paced struct {
	io.ReadCloser
	control *http.ResponseController
	began   time.Time
	read    int64
}

func (p *paced) Read(b []byte) (int, error) {
	now := time.Now()
	if age := now.Sub(p.began); age > slowAfter && p.read < int64(age.Seconds())*slowest {
		return 0, errStalled
	}
	p.control.SetReadDeadline(now.Add(stalledAfter))
	n, err := p.ReadCloser.Read(b)
	p.read += int64(n)
	if err == io.EOF {
		p.control.SetReadDeadline(time.Time{}) // what is answered may take longer
	}
	if timeout := interface{ Timeout() bool }(nil); errors.As(err, &timeout) && timeout.Timeout() {
		return n, errStalled
	}
	return n, err
}
