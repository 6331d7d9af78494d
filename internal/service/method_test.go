package service_test

import (
	"fmt"
	"math"
	"net/url"
	"strings"
	"testing"
	"time"

	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/study"
)

// hours sends the ports' next hours, each port at a share of what is usual.
func hours(t *testing.T, s *dbtest.Service, from, to int, share map[string]float64) {
	t.Helper()
	var b strings.Builder
	for h := from; h < to; h++ {
		at := now.Add(time.Duration(h) * time.Hour)
		mu := 150 * (1.1 + math.Sin(2*math.Pi*float64(70*24+h)/24))
		for _, port := range []string{"a", "b", "c", "d"} {
			fmt.Fprintf(&b, "{\"metric\":\"scans\",\"segment\":%q,\"at\":%q,\"value\":%.0f}\n", port, at.Format(time.RFC3339),
				mu*share[port])
		}
	}
	s.Clock.Set(now.Add(time.Duration(to) * time.Hour))
	_, err := push(t, s, "", ndjson, b.String())
	dbtest.Must(t, err)
	s.Settle(t)
}

func openOf(t *testing.T, s *dbtest.Service, monitor string) []record.Alert {
	t.Helper()
	var page httpapi.AlertPage
	dbtest.Must(t, s.Admin.Get(t.Context(), "/alerts", url.Values{"state": {"open"}, "monitor": {monitor}}, &page))
	return page.Alerts
}

func TestASegmentIsComparedWithItsSiblingsLive(t *testing.T) {
	t.Parallel()
	s := harbour(t)
	settings := record.DefaultSettings()
	settings.Method, settings.WarnSeconds = "siblings", 90*86400
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/monitors", httpapi.NewMonitor{Name: "together", Metric: "scans",
		Settings: &settings}, nil))
	s.Settle(t)
	hours(t, s, 0, 6, map[string]float64{"a": 0.4, "b": 0.4, "c": 0.4, "d": 0.4})
	if told := openOf(t, s, "together"); len(told) != 0 {
		t.Errorf("all ports drop together: %+v", told)
	}
	if told := openOf(t, s, "scans"); len(told) == 0 {
		t.Error("the seasonal monitor sees that they drop")
	}
	hours(t, s, 6, 12, map[string]float64{"a": 1, "b": 1, "c": 0.02, "d": 1})
	told := openOf(t, s, "together")
	if len(told) != 1 || told[0].Segment != "c" || told[0].Direction != "low" {
		t.Fatalf("one port drops alone: %+v", told)
	}
	if told[0].Sentence == "" || told[0].Cause != "deviation" || told[0].Expected <= told[0].Observed {
		t.Errorf("what is told: %+v", told[0])
	}
	hours(t, s, 12, 18, map[string]float64{"a": 1, "b": 1, "c": 1, "d": 1})
	if still := openOf(t, s, "together"); len(still) != 0 {
		t.Errorf("it recovers by itself: %+v", still)
	}
}

func TestFixedBoundsRingFromTheFirstSampleOn(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	declare(t, s, "scans", "count")
	_, err := push(t, s, "", ndjson, fmt.Sprintf(`{"metric":"scans","at":%q,"value":50}`, now.Add(-2*time.Hour).Format(time.RFC3339)))
	dbtest.Must(t, err)
	low := 10.0
	settings := record.DefaultSettings()
	settings.Method, settings.Low, settings.Spikes = "fixed", &low, true
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/monitors", httpapi.NewMonitor{Name: "floor", Metric: "scans",
		Settings: &settings}, nil))
	s.Settle(t)
	s.Clock.Set(now.Add(time.Hour))
	_, err = push(t, s, "", ndjson, fmt.Sprintf("{\"metric\":\"scans\",\"at\":%q,\"value\":40}\n{\"metric\":\"scans\",\"at\":%q,\"value\":4}", now.Add(-time.Hour).Format(time.RFC3339), now.Format(time.RFC3339)))
	dbtest.Must(t, err)
	s.Settle(t)
	told := openOf(t, s, "floor")
	if len(told) != 1 || !told[0].Since.Equal(now) || told[0].Direction != "low" {
		t.Errorf("four where ten are the least: %+v", told)
	}
	var losses []study.Detectable
	dbtest.Must(t, s.Admin.Get(t.Context(), "/monitors/floor/losses", nil, &losses))
	if len(losses) != 1 || !strings.Contains(losses[0].Sentence, "when it leaves the band") {
		t.Errorf("what bounds can see: %+v", losses)
	}
}

func TestAnAnnouncedChangeThatLastsRingsNobody(t *testing.T) {
	t.Parallel()
	s := harbour(t)
	calendar := strings.ReplaceAll(fmt.Sprintf(`BEGIN:VCALENDAR
VERSION:2.0
PRODID:-//test//EN
BEGIN:VEVENT
UID:timetable
SUMMARY:Winter timetable
CATEGORIES:LASTING
DTSTAMP:%s
DTSTART:%s
DTEND:%s
END:VEVENT
END:VCALENDAR
`, now.AddDate(0, 0, -2).Format("20060102T150405Z"), now.Format("20060102T150405Z"),
		now.Add(24*time.Hour).Format("20060102T150405Z")), "\n", "\r\n")
	var events []record.PlannedEvent
	dbtest.Must(t, s.Admin.Stream(t.Context(), "PUT", "/calendars/timetables", "text/calendar", strings.NewReader(calendar), &events))
	if len(events) != 1 || !events[0].Lasting || events[0].Holiday {
		t.Fatalf("the event: %+v", events)
	}
	s.Settle(t)
	half := map[string]float64{"a": 0.5, "b": 0.5, "c": 0.5, "d": 0.5}
	hours(t, s, 0, 24, half)
	hours(t, s, 24, 60, half)
	if told := openOf(t, s, "scans"); len(told) != 0 {
		t.Errorf("the winter timetable was announced: %+v", told)
	}
	hours(t, s, 60, 72, map[string]float64{"a": 0.5, "b": 0.5, "c": 0.1, "d": 0.5})
	if told := openOf(t, s, "scans"); len(told) != 1 || told[0].Segment != "c" {
		t.Errorf("a fault on the new level is told: %+v", told)
	}
}
