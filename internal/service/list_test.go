package service_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"

	"tinbell/core/timeline"
	"tinbell/internal/client"
	"tinbell/internal/collect"
	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/scorecard"
)

// pages reads a list page by page, as its links say, and gives what names its records.
func pages[T any](t *testing.T, s *dbtest.Service, path string, name func(T) string) (names []string, n int) {
	t.Helper()
	for path = "/api/v1" + path; path != ""; n++ {
		code, text, head := request(t, s, "GET", path, nil, nil)
		if code != 200 || n > 50 {
			t.Fatalf("%s: %d %s", path, code, text)
		}
		var list []T
		dbtest.Must(t, json.Unmarshal([]byte(text), &list))
		for _, v := range list {
			names = append(names, name(v))
		}
		path = ""
		if link, rel, ok := strings.Cut(head.Get("Link"), ">; "); ok && rel == `rel="next"` {
			path = strings.TrimPrefix(link, "<")
		}
	}
	return names, n
}

func TestListsAreSortedNarrowedAndReadPageByPage(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	ctx := t.Context()
	for i := range 7 {
		dbtest.Must(t, s.Admin.Send(ctx, "POST", "/metrics/declare", collect.Declaration{Metric: fmt.Sprint("m", i),
			Dataset: fmt.Sprint("d", i%2), Owner: fmt.Sprint("team ", i%2), Measure: "rows", Kind: timeline.Count,
			Period: []string{"24h", "12h", "8h", "6h", "4h", "2h", "1h"}[i]}, nil))
	}
	name := func(m record.Metric) string { return m.Name }
	got, n := pages(t, s, "/metrics?sort=-period_seconds&limit=3", name)
	if want := []string{"m0", "m1", "m2", "m3", "m4", "m5", "m6"}; !slices.Equal(got, want) || n != 3 {
		t.Errorf("in %d pages: %v", n, got)
	}
	if got, _ = pages(t, s, "/metrics?sort=period_seconds&dataset=d1&limit=2", name); !slices.Equal(got, []string{"m5", "m3", "m1"}) {
		t.Errorf("of one dataset: %v", got)
	}
	if got, _ = pages(t, s, "/metrics?owner="+url.QueryEscape("team 0")+"&sort=name", name); !slices.Equal(got,
		[]string{"m0", "m2", "m4", "m6"}) {
		t.Errorf("of one team: %v", got)
	}
	// What is gone between two pages makes nothing come twice or be left out.
	code, _, head := request(t, s, "GET", "/api/v1/metrics?sort=name&limit=3", nil, nil)
	dbtest.Must(t, s.Admin.Send(ctx, "DELETE", "/metrics/m0", nil, nil))
	next, _, _ := strings.Cut(strings.TrimPrefix(head.Get("Link"), "<"), ">")
	if got, _ = pages(t, s, strings.TrimPrefix(next, "/api/v1"), name); code != 200 || !slices.Equal(got,
		[]string{"m3", "m4", "m5", "m6"}) {
		t.Errorf("after one is gone: %v", got)
	}
	for query, says := range map[string]string{"sort=colour": "one of id, dataset, name", "cursor=x": "header Link",
		"dataset=none": "no dataset named", "tag=none": "no tag named"} {
		err := s.Admin.Get(ctx, "/metrics?"+query, nil, &[]record.Metric{})
		if err == nil || !strings.Contains(err.Error(), says) || !client.Wrong(err) && !client.Missing(err) {
			t.Errorf("%s: %v", query, err)
		}
	}
}

// What one audience cares about is tagged once, on the dataset, and the tag narrows lists,
// scores and stands in files; taken off, it is gone everywhere.
func TestATagNarrowsListsAndScores(t *testing.T) {
	t.Parallel()
	s := harbour(t)
	ctx := t.Context()
	declare(t, s, "berths", timeline.Count)
	dbtest.Must(t, s.Admin.Send(ctx, "POST", "/metrics/declare", collect.Declaration{Metric: "other", Dataset: "ops.other",
		Measure: "rows", Kind: timeline.Count, Period: "1h"}, nil))
	dbtest.Must(t, s.Admin.Send(ctx, "POST", "/monitors", httpapi.NewMonitor{Name: "other", Metric: "other"}, nil))
	tag := func(change map[string]any) (v record.Tag, err error) {
		return v, s.Admin.Send(ctx, "PATCH", "/tags/docks", change, &v)
	}
	v, err := tag(map[string]any{"on": map[string]any{"datasets": []string{"ops.dock*"}}})
	if err != nil || !slices.Equal(v.Datasets, record.Strings{"ops.dock_queue"}) || !slices.Contains(v.Metrics, "scans") ||
		!slices.Equal(v.Monitors, record.Strings{"scans"}) {
		t.Fatalf("%+v, %v", v, err)
	}
	for _, refused := range []map[string]any{{"on": map[string]any{"datasets": []string{"nothing*"}}},
		{"on": map[string]any{"monitors": []string{"scans", "["}}}} {
		if _, err := tag(refused); err == nil {
			t.Errorf("%v is let through", refused)
		}
	}
	if err := s.Admin.Send(ctx, "PATCH", "/tags/"+url.PathEscape("Two Words"), map[string]any{}, nil); err == nil ||
		!strings.Contains(err.Error(), "small letters") {
		t.Errorf("a tag of two words: %v", err)
	}
	names, _ := pages(t, s, "/monitors?tag=docks", func(m record.Monitor) string { return m.Name })
	alerts := func(query string) int {
		var page httpapi.AlertPage
		dbtest.Must(t, s.Admin.Get(ctx, "/alerts?limit=1000"+query, nil, &page))
		for _, a := range page.Alerts {
			if !slices.Equal(a.Tags, record.Strings{"docks"}) {
				t.Errorf("alert %d has the tags %v", a.ID, a.Tags)
			}
		}
		return len(page.Alerts)
	}
	if all := alerts(""); !slices.Equal(names, []string{"scans"}) || all == 0 || alerts("&tag=docks") != all {
		t.Errorf("monitors %v, %d alerts", names, all)
	}
	score := func(query string) scorecard.Scorecard {
		var card scorecard.Scorecard
		dbtest.Must(t, s.Admin.Get(ctx, "/scorecard"+query, nil, &card))
		return card
	}
	whole, tagged := score("?by=tag"), score("?tag=docks&by=rule")
	if len(whole.Groups) != 1 || whole.Groups[0].Name != "docks" || whole.Groups[0].Alerts != whole.Overall.Alerts ||
		len(tagged.Monitors) != 1 || tagged.Overall.Alerts != whole.Overall.Alerts || tagged.Overall.Recall.N != 1 {
		t.Errorf("by tag %+v, of the tag %+v", whole.Groups, tagged.Overall)
	}
	told := 0
	for _, g := range tagged.Groups {
		told += g.Alerts
		if g.Name == "" || g.Recall.N != 1 {
			t.Errorf("rule %+v", g)
		}
	}
	if told != tagged.Overall.Alerts {
		t.Errorf("rules told %d of %d", told, tagged.Overall.Alerts)
	}
	if by := score("?by=channel"); len(by.Groups) != 1 || by.Groups[0].Name != "(told to nobody)" {
		t.Errorf("by channel: %+v", by.Groups)
	}
	// A route that names a tag keeps it: without, it would tell of everything.
	dbtest.Must(t, s.Admin.Send(ctx, "PUT", "/channels/desk", httpapi.NewChannel{Kind: record.ChannelWebhook,
		Settings: record.ChannelSettings{URL: "http://127.0.0.1:9/desk"}}, nil))
	dbtest.Must(t, s.Admin.Send(ctx, "PUT", "/routes/docks", httpapi.NewRoute{Channel: "desk", Tags: record.Strings{"docks"}}, nil))
	if err := s.Admin.Send(ctx, "DELETE", "/tags/docks", nil, nil); err == nil || !strings.Contains(err.Error(), "the route docks tells") {
		t.Errorf("a tag that a route names: %v", err)
	}
	if _, files, _ := request(t, s, "GET", "/api/v1/config", nil, nil); strings.Count(files, `"tags":["docks"]`) != 2 {
		t.Errorf("a dataset and a route have the tag in files: %s", files)
	}
	dbtest.Must(t, s.Admin.Send(ctx, "DELETE", "/routes/docks", nil, nil))
	dbtest.Must(t, s.Admin.Send(ctx, "DELETE", "/tags/docks", nil, nil))
	if left, _ := pages(t, s, "/tags", func(v record.Tag) string { return v.Name }); len(left) != 0 {
		t.Errorf("tags are left: %v", left)
	}
}

// Channels and routes are things of their own: the second of two who change one is told.
func TestTheSecondWhoChangesARouteIsTold(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	ctx := t.Context()
	dbtest.Must(t, s.Admin.Send(ctx, "PUT", "/channels/desk", httpapi.NewChannel{Kind: record.ChannelWebhook,
		Settings: record.ChannelSettings{URL: "http://127.0.0.1:9/desk"}}, nil))
	put := func(severity, tag string) int {
		code, _, _ := request(t, s, "PUT", "/api/v1/routes/all", map[string]string{"If-Match": tag,
			"Content-Type": "application/json"}, strings.NewReader(`{"channel":"desk","severity":"`+severity+`"}`))
		return code
	}
	dbtest.Must(t, s.Admin.Send(ctx, "PUT", "/routes/all", httpapi.NewRoute{Channel: "desk"}, nil))
	for _, path := range []string{"/api/v1/channels/desk", "/api/v1/routes/all"} {
		code, _, head := request(t, s, "GET", path, nil, nil)
		if code != 200 || head.Get("ETag") == "" {
			t.Errorf("%s: %d", path, code)
		}
	}
	_, _, head := request(t, s, "GET", "/api/v1/routes/all", nil, nil)
	if first, second := put("critical", head.Get("ETag")), put("warning", head.Get("ETag")); first != 200 ||
		second != http.StatusPreconditionFailed {
		t.Errorf("the first %d, the second %d", first, second)
	}
}
