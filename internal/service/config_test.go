package service_test

import (
	"strings"
	"testing"

	"tinbell/internal/config"
	"tinbell/internal/dbtest"
	"tinbell/internal/record"
)

func TestConfigurationIsLoadedAllOrNone(t *testing.T) {
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
	if len(changes) != 3 || changes[0].What != "changed" || changes[1].What != "added" {
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
		if err := send("/config/load", parse(strings.Replace(text, change[0], change[1], 1))); err == nil || !strings.Contains(err.Error(), want) || count() != 0 {
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
	if err := send("/config/load", parse(strings.Replace(text, "period: 1h", "period: 15m", 1))); err == nil || !strings.Contains(err.Error(), "a name of its own") {
		t.Errorf("a metric of another period under the same name: %v", err)
	}
}
