package service_test

import (
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tinbell/internal/dbtest"
	"tinbell/internal/health"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
)

// parcels is a service with a folder in which five partners' files land at about
// four in the morning of each working day, for four weeks before Wednesday, 17 June.
func parcels(t *testing.T) (s *dbtest.Service, land func(partner string, at time.Time)) {
	t.Helper()
	zone, err := time.LoadLocation("America/Halifax")
	dbtest.Must(t, err)
	day := time.Date(2026, 6, 17, 0, 0, 0, 0, zone)
	s = dbtest.Start(t, day.Add(-time.Hour))
	folder, n := dbtest.Folder(t), 0
	land = func(partner string, at time.Time) {
		t.Helper()
		n++
		full := filepath.Join(folder, "parcels", partner, fmt.Sprintf("%d.csv", n))
		dbtest.Must(t, os.MkdirAll(filepath.Dir(full), 0o755))
		dbtest.Must(t, os.WriteFile(full, []byte(fmt.Sprintf("parcel,kg\n%d,2\n", n)), 0o644))
		dbtest.Must(t, os.Chtimes(full, at, at))
	}
	for d := day.AddDate(0, 0, -28); d.Before(day); d = d.AddDate(0, 0, 1) {
		if d.Weekday() == time.Saturday || d.Weekday() == time.Sunday || d.Day() == 8 { // the 8th was forgotten
			continue
		}
		for k, partner := range []string{"a", "b", "c", "d", "e"} {
			land(partner, d.Add(4*time.Hour+time.Duration(20*k)*time.Minute))
		}
	}
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/sources", httpapi.NewSource{Name: "landing", Address: folder}, nil))
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/datasets", httpapi.NewDataset{Source: "landing", Name: "landing.parcels",
		Pattern: "parcels/{partner}/*.csv", Zone: "America/Halifax", Owner: "Freight"}, nil))
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/metrics", httpapi.NewMetric{Dataset: "landing.parcels", Name: "files",
		Measure: "deliveries", PeriodSeconds: 86400, EverySeconds: 60, LookbackSeconds: 2 * 86400}, nil))
	var started httpapi.Started
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/backfills", httpapi.Backfill{Metrics: []string{"files"},
		SinceSeconds: 29 * 86400}, &started))
	dbtest.Must(t, s.Admin.Follow(t.Context(), started.TaskID, func(int, int) {}))
	return s, land
}

var fiveByHalfPastSix = httpapi.NewSLA{Name: "parcels", Dataset: "landing.parcels", Counts: "files", AtLeast: 5, Days: "mon-fri",
	ToMinute: 390, LeadSeconds: 7200}

func TestAPromiseIsJudgedOverItsPastAndAsTheDayGoesOn(t *testing.T) {
	t.Parallel()
	s, land := parcels(t)
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/slas", fiveByHalfPastSix, nil))
	now := func() health.Promise {
		t.Helper()
		dbtest.Must(t, s.Parts.Watcher.Promises(t.Context()))
		var list []health.Promise
		dbtest.Must(t, s.Admin.Get(t.Context(), "/slas", nil, &list))
		return list[0]
	}
	alerts := func() []record.Alert {
		t.Helper()
		var page httpapi.AlertPage
		dbtest.Must(t, s.Admin.Get(t.Context(), "/alerts", url.Values{"dataset": {"landing.parcels"}}, &page))
		return page.Alerts
	}
	p := now()
	if len(p.Months) != 2 || p.Months[0].Month != "2026-05" || p.Months[0].Met != p.Months[0].Due ||
		p.Months[1].Met != p.Months[1].Due-1 || p.Months[1].Due != 12 {
		t.Errorf("by month, with the 8th of June missed: %+v", p.Months)
	}
	at := func(hour, minute int) {
		t.Helper()
		s.Clock.Set(time.Date(2026, 6, 17, hour+3, minute, 0, 0, time.UTC)) // Halifax is three hours behind
		collectNow(t, s, "state = 'ready'")
	}
	at(3, 0)
	if p = now(); p.Standing != "on pace" || p.Have != 0 || p.Probability < 0.85 || p.Learned < 15 {
		t.Errorf("at three: %+v", p)
	}
	land("a", time.Date(2026, 6, 17, 7, 0, 0, 0, time.UTC))
	at(5, 40)
	p = now()
	if p.Standing != "behind" || p.Have != 1 || p.Probability > 0.2 {
		t.Errorf("twenty to six with one of five: %+v", p)
	}
	if a := alerts(); len(a) != 1 || a[0].Cause != record.CausePromise || a[0].Severity != "warning" || a[0].Owner != "Freight" ||
		!strings.Contains(a[0].Sentence, "parcels is behind: 1 of 5 files so far, due by 06:30") {
		t.Errorf("alerts: %+v", a)
	}
	at(6, 30)
	if p = now(); p.Standing != "missed" {
		t.Errorf("at half past six: %+v", p)
	}
	if a := alerts(); len(a) != 1 || a[0].Severity != "critical" || a[0].ClosedAt != nil || !strings.Contains(a[0].Sentence,
		"is missed: 1 of 5 files had come by 06:30") {
		t.Errorf("the same alert, graver: %+v", a)
	}
	for _, partner := range []string{"b", "c", "d", "e"} {
		land(partner, time.Date(2026, 6, 17, 12, 0, 0, 0, time.UTC))
	}
	at(9, 30)
	if p = now(); p.Standing != "missed" || p.Windows[len(p.Windows)-1].Standing != "missed" || p.Windows[len(p.Windows)-1].Have != 1 {
		t.Errorf("late is missed all the same: %+v", p)
	}
	if a := alerts(); a[0].ClosedAt == nil || !a[0].ClosedAt.Equal(time.Date(2026, 6, 17, 12, 0, 0, 0, time.UTC)) {
		t.Errorf("the alert ends when all had come: %+v", a[0])
	}
}

func TestCalendarsExceptDaysFromAPromise(t *testing.T) {
	t.Parallel()
	s, _ := parcels(t)
	add := map[string]any{"summary": "Natal Day", "from": "2026-06-08T00:00:00-03:00", "to": "2026-06-09T00:00:00-03:00", "holiday": true}
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/planned-events", add, nil))
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/slas", fiveByHalfPastSix, nil))
	other := fiveByHalfPastSix
	other.Name, other.Calendars = "strict", record.Strings{"another calendar"}
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/slas", other, nil))
	var list []health.Promise
	dbtest.Must(t, s.Admin.Get(t.Context(), "/slas", nil, &list))
	if june := list[0].Months[1]; june.Due != 11 || june.Met != 11 {
		t.Errorf("a day off is not due: %+v", june)
	}
	if june := list[1].Months[1]; june.Due != 12 || june.Met != 11 {
		t.Errorf("by another calendar it is: %+v", june)
	}
}

func TestPromisesThatCannotBeJudgedAreRefused(t *testing.T) {
	t.Parallel()
	s, _ := parcels(t)
	for name, change := range map[string]func(*httpapi.NewSLA){
		"nothing":            func(v *httpapi.NewSLA) { v.AtLeast = 0 },
		"of nothing":         func(v *httpapi.NewSLA) { v.Counts = "bytes" },
		"loads of files":     func(v *httpapi.NewSLA) { v.Counts = "loads" },
		"no such dataset":    func(v *httpapi.NewSLA) { v.Dataset = "landing.letters" },
		"no such zone":       func(v *httpapi.NewSLA) { v.Zone = "Atlantis/Sunken" },
		"no such day":        func(v *httpapi.NewSLA) { v.Days = "weekdays" },
		"ends as it begins":  func(v *httpapi.NewSLA) { v.FromMinute = 390 },
		"longer than a day":  func(v *httpapi.NewSLA) { v.ToMinute = 2000 },
		"without a name":     func(v *httpapi.NewSLA) { v.Name = "" },
		"a negative advance": func(v *httpapi.NewSLA) { v.LeadSeconds = -1 },
	} {
		v := fiveByHalfPastSix
		change(&v)
		if got := status(s.Admin.Send(t.Context(), "POST", "/slas", v, nil)); got != 422 && got != 404 {
			t.Errorf("%s: %d", name, got)
		}
	}
	if got := status(s.Admin.Send(t.Context(), "DELETE", "/slas/none", nil, nil)); got != 404 {
		t.Errorf("removing what is not there: %d", got)
	}
}
