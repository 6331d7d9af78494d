package telling_test

import (
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/timeline"
	"tinbell/internal/collect"
	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/service"
	"tinbell/internal/sink"
	"tinbell/internal/store"
)

var now = time.Date(2026, 6, 17, 15, 0, 0, 0, time.UTC) // a Wednesday noon in Halifax

// desk is a service with a mailbox that its messages go to.
type desk struct {
	*dbtest.Service
	t      *testing.T
	box    *sink.Mailbox
	dir    string
	hook   string // address of the webhook receiver
	smtp   int    // port
	series map[string]int64
	rung   int
}

func newDesk(t *testing.T, change ...func(*service.Options)) *desk {
	t.Helper()
	d := &desk{Service: dbtest.Start(t, now, change...), t: t, dir: t.TempDir(), series: map[string]int64{}}
	var err error
	d.box, err = sink.Open(d.dir)
	dbtest.Must(t, err)
	receiver := httptest.NewServer(d.box.Receiver())
	t.Cleanup(receiver.Close)
	d.hook = receiver.URL
	l, err := net.Listen("tcp", "127.0.0.1:0")
	dbtest.Must(t, err)
	t.Cleanup(func() { l.Close() })
	go d.box.ServeSMTP(l, sink.Login{})
	d.smtp = l.Addr().(*net.TCPAddr).Port
	return d
}

// webhook sets a channel and a route of the same name to it.
func (d *desk) webhook(name string, change ...func(*httpapi.NewRoute)) {
	d.t.Helper()
	var set httpapi.SetChannel
	dbtest.Must(d.t, d.Admin.Send(d.t.Context(), "POST", "/channels", httpapi.NewChannel{Name: name, Kind: record.ChannelWebhook,
		Settings: record.ChannelSettings{URL: d.hook + "/" + name}}, &set))
	dbtest.Must(d.t, d.box.Expect("/"+name, set.Secret))
	d.route(name, name, change...)
}

func (d *desk) route(name, channel string, change ...func(*httpapi.NewRoute)) {
	d.t.Helper()
	r := httpapi.NewRoute{Name: name, Channel: channel, WaitSeconds: new(int64)}
	for _, one := range change {
		one(&r)
	}
	dbtest.Must(d.t, d.Admin.Send(d.t.Context(), "POST", "/routes", r, nil))
}

// monitor makes a dataset with a monitored metric of the same name.
func (d *desk) monitor(name string) {
	d.t.Helper()
	ctx := d.t.Context()
	dbtest.Must(d.t, d.Admin.Send(ctx, "POST", "/metrics/declare", collect.Declaration{Metric: name, Dataset: name,
		Measure: "rows", Kind: timeline.Count, Period: "1h", Zone: "America/Halifax", Owner: "Harbour data"}, nil))
	sample := fmt.Sprintf(`{"metric":%q,"at":"2026-06-17T10:00:00Z","value":4}`, name)
	dbtest.Must(d.t, d.Admin.Stream(ctx, "POST", "/samples", "application/x-ndjson", strings.NewReader(sample), nil))
	dbtest.Must(d.t, d.Admin.Send(ctx, "POST", "/monitors", httpapi.NewMonitor{Name: name, Metric: name}, nil))
	d.Settle(d.t)
	m, err := d.Parts.Store.Monitor(ctx, name)
	dbtest.Must(d.t, err)
	list, err := d.Parts.Store.SeriesOf(ctx, m.MetricID)
	dbtest.Must(d.t, err)
	d.series[name] = list[0].ID
}

// made says that each dataset is made from the one before it.
func (d *desk) made(chain ...string) {
	d.t.Helper()
	for i, to := range chain[1:] {
		event := fmt.Sprintf(`{"eventType":"COMPLETE","eventTime":%q,"producer":"https://x.example","schemaURL":"https://openlineage.io/spec/2-0-2/OpenLineage.json","run":{"runId":"0190c1a2-0000-7000-8000-%012d"},"job":{"namespace":"n","name":"make %s"},"inputs":[{"namespace":"n","name":%q}],"outputs":[{"namespace":"n","name":%q}]}`,
			now.Add(-time.Hour).Format(time.RFC3339), i+1+100*len(chain[0]), to, chain[i], to)
		dbtest.Must(d.t, d.Admin.Stream(d.t.Context(), "POST", "/lineage", "application/json", strings.NewReader(event), nil))
	}
}

// ring raises an alert, or changes it where it has a number.
func (d *desk) ring(name string, change ...func(*record.Alert)) int64 {
	d.t.Helper()
	m, err := d.Parts.Store.Monitor(d.t.Context(), name)
	dbtest.Must(d.t, err)
	d.rung++
	a := record.Alert{MonitorID: m.ID, SeriesID: d.series[name], Cause: "deviation", Direction: "low", Severity: "warning",
		Since:    d.Clock.Now().Add(-time.Hour),
		RaisedAt: d.Clock.Now().Add(-time.Duration(d.rung) * time.Millisecond).Truncate(time.Millisecond),
		Sentence: name + " sends too little", Observed: 3, Expected: 9, ReturnPeriod: 4e7}
	for _, one := range change {
		one(&a)
	}
	var id int64
	dbtest.Must(d.t, d.Parts.Store.InTx(d.t.Context(), func(tx pgx.Tx) error {
		id, err = store.PutAlert(d.t.Context(), tx, a)
		return err
	}))
	return id
}

// over closes an alert.
func (d *desk) over(id int64) {
	d.t.Helper()
	a, err := d.Parts.Store.Alert(d.t.Context(), id)
	dbtest.Must(d.t, err)
	at := d.Clock.Now()
	a.EndedAt, a.ClosedAt, a.CloseReason = &at, &at, "recovered"
	dbtest.Must(d.t, d.Parts.Store.InTx(d.t.Context(), func(tx pgx.Tx) error {
		_, err := store.PutAlert(d.t.Context(), tx, a)
		return err
	}))
}

func critical(a *record.Alert) { a.Severity = "critical" }

// settle waits until everything is grouped and what is due was tried, and gives
// what came to a path or an address, oldest first.
func (d *desk) settle(to string) []sink.Letter {
	d.t.Helper()
	d.quiet()
	var list []sink.Letter
	all := d.box.Letters(1000)
	for i := len(all) - 1; i >= 0; i-- {
		if strings.Contains(all[i].To, to) {
			list = append(list, all[i])
		}
	}
	return list
}

func (d *desk) quiet() {
	d.t.Helper()
	d.await("what is due is sent", func() bool {
		d.Parts.Faults.Wake()
		quiet, err := d.Parts.Notifier.Quiet(d.t.Context())
		dbtest.Must(d.t, err)
		return quiet
	})
}

func (d *desk) await(what string, done func() bool) {
	d.t.Helper()
	for end := time.Now().Add(time.Minute); !done(); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(end) {
			var list []record.Message
			d.Admin.Get(d.t.Context(), "/messages", nil, &list)
			d.t.Fatalf("never happened: %s; messages: %+v", what, list)
		}
	}
}

// later lets time pass, and looks what it brings.
func (d *desk) later(by time.Duration) {
	d.t.Helper()
	d.Clock.Set(d.Clock.Now().Add(by))
	dbtest.Must(d.t, d.Parts.Faults.Gather(d.t.Context()))
	dbtest.Must(d.t, d.Parts.Notifier.Remind(d.t.Context()))
}

func (d *desk) groups(query string) []store.GroupRow {
	d.t.Helper()
	d.quiet()
	var page httpapi.GroupPage
	dbtest.Must(d.t, d.Admin.Get(d.t.Context(), "/groups"+query, nil, &page))
	return page.Groups
}

// said gives what a webhook's letters were about: what and title.
func said(t *testing.T, list []sink.Letter) (what []string) {
	t.Helper()
	for _, l := range list {
		var event struct {
			Type string
			Data struct{ Title string }
		}
		dbtest.Must(t, json.Unmarshal([]byte(l.Text), &event))
		what = append(what, strings.TrimPrefix(event.Type, "tinbell.group.")+": "+event.Data.Title)
	}
	return what
}

func same(t *testing.T, what string, got []string, want ...string) {
	t.Helper()
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("%s:\n  %s\nwant:\n  %s", what, strings.Join(got, "\n  "), strings.Join(want, "\n  "))
	}
}

func status(t *testing.T, r *http.Response, err error) int {
	t.Helper()
	dbtest.Must(t, err)
	r.Body.Close()
	return r.StatusCode
}
