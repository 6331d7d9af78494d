package service_test

import (
	"net/url"
	"slices"
	"strings"
	"testing"

	"tinbell/internal/config"
	"tinbell/internal/dbtest"
	"tinbell/internal/record"
)

func TestConfigurationIsLoadedAllOrNone(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	conn := warehouse(t, s)
	load(t, conn, "north", 1, "2026-06-18T08:10:00Z", "2026-06-18T08:20:00Z")
	parse := func(text string) config.Documents {
		t.Helper()
		d, wrong := config.Parse("a.yaml", []byte(text))
		if len(wrong) > 0 {
			t.Fatal(wrong)
		}
		return d
	}
	text := `kind: dataset
name: select.order
source: house
zone: America/Halifax
loaded_by: loaded
owner: Orders
---
kind: metric
name: rows
dataset: select.order
measure: rows
time_column: when
period: 1h
every: 5m
---
kind: monitor
name: volume
metric: rows
warn: 30d
`
	var changes []config.Change
	send := func(path string, d config.Documents) error {
		changes = nil
		return s.Admin.Send(t.Context(), "POST", path, d, &changes)
	}
	dbtest.Must(t, send("/config/diff", parse(text)))
	if len(changes) != 4 || changes[3].What != "kept" || changes[0].What != "changed" || changes[1].What != "added" {
		t.Errorf("diff: %+v", changes)
	}
	var metrics []record.Metric
	count := func() int {
		dbtest.Must(t, s.Admin.Get(t.Context(), "/metrics", nil, &metrics))
		return len(metrics)
	}
	for change, want := range map[[2]string]string{
		{"time_column: when", "time_column: never_was"}: "metric rows", {"source: house", "source: nowhere"}: "tinbell source add nowhere",
		{"metric: rows", "metric: other"}: "monitor volume", {"zone: America/Halifax", "zone: Atlantis"}: "tz database",
	} {
		if err := send("/config/load", parse(strings.Replace(text, change[0], change[1], 1))); err == nil ||
			!strings.Contains(err.Error(), want) || count() != 0 {
			t.Errorf("%s: %v, %d metrics are there; want %q and none", change[1], err, count(), want)
		}
	}
	dbtest.Must(t, send("/config/load", parse(text)))
	s.Settle(t)
	var monitor record.Monitor
	dbtest.Must(t, s.Admin.Get(t.Context(), "/monitors/volume", nil, &monitor))
	if count() != 1 || monitor.Settings.WarnSeconds != 30*86400 || monitor.Metric != "rows" {
		t.Errorf("put in force: %d metrics, %+v", count(), monitor)
	}
	var all config.Documents
	dbtest.Must(t, s.Admin.Get(t.Context(), "/config", nil, &all))
	dbtest.Must(t, send("/config/diff", parse(string(config.Write(all)))))
	if len(changes) != 0 {
		t.Errorf("what is saved differs from what is there: %+v", changes)
	}
	dbtest.Must(t, send("/config/load", parse(strings.Replace(text, "every: 5m", "every: 1m", 1))))
	if m, err := s.Parts.Store.Metric(t.Context(), "rows"); err != nil || m.EverySeconds != 60 {
		t.Errorf("changed: %+v, %v", m, err)
	}
	house, err := url.Parse(conn.Config().ConnString())
	dbtest.Must(t, err)
	password, _ := house.User.Password()
	house.User = url.User(house.User.Username())
	second := "kind: source\nname: annex\naddress: " + house.String() + "\npassword: " + password +
		"\n---\nkind: dataset\nname: select.order\nsource: annex\n---\nkind: calendar\nname: harbour\nical: |\n" +
		"  BEGIN:VCALENDAR\n  VERSION:2.0\n  BEGIN:VEVENT\n  UID:r\n  DTSTART:20260620T120000Z\n  DTEND:20260620T180000Z\n  SUMMARY:Regatta\n  END:VEVENT\n  END:VCALENDAR\n"
	if err := send("/config/load", parse(strings.Replace(second, "DTEND:20260620", "DTEND:20260619", 1))); err == nil ||
		!strings.Contains(err.Error(), "not after its start") {
		t.Errorf("a broken calendar: %v", err)
	}
	if _, err := s.Parts.Store.Source(t.Context(), "annex"); err == nil {
		t.Error("a source was kept though the calendar was refused")
	}
	dbtest.Must(t, send("/config/load", parse(second)))
	events, err := s.Parts.Store.PlannedEvents(t.Context(), "")
	dbtest.Must(t, err)
	d, err := s.Parts.Store.Dataset(t.Context(), "select.order")
	dbtest.Must(t, err)
	if len(events) != 1 || events[0].Summary != "Regatta" || d.Source != "annex" {
		t.Errorf("put in force: %+v, dataset of %s", events, d.Source)
	}
	all = config.Documents{}
	dbtest.Must(t, s.Admin.Get(t.Context(), "/config", nil, &all))
	if saved := string(config.Write(all)); !strings.Contains(saved, "SUMMARY:Regatta") || password != "" &&
		(strings.Contains(saved, password) || !strings.Contains(saved, "${ANNEX_PASSWORD}")) {
		t.Errorf("saved: %s", saved)
	}
	// Without its variable a source keeps the password it has.
	all.Fill(func(string) (string, bool) { return "", false })
	dbtest.Must(t, send("/config/load", all))
	if len(changes) != 0 {
		t.Errorf("what is saved differs from what is there: %+v", changes)
	}
	if err := send("/config/load", parse(strings.Replace(text, "period: 1h", "period: 15m", 1))); err == nil ||
		!strings.Contains(err.Error(), "a name of its own") {
		t.Errorf("a metric of another period under the same name: %v", err)
	}
	// Pruned, what is in no file goes, of the kinds that the files hold: a monitor of
	// another name retires the old one; the calendar stays, for no file holds any.
	renamed := strings.Replace(text, "name: volume", "name: tonnage", 1)
	removed := func() (list []string) {
		for _, c := range changes {
			if c.What == "removed" {
				list = append(list, c.Kind+" "+c.Name)
			}
		}
		return list
	}
	dbtest.Must(t, send("/config/diff?prune=true", parse(renamed)))
	if got := removed(); len(got) != 1 || got[0] != "monitor volume" {
		t.Errorf("what would go: %v", got)
	}
	if m, err := s.Parts.Store.Monitor(t.Context(), "volume"); err != nil || m.RetiredAt != nil {
		t.Errorf("a diff changes nothing: %v %+v", err, m)
	}
	dbtest.Must(t, send("/config/load?prune=true", parse(renamed)))
	if m, err := s.Parts.Store.Monitor(t.Context(), "volume"); err != nil || m.RetiredAt == nil || !m.Paused {
		t.Errorf("pruned: %v %+v", err, m)
	}
	if _, err := s.Parts.Store.Monitor(t.Context(), "tonnage"); err != nil {
		t.Error(err)
	}
	dbtest.Must(t, send("/config/load?prune=true", parse("kind: calendar\nname: other\ncountry: CA\nzone: America/Halifax\n")))
	if events, err := s.Parts.Store.PlannedEvents(t.Context(), ""); err != nil || len(removed()) != 1 ||
		slices.ContainsFunc(events, func(e record.PlannedEvent) bool { return e.Summary == "Regatta" }) {
		t.Errorf("a calendar goes with its events: %v %v", err, removed())
	}
}

func TestAComparisonIsKeptAsAFileWithItsMonitor(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	conn := warehouse(t, s)
	load(t, conn, "north", 1, "2026-06-18T08:10:00Z", "2026-06-18T08:20:00Z")
	text := `kind: dataset
name: select.order
source: house
---
kind: comparison
name: orders
dataset: select.order
time_column: when
period: day
reference_days: 14
leave_out: [loaded]
---
kind: monitor
name: orders-drift
metric: orders-drift
method: fixed
high: 2
direction: high
`
	send := func(path, text string) (changes []config.Change, err error) {
		t.Helper()
		d, wrong := config.Parse("drift.yaml", []byte(text))
		if len(wrong) > 0 {
			t.Fatal(wrong)
		}
		err = s.Admin.Send(t.Context(), "POST", path, d, &changes)
		return changes, err
	}
	for change, want := range map[[2]string]string{{"period: day", "period: year"}: "",
		{"time_column: when", "time_column: group"}:    "comparison orders",
		{"metric: orders-drift", "metric: orders-psi"}: "monitor orders-drift"} {
		changed := strings.Replace(text, change[0], change[1], 1)
		if want == "" {
			if _, wrong := config.Parse("drift.yaml", []byte(changed)); len(wrong) != 1 || wrong[0].Line != 9 ||
				!strings.Contains(wrong[0].Message, "day, week, month") {
				t.Errorf("%s: %v", change[1], wrong)
			}
		} else if _, err := send("/config/load", changed); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", change[1], err)
		}
	}
	if list, err := s.Parts.Store.Comparisons(t.Context()); err != nil || len(list) != 0 {
		t.Fatalf("refused, but kept: %+v, %v", list, err)
	}
	_, err := send("/config/load", text)
	dbtest.Must(t, err)
	s.Settle(t)
	v, err := s.Parts.Store.Comparison(t.Context(), "orders")
	dbtest.Must(t, err)
	monitor, err := s.Parts.Store.Monitor(t.Context(), "orders-drift")
	dbtest.Must(t, err)
	if v.Settings.Period != "day" || v.Settings.ReferenceDays != 14 || len(v.Features) != 4 || monitor.Settings.High == nil ||
		*monitor.Settings.High != 2 {
		t.Errorf("put in force: %+v, %+v", v.Settings, monitor.Settings)
	}
	var all config.Documents
	dbtest.Must(t, s.Admin.Get(t.Context(), "/config", nil, &all))
	if len(all.Metrics) != 0 || len(all.Comparisons) != 1 {
		t.Errorf("saved: %d metrics beside the comparison's own, %d comparisons", len(all.Metrics), len(all.Comparisons))
	}
	if changes, err := send("/config/diff", string(config.Write(all))); err != nil || len(changes) != 0 {
		t.Errorf("what is saved differs from what is there: %+v, %v", changes, err)
	}
}
