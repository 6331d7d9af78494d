package telling_test

import (
	"fmt"
	"io"
	"log/slog"
	"net/netip"
	"testing"
	"time"

	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/service"
)

func TestTwoServicesOnOneDatabaseTellEachFaultOnce(t *testing.T) {
	t.Parallel()
	var dir string
	d := newDesk(t, func(o *service.Options) { dir = o.Dir })
	second, err := service.Start(t.Context(), service.Options{Dir: dir, Database: d.Database, Listen: "127.0.0.1:0", SignIn: true,
		Now:          d.Clock.Now,
		AllowPrivate: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}, Log: slog.New(slog.NewTextHandler(io.Discard, nil))})
	dbtest.Must(t, err)
	t.Cleanup(second.Stop)
	d.webhook("pager")
	const faults = 12
	for i := range faults {
		d.monitor(fmt.Sprintf("ops.t%d", i))
	}
	for i := range faults {
		d.ring(fmt.Sprintf("ops.t%d", i), func(a *record.Alert) { a.Severity = "critical" })
	}
	d.await("all are told", func() bool { return len(d.settle("/pager")) >= faults })
	told := map[string]bool{}
	for _, l := range d.settle("/pager") {
		if told[l.Subject] || l.Times != 1 || l.Signature != "valid" {
			t.Errorf("%s: %d times, signature %s", l.Subject, l.Times, l.Signature)
		}
		told[l.Subject] = true
	}
	if len(told) != faults || len(d.groups("?state=open")) != faults {
		t.Errorf("%d faults told, %d groups", len(told), len(d.groups("?state=open")))
	}
}

// What a process was sending when it was killed is sent by another as soon as it is known to be
// gone: nobody waits for the end of its lease, which by this clock never comes.
func TestAMessageOfAProcessThatIsGoneIsSentByAnother(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.monitor("ops.scans")
	d.webhook("pager", func(r *httpapi.NewRoute) { w := int64(5); r.WaitSeconds = &w })
	d.ring("ops.scans")
	d.quiet()
	result, err := d.Parts.Store.DB.Exec(`update message set leased_to = $1, leased_by = 4711, attempts = 1 where state = 'waiting'`,
		d.Clock.Now().Add(90*time.Second))
	dbtest.Must(t, err)
	if n, err := result.RowsAffected(); err != nil || n != 1 {
		t.Fatalf("%d messages wait: %v", n, err)
	}
	d.later(6 * time.Second)
	d.await("it is sent", func() bool { return len(d.settle("/pager")) > 0 })
	if came := d.settle("/pager"); len(came) != 1 || came[0].Times != 1 {
		t.Errorf("told: %v", said(t, came))
	}
}
