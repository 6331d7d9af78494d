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
	"tinbell/internal/replays"
	"tinbell/internal/study"
)

// ports is ten weeks of four segments: at port a a long fault three weeks ago,
// at port b a gate that hiccups for two hours now and then, at c and d nothing.
func ports() string {
	rng := rand.New(rand.NewPCG(7, 7))
	var b strings.Builder
	for at := now.AddDate(0, 0, -70); at.Add(time.Hour).Compare(now) <= 0; at = at.Add(time.Hour) {
		hours := int(at.Sub(now.AddDate(0, 0, -70)).Hours())
		mu := 150 * (1.1 + math.Sin(2*math.Pi*float64(hours)/24))
		for _, port := range []string{"a", "b", "c", "d"} {
			m := mu
			if port == "a" && !at.Before(longFault) && at.Before(longFault.Add(14*time.Hour)) {
				m *= 0.25
			}
			if port == "b" && hours > 40*24 && hours%211 < 2 {
				m *= 5
			}
			fmt.Fprintf(&b, "{\"metric\":\"scans\",\"segment\":%q,\"at\":%q,\"value\":%.0f}\n", port, at.Format(time.RFC3339),
				math.Max(0, m+math.Sqrt(m)*rng.NormFloat64()))
		}
	}
	return b.String()
}

var longFault = now.AddDate(0, 0, -20)

// harbour starts a service with the ports' past and a monitor on it.
func harbour(t *testing.T) *dbtest.Service {
	t.Helper()
	s := dbtest.Start(t, now)
	declare(t, s, "scans", timeline.Count)
	_, err := push(t, s, "", ndjson, ports())
	dbtest.Must(t, err)
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/monitors", httpapi.NewMonitor{Name: "scans", Metric: "scans"}, nil))
	s.Settle(t)
	end := longFault.Add(14 * time.Hour)
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/incidents", httpapi.NewIncident{Dataset: "ops.dock_queue", Segment: "a",
		Title: "Gate a down", StartedAt: longFault, EndedAt: &end}, nil))
	return s
}

func rehearse(t *testing.T, s *dbtest.Service, change func(*record.Settings)) replays.Rehearsal {
	t.Helper()
	settings := record.DefaultSettings()
	change(&settings)
	var r replays.Rehearsal
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/monitors/scans/rehearsal", httpapi.RehearsalOrder{Settings: settings,
		SinceSeconds: 28 * 86400}, &r))
	return r
}

func TestARehearsalStandsBesideToday(t *testing.T) {
	t.Parallel()
	s := harbour(t)
	r := rehearse(t, s, func(*record.Settings) {})
	if len(r.Gone)+len(r.New) != 0 || r.Stays != len(r.Today.Alerts) || !strings.Contains(r.Sentence, "the same as today") {
		t.Fatalf("unchanged settings change something: %s, gone %+v, new %+v", r.Sentence, r.Gone, r.New)
	}
	if r.Today.Card.Recall.K != 1 || len(r.At) != 28*24 || len(r.Observed) != len(r.At) || len(r.Today.Low) != len(r.At) ||
		len(r.Proposed.Expected) != len(r.At) {
		t.Fatalf("today: %+v, %d periods", r.Today.Card, len(r.At))
	}
	falseToday := 0
	for _, a := range r.Today.Alerts {
		if a.Outcome == "false" {
			falseToday++
		}
	}
	if falseToday == 0 || r.Drawn.Segment == "c" {
		t.Fatalf("the hiccups at b ring today, and what rang is drawn: %d false, drawn %s", falseToday, r.Drawn.Segment)
	}

	r = rehearse(t, s, func(v *record.Settings) { v.Smooth = 5 })
	if len(r.Gone) != falseToday || len(r.Lost) != 0 || !strings.Contains(r.Sentence, fmt.Sprintf("sheds %d of %d false alarms",
		falseToday, falseToday)) {
		t.Errorf("a median of five rids the past of hiccups: %s, gone %+v", r.Sentence, r.Gone)
	}
	r = rehearse(t, s, func(v *record.Settings) { v.Direction = "high" })
	if len(r.Lost) != 1 || r.Proposed.Card.Recall.K != 0 || len(r.Proposed.Losses.Losses) != 0 {
		t.Errorf("looking up only misses the loss: %s", r.Sentence)
	}
	low := 40.0
	r = rehearse(t, s, func(v *record.Settings) { v.Method, v.Low = "fixed", &low })
	if *r.Proposed.Low[100] != 40 || r.Proposed.High[100] != nil {
		t.Errorf("fixed bounds draw themselves: %v to %v", *r.Proposed.Low[100], r.Proposed.High[100])
	}
	for _, method := range []string{"change", "rolling", "zscore", "modified", "fences", "siblings"} {
		r = rehearse(t, s, func(v *record.Settings) { v.Method = method })
		if known := r.Proposed.Expected[len(r.At)-1]; known == nil || math.IsNaN(*known) {
			t.Errorf("%s draws no band", method)
		}
	}
}

func TestARehearsalRunsWhatTheServiceWouldRun(t *testing.T) {
	t.Parallel()
	s := harbour(t)
	r := rehearse(t, s, func(v *record.Settings) { v.WarnSeconds = 20 * 86400 })
	settings := r.Proposed.Settings
	dbtest.Must(t, s.Admin.Send(t.Context(), "PUT", "/monitors/scans", httpapi.ChangedMonitor{Version: 1, Settings: settings}, nil))
	s.Settle(t)
	var b replays.Backtest
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/backtests", httpapi.BacktestOrder{Monitors: []string{"scans"},
		From: r.From, To: r.To}, &b))
	if len(b.Alerts) != len(r.Proposed.Alerts) {
		t.Fatalf("rehearsed %d alerts, in force %d", len(r.Proposed.Alerts), len(b.Alerts))
	}
	for i := range b.Alerts {
		if !b.Alerts[i].RaisedAt.Equal(r.Proposed.Alerts[i].RaisedAt) || b.Alerts[i].Segment != r.Proposed.Alerts[i].Segment {
			t.Errorf("alert %d: rehearsed %+v, in force %+v", i, r.Proposed.Alerts[i], b.Alerts[i])
		}
	}
	again := rehearse(t, s, func(v *record.Settings) { *v = settings })
	if len(again.Gone)+len(again.New) != 0 {
		t.Errorf("today's settings are remembered from before the change: %s", again.Sentence)
	}
}

func TestSettingsThatCannotBeFollowedAreRefusedWithTheReason(t *testing.T) {
	t.Parallel()
	s := harbour(t)
	one := 1.0
	for reason, change := range map[string]func(*record.Settings){
		"at least one of low and high": func(v *record.Settings) { v.Method = "fixed" },
		"low must lie under high":      func(v *record.Settings) { v.Method, v.Low, v.High = "fixed", &one, &one },
		"bounds of the method fixed":   func(v *record.Settings) { v.Low = &one },
		"3 to 20000":                   func(v *record.Settings) { v.Method, v.Window = "rolling", 2 },
		"m must be at least 1":         func(v *record.Settings) { v.Persist, v.Of = 3, 2 },
		"at least 1d":                  func(v *record.Settings) { v.WarnSeconds = 3600 },
		"0.5 to 0.9999":                func(v *record.Settings) { v.Coverage = 1.5 },
	} {
		settings := record.DefaultSettings()
		change(&settings)
		err := s.Admin.Send(t.Context(), "PUT", "/monitors/scans", httpapi.ChangedMonitor{Version: 1, Settings: settings}, nil)
		if status(err) != 422 || !strings.Contains(err.Error(), reason) {
			t.Errorf("want a refusal that says %q, got %v", reason, err)
		}
	}
	settings := record.DefaultSettings()
	dbtest.Must(t, s.Admin.Send(t.Context(), "PUT", "/monitors/scans", httpapi.ChangedMonitor{Version: 1, Settings: settings}, nil))
	if got := status(s.Admin.Send(t.Context(), "PUT", "/monitors/scans", httpapi.ChangedMonitor{Version: 1, Settings: settings},
		nil)); got != 409 {
		t.Errorf("a second person's change of the same version: %d", got)
	}
}

func TestBaselinesOfAnotherVersionAreFittedAgainByThemselves(t *testing.T) {
	t.Parallel()
	s := harbour(t)
	ctx := t.Context()
	// One that cannot be read, and two that another method left.
	_, err := s.Parts.Store.Pool.Exec(ctx,
		`update baseline set judged = '\x00'::bytea where series_id = (select min(series_id) from baseline)`)
	dbtest.Must(t, err)
	settings := record.DefaultSettings()
	settings.Method = "rolling"
	_, err = s.Parts.Store.Pool.Exec(ctx, `update monitor set settings = $1`, settings)
	dbtest.Must(t, err)
	var losses []study.Detectable
	dbtest.Must(t, s.Admin.Get(ctx, "/monitors/scans/losses", nil, &losses))
	// It says so, unless the look for what is outdated was quicker than the question.
	if said := losses[0].Sentence; said != "Being fitted again." && said != "Not judged by windows: a loss shows when it leaves the band." {
		t.Errorf("losses of an outdated baseline: %+v", losses[0])
	}
	s.Clock.Set(now.Add(time.Hour))
	_, err = push(t, s, "", ndjson, fmt.Sprintf(`{"metric":"scans","segment":"c","at":%q,"value":160}`, now.Format(time.RFC3339)))
	dbtest.Must(t, err)
	s.Settle(t)
	dbtest.Must(t, s.Admin.Get(ctx, "/monitors/scans/losses", nil, &losses))
	if losses[0].Sentence != "Not judged by windows: a loss shows when it leaves the band." {
		t.Errorf("after the refit: %+v", losses[0])
	}
}

func TestStudiesOfASeries(t *testing.T) {
	t.Parallel()
	s := harbour(t)
	ctx := t.Context()
	var series []record.Series
	dbtest.Must(t, s.Admin.Get(ctx, "/metrics/scans/series", nil, &series))
	if len(series) != 4 {
		t.Fatalf("series: %+v", series)
	}
	id := series[1].ID
	var suits study.SuitabilityStudy
	dbtest.Must(t, s.Admin.Get(ctx, fmt.Sprintf("/series/%d/suitability", id), nil, &suits))
	if suits.Fitness != "suits" || suits.Explained == nil || *suits.Explained < 0.5 || suits.Monitor != "scans" {
		t.Errorf("suitability: %+v", suits)
	}
	var bench study.SmoothingStudy
	dbtest.Must(t, s.Admin.Get(ctx, fmt.Sprintf("/series/%d/smoothing", id), nil, &bench))
	if len(bench.Windows) != 13 || bench.Windows[0].FalseBefore == 0 || !strings.Contains(bench.Sentence, "A moving m") {
		t.Errorf("smoothing: %s %+v", bench.Sentence, bench.Windows)
	}
	var trends study.TrendStudy
	dbtest.Must(t, s.Admin.Get(ctx, fmt.Sprintf("/series/%d/trends", id), url.Values{"draws": {"199"}}, &trends))
	if len(trends.Tests) != 6 || trends.Days < 60 || trends.SlopeLow > 0 || trends.SlopeHigh < 0 ||
		!strings.HasPrefix(trends.Sentence, "Neither trend nor change of level") || !strings.HasPrefix(trends.Caution,
		"It does not follow that nothing") {
		t.Errorf("trends: %s %s %+v", trends.Sentence, trends.Caution, trends.Tests)
	}
	var studies []study.OutlierStudy
	dbtest.Must(t, s.Admin.Get(ctx, "/metrics/scans/outliers",
		url.Values{"segment": {"a"}, "from": {longFault.AddDate(0, 0, -3).Format(time.RFC3339)},
			"to": {longFault.AddDate(0, 0, 20).Format(time.RFC3339)}}, &studies))
	if len(studies) != 1 || !studies[0].Seasonal || len(studies[0].Odd) == 0 || studies[0].Odd[0].At.Before(longFault) ||
		studies[0].Odd[0].At.After(longFault.Add(14*time.Hour)) {
		t.Errorf("what stands out: %+v", studies)
	}
	if err := s.Admin.Get(ctx, "/metrics/scans/outliers", url.Values{"segment": {"nowhere"}}, nil); status(err) != 404 {
		t.Errorf("a segment that is not there: %v", err)
	}
	var sheet study.Sheet
	dbtest.Must(t, s.Admin.Get(ctx, "/consistency", url.Values{"by": {"week"}, "day": {longFault.Format(time.DateOnly)},
		"back": {"4"}, "tolerance": {"0.05"}}, &sheet))
	if sheet.Outside == 0 || sheet.Series[0].Segment != "a" || sheet.Series[0].Verdict != "below" || sheet.Series[0].Spans != 4 ||
		!strings.Contains(sheet.Sentence, "scans at a farthest") {
		t.Errorf("the week of the fault: %s %+v", sheet.Sentence, sheet.Series)
	}
	dbtest.Must(t, s.Admin.Get(ctx, "/consistency",
		url.Values{"by": {"week"}, "day": {longFault.AddDate(0, 0, 14).Format(time.DateOnly)}, "back": {"4"}, "metric": {"scans"}}, &sheet))
	if sheet.Judged != 4 || sheet.Outside != 0 {
		t.Errorf("a sound week after it: %s %+v", sheet.Sentence, sheet.Series)
	}
	for q, code := range map[string]int{"metric=nothing": 404, "dataset=nothing": 404, "by=day": 422, "day=31": 422, "back=1": 422} {
		values, _ := url.ParseQuery(q)
		if err := s.Admin.Get(ctx, "/consistency", values, nil); status(err) != code {
			t.Errorf("%s: %v", q, err)
		}
	}
	var earlier study.EarlierStudy
	dbtest.Must(t, s.Admin.Get(ctx, fmt.Sprintf("/series/%d/earlier", id), nil, &earlier))
	if len(earlier.Against) != 4 || earlier.Against[0].Pairs != 7 || earlier.Against[0].Low == nil ||
		!strings.Contains(earlier.Sentence, "beside 1 week before") {
		t.Errorf("beside earlier weeks: %s %+v", earlier.Sentence, earlier.Against)
	}
	var outlook []study.Forecast
	dbtest.Must(t, s.Admin.Get(ctx, "/forecasts", url.Values{"metric": {"scans"}, "whole": {"true"}, "days": {"20"},
		"limit": {"16000"}, "probability": {"0.02"}}, &outlook))
	if len(outlook) != 1 || !outlook[0].Whole || len(outlook[0].Total) != 20 || outlook[0].TotalLow[19] >= outlook[0].Total[19] ||
		outlook[0].ReachesAt == nil {
		t.Errorf("all segments together: %+v", outlook)
	}
	dbtest.Must(t, s.Admin.Get(ctx, "/forecasts", url.Values{"metric": {"scans", "scans"}, "days": {"20"}}, &outlook))
	if len(outlook) != 8 {
		t.Errorf("two metrics of four segments have %d forecasts", len(outlook))
	}
	for q, code := range map[string]int{"metric=nothing": 404, "": 422, "metric=scans&segment=nowhere": 404,
		"metric=scans&days=1999": 422, "metric=scans&limit=much": 422} {
		values, _ := url.ParseQuery(q)
		if err := s.Admin.Get(ctx, "/forecasts", values, nil); status(err) != code {
			t.Errorf("%s: %v", q, err)
		}
	}
	var ahead study.Forecast
	dbtest.Must(t, s.Admin.Get(ctx, fmt.Sprintf("/series/%d/forecast", id), url.Values{"days": {"30"}, "limit": {"9000"}}, &ahead))
	if len(ahead.Expected) != 30 || ahead.Low[29] >= ahead.High[29] || len(ahead.Chance) != 30 ||
		!strings.Contains(ahead.Sentence, "no full year seen") {
		t.Errorf("forecast: %+v", ahead)
	}
	if daily := ahead.Expected[0]; daily < 3000 || daily > 5000 {
		t.Errorf("a day of 150 an hour is forecast as %g", daily)
	}
	if err := s.Admin.Get(ctx, fmt.Sprintf("/series/%d/forecast", id), url.Values{"days": {"500"}}, &ahead); status(err) != 422 ||
		!strings.Contains(err.Error(), "allow 1 to") {
		t.Errorf("500 days from 70: %v", err)
	}
	var losses []study.Detectable
	dbtest.Must(t, s.Admin.Get(ctx, "/monitors/scans/losses", nil, &losses))
	if len(losses) != 4 || len(losses[0].Losses) != 6 || losses[0].Sentence == "" {
		t.Errorf("losses: %+v", losses)
	}
	for _, path := range []string{"/series/999/suitability", "/series/999/character", "/monitors/nobody/losses"} {
		if got := status(s.Admin.Get(ctx, path, nil, nil)); got != 404 {
			t.Errorf("%s: %d", path, got)
		}
	}
}

func TestAPersonSaysWhatIsNormalNow(t *testing.T) {
	t.Parallel()
	s := harbour(t)
	ctx := t.Context()
	// From now on port c has half its scans.
	hour := func(h int) (string, string) {
		at := now.Add(time.Duration(h) * time.Hour)
		hours := 70*24 + h
		v := math.Round(75 * (1.1 + math.Sin(2*math.Pi*float64(hours)/24)))
		return at.Format(time.RFC3339), fmt.Sprint(v)
	}
	send := func(from, to int) {
		var b strings.Builder
		for h := from; h < to; h++ {
			at, v := hour(h)
			fmt.Fprintf(&b, "{\"metric\":\"scans\",\"segment\":\"c\",\"at\":%q,\"value\":%s}\n", at, v)
		}
		s.Clock.Set(now.Add(time.Duration(to) * time.Hour))
		_, err := push(t, s, "", ndjson, b.String())
		dbtest.Must(t, err)
		s.Settle(t)
	}
	open := func() []record.Alert {
		var page httpapi.AlertPage
		dbtest.Must(t, s.Admin.Get(ctx, "/alerts", url.Values{"state": {"open"}}, &page))
		var list []record.Alert
		for _, a := range page.Alerts {
			if a.Cause == "deviation" && a.Segment == "c" {
				list = append(list, a)
			}
		}
		return list
	}
	send(0, 30)
	told := open()
	if len(told) != 1 {
		t.Fatalf("half the scans: %+v", told)
	}
	var closed record.Alert
	dbtest.Must(t, s.Admin.Send(ctx, "POST", fmt.Sprintf("/alerts/%d/new-normal", told[0].ID), nil, &closed))
	if closed.CloseReason != "level_adopted" || closed.ClosedAt == nil {
		t.Errorf("the alert: %+v", closed)
	}
	s.Settle(t)
	send(30, 60)
	if still := open(); len(still) != 0 {
		t.Errorf("the new level rings again: %+v", still)
	}
	var chart chart.Chart
	dbtest.Must(t, s.Admin.Get(ctx, fmt.Sprintf("/series/%d/chart", told[0].SeriesID),
		url.Values{"from": {now.Add(40 * time.Hour).Format(time.RFC3339)}, "to": {now.Add(58 * time.Hour).Format(time.RFC3339)}}, &chart))
	for i := range chart.At {
		if chart.Expected[i] != nil && chart.Observed[i] != nil && *chart.Observed[i] > 20 &&
			math.Abs(*chart.Expected[i] / *chart.Observed[i] - 1) > 0.4 {
			t.Errorf("%s: %g expected, %g came", chart.At[i], *chart.Expected[i], *chart.Observed[i])
		}
	}
	if got := status(s.Admin.Send(ctx, "POST", "/alerts/99999/new-normal", nil, nil)); got != 404 {
		t.Errorf("an alert that is gone: %d", got)
	}
}

// What a series is like is said by its own clocks, and known faults are no part of it.
func TestWhatASeriesIsLikeIsSaid(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	declared(t, s, collect.Declaration{Metric: "counter", Kind: timeline.Count, Period: "1h", Zone: "America/Halifax"}, nil)
	halifax, err := time.LoadLocation("America/Halifax")
	dbtest.Must(t, err)
	from, fault := now.AddDate(0, 0, -56), now.AddDate(0, 0, -20)
	pushed(t, s, samples("counter", "", from, now, time.Hour, func(at time.Time) float64 {
		local := at.In(halifax)
		if local.Hour() < 9 || local.Hour() >= 17 || local.Weekday() == time.Sunday || !at.Before(fault) && at.Before(fault.AddDate(0, 0, 3)) {
			return 0
		}
		return float64(40 + at.Unix()/3600%7)
	}))
	s.Settle(t)
	var series []record.Series
	dbtest.Must(t, s.Admin.Get(t.Context(), "/metrics/counter/series", nil, &series))
	like := func() (c study.CharacterStudy) {
		dbtest.Must(t, s.Admin.Get(t.Context(), fmt.Sprintf("/series/%d/character", series[0].ID), nil, &c))
		return c
	}
	if c := like(); c.Metric != "counter" || c.Open == nil || c.Open.From != 9 || c.Open.To != 17 || c.Open.Skipped < 2 {
		t.Errorf("%+v", c)
	}
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/incidents", httpapi.NewIncident{Dataset: "ops.counter", Title: "till down",
		StartedAt: fault.Add(-12 * time.Hour), EndedAt: new(fault.AddDate(0, 0, 4))}, nil))
	if c := like(); c.Open == nil || c.Open.Skipped != 0 || !strings.Contains(strings.Join(c.Sentences, " "), "Open from 9 to 17, closed on Sundays.") {
		t.Errorf("a known fault: %+v", c)
	}
}
