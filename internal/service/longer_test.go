package service_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"net/url"
	"strings"
	"testing"
	"time"

	"tinbell/core/timeline"
	"tinbell/internal/chart"
	"tinbell/internal/collect"
	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/scorecard"
	"tinbell/internal/study"
)

// Invoices of a month, more of them each December: the months are those of the calendar on
// the wall, whatever days they have, and what a season does is no news once it is known.
func TestMonthsAreThoseOfTheCalendarAndALossOfOneRings(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 9, 5, 3, 0, 0, 0, time.UTC)
	s := dbtest.Start(t, now)
	zone, err := time.LoadLocation("America/Halifax")
	dbtest.Must(t, err)
	settings := seasonal()
	settings.WarnSeconds, settings.CriticalSeconds = 5*365*86400, 20*365*86400
	declared(t, s, collect.Declaration{Metric: "invoices", Kind: timeline.Count, Period: "1mo", Zone: zone.String()}, settings)
	rng := rand.New(rand.NewPCG(15, 2))
	declared(t, s, collect.Declaration{Metric: "credits", Kind: timeline.Count, Period: "1mo", Zone: zone.String()}, settings)
	var b strings.Builder
	invoiced := func(at time.Time, share float64) {
		days := at.AddDate(0, 1, 0).Sub(at).Hours() / 24
		v := 130 * days * math.Exp(0.03*rng.NormFloat64()) * share
		if at.Month() == time.December {
			v *= 1.6
		}
		fmt.Fprintf(&b, `{"metric":"invoices","at":%q,"value":%.0f}`+"\n", at.Format(time.RFC3339), v)
		fmt.Fprintf(&b, `{"metric":"credits","at":%q,"value":%.0f}`+"\n", at.Format(time.RFC3339), v/share)
	}
	last := time.Date(2026, 8, 1, 0, 0, 0, 0, zone)
	for at := time.Date(2020, 1, 1, 0, 0, 0, 0, zone); at.Before(last); at = at.AddDate(0, 1, 0) {
		invoiced(at, 1)
	}
	pushed(t, s, b.String())
	s.Settle(t)
	for _, a := range alertsOf(t, s, "invoices") {
		if a.Since.After(time.Date(2023, 1, 1, 0, 0, 0, 0, zone)) {
			t.Errorf("told of a past in which nothing is wrong: %s, since %s", a.Sentence, a.Since)
		}
	}
	refused, err := push(t, s, "", ndjson, `{"metric":"invoices","at":"2026-08-02T00:00:00-03:00","value":1}`)
	if err != nil || refused.Refused != 1 || !strings.Contains(fmt.Sprint(refused.Problems), "2026-08-01") {
		t.Errorf("a sample in the middle of a month: %+v, %v", refused, err)
	}

	b.Reset()
	invoiced(last, 0.5)
	pushed(t, s, b.String())
	s.Settle(t)
	told := alertsOf(t, s, "invoices")
	if len(told) == 0 || told[0].Direction != "low" || !told[0].Since.Equal(last) || !strings.Contains(told[0].Figures, "in August 2026") {
		t.Fatalf("half of August's invoices are lost, told: %+v", told)
	}

	m, err := s.Parts.Store.Metric(t.Context(), "invoices")
	dbtest.Must(t, err)
	list, err := s.Parts.Store.SeriesOf(t.Context(), m.ID)
	dbtest.Must(t, err)
	of := fmt.Sprintf("/series/%d", list[0].ID)
	var why chart.Explanation
	dbtest.Must(t, s.Admin.Get(t.Context(), of+"/explain", url.Values{"at": {"2025-12-01T04:00:00Z"}}, &why))
	if n := len(why.Parts); math.Abs(why.Expected/6450-1) > 0.15 || n == 0 || why.Parts[n-1].Name != "calendar" || why.Parts[n-1].Amount < 1500 {
		t.Errorf("expected of December: %+v", why)
	}
	var ahead study.Forecast
	dbtest.Must(t, s.Admin.Get(t.Context(), of+"/forecast", url.Values{"days": {"90"}}, &ahead))
	if len(ahead.At) != 3 || !ahead.At[0].Equal(last.AddDate(0, 1, 0)) && !ahead.At[0].Equal(last) || !strings.Contains(ahead.Sentence, "In 3 months") {
		t.Errorf("three months ahead: %v, %s", ahead.At, ahead.Sentence)
	}
	// September's sample has a week after its end to come, and is missed then.
	for _, c := range []struct {
		at   time.Time
		told int
	}{{time.Date(2026, 10, 7, 0, 0, 0, 0, zone), 0}, {time.Date(2026, 10, 9, 0, 0, 0, 0, zone), 1}} {
		s.Clock.Set(c.at)
		dbtest.Must(t, s.Duty("pushed").Round(t.Context()))
		s.Settle(t)
		missed := 0
		for _, a := range alertsOf(t, s, "credits") {
			if a.Cause == "missing" {
				missed++
			}
		}
		if missed != c.told {
			t.Errorf("on %s: %d alerts that a month did not come, want %d", c.at, missed, c.told)
		}
	}
	var like study.CharacterStudy
	dbtest.Must(t, s.Admin.Get(t.Context(), of+"/character", nil, &like))
	if said := strings.Join(like.Sentences, " "); !strings.Contains(said, "Four in five months differ by") {
		t.Errorf("it is said to be: %s", said)
	}
}

// A probe of a warehouse sums up by week and by month of the zone on the wall, over a change of
// clocks too, and rows that come late are read again.
func TestWeeksAndMonthsAreCollected(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 6, 18, 12, 0, 0, 0, time.UTC)
	s := dbtest.Start(t, now)
	conn := warehouse(t, s)
	for _, at := range []string{"2026-02-28T23:30:00-04:00", "2026-03-01T00:30:00-04:00", "2026-03-31T23:59:00-03:00",
		"2026-04-01T00:00:00-03:00", "2026-06-14T23:00:00-03:00", "2026-06-15T01:00:00-03:00"} {
		load(t, conn, "north", 1, at, at)
	}
	metric := func(name string, period time.Duration) httpapi.NewMetric {
		return httpapi.NewMetric{Name: name, Measure: "rows", TimeColumn: "when", PeriodSeconds: int64(period.Seconds())}
	}
	of := func(name string) map[string]float64 {
		m, err := s.Parts.Store.Metric(t.Context(), name)
		dbtest.Must(t, err)
		series, err := s.Parts.Store.SeriesOf(t.Context(), m.ID)
		dbtest.Must(t, err)
		samples, err := s.Parts.Store.Samples(t.Context(), []int64{series[0].ID}, time.Time{}, now)
		dbtest.Must(t, err)
		grid, err := m.Grid()
		dbtest.Must(t, err)
		found := map[string]float64{}
		for _, v := range samples[series[0].ID] {
			if v.Value != 0 {
				found[time.Unix(v.At, 0).In(grid.Zone).Format("2006-01-02T15")] = v.Value
			}
		}
		return found
	}
	list := []httpapi.NewMetric{metric("weekly", timeline.Week), metric("monthly", timeline.Month)}
	for _, m := range list {
		m.Dataset, m.EverySeconds, m.LookbackSeconds = "select.order", 60, 40*86400
		dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/metrics", m, nil))
		var started httpapi.Started
		dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/backfills", httpapi.Backfill{Metrics: []string{m.Name}, SinceSeconds: 200 * 86400}, &started))
		dbtest.Must(t, s.Admin.Follow(t.Context(), started.TaskID, func(int, int) {}))
	}
	weeks, months := of("weekly"), of("monthly")
	if want := map[string]float64{"2026-02-23T00": 2, "2026-03-30T00": 2, "2026-06-08T00": 1}; fmt.Sprint(weeks) != fmt.Sprint(want) {
		t.Errorf("weeks %v, want %v (the present one is not over)", weeks, want)
	}
	if want := map[string]float64{"2026-02-01T00": 1, "2026-03-01T00": 2, "2026-04-01T00": 1}; fmt.Sprint(months) != fmt.Sprint(want) {
		t.Errorf("months %v, want %v", months, want)
	}

	s.Clock.Set(now.AddDate(0, 0, 20))
	load(t, conn, "north", 1, "2026-06-10T12:00:00-03:00", "2026-07-02T00:00:00Z") // late
	d, err := s.Parts.Store.Dataset(t.Context(), "select.order")
	dbtest.Must(t, err)
	dbtest.Must(t, s.Parts.Collector.Collect(t.Context(), d.ID))
	s.Settle(t)
	weeks, months = of("weekly"), of("monthly")
	if weeks["2026-06-08T00"] != 2 || weeks["2026-06-15T00"] != 1 || months["2026-06-01T00"] != 3 {
		t.Errorf("when they are over, and rows came late: weeks %v, months %v", weeks, months)
	}
	var health []struct {
		Dataset record.Dataset
		Rows24h *float64 `json:"rows_24h"`
	}
	dbtest.Must(t, s.Admin.Get(t.Context(), "/datasets", nil, &health))
	if health[0].Rows24h != nil {
		t.Errorf("rows of a week are shown as those of a day: %g", *health[0].Rows24h)
	}
}

// A closure of three hours leaves a month's figure what it is, one of a week does not.
func TestAMonthIsPlannedWhereATenthOfItIs(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 9, 5, 3, 0, 0, 0, time.UTC)
	s := dbtest.Start(t, now)
	rng := rand.New(rand.NewPCG(15, 3))
	months := func(name string, july, august float64) string {
		var b strings.Builder
		for at := time.Date(2022, 1, 1, 0, 0, 0, 0, time.UTC); at.Month() != 9 || at.Year() < 2026; at = at.AddDate(0, 1, 0) {
			v := 4000 * math.Exp(0.03*rng.NormFloat64()) * at.AddDate(0, 1, 0).Sub(at).Hours() / 720
			switch {
			case at.Year() == 2026 && at.Month() == 7:
				v *= july
			case at.Year() == 2026 && at.Month() == 8:
				v *= august
			}
			fmt.Fprintf(&b, `{"metric":%q,"at":%q,"value":%.0f}`+"\n", name, at.Format(time.RFC3339), v)
		}
		return b.String()
	}
	declared(t, s, collect.Declaration{Metric: "stock", Kind: timeline.Count, Period: "1mo"}, nil)
	_, err := importing(t, s, nil, ics(
		vevent("UID:week", "SUMMARY:Stocktaking", "DTSTAMP:20260601T000000Z", "DTSTART:20260706T000000Z", "DTEND:20260713T000000Z"),
		vevent("UID:night", "SUMMARY:Maintenance", "DTSTAMP:20260601T000000Z", "DTSTART:20260831T220000Z", "DTEND:20260901T010000Z")))
	dbtest.Must(t, err)
	pushed(t, s, months("stock", 0.6, 0.6))
	settings := seasonal()
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/monitors", httpapi.NewMonitor{Name: "stock", Metric: "stock", Settings: settings}, nil))
	s.Settle(t)
	var since []string
	for _, a := range alertsOf(t, s, "stock") {
		if a.Since.Year() == 2026 && a.Since.Month() >= 7 {
			since = append(since, a.Since.Format(time.DateOnly))
		}
	}
	if fmt.Sprint(since) != "[2026-08-01]" {
		t.Errorf("told of %v: July was closed for a week, August for three hours", since)
	}
}

// What needs days or parts of them is refused for longer periods, and says so.
func TestWhatNeedsDaysIsRefusedForLongerPeriods(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	for _, period := range []string{"2w", "2mo", "36h", "10d"} {
		err := s.Admin.Send(t.Context(), "POST", "/metrics/declare", collect.Declaration{Metric: "m" + period, Dataset: "ops.m",
			Measure: "rows", Kind: timeline.Count, Period: period}, nil)
		if err == nil || !strings.Contains(err.Error(), "1mo") {
			t.Errorf("a period of %s: %v", period, err)
		}
	}
	declared(t, s, collect.Declaration{Metric: "yearly", Kind: timeline.Count, Period: "1y"}, seasonal())
	change := seasonal()
	change.Method, change.Against = "change", "week"
	err := s.Admin.Send(t.Context(), "POST", "/monitors", httpapi.NewMonitor{Name: "against", Metric: "yearly", Settings: change}, nil)
	if err == nil || !strings.Contains(err.Error(), "previous") {
		t.Errorf("a year against the week before: %v", err)
	}
	if err := s.Admin.Get(t.Context(), "/consistency", url.Values{"metric": {"yearly"}}, nil); err == nil || !strings.Contains(err.Error(), "a day or less") {
		t.Errorf("a day of years: %v", err)
	}
}

// A monitor's false alarms are divided by its own time: one that was added lately cries wolf as
// often as it does, and one of months that goes back for years dilutes nobody's figures.
func TestAMonitorIsScoredOverItsOwnTime(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 9, 5, 3, 0, 0, 0, time.UTC)
	s := dbtest.Start(t, now)
	months := seasonal()
	declared(t, s, collect.Declaration{Metric: "months", Kind: timeline.Count, Period: "1mo"}, nil)
	var b strings.Builder
	rng := rand.New(rand.NewPCG(15, 4))
	for at := time.Date(2018, 1, 1, 0, 0, 0, 0, time.UTC); at.Before(now.AddDate(0, -1, -5)); at = at.AddDate(0, 1, 0) {
		v := 4000 * math.Exp(0.03*rng.NormFloat64())
		if at.Year() == 2022 && at.Month() == 5 {
			v /= 2
		}
		fmt.Fprintf(&b, `{"metric":"months","at":%q,"value":%.0f}`+"\n", at.Format(time.RFC3339), v)
	}
	began := now.AddDate(0, 0, -70).Truncate(time.Hour)
	pushed(t, s, b.String())
	for name, from := range map[string]time.Time{"old": began, "young": now.AddDate(0, 0, -42).Truncate(time.Hour)} {
		declared(t, s, collect.Declaration{Metric: name, Kind: timeline.Count, Period: "1h"}, nil)
		pushed(t, s, samples(name, "", from, now.Truncate(time.Hour), time.Hour, func(at time.Time) float64 {
			return math.Round(200 * math.Exp(0.05*rng.NormFloat64()))
		}))
	}
	for name, settings := range map[string]*record.Settings{"months": months, "old": seasonal(), "young": seasonal()} {
		dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/monitors", httpapi.NewMonitor{Name: name, Metric: name, Settings: settings}, nil))
	}
	s.Settle(t)
	if len(alertsOf(t, s, "months")) == 0 {
		t.Fatal("half of a month was lost and nobody was told")
	}
	var card scorecard.Scorecard
	dbtest.Must(t, s.Admin.Get(t.Context(), "/scorecard", nil, &card))
	if want := began.AddDate(0, 0, 35); card.From.Sub(want).Abs() > 24*time.Hour {
		t.Errorf("the stretch begins %s, want %s, when the first monitor of hours judged", card.From, want)
	}
	days := map[string]float64{"old": 35, "young": 7, "months": 35}
	for _, m := range card.Monitors {
		if m.Monitor == "months" && m.Alerts > 1 {
			t.Errorf("years ago counts: %+v", m)
		}
		// Of nothing told the time between is over days / -ln .025, as an exponential says.
		if m.Alerts == 0 && (m.Achieved.Shortest == nil || math.Abs(*m.Achieved.Shortest/86400/(days[m.Monitor]/3.689)-1) > 0.4) {
			t.Errorf("%s: %+v, want over %.0f days (%.1f)", m.Monitor, m.Achieved, days[m.Monitor], *m.Achieved.Shortest/86400)
		}
	}
}
