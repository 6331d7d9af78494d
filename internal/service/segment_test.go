package service_test

import (
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"tinbell/core/timeline"
	"tinbell/internal/config"
	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
)

func TestASegmentHasItsOwnSettingsInEverythingThatJudges(t *testing.T) {
	t.Parallel()
	s := harbour(t)
	set := func(v record.SegmentSettings) (m record.Monitor, err error) {
		return m, s.Admin.Send(t.Context(), "PUT", "/monitors/scans/segments", httpapi.ChangedSegment{SegmentSettings: v}, &m)
	}
	if _, err := set(record.SegmentSettings{Segment: "e", Muted: true}); err == nil || !strings.Contains(err.Error(),
		"one of the 4 segments of scans, such as a, b, c, d") {
		t.Errorf("a segment that is not there: %v", err)
	}
	// Two people at once, each a segment: both are kept.
	var wait sync.WaitGroup
	lowest := 1.0
	for _, v := range []record.SegmentSettings{{Segment: "b", Muted: true, Note: "it hiccups"}, {Segment: "c*", Lowest: &lowest,
		Owner: "gate crew"}} {
		wait.Go(func() {
			if _, err := set(v); err != nil {
				t.Errorf("%s: %v", v.Segment, err)
			}
		})
	}
	wait.Wait()
	var m record.Monitor
	dbtest.Must(t, s.Admin.Get(t.Context(), "/monitors/scans", nil, &m))
	if len(m.Settings.Segments) != 2 || m.Version != 3 {
		t.Fatalf("%d segments at version %d", len(m.Settings.Segments), m.Version)
	}
	s.Settle(t)
	// Ports b and c stop: b is muted, of c the bound rings at its first hour.
	s.Clock.Set(now.Add(2 * time.Hour))
	pushed(t, s, samples("scans", "b", now, now.Add(2*time.Hour), time.Hour, func(time.Time) float64 { return 0 })+
		samples("scans", "c", now, now.Add(2*time.Hour), time.Hour, func(time.Time) float64 { return 0 }))
	s.Settle(t)
	var told []record.Alert
	for _, a := range alertsOf(t, s, "scans") {
		if !a.RaisedAt.Before(now) {
			told = append(told, a)
		}
	}
	if len(told) != 1 || told[0].Segment != "c" || told[0].Cause != "bound" || told[0].Owner != "gate crew" ||
		!strings.Contains(told[0].Sentence, "below the bound of 1") {
		t.Fatalf("told: %+v", told)
	}
	// A rehearsal judges by them, and configuration files keep them.
	r := rehearse(t, s, func(v *record.Settings) { v.Segments = m.Settings.Segments })
	for _, a := range append(r.Gone, r.New...) {
		if a.Segment == "b" {
			t.Errorf("what is muted does not ring in a rehearsal: %+v", a)
		}
	}
	var d config.Documents
	dbtest.Must(t, s.Admin.Get(t.Context(), "/config", nil, &d))
	again, wrong := config.Parse("saved.yaml", config.Write(d))
	if len(wrong) > 0 || len(again.Monitors) != 1 || len(again.Monitors[0].Segments) != 2 || *again.Monitors[0].For("cc").Lowest != 1 {
		t.Errorf("%v: %+v in\n%s", wrong, again.Monitors, config.Write(d))
	}
	if changes := config.Compare(d, again); len(changes) != 0 {
		t.Errorf("what was saved differs: %+v", changes)
	}
	dbtest.Must(t, s.Admin.Send(t.Context(), "DELETE", "/monitors/scans/segments?"+url.Values{"segment": {"b"}}.Encode(), nil, &m))
	if len(m.Settings.Segments) != 1 {
		t.Errorf("%+v", m.Settings.Segments)
	}
	if err := s.Admin.Send(t.Context(), "DELETE", "/monitors/scans/segments?segment=b", nil, nil); status(err) != 404 {
		t.Errorf("taken away twice: %v", err)
	}
}

func TestABacktestChangesWhatIsGivenAndKeepsEachMonitorsOthers(t *testing.T) {
	t.Parallel()
	s := harbour(t)
	declare(t, s, "level", timeline.Value)
	_, err := push(t, s, "", ndjson, samples("level", "", now.AddDate(0, 0, -30), now, time.Hour,
		func(at time.Time) float64 { return float64(at.Day() % 7) }))
	dbtest.Must(t, err)
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/monitors", httpapi.NewMonitor{Name: "level", Metric: "level",
		Settings: fixed(-1)}, nil))
	s.Settle(t)
	var b struct{ Alerts []struct{ Monitor string } }
	order := httpapi.BacktestOrder{From: now.AddDate(0, 0, -28), Tried: record.Tried{Change: map[string]any{"warn_seconds": 30 * 86400}}}
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/backtests", order, &b))
	for _, a := range b.Alerts {
		if a.Monitor == "level" {
			t.Fatalf("the level keeps its fixed bounds, beyond which nothing lies: %+v", a)
		}
	}
	order.Change = map[string]any{"method": "fixed", "width": "wide"}
	if err := s.Admin.Send(t.Context(), "POST", "/backtests", order, nil); status(err) != 422 || !strings.Contains(err.Error(), "width") {
		t.Errorf("%v", err)
	}
}

func TestAMonitorIsRenamedRetiredAndRemoved(t *testing.T) {
	t.Parallel()
	s := harbour(t)
	before := len(alertsOf(t, s, "scans"))
	patch := func(name string, in httpapi.MonitorNames) (m record.Monitor, err error) {
		return m, s.Admin.Send(t.Context(), "PATCH", "/monitors/"+name, in, &m)
	}
	name, owner, yes, no := "quays", "Quay crew", true, false
	if m, err := patch("scans", httpapi.MonitorNames{Name: &name, Owner: &owner}); err != nil || m.Name != name ||
		m.Owner != owner || m.Version != 1 {
		t.Fatalf("%v %+v", err, m)
	}
	if before == 0 || len(alertsOf(t, s, name)) != before {
		t.Errorf("its alerts go with it: %d of %d", len(alertsOf(t, s, name)), before)
	}
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/monitors", httpapi.NewMonitor{Name: "other", Metric: "scans"}, nil))
	other := "other"
	if _, err := patch(name, httpapi.MonitorNames{Name: &other}); status(err) != 409 {
		t.Errorf("a name that is taken: %v", err)
	}
	if m, err := patch(name, httpapi.MonitorNames{Retired: &yes}); err != nil || m.RetiredAt == nil || !m.Paused {
		t.Errorf("retired: %v %+v", err, m)
	}
	s.Settle(t)
	var list []record.Monitor
	dbtest.Must(t, s.Admin.Get(t.Context(), "/monitors", nil, &list))
	if len(list) != 1 || list[0].Name != "other" {
		t.Errorf("a plain list: %+v", list)
	}
	dbtest.Must(t, s.Admin.Get(t.Context(), "/monitors", url.Values{"retired": {"true"}, "owner": {owner}}, &list))
	if len(list) != 1 || list[0].Name != name {
		t.Errorf("with the retired: %+v", list)
	}
	for _, a := range alertsOf(t, s, name) {
		if a.ClosedAt == nil {
			t.Errorf("nothing of it is open: %+v", a)
		}
	}
	var d config.Documents
	dbtest.Must(t, s.Admin.Get(t.Context(), "/config", nil, &d))
	if len(d.Monitors) != 1 {
		t.Errorf("files hold what is needed: %+v", d.Monitors)
	}
	if m, err := patch(name, httpapi.MonitorNames{Retired: &no}); err != nil || m.RetiredAt != nil || m.Paused {
		t.Errorf("needed again: %v %+v", err, m)
	}
	dbtest.Must(t, s.Admin.Send(t.Context(), "DELETE", "/monitors/"+name, nil, nil))
	if err := s.Admin.Get(t.Context(), "/monitors/"+name, nil, nil); status(err) != 404 {
		t.Errorf("removed: %v", err)
	}
	s.Settle(t)
}
