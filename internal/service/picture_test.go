package service_test

import (
	"bytes"
	"fmt"
	"image/png"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
)

// A chart at an address of its own: it shows without signing in, as it is when it is
// looked at; it cannot be changed, and it ends.
func TestAChartHasAnAddressThatOtherPagesShow(t *testing.T) {
	t.Parallel()
	s := harbour(t)
	ctx := t.Context()
	var series []record.Series
	dbtest.Must(t, s.Admin.Get(ctx, "/metrics/scans/series", nil, &series))
	path := fmt.Sprintf("/series/%d/link", series[0].ID)
	var made httpapi.ChartLinked
	dbtest.Must(t, s.Admin.Send(ctx, "POST", path, httpapi.NewChartLink{SpanSeconds: 3 * 86400, Days: 2}, &made))
	fetch := func(address string) (int, []byte, http.Header) {
		at, err := url.Parse(address)
		dbtest.Must(t, err)
		r, err := http.Get(s.Address + at.Path) // without a token
		dbtest.Must(t, err)
		defer r.Body.Close()
		var b bytes.Buffer
		b.ReadFrom(r.Body)
		return r.StatusCode, b.Bytes(), r.Header
	}
	code, picture, head := fetch(made.PNG)
	if drawn, err := png.Decode(bytes.NewReader(picture)); code != 200 || err != nil || drawn.Bounds().Dx() < 400 ||
		head.Get("Cross-Origin-Resource-Policy") != "cross-origin" {
		t.Errorf("the PNG: %d, %v, %v", code, err, head)
	}
	if code, picture, _ = fetch(made.SVG); code != 200 || !bytes.Contains(picture, []byte("<svg")) || !bytes.Contains(picture,
		[]byte("ops.dock_queue, scans")) {
		t.Errorf("the SVG: %d %.80s", code, picture)
	}
	// Signed: neither another series nor another end.
	for _, wrong := range []string{strings.Replace(made.PNG, "/charts/e", "/charts/f", 1), made.PNG[:len(made.PNG)-5] + ".png",
		strings.TrimSuffix(made.PNG, ".png")} {
		if code, _, _ := fetch(wrong); code != http.StatusForbidden {
			t.Errorf("%s: %d", wrong, code)
		}
	}
	if code, _, _ := request(t, s, "GET", "/answer/"+made.PNG[strings.LastIndex(made.PNG, "/")+1:], nil,
		nil); code != http.StatusForbidden {
		t.Errorf("it answers no alert: %d", code)
	}
	for what, in := range map[string]httpapi.NewChartLink{"to": {From: now, To: now.AddDate(0, 0, -1)},
		"span_seconds": {SpanSeconds: 7200, From: now.AddDate(0, 0, -1), To: now}} {
		if err := s.Admin.Send(ctx, "POST", path, in, nil); err == nil || !strings.Contains(err.Error(), what) {
			t.Errorf("%s: %v", what, err)
		}
	}
	var audit []record.Audit
	dbtest.Must(t, s.Admin.Get(ctx, "/audit", url.Values{"what": {"linked"}}, &audit))
	if len(audit) != 1 || audit[0].What != "linked a chart" {
		t.Errorf("the audit trail: %+v", audit)
	}
	s.Clock.Set(now.AddDate(0, 0, 3))
	if code, _, _ := fetch(made.PNG); code != http.StatusGone {
		t.Errorf("after its end: %d", code)
	}
}
