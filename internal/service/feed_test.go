package service_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"tinbell/internal/dbtest"
	"tinbell/internal/feed"
	"tinbell/internal/record"
	"tinbell/internal/service"
)

// almanac answers with what it is told to, and counts whole answers.
type almanac struct {
	file, etag atomic.Value
	broken     atomic.Bool
	sent       atomic.Int64
}

func (a *almanac) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	etag := a.etag.Load().(string)
	switch {
	case a.broken.Load():
		http.Error(w, "gone for lunch", http.StatusServiceUnavailable)
	case r.URL.Query().Get("key") != "s3cret":
		http.Error(w, "who is it?", http.StatusForbidden)
	case etag != "" && r.Header.Get("If-None-Match") == etag:
		w.WriteHeader(http.StatusNotModified)
	default:
		a.sent.Add(1)
		w.Header().Set("ETag", etag)
		fmt.Fprint(w, a.file.Load())
	}
}

func TestACalendarIsFetchedByAddressAndItsLastGoodCopyStays(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	a := &almanac{}
	a.file.Store(ics(vevent("UID:regatta", "SUMMARY:Regatta", "DTSTART:20260801T120000Z", "DTEND:20260801T180000Z")))
	a.etag.Store(`"one"`)
	server := httptest.NewServer(a)
	t.Cleanup(server.Close)
	follow := func(address string) (f record.Feed, err error) {
		return f, s.Admin.Send(t.Context(), "PUT", "/calendars/harbour/feed", feed.Wanted{Address: address, EverySeconds: 3600}, &f)
	}
	events := func() (list []string) {
		all, err := s.Parts.Store.PlannedEvents(t.Context(), "")
		dbtest.Must(t, err)
		for _, e := range all {
			list = append(list, e.Summary)
		}
		return list
	}
	for want, address := range map[string]string{"http or https": "ftp://example.com/a.ics", "403": server.URL + "?key=wrong",
		"refused": "http://127.0.0.1:1/a.ics", "public addresses only": "http://10.9.8.7/a.ics"} {
		if _, err := follow(address); status(err) != 422 || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", address, err)
		}
	}
	f, err := follow(server.URL + "/harbour.ics?key=s3cret")
	if err != nil || !f.FetchedAt.Equal(now) || len(events()) != 1 {
		t.Fatalf("followed: %v %+v %v", err, f, events())
	}
	var text string
	dbtest.Must(t, s.Parts.Store.Pool.QueryRow(t.Context(), `select calendar_feed::text from calendar_feed`).Scan(&text))
	if strings.Contains(text, "s3cret") || strings.Contains(fmt.Sprintf("%+v", f), "s3cret") {
		t.Errorf("the address is kept or shown as it is: %s", text)
	}
	round := func(after time.Duration) record.Feed {
		t.Helper()
		s.Clock.Set(s.Clock.Now().Add(after))
		dbtest.Must(t, s.Parts.Feeds.Due(t.Context()))
		var list []record.Feed
		dbtest.Must(t, s.Admin.Get(t.Context(), "/calendar-feeds", nil, &list))
		return list[0]
	}
	sent := a.sent.Load()
	if f := round(30 * time.Minute); !f.FetchedAt.Equal(now) || a.sent.Load() != sent {
		t.Errorf("not before its time: %+v", f)
	}
	if f := round(31 * time.Minute); f.FailingSince != nil || !f.FetchedAt.After(now) || a.sent.Load() != sent {
		t.Errorf("what has not changed is not sent again: %+v, %d times", f, a.sent.Load()-sent)
	}
	a.etag.Store(`"two"`)
	a.file.Store(ics(vevent("UID:regatta", "SUMMARY:Regatta, later", "DTSTART:20260802T120000Z", "DTEND:20260802T180000Z"),
		vevent("UID:race", "SUMMARY:Race", "DTSTART:20260803T120000Z", "DTEND:20260803T180000Z")))
	if round(61 * time.Minute); len(events()) != 2 {
		t.Errorf("changed: %v", events())
	}
	// It breaks in three ways; each is said, and the last good copy stays.
	a.etag.Store(`"three"`)
	for want, do := range map[string]func(){
		"503":                   func() { a.broken.Store(true) },
		"no event in it":        func() { a.broken.Store(false); a.file.Store(ics()) },
		"iCalendar file \"harb": func() { a.broken.Store(false); a.file.Store("<html>sign in</html>") },
	} {
		do()
		if f := round(61 * time.Minute); f.FailingSince == nil || !strings.Contains(f.Message, want) || len(events()) != 2 ||
			strings.Contains(f.Message, "s3cret") {
			t.Errorf("%q: %+v, %v", want, f, events())
		}
	}
	a.broken.Store(false)
	a.file.Store(ics(vevent("UID:race", "SUMMARY:Race", "DTSTART:20260803T120000Z", "DTEND:20260803T180000Z")))
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/calendars/harbour/feed/fetch", nil, &f))
	if f.FailingSince != nil || f.Message != "" || len(events()) != 1 {
		t.Errorf("mended: %+v %v", f, events())
	}
	dbtest.Must(t, s.Admin.Send(t.Context(), "DELETE", "/calendars/harbour/feed", nil, nil))
	if err := s.Admin.Send(t.Context(), "POST", "/calendars/harbour/feed/fetch", nil, nil); status(err) != 404 || len(events()) != 1 {
		t.Errorf("followed no more, and its events stay: %v %v", err, events())
	}
}

func TestAFeedOnLoopbackIsRefusedUnlessAllowed(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now, func(o *service.Options) { o.AllowPrivate = nil })
	server := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { t.Error("it was called") }))
	t.Cleanup(server.Close)
	err := s.Admin.Send(t.Context(), "PUT", "/calendars/harbour/feed", feed.Wanted{Address: server.URL}, nil)
	if status(err) != 422 || !strings.Contains(err.Error(), "public addresses only") {
		t.Errorf("%v", err)
	}
}
