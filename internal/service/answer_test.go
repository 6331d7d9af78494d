package service_test

import (
	"strings"
	"testing"

	"tinbell/core/timeline"
	"tinbell/internal/dbtest"
	"tinbell/internal/flat"
	"tinbell/internal/record"
)

func TestACatalogueIsImportedAndItsBadLinesNamed(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	declare(t, s, "queue", timeline.Count)
	catalogue := `reference,dataset,title,started_at,ended_at,segment
A-1,ops.dock_queue,Weighbridge closed,2026-06-01T09:00:00-03:00,2026-06-01T15:00:00-03:00,north
A-2,ops.dock_queue,Ends before it begins,2026-06-02T09:00:00Z,2026-06-02T08:00:00Z,
A-3,ops.nowhere,Unknown dataset,2026-06-02T09:00:00Z,,
A-4,ops.dock_queue,No zone,2026-06-02 09:00,,
A-5,ops.dock_queue,Still lasting,2026-06-17T09:00:00Z,,
A-6,ops.dock_queue
`
	send := func(body string) (r flat.Import, err error) {
		err = s.Admin.Stream(t.Context(), "POST", "/incidents/import", "text/csv", strings.NewReader(body), &r)
		return r, err
	}
	for round, want := range [][2]int{{2, 0}, {0, 2}} {
		r, err := send(catalogue)
		dbtest.Must(t, err)
		if r.Added != want[0] || r.Replaced != want[1] || r.Refused != 4 {
			t.Fatalf("round %d: %+v", round, r)
		}
		for i, line := range []int{3, 4, 5, 7} {
			if r.Problems[i].Line != line {
				t.Errorf("problem %d names line %d, want %d: %s", i, r.Problems[i].Line, line, r.Problems[i].Reason)
			}
		}
	}
	var list []record.Incident
	dbtest.Must(t, s.Admin.Get(t.Context(), "/incidents", nil, &list))
	if len(list) != 2 || list[0].Reference != "A-5" || list[1].StartedAt.Hour() != 12 || list[1].Segment != "north" {
		t.Errorf("catalogue: %+v", list)
	}
	if _, err := send("reference,colour\n"); err == nil || !strings.Contains(err.Error(), "colour") {
		t.Errorf("an unknown column is named: %v", err)
	}
	dbtest.Must(t, s.Admin.Send(t.Context(), "DELETE", "/incidents/A-5", nil, nil))
	if got := status(s.Admin.Send(t.Context(), "DELETE", "/incidents/A-5", nil, nil)); got != 404 {
		t.Errorf("dropping it twice: %d", got)
	}
}

func TestCalendarsBringRecurrenceZonesAndHolidays(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	file := strings.ReplaceAll(`BEGIN:VCALENDAR
VERSION:2.0
PRODID:-//test//EN
BEGIN:VEVENT
UID:night
SUMMARY:Maintenance night
DTSTAMP:20260601T000000Z
DTSTART;TZID=America/Halifax:20260603T010000
DTEND;TZID=America/Halifax:20260603T040000
RRULE:FREQ=WEEKLY;COUNT=3
END:VEVENT
BEGIN:VEVENT
UID:day
SUMMARY:Founders' Day
CATEGORIES:HOLIDAY
DTSTART;VALUE=DATE:20260622
DTEND;VALUE=DATE:20260623
END:VEVENT
END:VCALENDAR
`, "\n", "\r\n")
	var events []record.PlannedEvent
	put := func(body string) error {
		return s.Admin.Stream(t.Context(), "PUT", "/calendars/harbour", "text/calendar", strings.NewReader(body), &events)
	}
	dbtest.Must(t, put(file))
	if len(events) != 4 || events[0].StartedAt.Hour() != 4 || events[1].StartedAt.Sub(events[0].StartedAt).Hours() != 168 ||
		events[0].KnownAt.Day() != 1 || !events[3].Holiday {
		t.Fatalf("events: %+v", events)
	}
	for what, body := range map[string]string{
		"endless recurrence": strings.Replace(file, "FREQ=WEEKLY;COUNT=3", "FREQ=MINUTELY", 1),
		"end before start":   strings.Replace(file, "20260603T040000", "20260602T040000", 1),
		"broken file":        "BEGIN:VCALENDAR\r\nnonsense",
	} {
		if err := put(body); status(err) != 422 {
			t.Errorf("%s: %v", what, err)
		}
	}
	var kept []record.PlannedEvent
	dbtest.Must(t, s.Admin.Get(t.Context(), "/planned-events", nil, &kept))
	if len(kept) != 4 {
		t.Errorf("a refused file must leave the calendar as it was: %d events", len(kept))
	}
}
