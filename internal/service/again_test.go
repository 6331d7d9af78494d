package service_test

import (
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"

	"tinbell/core/timeline"
	"tinbell/internal/collect"
	"tinbell/internal/config"
	"tinbell/internal/dbtest"
	"tinbell/internal/feed"
	"tinbell/internal/httpapi"
	"tinbell/internal/reconcile"
	"tinbell/internal/record"
)

// All that is set up, written as files, makes an empty service the same: sources, what is
// pushed, reconciliations, tags, fetched calendars, headers of webhooks. Secrets are in
// no file; without them the files are refused, and nothing of them is kept.
func TestASavedConfigurationMakesAnEmptyServiceTheSame(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	ctx := t.Context()
	berths(t, s)
	almanac := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Write([]byte(ics(vevent("UID:regatta", "SUMMARY:Regatta", "DTSTART:20260801T120000Z", "DTEND:20260801T180000Z"))))
	}))
	t.Cleanup(almanac.Close)
	for _, table := range []string{"ops.zoned", "ops.local"} {
		dbtest.Must(t, s.Admin.Send(ctx, "POST", "/datasets", httpapi.NewDataset{Source: "house", Name: table, LoadedBy: "loaded",
			Tags: record.Strings{"berths"}}, nil))
		dbtest.Must(t, s.Admin.Send(ctx, "POST", "/metrics", httpapi.NewMetric{Dataset: table, Name: table,
			Measure: record.MeasureRows, TimeColumn: "seen", PeriodSeconds: 3600, EverySeconds: 3600}, nil))
	}
	dbtest.Must(t, s.Admin.Send(ctx, "POST", "/reconciliations", reconcile.Order{Up: "ops.zoned", Down: "ops.local"}, nil))
	dbtest.Must(t, s.Admin.Send(ctx, "POST", "/metrics/declare", collect.Declaration{Metric: "queue", Dataset: "edge.gates",
		Measure: "people", Kind: timeline.Value, Period: "15m"}, nil))
	dbtest.Must(t, s.Admin.Send(ctx, "POST", "/monitors", httpapi.NewMonitor{Name: "queue", Metric: "queue",
		Tags: record.Strings{"edge"}}, nil))
	dbtest.Must(t, s.Admin.Send(ctx, "PUT", "/calendars/races/feed", feed.Wanted{Address: almanac.URL + "/?key=s3cret",
		EverySeconds: 7200}, nil))
	dbtest.Must(t, s.Admin.Send(ctx, "PUT", "/channels/desk", httpapi.NewChannel{Kind: record.ChannelWebhook,
		Settings: record.ChannelSettings{URL: "http://127.0.0.1:9/desk"},
		Headers:  map[string]string{"Authorization": "Bearer t0ken"}}, nil))

	var saved config.Documents
	dbtest.Must(t, s.Admin.Get(ctx, "/config", nil, &saved))
	files := string(config.Write(saved))
	for _, secret := range []string{"s3cret", "t0ken"} {
		if strings.Contains(files, secret) {
			t.Errorf("the files hold %s", secret)
		}
	}
	fresh := dbtest.Start(t, now)
	load := func(variables map[string]string) (changes []config.Change, err error) {
		documents, wrong := config.Parse("all.yaml", []byte(files))
		if len(wrong) > 0 {
			t.Fatal(wrong)
		}
		documents.Fill(func(name string) (string, bool) { value, there := variables[name]; return value, there })
		return changes, fresh.Admin.Send(ctx, "POST", "/config/load", documents, &changes)
	}
	source, err := s.Parts.Store.Source(ctx, "house")
	dbtest.Must(t, err)
	password, err := s.Parts.Warehouses.Password(source)
	dbtest.Must(t, err)
	if _, err := load(map[string]string{"HOUSE_PASSWORD": password}); err == nil || !strings.Contains(err.Error(), "set RACES_ADDRESS") {
		t.Errorf("without an address: %v", err)
	}
	var there config.Documents
	dbtest.Must(t, fresh.Admin.Get(ctx, "/config", nil, &there))
	if len(there.Sources)+len(there.Datasets)+len(there.Channels) > 0 {
		t.Errorf("what was refused is kept: %+v", there)
	}
	if _, err := load(map[string]string{"HOUSE_PASSWORD": password, "RACES_ADDRESS": almanac.URL + "/?key=s3cret",
		"DESK_AUTHORIZATION": "Bearer t0ken"}); err != nil {
		t.Fatal(err)
	}
	dbtest.Must(t, fresh.Admin.Get(ctx, "/config", nil, &there))
	if again := string(config.Write(there)); again != files {
		t.Errorf("the second has\n%s\nthe first\n%s", again, files)
	}
	events, err := fresh.Parts.Store.PlannedEvents(ctx, "")
	dbtest.Must(t, err)
	channel, err := fresh.Parts.Store.Channel(ctx, "desk")
	dbtest.Must(t, err)
	if len(events) != 1 || len(channel.HeaderNames) != 1 || channel.HeaderNames[0] != "Authorization" {
		t.Errorf("fetched %+v, headers %v", events, channel.HeaderNames)
	}
	// Loaded again without the secrets, everything stays as it is.
	if changes, err := load(nil); err != nil || len(changes) != 0 {
		t.Errorf("loaded again: %+v, %v", changes, err)
	}
	_, err = push(t, fresh, "", ndjson, `{"metric":"queue","at":"2026-06-18T10:00:00Z","value":4}`)
	dbtest.Must(t, err)
}

// A source moves to another address, gets another password, and another name; what was
// measured stays, and what cannot be reached is refused before.
func TestASourceMovesWithoutLosingAnything(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	ctx := t.Context()
	conn := berths(t, s)
	_, err := conn.Exec(ctx, `insert into ops.zoned select '2026-06-18T06:30:00Z'::timestamptz - i * interval '10 minutes' from generate_series(0, 100) i`)
	dbtest.Must(t, err)
	counted(t, s, "ops.zoned", "", 3)
	before := len(measured(t, s, "ops.zoned")[""])
	_, err = conn.Exec(ctx, `create role second login password 'new''pass'; grant usage on schema ops to second; grant select on all tables in schema ops to second`)
	dbtest.Must(t, err)
	source, err := s.Parts.Store.Source(ctx, "house")
	dbtest.Must(t, err)
	at, err := url.Parse(source.Address)
	dbtest.Must(t, err)
	change := func(in httpapi.SourceChange) (v record.Source, err error) {
		return v, s.Admin.Send(ctx, "PATCH", "/sources/house", in, &v)
	}
	at.User = url.User("second")
	if _, err := change(httpapi.SourceChange{Address: at.String(), Password: "wrong"}); err == nil ||
		!strings.Contains(err.Error(), "password") {
		t.Errorf("a wrong password: %v", err)
	}
	if _, err := change(httpapi.SourceChange{Address: "/tmp"}); err == nil {
		t.Error("a warehouse becomes a folder")
	}
	v, err := change(httpapi.SourceChange{Address: at.String(), Password: "new'pass"})
	if err != nil || !strings.Contains(v.Address, "second") || strings.Contains(v.Address, "pass'") {
		t.Fatalf("%+v, %v", v, err)
	}
	// The address alone, as it is shown: the password that is kept stays.
	if v, err = change(httpapi.SourceChange{Address: v.Address, Name: ptr("warehouse")}); err != nil || v.Name != "warehouse" {
		t.Fatalf("%+v, %v", v, err)
	}
	if got := len(measured(t, s, "ops.zoned")[""]); got != before || before == 0 {
		t.Errorf("%d of %d samples", got, before)
	}
	collectNow(t, s, "collected_to = collected_to - interval '6 hours'")
	s.Settle(t)
	m, err := s.Parts.Store.Metric(ctx, "ops.zoned")
	dbtest.Must(t, err)
	if m.State != "ready" {
		t.Errorf("the new login reads: %s", m.Message)
	}
}
