package service_test

import (
	"strings"
	"testing"

	"tinbell/core/timeline"
	"tinbell/internal/config"
	"tinbell/internal/dbtest"
)

func TestWhoIsToldAndWhatIsPromisedAreFilesToo(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	declare(t, s, "queue", timeline.Count)
	text := `kind: channel
name: desk
through: email
to: [desk@ferries.example]
from: bell@ferries.example
host: smtp.ferries.example
user: bell
password: tin
---
kind: channel
name: pager
through: webhook
url: https://pager.example/1
form: own
template: '{"t": {{json .Title}}}'
---
kind: route
name: nights
channel: pager
datasets: ["ops.*"]
hours: ["mon-fri 18:00-08:00"]
zone: America/Halifax
escalate: 30m
escalate_to: desk
---
kind: sla
name: lorries
dataset: ops.dock_queue
counts: rows
at_least: 5
days: mon-fri
by: "06:30"
lead: 2h
---
kind: calendar
name: days off
country: CA
zone: America/Halifax
`
	var changes []config.Change
	send := func(path, text string) error {
		d, wrong := config.Parse("a.yaml", []byte(text))
		if len(wrong) > 0 {
			t.Fatal(wrong)
		}
		changes = nil
		return s.Admin.Send(t.Context(), "POST", path, d, &changes)
	}
	there := func() int {
		t.Helper()
		channels, err := s.Parts.Store.Channels(t.Context())
		dbtest.Must(t, err)
		return len(channels)
	}
	for change, want := range map[[2]string]string{
		{"json .Title", "json .Titel"}: "template", {"channel: pager", "channel: nobody"}: "route nights",
		{"mon-fri 18:00-08:00", "at night"}: "hours",
		{`by: "06:30"`, `by: "6 pm"`}:       "06:30", {"country: CA", "country: XX"}: "country",
		{"dataset: ops.dock_queue", "dataset: ops.none"}: "sla lorries",
	} {
		if err := send("/config/load", strings.Replace(text, change[0], change[1], 1)); err == nil ||
			!strings.Contains(err.Error(), want) || there() != 0 {
			t.Errorf("%s: %v; %d channels are there", change[1], err, there())
		}
	}
	dbtest.Must(t, send("/config/load", text))
	sla, err := s.Parts.Store.SLA(t.Context(), "lorries")
	dbtest.Must(t, err)
	route, err := s.Parts.Store.Route(t.Context(), "nights")
	dbtest.Must(t, err)
	events, err := s.Parts.Store.PlannedEvents(t.Context(), "")
	dbtest.Must(t, err)
	if there() != 2 || sla.ToMinute != 390 || sla.LeadSeconds != 7200 || route.EscalateTo != "desk" ||
		route.EscalateSeconds != 1800 || len(events) < 20 {
		t.Errorf("put in force: %d channels, %+v, %+v, %d holidays", there(), sla, route, len(events))
	}
	var all config.Documents
	dbtest.Must(t, s.Admin.Get(t.Context(), "/config", nil, &all))
	saved := string(config.Write(all))
	if strings.Contains(saved, "password: tin") || !strings.Contains(saved, "${DESK_PASSWORD}") || !strings.Contains(saved,
		"by: \"06:30\"") && !strings.Contains(saved, "by: 06:30") {
		t.Errorf("saved, without secrets:\n%s", saved)
	}
	secret := func() []byte {
		c, err := s.Parts.Store.Channel(t.Context(), "desk")
		dbtest.Must(t, err)
		return c.Secret
	}
	before := secret()
	all.Fill(func(string) (string, bool) { return "", false })
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/config/load", all, &changes))
	if len(changes) != 0 || string(secret()) != string(before) {
		t.Errorf("loaded again nothing changes, and the password stays: %+v", changes)
	}
}
