package service_test

import (
	"bytes"
	"fmt"
	"math"
	"math/rand/v2"
	"net/url"
	"reflect"
	"strings"
	"testing"
	"time"

	"tinbell/core/score"
	"tinbell/core/timeline"
	"tinbell/internal/dbtest"
	"tinbell/internal/flat"
	"tinbell/internal/httpapi"
	"tinbell/internal/lessons"
	"tinbell/internal/record"
	"tinbell/internal/replays"
	"tinbell/internal/scorecard"
)

func TestTheSecondOfTwoWhoAnswerIsToldAndADisagreementShows(t *testing.T) {
	t.Parallel()
	s, ids := withAlerts(t, 2)
	ctx := t.Context()
	seen := map[string]int64{fmt.Sprint(ids[0]): 0}
	first := httpapi.NewLabel{Alerts: ids[:1], Verdict: "fault", Author: "Ines", Seen: seen}
	dbtest.Must(t, s.Admin.Send(ctx, "POST", "/labels", first, nil))
	second := httpapi.NewLabel{Alerts: ids, Verdict: "noise", Author: "Maud", Seen: seen}
	if err := s.Admin.Send(ctx, "POST", "/labels", second, nil); status(err) != 409 || !strings.Contains(err.Error(),
		"Ines called it fault") {
		t.Errorf("the second is told: %v", err)
	}
	var d httpapi.AlertDetail
	detail := func(id int64) httpapi.AlertDetail {
		d = httpapi.AlertDetail{}
		dbtest.Must(t, s.Admin.Get(ctx, fmt.Sprintf("/alerts/%d", id), nil, &d))
		return d
	}
	if detail(ids[1]).Verdict != "" {
		t.Error("a refused answer must change none of its alerts")
	}
	second.Seen[fmt.Sprint(ids[0])] = detail(ids[0]).LabelID
	dbtest.Must(t, s.Admin.Send(ctx, "POST", "/labels", second, nil))
	if d := detail(ids[0]); d.Verdict != "noise" || !d.Disputed {
		t.Errorf("two people, two verdicts: %+v", d.Alert)
	}
	var page httpapi.AlertPage
	dbtest.Must(t, s.Admin.Get(ctx, "/alerts", url.Values{"disputed": {"true"}}, &page))
	if len(page.Alerts) != 1 {
		t.Errorf("%d alerts are disputed", len(page.Alerts))
	}
	dbtest.Must(t, s.Admin.Send(ctx, "POST", "/labels", httpapi.NewLabel{Alerts: ids[:1], Verdict: "noise", Author: "Ines"}, nil))
	if detail(ids[0]).Disputed {
		t.Error("they agree now")
	}
}

func TestLabelsGoOutAndComeBackOnce(t *testing.T) {
	t.Parallel()
	s, ids := withAlerts(t, 3)
	ctx := t.Context()
	dbtest.Must(t, s.Admin.Send(ctx, "POST", "/labels", httpapi.NewLabel{Alerts: ids[:2], Verdict: "noise", Note: "rain, \"again\""}, nil))
	var out bytes.Buffer
	dbtest.Must(t, s.Admin.Fetch(ctx, "/labels/export", &out))
	if n := strings.Count(out.String(), "\n"); n != 3 {
		t.Fatalf("exported:\n%s", out.String())
	}
	load := func(text string) (r flat.Import) {
		dbtest.Must(t, s.Admin.Stream(ctx, "POST", "/labels/import", "text/csv", strings.NewReader(text), &r))
		return r
	}
	if r := load(out.String()); r.Added != 0 || r.Replaced != 2 || r.Refused != 0 {
		t.Errorf("imported again: %+v", r)
	}
	raised := now.Add(-time.Hour).Format(time.RFC3339)
	r := load("monitor,segment,raised_at,verdict,author,at\nqueue,north," + raised +
		",fault,Maud,2026-06-18T11:30:00Z\nqueue,north," + raised + ",noise,Tobin,2026-06-18T11:40:00Z\n" +
		"queue,south," + raised + ",fault,Maud,\nqueue,north,yesterday,fault,Maud,\nqueue,north," + raised +
		",wrong,Maud,\nqueue,north," + raised + ",fault,Maud,2036-01-01T00:00:00Z\n")
	if r.Added != 2 || r.Refused != 4 || len(r.Problems) != 4 || r.Problems[0].Line != 4 ||
		!strings.Contains(r.Problems[3].Reason, "not in the future") {
		t.Errorf("imported: %+v", r)
	}
	var d httpapi.AlertDetail
	dbtest.Must(t, s.Admin.Get(ctx, fmt.Sprintf("/alerts/%d", ids[2]), nil, &d))
	if d.Verdict != "noise" || !d.Disputed || len(d.Labels) != 2 {
		t.Errorf("contradicting lines are both kept, the last in force: %+v", d)
	}
}

func TestIncidentsAreMadeOfAlertsMergedSplitAndExported(t *testing.T) {
	t.Parallel()
	s, ids := withAlerts(t, 3)
	ctx := t.Context()
	send := func(method, path string, in, out any) error { return s.Admin.Send(ctx, method, path, in, out) }
	var one, two record.Incident
	dbtest.Must(t, send("POST", "/incidents/of-alerts", httpapi.IncidentOfAlerts{Alerts: ids[:2], Title: "Gate down",
		Impact: "queues"}, &one))
	if !one.StartedAt.Equal(now.Add(-4*time.Hour)) || one.EndedAt == nil || !one.EndedAt.Equal(now.Add(-90*time.Minute)) ||
		one.Segment != "north" || one.Impact != "queues" {
		t.Errorf("of alerts: %+v", one)
	}
	var page httpapi.AlertPage
	dbtest.Must(t, s.Admin.Get(ctx, "/alerts", url.Values{"verdict": {"fault"}}, &page))
	if len(page.Alerts) != 2 {
		t.Errorf("%d alerts became faults", len(page.Alerts))
	}
	dbtest.Must(t, send("POST", "/incidents/of-alerts", httpapi.IncidentOfAlerts{Alerts: ids[2:]}, &two))
	if two.Title != "alert 2" {
		t.Errorf("its title is the alert's sentence: %q", two.Title)
	}
	if err := send("POST", "/incidents/"+one.Reference+"/merge", map[string][]string{"others": {one.Reference}},
		nil); status(err) != 422 && status(err) != 400 {
		t.Errorf("merged with itself: %v", err)
	}
	dbtest.Must(t, send("POST", "/incidents/"+one.Reference+"/merge", map[string][]string{"others": {two.Reference}}, &one))
	if !one.EndedAt.Equal(now.Add(-30*time.Minute)) || !strings.Contains(one.Note, two.Reference) {
		t.Errorf("merged: %+v", one)
	}
	if err := send("POST", "/incidents/"+one.Reference+"/split", map[string]time.Time{"at": now}, nil); err == nil {
		t.Error("split where it is over")
	}
	var parts []record.Incident
	dbtest.Must(t, send("POST", "/incidents/"+one.Reference+"/split", map[string]time.Time{"at": now.Add(-2 * time.Hour)}, &parts))
	if len(parts) != 2 || !parts[0].EndedAt.Equal(parts[1].StartedAt) || !parts[1].EndedAt.Equal(now.Add(-30*time.Minute)) {
		t.Errorf("split: %+v", parts)
	}
	v := httpapi.NewIncident{Dataset: one.Dataset, Title: "Gate 3 down", StartedAt: one.StartedAt, Downstream: true}
	dbtest.Must(t, send("PUT", "/incidents/"+one.Reference, v, &one))
	if one.Title != "Gate 3 down" || !one.Downstream || one.EndedAt != nil {
		t.Errorf("changed: %+v", one)
	}
	var out bytes.Buffer
	dbtest.Must(t, s.Admin.Fetch(ctx, "/incidents/export", &out))
	var r flat.Import
	dbtest.Must(t, s.Admin.Stream(ctx, "POST", "/incidents/import", "text/csv", &out, &r))
	if r.Added != 0 || r.Replaced != 2 || r.Refused != 0 {
		t.Errorf("the export comes back: %+v", r)
	}
	r = flat.Import{}
	text := "reference,dataset,title,started_at,ended_at,measure,segment\nX-1," + one.Dataset +
		",the same again,2026-06-18T08:30:00Z,2026-06-18T09:00:00Z,,\nX-2," + one.Dataset +
		",backwards,2026-06-18T10:30:00-03:00,2026-06-18T13:00:00Z,,\n"
	dbtest.Must(t, s.Admin.Stream(ctx, "POST", "/incidents/import", "text/csv", strings.NewReader(text), &r))
	if r.Added != 1 || r.Refused != 1 || len(r.Notes) != 1 || !strings.Contains(r.Notes[0].Reason, "overlaps "+one.Reference) ||
		!strings.Contains(r.Problems[0].Reason, "after started_at") {
		t.Errorf("one that overlaps and one that ends before it begins: %+v", r)
	}
}

func TestAFaultSeenOnAChartIsAMissedIncident(t *testing.T) {
	t.Parallel()
	s, _ := withAlerts(t, 1)
	ctx := t.Context()
	m, err := s.Parts.Store.Metric(ctx, "queue")
	dbtest.Must(t, err)
	series, err := s.Parts.Store.SeriesOf(ctx, m.ID)
	dbtest.Must(t, err)
	give := httpapi.NewStretch{SeriesID: series[0].ID, From: now.Add(-40 * time.Hour), To: now.Add(-36 * time.Hour),
		Verdict: "fault", Note: "gate 3 sent nothing"}
	var v record.Stretch
	dbtest.Must(t, s.Admin.Send(ctx, "POST", "/stretches", give, &v))
	incident, err := s.Parts.Store.Incident(ctx, v.Incident)
	dbtest.Must(t, err)
	if incident.Title != give.Note || incident.Segment != "north" || !incident.StartedAt.Equal(give.From) {
		t.Errorf("it became %+v", incident)
	}
	var card scorecard.Scorecard
	dbtest.Must(t, s.Admin.Get(ctx, "/scorecard", url.Values{"from": {now.AddDate(0, 0, -3).Format(time.RFC3339)}}, &card))
	if len(card.Missed) != 1 {
		t.Errorf("missed: %v", card.Missed)
	}
	give.To = give.From
	if err := s.Admin.Send(ctx, "POST", "/stretches", give, nil); err == nil || !strings.Contains(err.Error(), "after from") {
		t.Errorf("an empty stretch: %v", err)
	}
	dbtest.Must(t, s.Admin.Send(ctx, "DELETE", fmt.Sprintf("/stretches/%d", v.ID), nil, nil))
	if _, err := s.Parts.Store.Incident(ctx, v.Incident); err == nil {
		t.Error("taken back, the incident stays")
	}
}

// wolves starts a service with two monitors that are set far too loose, and
// labels what their past told: three stalls are faults, all else is noise.
func wolves(t *testing.T) *dbtest.Service {
	t.Helper()
	s := dbtest.Start(t, now)
	rng := rand.New(rand.NewPCG(6, 1))
	stalls := []time.Time{now.AddDate(0, 0, -60).Add(-4 * time.Hour), now.AddDate(0, 0, -40).Add(-4 * time.Hour),
		now.AddDate(0, 0, -20).Add(-4 * time.Hour), now.AddDate(0, 0, -9).Add(-4 * time.Hour)}
	var b strings.Builder
	for _, name := range []string{"scans", "sales"} {
		declare(t, s, name, timeline.Count)
		for at := now.AddDate(0, 0, -105); at.Add(time.Hour).Compare(now) <= 0; at = at.Add(time.Hour) {
			for _, segment := range []string{"a", "b", "c"} {
				mu := 120 * (1.2 + math.Sin(2*math.Pi*float64(at.Hour())/24))
				for _, stall := range stalls {
					if segment == "a" && !at.Before(stall) && at.Before(stall.Add(9*time.Hour)) {
						mu *= 0.15
					}
				}
				fmt.Fprintf(&b, "{\"metric\":%q,\"segment\":%q,\"at\":%q,\"value\":%.0f}\n", name, segment,
					at.Format(time.RFC3339), math.Max(0, mu+math.Sqrt(mu)*3.5*rng.NormFloat64()))
			}
		}
	}
	_, err := push(t, s, "", ndjson, b.String())
	dbtest.Must(t, err)
	for _, name := range []string{"scans", "sales"} {
		loose := record.DefaultSettings()
		loose.WarnSeconds, loose.CriticalSeconds = 2*86400, 365*86400
		dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/monitors", httpapi.NewMonitor{Name: name, Metric: name, Settings: &loose}, nil))
	}
	s.Settle(t)
	var page httpapi.AlertPage
	dbtest.Must(t, s.Admin.Get(t.Context(), "/alerts", url.Values{"limit": {"1000"}}, &page))
	verdicts := map[string][]int64{}
	for _, a := range page.Alerts {
		verdict := "noise"
		for _, stall := range stalls {
			if a.Segment == "a" && a.Since.Before(stall.Add(9*time.Hour)) && (a.EndedAt == nil || a.EndedAt.After(stall)) {
				verdict = "fault"
			}
		}
		verdicts[verdict] = append(verdicts[verdict], a.ID)
	}
	if len(verdicts["noise"]) < 10 || len(verdicts["fault"]) < 6 {
		t.Fatalf("told %d noise and %d faults", len(verdicts["noise"]), len(verdicts["fault"]))
	}
	for verdict, ids := range verdicts {
		dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/labels", httpapi.NewLabel{Alerts: ids, Verdict: score.Verdict(verdict)}, nil))
	}
	s.Settle(t)
	return s
}

func tune(t *testing.T, s *dbtest.Service, monitors ...string) replays.Tuning {
	t.Helper()
	var started httpapi.Started
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/tunings", httpapi.TuneOrder{Monitors: monitors}, &started))
	dbtest.Must(t, s.Admin.Follow(t.Context(), started.TaskID, func(int, int) {}))
	var of httpapi.TuningOf
	dbtest.Must(t, s.Admin.Get(t.Context(), fmt.Sprintf("/tunings/%d", started.TaskID), nil, &of))
	return *of.Tuning
}

func TestTuningProposesAndAPersonDecides(t *testing.T) {
	t.Parallel()
	s := wolves(t)
	ctx := t.Context()
	var before record.Monitor
	dbtest.Must(t, s.Admin.Get(ctx, "/monitors/scans", nil, &before))
	found := tune(t, s)
	t.Log(found.Sentence)
	if len(found.Proposals) == 0 {
		t.Fatalf("nothing is proposed: %+v", found.Passed)
	}
	var open []record.Proposal
	dbtest.Must(t, s.Admin.Get(ctx, "/proposals", nil, &open))
	for _, p := range open {
		g := p.Gain
		t.Logf("%s: %v spares %.1f, loses %.2f; held out: %d of %d noise, %d of %d faults", p.Monitor, g.Changes, g.Spared,
			g.Lost, g.NoiseSpared, g.Noise, g.FaultsLost, g.Faults)
		if g.Spared < 1 || g.FaultsLost > 0 || g.Noise == 0 || g.Faults == 0 || g.After >= g.Before {
			t.Errorf("%s: %+v", p.Monitor, g)
		}
	}
	var after record.Monitor
	dbtest.Must(t, s.Admin.Get(ctx, "/monitors/"+open[0].Monitor, nil, &after))
	if after.Version != 1 {
		t.Error("a proposal alone changes nothing")
	}
	decide := func(id int64, accept bool) error {
		return s.Admin.Send(ctx, "POST", fmt.Sprintf("/proposals/%d", id), httpapi.Decision{Accept: accept}, nil)
	}
	dbtest.Must(t, decide(open[0].ID, true))
	dbtest.Must(t, s.Admin.Get(ctx, "/monitors/"+open[0].Monitor, nil, &after))
	if after.Version != 2 || !reflect.DeepEqual(after.Settings, open[0].Settings) {
		t.Errorf("accepted: version %d, %+v", after.Version, after.Settings)
	}
	if err := decide(open[0].ID, false); status(err) != 409 {
		t.Errorf("decided twice: %v", err)
	}
	dbtest.Must(t, s.Admin.Send(ctx, "POST", "/monitors/"+open[0].Monitor+"/take-back", map[string]int{"version": 1}, &after))
	if after.Version != 3 || after.Settings.WarnSeconds != before.Settings.WarnSeconds {
		t.Errorf("taken back: %+v", after)
	}
	var versions []record.MonitorVersion
	dbtest.Must(t, s.Admin.Get(ctx, "/monitors/"+open[0].Monitor+"/versions", nil, &versions))
	if len(versions) != 3 || !strings.Contains(versions[1].Reason, "tuned") || versions[0].Reason != "back to version 1" ||
		versions[1].Author == "" {
		t.Errorf("versions: %+v", versions)
	}
	// Whoever changes a monitor meanwhile makes a proposal void.
	again := tune(t, s, open[0].Monitor)
	if len(again.Proposals) == 1 {
		dbtest.Must(t, s.Admin.Get(ctx, "/proposals", nil, &open))
		changed := after.Settings
		changed.MinEffect = 3
		dbtest.Must(t, s.Admin.Send(ctx, "PUT", "/monitors/"+after.Name, httpapi.ChangedMonitor{Version: 3, Settings: changed}, nil))
		if err := decide(open[len(open)-1].ID, true); status(err) != 409 && len(open) == 1 {
			t.Errorf("accepted over a newer version: %v", err)
		}
	}
}

func TestTuningSaysHowManyLabelsItLacks(t *testing.T) {
	t.Parallel()
	s, ids := withAlerts(t, 4)
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/labels", httpapi.NewLabel{Alerts: ids[:2], Verdict: "noise"}, nil))
	if found := tune(t, s); len(found.Proposals) != 0 ||
		found.Sentence != "Too few labels to tune: 2 answers, of them 0 faults and 2 noise; it takes 8 more answers, 3 more faults and 1 more noise." {
		t.Errorf("%+v", found)
	}
	if err := s.Admin.Send(t.Context(), "POST", "/tunings", httpapi.TuneOrder{Monitors: []string{"nobody"}}, nil); status(err) != 404 {
		t.Errorf("a monitor that is not there: %v", err)
	}
}

func TestTheFilterRunsInShadowHoldsBackAndLetsGo(t *testing.T) {
	t.Parallel()
	s := wolves(t)
	ctx := t.Context()
	set := func(state string) {
		limit := 0.2
		dbtest.Must(t, s.Admin.Send(ctx, "PATCH", "/filter", httpapi.LearningChange{State: (*record.FilterState)(&state), Limit: &limit}, nil))
		s.Settle(t)
		await(t, func() bool {
			how, err := s.Parts.Store.Learning(ctx)
			waiting := 0
			dbtest.Must(t, s.Parts.Store.DB.Get(&waiting, `select count(*) from river_job where kind = 'relearn' and finalized_at is null`))
			return err == nil && how.Model != nil && how.Model.Limit == limit && waiting == 0
		}, "the filter is learned under its new limit")
	}
	set("shadow")
	var report lessons.FilterReport
	dbtest.Must(t, s.Admin.Get(ctx, "/filter", nil, &report))
	t.Logf("cut %.2f, orders %.2f rightly, checked %+v", report.Cut, report.Right, report.Checked)
	if report.State != "shadow" || report.Faults < 6 || report.Right < 0.8 || report.Checked.From == nil || report.Checked.Noise == 0 {
		t.Errorf("%+v", report)
	}
	if report.Checked.NoiseHeld*report.Checked.Faults < report.Checked.FaultsLost*report.Checked.Noise {
		t.Errorf("it holds back more faults than noise: %+v", report.Checked)
	}
	// From here on it doubts everything, so that any alert shows what becomes of it.
	doubt := func() {
		t.Helper()
		_, err := s.Parts.Store.DB.Exec(`update learning set model = jsonb_set(model, '{Cut}', '0.99999999')`)
		dbtest.Must(t, err)
	}
	doubt()
	const segment = "c"
	lorries := func(at time.Time, share float64) {
		t.Helper()
		var lines strings.Builder
		for _, one := range []string{"a", "b", "c"} {
			mu := 120 * (1.2 + math.Sin(2*math.Pi*float64(at.Hour())/24))
			if one == segment {
				mu *= share
			}
			fmt.Fprintf(&lines, "{\"metric\":\"sales\",\"segment\":%q,\"at\":%q,\"value\":%.0f}\n", one, at.Format(time.RFC3339), mu)
		}
		s.Clock.Set(at.Add(2 * time.Hour))
		_, err := push(t, s, "", ndjson, lines.String())
		dbtest.Must(t, err)
		s.Settle(t)
	}
	opened := func() (a record.Alert) {
		var page httpapi.AlertPage
		dbtest.Must(t, s.Admin.Get(ctx, "/alerts", url.Values{"held": {"all"}, "state": {"open"}, "monitor": {"sales"},
			"segment": {segment}, "from": {now.Format(time.RFC3339)}}, &page))
		if len(page.Alerts) > 0 {
			a = page.Alerts[0]
		}
		return a
	}
	var a record.Alert
	at := now
	for share := 0.95; a.ID == 0 && share > 0; share -= 0.05 {
		lorries(at, share)
		a, at = opened(), at.Add(time.Hour)
	}
	if a.Chance == nil || a.Held != "shadow" {
		t.Fatalf("in shadow: %+v", a)
	}
	told := func(held string) int {
		var page httpapi.AlertPage
		dbtest.Must(t, s.Admin.Get(ctx, "/alerts", url.Values{"held": {held}, "state": {"open"}, "monitor": {"sales"},
			"segment": {segment}, "from": {now.Format(time.RFC3339)}}, &page))
		return len(page.Alerts)
	}
	if told("told") != 1 || told("shadow") != 1 {
		t.Error("in shadow an alert is told all the same")
	}
	set("active")
	// As if it had just been raised, and were not yet decided on.
	_, err := s.Parts.Store.DB.Exec(`update alert set held = '', chance = null where id = $1`, a.ID)
	dbtest.Must(t, err)
	doubt()
	lorries(at, 0.3)
	if told("told") != 0 || told("held") != 1 {
		t.Errorf("active: %d told, %d held back", told("told"), told("held"))
	}
	var why lessons.Held
	dbtest.Must(t, s.Admin.Get(ctx, fmt.Sprintf("/alerts/%d/held", a.ID), nil, &why))
	if len(why.Reasons) == 0 || len(why.Nearest) == 0 || why.Nearest[0].Verdict == "" || why.Chance > why.Cut {
		t.Errorf("why: %+v", why)
	}
	set("off")
	if told("told") != 1 || told("held") != 0 {
		t.Error("switched off, it lets go what it held")
	}
}

func TestATrialRunsInTheBackgroundAndCanBeCancelled(t *testing.T) {
	t.Parallel()
	s := harbour(t)
	ctx := t.Context()
	strict := record.DefaultSettings()
	strict.WarnSeconds, strict.CriticalSeconds = 50*365*86400, 100*365*86400
	order := httpapi.BacktestOrder{Monitors: []string{"scans"}, From: now.AddDate(0, 0, -28), Tried: record.Tried{Settings: &strict}}
	var started httpapi.Started
	dbtest.Must(t, s.Admin.Send(ctx, "POST", "/trials", order, &started))
	dbtest.Must(t, s.Admin.Follow(ctx, started.TaskID, func(int, int) {}))
	var of httpapi.TrialOf
	dbtest.Must(t, s.Admin.Get(ctx, fmt.Sprintf("/trials/%d", started.TaskID), nil, &of))
	v := of.Trial
	if v == nil || len(v.Today.Alerts) == 0 || v.Stays+len(v.Gone) != len(v.Today.Alerts) ||
		v.Paired.FalseLow > v.Paired.FalseHigh || v.Paired.Recall == nil {
		t.Fatalf("trial: %+v", v)
	}
	if v.Paired.False > 0 || len(v.Proposed.Alerts) > len(v.Today.Alerts) {
		t.Errorf("stricter settings tell more: %+v", v.Paired)
	}
	// A trial whose task is cancelled before it begins comes to nothing.
	dbtest.Must(t, s.Admin.Send(ctx, "POST", "/trials", order, &started))
	if err := s.Admin.Send(ctx, "POST", fmt.Sprintf("/tasks/%d/cancel", started.TaskID), nil, nil); err == nil {
		s.Settle(t)
		of = httpapi.TrialOf{}
		dbtest.Must(t, s.Admin.Get(ctx, fmt.Sprintf("/trials/%d", started.TaskID), nil, &of))
		if of.Task.State != "cancelled" || of.Trial != nil {
			t.Errorf("cancelled: %+v", of.Task)
		}
	}
	if err := s.Admin.Send(ctx, "POST", "/trials", httpapi.BacktestOrder{From: now.AddDate(0, 0, -28)}, nil); err == nil ||
		!strings.Contains(err.Error(), "the settings to try") {
		t.Errorf("a trial of nothing: %v", err)
	}
}

func TestTheScorecardIsBrokenDownAndSpreadsAlongLineage(t *testing.T) {
	t.Parallel()
	s := wolves(t)
	ctx := t.Context()
	score := func(by string) (card scorecard.Scorecard) {
		dbtest.Must(t, s.Admin.Get(ctx, "/scorecard", url.Values{"by": {by}, "from": {now.AddDate(0, 0, -80).Format(time.RFC3339)}}, &card))
		return card
	}
	for by, atLeast := range map[string]int{"segment": 3, "dataset": 1, "month": 3, "owner": 1, "measure": 1} {
		card := score(by)
		alerts := 0
		for _, g := range card.Groups {
			alerts += g.Alerts
		}
		if len(card.Groups) < atLeast || alerts != card.Overall.Alerts {
			t.Errorf("by %s: %d groups with %d of %d alerts", by, len(card.Groups), alerts, card.Overall.Alerts)
		}
	}
	if months := score("month").Groups; months[0].Name > months[len(months)-1].Name {
		t.Error("months stand in order")
	}
	// An incident upstream that spreads explains alerts downstream.
	event := `{"eventTime":"2026-06-01T00:00:00Z","eventType":"COMPLETE","producer":"https://vellamar.example/loader","schemaURL":"https://openlineage.io/spec/2-0-2/OpenLineage.json","run":{"runId":"3f5e83fa-3480-44ff-99c5-ff943904e5e8"},"job":{"namespace":"n","name":"j"},"inputs":[{"namespace":"n","name":"raw.up"}],"outputs":[{"namespace":"n","name":"ops.dock_queue"}]}`
	_, err := s.Parts.Store.DB.Exec(`insert into dataset (source_id, namespace, name) select source_id, 'n', 'raw.up' from dataset limit 1`)
	dbtest.Must(t, err)
	dbtest.Must(t, s.Admin.Send(ctx, "POST", "/lineage", rawJSON(event), nil))
	before := score("").Overall.Recall
	end := now.AddDate(0, 0, -20).Add(5 * time.Hour)
	dbtest.Must(t, s.Admin.Send(ctx, "POST", "/incidents", httpapi.NewIncident{Dataset: "raw.up", Title: "upstream stalled",
		StartedAt: now.AddDate(0, 0, -20).Add(-4 * time.Hour), EndedAt: &end, Downstream: true}, nil))
	if after := score("").Overall.Recall; after.N != before.N+1 || after.K != before.K+1 {
		t.Errorf("recall before %+v, after %+v", before, after)
	}
}

type rawJSON string

func (r rawJSON) MarshalJSON() ([]byte, error) { return []byte(r), nil }
