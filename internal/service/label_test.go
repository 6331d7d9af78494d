package service_test

import (
	"errors"
	"fmt"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/score"
	"tinbell/core/timeline"
	"tinbell/internal/client"
	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/scorecard"
	"tinbell/internal/store"
	"tinbell/internal/work"
)

// withAlerts starts a service that holds a monitor and n alerts, an hour apart.
func withAlerts(t *testing.T, n int) (*dbtest.Service, []int64) {
	t.Helper()
	s := dbtest.Start(t, now)
	declare(t, s, "queue", timeline.Count)
	_, err := push(t, s, "", ndjson, `{"metric":"queue","segment":"north","at":"2026-06-18T08:00:00Z","value":4}`)
	dbtest.Must(t, err)
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/monitors", httpapi.NewMonitor{Name: "queue", Metric: "queue"}, nil))
	s.Settle(t)
	m, err := s.Parts.Store.Monitor(t.Context(), "queue")
	dbtest.Must(t, err)
	series, err := s.Parts.Store.SeriesOf(t.Context(), m.MetricID)
	dbtest.Must(t, err)
	ids := make([]int64, n)
	dbtest.Must(t, s.Parts.Store.InTx(t.Context(), func(tx pgx.Tx) error {
		for i := range ids {
			at := now.Add(-time.Duration(n-i) * time.Hour)
			end := at.Add(30 * time.Minute)
			var err error
			ids[i], err = store.PutAlert(t.Context(), tx, record.Alert{MonitorID: m.ID, SeriesID: series[0].ID,
				Cause: "deviation", Direction: "low",
				Severity: "warning", Since: at.Add(-time.Hour), RaisedAt: at, EndedAt: &end, ClosedAt: &end,
				Sentence: fmt.Sprintf("alert %d", i)})
			if err != nil {
				return err
			}
		}
		return nil
	}))
	return s, ids
}

func TestLabelsAreKeptWithTheirHistory(t *testing.T) {
	t.Parallel()
	s, ids := withAlerts(t, 3)
	ctx := t.Context()
	give := func(l httpapi.NewLabel) error { return s.Admin.Send(ctx, "POST", "/labels", l, nil) }
	dbtest.Must(t, give(httpapi.NewLabel{Alerts: ids, Verdict: "noise", Note: "all three"}))
	dbtest.Must(t, give(httpapi.NewLabel{Alerts: ids[:1], Verdict: "fault", Cause: "hardware", Author: "Ines Vautrin",
		At: now.Add(-time.Hour)}))
	dbtest.Must(t, give(httpapi.NewLabel{Alerts: ids[1:2], Verdict: ""}))
	want := []score.Verdict{"fault", "", "noise"}
	for i, id := range ids {
		var d httpapi.AlertDetail
		dbtest.Must(t, s.Admin.Get(ctx, fmt.Sprintf("/alerts/%d", id), nil, &d))
		if d.Verdict != want[i] {
			t.Errorf("alert %d is %q, want %q", i, d.Verdict, want[i])
		}
		if i < 2 && (len(d.Labels) != 2 || d.Labels[1].Verdict != "noise" || d.Labels[1].Note != "all three") {
			t.Errorf("alert %d lost its first label: %+v", i, d.Labels)
		}
		if i == 0 && (d.Labels[0].Author != "Ines Vautrin" || d.Labels[0].Cause != "hardware" ||
			!d.Labels[0].At.Equal(now.Add(-time.Hour))) {
			t.Errorf("an imported label keeps its author and time: %+v", d.Labels[0])
		}
		if i == 2 && len(d.Alike) != 2 {
			t.Errorf("two alerts of the series came before: %+v", d.Alike)
		}
	}
	for what, l := range map[string]httpapi.NewLabel{
		"in the future": {Alerts: ids[:1], Verdict: "fault", At: now.Add(time.Hour)},
		"of nothing":    {Alerts: []int64{}, Verdict: "fault"},
		"half missing":  {Alerts: []int64{ids[2], 9999}, Verdict: "fault"},
	} {
		if give(l) == nil {
			t.Errorf("a label %s was taken", what)
		}
	}
	var d httpapi.AlertDetail
	dbtest.Must(t, s.Admin.Get(ctx, fmt.Sprintf("/alerts/%d", ids[2]), nil, &d))
	if d.Verdict != "noise" {
		t.Error("a label on alerts of which one is gone must change none")
	}
}

func TestOnlyAdministratorsLabelInAnothersName(t *testing.T) {
	t.Parallel()
	s, ids := withAlerts(t, 1)
	var out struct{ Token string }
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/tokens", map[string]string{"name": "Tobin", "role": "editor"}, &out))
	editor := client.New(s.Address, out.Token)
	if got := status(editor.Send(t.Context(), "POST", "/labels", httpapi.NewLabel{Alerts: ids, Verdict: "fault", Author: "Maud"},
		nil)); got != 403 {
		t.Errorf("in another's name: %d", got)
	}
	dbtest.Must(t, editor.Send(t.Context(), "POST", "/labels", httpapi.NewLabel{Alerts: ids, Verdict: "fault"}, nil))
	var d httpapi.AlertDetail
	dbtest.Must(t, s.Admin.Get(t.Context(), fmt.Sprintf("/alerts/%d", ids[0]), nil, &d))
	if d.Labels[0].Author != "Tobin" {
		t.Errorf("labelled by %q", d.Labels[0].Author)
	}
}

func TestAlertsArePagedAndFilteredOverHTTP(t *testing.T) {
	t.Parallel()
	s, ids := withAlerts(t, 23)
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/labels", httpapi.NewLabel{Alerts: ids[:4], Verdict: "planned"}, nil))
	seen, cursor := 0, int64(0)
	for page := 0; page == 0 || cursor != 0; page++ {
		var p httpapi.AlertPage
		dbtest.Must(t, s.Admin.Get(t.Context(), "/alerts", url.Values{"limit": {"10"}, "cursor": {fmt.Sprint(cursor)}}, &p))
		seen, cursor = seen+len(p.Alerts), p.NextCursor
		if page > 5 {
			t.Fatal("paging does not end")
		}
	}
	if seen != 23 {
		t.Errorf("%d of 23 alerts over all pages", seen)
	}
	for query, want := range map[string]int{"verdict=planned": 4, "verdict=none": 19, "state=open": 0, "state=closed": 23,
		"from=" + now.Add(-5*time.Hour).Format(time.RFC3339): 5} {
		q, err := url.ParseQuery(query)
		dbtest.Must(t, err)
		var p httpapi.AlertPage
		dbtest.Must(t, s.Admin.Get(t.Context(), "/alerts", q, &p))
		if len(p.Alerts) != want {
			t.Errorf("%s: %d alerts, want %d", query, len(p.Alerts), want)
		}
	}
	if got := status(s.Admin.Get(t.Context(), "/alerts", url.Values{"dataset": {"nothing"}}, nil)); got != 404 {
		t.Errorf("a dataset that is not there is no empty list: %d", got)
	}
	if got := status(s.Admin.Get(t.Context(), "/alerts", url.Values{"limit": {"0"}}, nil)); got != 422 {
		t.Errorf("a limit of 0: %d", got)
	}
	if got := status(s.Admin.Get(t.Context(), "/alerts", url.Values{"state": {"odd"}}, nil)); got != 422 {
		t.Errorf("an unknown state: %d", got)
	}
}

func TestWorkIsQueuedWithItsRecordsOrNotAtAll(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	refused := errors.New("refused")
	err := s.Parts.Store.InTx(t.Context(), func(tx pgx.Tx) error {
		if err := s.Parts.Queue.Put(t.Context(), tx, work.Evaluate{MetricID: 77}); err != nil {
			return err
		}
		return refused
	})
	if !errors.Is(err, refused) {
		t.Fatal(err)
	}
	var n int
	dbtest.Must(t, s.Parts.Store.DB.Get(&n, `select count(*) from river_job where args->>'metric_id' = '77'`))
	if n != 0 {
		t.Errorf("%d jobs outlived the transaction that queued them", n)
	}
}

func TestTwoWhoChangeAMonitorAtOnceAreBothTold(t *testing.T) {
	t.Parallel()
	s, _ := withAlerts(t, 1)
	settings := record.DefaultSettings()
	settings.Direction = "low"
	change := func() error {
		return s.Admin.Send(t.Context(), "PUT", "/monitors/queue", httpapi.ChangedMonitor{Version: 1, Settings: settings}, nil)
	}
	dbtest.Must(t, change())
	if err := change(); status(err) != 409 || !strings.Contains(err.Error(), "changed since version 1") {
		t.Errorf("the second change of version 1: %v", err)
	}
	settings.Direction = "sideways"
	if got := status(s.Admin.Send(t.Context(), "PUT", "/monitors/queue", httpapi.ChangedMonitor{Version: 2, Settings: settings},
		nil)); got != 422 {
		t.Errorf("a direction that is none: %d", got)
	}
}

func TestAnEmptyServiceAnswersPlainly(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	var card scorecard.Scorecard
	dbtest.Must(t, s.Admin.Get(t.Context(), "/scorecard", nil, &card))
	if card.Overall.Alerts != 0 || card.Overall.Precision.Estimate != nil || len(card.Monitors) != 0 || card.Missed == nil {
		t.Errorf("%+v", card)
	}
	for _, path := range []string{"/datasets", "/metrics", "/monitors", "/incidents", "/sources", "/planned-events"} {
		var list []any
		dbtest.Must(t, s.Admin.Get(t.Context(), path, nil, &list))
		if list == nil || len(list) != 0 {
			t.Errorf("%s of nothing is %v, want an empty list", path, list)
		}
	}
	for path, want := range map[string]int{"/alerts/1": 404, "/datasets/x": 404, "/tasks/5": 404,
		"/series/3/chart?from=2026-06-01T00:00:00Z&to=2026-06-02T00:00:00Z": 404, "/series/3/chart": 422} {
		if got := status(s.Admin.Get(t.Context(), path, nil, nil)); got != want {
			t.Errorf("%s: %d, want %d", path, got, want)
		}
	}
}
