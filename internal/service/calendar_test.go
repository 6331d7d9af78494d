package service_test

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/timeline"
	"tinbell/internal/calendar"
	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

func ics(events ...string) string {
	return strings.ReplaceAll("BEGIN:VCALENDAR\nVERSION:2.0\nPRODID:-//test//EN\n"+strings.Join(events, "")+"END:VCALENDAR\n", "\n", "\r\n")
}

func vevent(lines ...string) string {
	return "BEGIN:VEVENT\n" + strings.Join(lines, "\n") + "\nEND:VEVENT\n"
}

func importing(t *testing.T, s *dbtest.Service, query url.Values, file string) ([]record.PlannedEvent, error) {
	t.Helper()
	var events []record.PlannedEvent
	err := s.Admin.Stream(t.Context(), "PUT", "/calendars/harbour?"+query.Encode(), "text/calendar", strings.NewReader(file), &events)
	return events, err
}

func TestRecurrencesHaveExceptionsAndKeepToTheClockOnTheWall(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	file := ics(vevent("UID:night", "SUMMARY:Maintenance", "DTSTART;TZID=America/Halifax:20261020T010000",
		"DTEND;TZID=America/Halifax:20261020T040000", "RRULE:FREQ=WEEKLY;COUNT=4",
		"EXDATE;TZID=America/Halifax:20261027T010000", "RDATE;TZID=America/Halifax:20261030T020000"),
		vevent("UID:night", "RECURRENCE-ID;TZID=America/Halifax:20261103T010000", "SUMMARY:Maintenance, later",
			"DTSTART;TZID=America/Halifax:20261103T050000", "DTEND;TZID=America/Halifax:20261103T060000"),
		vevent("UID:night", "RECURRENCE-ID;TZID=America/Halifax:20261110T010000", "STATUS:CANCELLED", "SUMMARY:Maintenance",
			"DTSTART;TZID=America/Halifax:20261110T010000", "DTEND;TZID=America/Halifax:20261110T040000"),
		vevent("UID:regatta", "SUMMARY:Regatta", "DTSTART:20260801T120000Z", "DURATION:P1DT2H30M", "X-TINBELL-EFFECT:WIDEN",
			"X-TINBELL-DATASET:ops.scans"))
	events, err := importing(t, s, url.Values{"effect": {"leave out"}}, file)
	dbtest.Must(t, err)
	var got []string
	for _, e := range events {
		got = append(got, fmt.Sprintf("%s %s %s %s %s", e.StartedAt.Format("01-02T15:04"), e.EndedAt.Sub(e.StartedAt), e.Summary,
			e.Effect, e.Dataset))
	}
	slices.Sort(got)
	want := []string{
		"08-01T12:00 26h30m0s Regatta widen ops.scans",
		"10-20T04:00 3h0m0s Maintenance leave out ",        // Halifax is three hours behind in summer
		"10-30T05:00 3h0m0s Maintenance leave out ",        // added by RDATE; the 27th was taken out
		"11-03T09:00 1h0m0s Maintenance, later leave out ", // moved; four hours behind in winter
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("events:\n%s\nwant:\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}

func TestBadCalendarsAreRefusedAndLeaveWhatThereWas(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	good := vevent("UID:a", "SUMMARY:Night", "DTSTART:20260801T010000Z", "DTEND:20260801T020000Z")
	_, err := importing(t, s, nil, ics(good))
	dbtest.Must(t, err)
	for what, c := range map[string]struct{ file, want string }{
		"no calendar": {"BEGIN:VEVENT\r\n", "cannot be read"},
		"endless recurrence": {ics(vevent("UID:a", "SUMMARY:Tick", "DTSTART:20260801T010000Z", "DTEND:20260801T010100Z",
			"RRULE:FREQ=SECONDLY")), "more than 2000 times"},
		"a broken rule": {ics(vevent("UID:a", "SUMMARY:x", "DTSTART:20260801T010000Z", "DTEND:20260801T020000Z",
			"RRULE:FREQ=SOMETIMES")), "RRULE"},
		"a broken exception": {ics(vevent("UID:a", "SUMMARY:x", "DTSTART:20260801T010000Z", "DTEND:20260801T020000Z",
			"RRULE:FREQ=DAILY;COUNT=3", "EXDATE:tomorrow")), "EXDATE"},
		"no start": {ics(vevent("UID:a", "SUMMARY:x")), "DTSTART"},
		"ends before it began": {ics(vevent("UID:a", "SUMMARY:x", "DTSTART:20260801T010000Z", "DTEND:20260701T020000Z")),
			"not after its start"},
		"a strange effect": {ics(vevent("UID:a", "SUMMARY:x", "DTSTART:20260801T010000Z", "DTEND:20260801T020000Z",
			"X-TINBELL-EFFECT:IGNORE")), "MUTE, WIDEN and LEAVE-OUT"},
		"a strange length": {ics(vevent("UID:a", "SUMMARY:x", "DTSTART:20260801T010000Z", "DURATION:two hours")), "DURATION"},
	} {
		if _, err := importing(t, s, nil, c.file); status(err) != 422 || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", what, err)
		}
	}
	var kept []record.PlannedEvent
	dbtest.Must(t, s.Admin.Get(t.Context(), "/planned-events", nil, &kept))
	if len(kept) != 1 || kept[0].Summary != "Night" {
		t.Errorf("kept: %+v", kept)
	}
}

func TestEventsByHandAndHolidaysOfCountries(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	declare(t, s, "queue", timeline.Count)
	var added []record.PlannedEvent
	night := calendar.NewEvent{Summary: "Lock maintenance; both sides, north", From: now.Add(24 * time.Hour),
		To: now.Add(27 * time.Hour), Dataset: "ops.dock_queue", Effect: "widen", Repeat: "FREQ=WEEKLY;COUNT=5", Zone: "America/Halifax"}
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/planned-events", night, &added))
	if len(added) != 5 || added[0].Effect != "widen" || added[0].Dataset != "ops.dock_queue" ||
		added[0].Summary != night.Summary || !added[0].StartedAt.Equal(night.From) || added[0].Calendar != calendar.ByHand {
		t.Errorf("added: %+v", added)
	}
	second := night
	second.Summary, second.Repeat = "Regatta", ""
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/planned-events", second, nil))
	dbtest.Must(t, s.Admin.Send(t.Context(), "DELETE", "/planned-events/"+added[0].UID, nil, nil))
	var kept []record.PlannedEvent
	dbtest.Must(t, s.Admin.Get(t.Context(), "/planned-events", nil, &kept))
	if len(kept) != 1 || kept[0].Summary != "Regatta" {
		t.Errorf("one event with all its times is gone, the other stays: %+v", kept)
	}
	if got := status(s.Admin.Send(t.Context(), "DELETE", "/planned-events/"+added[0].UID, nil, nil)); got != 404 {
		t.Errorf("removing it twice: %d", got)
	}
	for what, change := range map[string]func(*calendar.NewEvent){
		"no end":       func(e *calendar.NewEvent) { e.To = e.From },
		"a bad rule":   func(e *calendar.NewEvent) { e.Repeat = "weekly" },
		"a bad effect": func(e *calendar.NewEvent) { e.Effect = "ignore" },
		"a bad zone":   func(e *calendar.NewEvent) { e.Zone = "Mars" },
	} {
		e := night
		change(&e)
		if got := status(s.Admin.Send(t.Context(), "POST", "/planned-events", e, nil)); got != 422 {
			t.Errorf("%s: %d", what, got)
		}
	}
	var holidays []record.PlannedEvent
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/calendars/holidays", httpapi.Holidays{Country: "de-by"}, &holidays))
	epiphany := slices.ContainsFunc(holidays, func(e record.PlannedEvent) bool { // a holiday in Bavaria, not in Berlin
		return e.Holiday && e.StartedAt.Equal(time.Date(2027, 1, 6, 4, 0, 0, 0, time.UTC)) && e.EndedAt.Sub(e.StartedAt) == 24*time.Hour
	})
	if !epiphany {
		t.Errorf("Epiphany 2027 begins at midnight in Halifax, where the datasets are: %+v", holidays[:3])
	}
	if err := s.Admin.Send(t.Context(), "POST", "/calendars/holidays", httpapi.Holidays{Country: "XX"},
		nil); status(err) != 422 || !strings.Contains(err.Error(), "DE-BY") {
		t.Errorf("a country that is not known: %v", err)
	}
	dbtest.Must(t, s.Admin.Send(t.Context(), "DELETE", "/calendars/"+url.PathEscape("holidays DE-BY"), nil, nil))
	dbtest.Must(t, s.Admin.Get(t.Context(), "/planned-events", nil, &kept))
	if len(kept) != 1 {
		t.Errorf("%d events are left", len(kept))
	}
}

func TestWhatPeopleCallPlannedAgainAndAgainIsSuggested(t *testing.T) {
	t.Parallel()
	s, ids := withAlerts(t, 1)
	first, err := s.Parts.Store.Alert(t.Context(), ids[0])
	dbtest.Must(t, err)
	var planned []int64
	dbtest.Must(t, s.Parts.Store.InTx(t.Context(), func(tx pgx.Tx) error {
		for week := range 5 { // Wednesday nights, one at a time that fits nothing
			a := first
			a.ID, a.Since = 0, time.Date(2026, 5, 13+7*week, 4, 0, 0, 0, time.UTC)
			if week == 4 {
				a.Since = a.Since.Add(50 * time.Hour)
			}
			end := a.Since.Add(3 * time.Hour)
			a.RaisedAt, a.EndedAt, a.ClosedAt = a.Since.Add(time.Hour), &end, &end
			id, err := store.PutAlert(t.Context(), tx, a)
			if err != nil {
				return err
			}
			planned = append(planned, id)
		}
		return nil
	}))
	suggested := func() []calendar.Suggestion {
		t.Helper()
		var list []calendar.Suggestion
		dbtest.Must(t, s.Admin.Get(t.Context(), "/planned-events/suggestions", nil, &list))
		return list
	}
	if got := suggested(); len(got) != 0 {
		t.Errorf("before anybody said so: %+v", got)
	}
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/labels", httpapi.NewLabel{Alerts: planned, Verdict: "planned",
		Cause: "stocktaking"}, nil))
	got := suggested()
	if len(got) != 1 || got[0].Repeat != "FREQ=WEEKLY;BYDAY=WE" || got[0].Seen != 4 || got[0].Summary != "stocktaking" ||
		got[0].Dataset != "ops.dock_queue" || !got[0].From.Equal(time.Date(2026, 6, 24, 4, 0, 0, 0, time.UTC)) ||
		got[0].To.Sub(got[0].From) != 3*time.Hour {
		t.Fatalf("suggested: %+v", got)
	}
	v := got[0]
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/planned-events", calendar.NewEvent{Summary: v.Summary, From: v.From,
		To: v.To, Dataset: v.Dataset, Repeat: v.Repeat, Zone: v.Zone}, nil))
	if got := suggested(); len(got) != 0 {
		t.Errorf("what is in the calendar is not suggested again: %+v", got)
	}
}

// Two days of a level that is a third lower: an alert unless it was planned, or
// the band was widened; and learned from unless it is left out.
func TestWhatAPlannedEventDoesToAlerts(t *testing.T) {
	t.Parallel()
	from, to := time.Date(2026, 6, 16, 0, 0, 0, 0, time.UTC), time.Date(2026, 6, 18, 0, 0, 0, 0, time.UTC)
	for effect, rings := range map[string]bool{"": true, "mute": false, "widen": false, "leave out": true} {
		s := dbtest.Start(t, now)
		declare(t, s, "queue", timeline.Count)
		_, err := push(t, s, "", ndjson, queue(8, func(at time.Time) float64 {
			if !at.Before(from) && at.Before(to) {
				return 0.75
			}
			return 1
		}))
		dbtest.Must(t, err)
		if effect != "" {
			e := calendar.NewEvent{Summary: "Strike", From: from, To: to, Effect: record.Effect(effect)}
			dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/planned-events", e, nil))
			_, err := s.Parts.Store.DB.Exec(`update planned_event set known_at = $1`, from.AddDate(0, 0, -7))
			dbtest.Must(t, err)
		}
		dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/monitors", httpapi.NewMonitor{Name: "queue", Metric: "queue"}, nil))
		s.Settle(t)
		var page httpapi.AlertPage
		dbtest.Must(t, s.Admin.Get(t.Context(), "/alerts", url.Values{"from": {from.Format(time.RFC3339)}}, &page))
		if (len(page.Alerts) > 0) != rings {
			t.Errorf("effect %q: %d alerts", effect, len(page.Alerts))
		}
		m, err := s.Parts.Store.Monitor(t.Context(), "queue")
		dbtest.Must(t, err)
		series, err := s.Parts.Store.SeriesOf(t.Context(), m.MetricID)
		dbtest.Must(t, err)
		baselines, err := s.Parts.Store.Baselines(t.Context(), m.ID, []int64{series[0].ID})
		dbtest.Must(t, err)
		for _, b := range baselines {
			if left := slices.ContainsFunc(b.Excluded,
				func(x record.Span) bool { return x.Why == "planned: Strike" }); left != (effect != "") {
				t.Errorf("effect %q: left out of training: %v", effect, b.Excluded)
			}
		}
	}
}
