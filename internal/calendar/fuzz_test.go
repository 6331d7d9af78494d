package calendar

import (
	"testing"
	"time"

	"tinbell/internal/record"
)

// FuzzCalendar holds that any iCalendar file is read to an end: its events end
// after they begin and lie within reach, or it is refused with a reason.
func FuzzCalendar(f *testing.F) {
	head, foot := "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\nBEGIN:VEVENT\r\nUID:1\r\nDTSTAMP:20260101T000000Z\r\nSUMMARY:x\r\n", "END:VEVENT\r\nEND:VCALENDAR\r\n"
	for _, lines := range []string{"DTSTART:20260701T000000Z\r\nDTEND:20260702T000000Z\r\n",
		"DTSTART;VALUE=DATE:20260701\r\nRRULE:FREQ=WEEKLY;COUNT=5\r\nEXDATE;VALUE=DATE:20260708\r\n",
		"DTSTART;TZID=America/Halifax:20260701T010000\r\nDURATION:PT3H\r\nRRULE:FREQ=YEARLY;BYDAY=TU\r\n",
		"DTSTART:00010101T000000Z\r\nRRULE:FREQ=SECONDLY\r\n", "RECURRENCE-ID:20260701T000000Z\r\nDTSTART:20260701T000000Z\r\n"} {
		f.Add(head + lines + foot)
	}
	desk := &Desk{now: func() time.Time { return time.Date(2026, 6, 18, 12, 0, 0, 0, time.UTC) }}
	f.Fuzz(func(t *testing.T, file string) {
		if len(file) > 4000 {
			return
		}
		events, err := desk.Read(&record.Calendar{Name: "c", ICal: file})
		if err != nil {
			if err.Error() == "" {
				t.Error("refused without a reason")
			}
			return
		}
		for _, e := range events {
			if !e.EndedAt.After(e.StartedAt) || e.StartedAt.Year() < 1900 || e.EndedAt.Year() > 2400 {
				t.Errorf("%+v", e)
			}
		}
	})
}
