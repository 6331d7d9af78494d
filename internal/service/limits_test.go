package service_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"testing"
	"time"

	"tinbell/internal/collect"
	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
)

// twoDatasets is a service where everything there is stands twice: for raw.open and for
// raw.veiled, each with a metric, a monitor, alerts, an incident, a log and a note.
func twoDatasets(t *testing.T) *dbtest.Service {
	t.Helper()
	s := dbtest.Start(t, now)
	for _, name := range []string{"open", "veiled"} {
		low := 50.0
		settings := &record.Settings{Method: "fixed", Direction: "low", Low: &low}
		declared(t, s, collect.Declaration{Metric: name + "-rows", Dataset: "raw." + name, Measure: "rows", Kind: "count",
			Period: "1h", Zone: "UTC", SegmentBy: []string{"port"}}, settings)
		var lines strings.Builder
		for h := range 30 {
			fmt.Fprintf(&lines, `{"metric":"%s-rows","at":"%s","value":%d,"segment":"%s"}`+"\n", name,
				now.Add(time.Duration(h-30)*time.Hour).Format(time.RFC3339), 100-3*h, "Ansby")
		}
		pushed(t, s, lines.String())
		dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/incidents", httpapi.NewIncident{Dataset: "raw." + name,
			Title: "gates of raw." + name + " are silent", StartedAt: now.Add(-time.Hour), EndedAt: ptr(now)}, nil))
		dbtest.Must(t, s.Admin.Send(t.Context(), "PUT", "/logs/log-of-"+name, map[string]string{"dataset": "raw." + name}, nil))
		dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/notes", map[string]any{"dataset": "raw." + name, "at": now,
			"text": "about raw." + name}, nil))
	}
	s.Settle(t)
	var page httpapi.AlertPage
	dbtest.Must(t, s.Admin.Get(t.Context(), "/alerts", nil, &page))
	told := map[string]bool{}
	for _, a := range page.Alerts {
		told[a.Dataset] = true
	}
	if len(told) < 2 {
		t.Fatalf("alerts of %v alone", told)
	}
	return s
}

// Of what is not theirs nobody who is limited learns by any address: each read of the
// contract is asked for with every name and number that there is, and whatever comes back
// does not say a word of it.
func TestWhoIsLimitedLearnsNothingOfOtherDatasets(t *testing.T) {
	t.Parallel()
	s := twoDatasets(t)
	dbtest.Must(t, s.Admin.Send(t.Context(), "PUT", "/accounts/Maud", map[string]any{"role": "editor",
		"datasets": []string{"raw.open*"}}, nil))
	maud := signedIn(t, s, "Maud", "editor")
	text, err := httpapi.OpenAPI()
	dbtest.Must(t, err)
	var contract struct {
		Paths map[string]map[string]struct {
			ID         string `json:"operationId"`
			Role       string `json:"x-role"`
			Parameters []struct {
				Name, In string
				Required bool
			} `json:"parameters"`
		} `json:"paths"`
	}
	dbtest.Must(t, json.Unmarshal(text, &contract))
	gap := regexp.MustCompile(`\{[a-z_]+\}`)
	names := []string{"raw.veiled", "veiled-rows", "log-of-veiled", "1", "2", "3", "4", "INC-0002", "INC-2"}
	asked, good := 0, map[string]bool{}
	see := func(path string) {
		request, err := http.NewRequestWithContext(t.Context(), "GET", s.Address+path, nil)
		dbtest.Must(t, err)
		request.Header.Set("Authorization", "Bearer "+maud.Token)
		answer, err := http.DefaultClient.Do(request)
		dbtest.Must(t, err)
		defer answer.Body.Close()
		said, err := io.ReadAll(answer.Body)
		dbtest.Must(t, err)
		asked++
		if answer.StatusCode == 200 {
			good[strings.SplitN(path, "?", 2)[0]] = true
		}
		given, _ := url.QueryUnescape(path)
		if answer.StatusCode/100 == 5 {
			t.Errorf("%s: %d %s", path, answer.StatusCode, said)
		}
		for _, word := range []string{"veiled"} {
			found := strings.Contains(string(said), word)
			if found && (answer.StatusCode == 200 || !strings.Contains(given, word)) {
				t.Errorf("%s tells of what is veiled: %d %.400s", path, answer.StatusCode, said)
			}
		}
	}
	for path, methods := range contract.Paths {
		operation, there := methods["get"]
		if !there || operation.ID == "events" {
			continue
		}
		paths := []string{path}
		if strings.Contains(path, "{") {
			paths = nil
			for _, name := range names {
				paths = append(paths, gap.ReplaceAllString(path, name))
			}
		}
		for _, p := range paths {
			see(p)
			for _, q := range operation.Parameters {
				if value, is := map[string]string{"dataset": "raw.veiled", "metric": "veiled-rows", "monitor": "veiled-rows",
					"series": "2", "alert": "2", "log": "log-of-veiled", "name": "veiled-rows", "words": "veiled",
					"q": "veiled"}[q.Name]; is && q.In == "query" {
					see(p + "?" + q.Name + "=" + value)
				}
			}
		}
	}
	for _, path := range []string{"/api/v1/datasets", "/api/v1/alerts", "/api/v1/monitors", "/api/v1/metrics",
		"/api/v1/incidents", "/api/v1/logs", "/api/v1/notes", "/api/v1/groups", "/api/v1/me"} {
		if !good[path] {
			t.Errorf("%s is refused though part of it is hers", path)
		}
	}
	if asked < 400 {
		t.Errorf("only %d were asked", asked)
	}
	// What is hers she sees, and sets up.
	var datasets []struct{ Dataset struct{ Name string } }
	dbtest.Must(t, maud.Get(t.Context(), "/datasets", nil, &datasets))
	if len(datasets) != 1 || datasets[0].Dataset.Name != "raw.open" {
		t.Errorf("%+v", datasets)
	}
	var page httpapi.AlertPage
	dbtest.Must(t, maud.Get(t.Context(), "/alerts", nil, &page))
	if len(page.Alerts) == 0 {
		t.Error("her own alerts are missing")
	}
	var queue struct {
		Questions []struct {
			Alert struct{ Dataset, Zone string }
		}
	}
	dbtest.Must(t, maud.Get(t.Context(), "/label-queue", nil, &queue))
	if len(queue.Questions) == 0 {
		t.Error("nothing of hers is asked")
	}
	for _, q := range queue.Questions {
		if q.Alert.Dataset != "raw.open" {
			t.Errorf("the label queue has something of %q", q.Alert.Dataset)
		}
	}
	for path, want := range map[string]int{"/metrics/open-rows": 200, "/monitors/open-rows": 200, "/datasets/raw.open": 200,
		"/logs/log-of-open": 200, "/metrics/veiled-rows": 404, "/datasets/raw.veiled": 404, "/scorecard": 403} {
		if err := maud.Get(t.Context(), path, nil, nil); status(err) != want {
			t.Errorf("%s: %v, want %d", path, err, want)
		}
	}
}

// What somebody may do is looked at in each dataset that a request is about.
func TestWhoIsLimitedChangesNothingElsewhere(t *testing.T) {
	t.Parallel()
	s := twoDatasets(t)
	dbtest.Must(t, s.Admin.Send(t.Context(), "PATCH", "/datasets/raw.open", map[string]any{"tags": []string{"harbour"}}, nil))
	dbtest.Must(t, s.Admin.Send(t.Context(), "PUT", "/accounts/Maud", map[string]any{"role": "none"}, nil))
	dbtest.Must(t, s.Admin.Send(t.Context(), "PUT", "/teams/lookers", map[string]any{"role": "reader", "members": []string{"Maud"}}, nil))
	dbtest.Must(t, s.Admin.Send(t.Context(), "PUT", "/teams/harbour", map[string]any{"role": "editor",
		"datasets": []string{"tag:harbour"}, "members": []string{"Maud"}}, nil))
	person := newBrowser(t, s)
	dbtest.Must(t, s.Admin.Send(t.Context(), "PUT", "/accounts/Maud/password", map[string]string{"password": good}, nil))
	person.ask("POST", "/api/v1/session", map[string]string{"name": "Maud", "password": good})
	note := func(dataset string) map[string]any {
		return map[string]any{"dataset": dataset, "at": now, "text": "by Maud"}
	}
	for _, c := range []struct {
		method, path string
		body         any
		want         int
	}{
		{"GET", "/monitors/veiled-rows", nil, 200}, // a reader everywhere
		{"POST", "/notes", note("raw.open"), 200}, {"POST", "/notes", note("raw.veiled"), 403},
		{"POST", "/notes", map[string]any{"at": now, "text": "on all"}, 403},
		{"POST", "/monitors", httpapi.NewMonitor{Name: "again", Metric: "open-rows"}, 200},
		{"POST", "/monitors", httpapi.NewMonitor{Name: "other", Metric: "veiled-rows"}, 403},
		{"DELETE", "/monitors/veiled-rows", nil, 403}, {"DELETE", "/logs/log-of-veiled", nil, 403},
		{"DELETE", "/datasets/raw.veiled", nil, 403},
		{"POST", "/sources", map[string]string{"name": "x"}, 403}, {"POST", "/config/load", map[string]any{}, 403},
		{"DELETE", "/monitors/again", nil, 200}, {"DELETE", "/monitors/never-there", nil, 403},
		// What is made anew says of which dataset it is, and by no way around.
		{"PUT", "/logs/new", map[string]string{"dataset": "raw.veiled"}, 403},
		{"PUT", "/logs/new", map[string]string{"job": "load veiled"}, 403}, {"PUT", "/logs/new", map[string]string{"service": "gate"}, 403},
		{"PUT", "/logs/new", map[string]string{"dataset": "raw.open"}, 200},
		{"PUT", "/logs/new", map[string]string{"dataset": "raw.open", "job": "load veiled"}, 403},
	} {
		if got, said := person.ask(c.method, "/api/v1"+c.path, c.body); got != c.want && !(c.want == 200 && got/100 == 2) {
			t.Errorf("%s %s: %d %s, want %d", c.method, c.path, got, said, c.want)
		}
	}
	// Of a push the lines for others are refused, one by one.
	receipt := map[string]any{}
	loader := signedIn(t, s, "Maud", "editor", "datasets", []string{"raw.o*"})
	lines := fmt.Sprintf(`[{"metric":"open-rows","at":"%[1]s","value":1},{"metric":"veiled-rows","at":"%[1]s","value":1}]`,
		now.Add(-40*time.Hour).Format(time.RFC3339))
	dbtest.Must(t, loader.Send(t.Context(), "POST", "/samples", json.RawMessage(lines), &receipt))
	if fmt.Sprint(receipt["accepted"], receipt["refused"]) != "1 1" {
		t.Errorf("%v", receipt)
	}
	declaring := `[{"declare":{"metric":"new","dataset":"raw.veiled","measure":"rows","kind":"count","period":"1h","zone":"UTC"}}]`
	dbtest.Must(t, loader.Send(t.Context(), "POST", "/samples", json.RawMessage(declaring), &receipt))
	if fmt.Sprint(receipt["refused"]) != "1" {
		t.Errorf("a metric of another dataset is declared: %v", receipt)
	}
	// Without the tag it is no longer hers.
	dbtest.Must(t, s.Admin.Send(t.Context(), "PATCH", "/datasets/raw.open", map[string]any{"tags": []string{}}, nil))
	if got, _ := person.ask("POST", "/api/v1/notes", note("raw.open")); got != 403 {
		t.Errorf("after the tag went: %d", got)
	}
}
