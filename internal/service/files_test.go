package service_test

import (
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
)

func TestFilesThatLandAreMeasuredOnceTheyAreComplete(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	folder := dbtest.Folder(t)
	land := func(name, content string, at time.Time) {
		t.Helper()
		full := filepath.Join(folder, name)
		dbtest.Must(t, os.MkdirAll(filepath.Dir(full), 0o755))
		dbtest.Must(t, os.WriteFile(full, []byte(content), 0o644))
		dbtest.Must(t, os.Chtimes(full, at, at))
	}
	two := "parcel,kg\n1,2\n2,3\n"
	land("parcels/Orme/a.csv", two, now.Add(-150*time.Minute))
	land("parcels/Tolland/b.csv", two+"3,4\n", now.Add(-90*time.Minute))
	land("parcels/Orme/c.csv", two, now.Add(-80*time.Minute))                  // what a.csv held
	land("parcels/Orme/d.csv", "parcel,kg\n1,2,3\n", now.Add(-70*time.Minute)) // broken

	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/sources", httpapi.NewSource{Name: "landing", Address: folder}, nil))
	for pattern, want := range map[string]string{"": "it is empty", "../x": "below the folder"} {
		if err := s.Admin.Send(t.Context(), "POST", "/datasets", httpapi.NewDataset{Source: "landing", Name: "landing.parcels",
			Pattern: pattern}, nil); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("pattern %q: %v", pattern, err)
		}
	}
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/datasets", httpapi.NewDataset{Source: "landing", Name: "landing.parcels",
		Pattern: "parcels/{partner}/*.csv"}, nil))
	if err := s.Admin.Send(t.Context(), "POST", "/metrics", httpapi.NewMetric{Dataset: "landing.parcels", Name: "x",
		Measure: "mean", Column: "kg", PeriodSeconds: 3600, EverySeconds: 60}, nil); err == nil || !strings.Contains(err.Error(),
		"bytes_per_row") {
		t.Errorf("what files cannot give: %v", err)
	}
	for _, measure := range []string{"rows", "deliveries", "bytes", "bytes_per_row", "freshness"} {
		m := httpapi.NewMetric{Dataset: "landing.parcels", Name: measure, Measure: measure, PeriodSeconds: 3600, EverySeconds: 60,
			LookbackSeconds: 4 * 3600}
		if measure == "rows" {
			m.SegmentBy = []string{"partner"}
		}
		dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/metrics", m, nil))
	}
	collectNow(t, s, "state = 'ready'")
	rows := measured(t, s, "rows")
	if rows["Orme"]["18T09"].Value != 2 || rows["Tolland"]["18T10"].Value != 3 || rows["Orme"]["18T10"].Value != 0 {
		t.Errorf("rows by partner: %v", rows)
	}
	if v := measured(t, s, "deliveries")[""]["18T10"]; v.Value != 1 {
		t.Errorf("deliveries, without the doubled and the broken one: %+v", v)
	}
	if v := measured(t, s, "bytes_per_row")[""]["18T09"]; v.Value != float64(len(two))/2 || v.Rows != 2 {
		t.Errorf("bytes per row: %+v", v)
	}
	if v := measured(t, s, "freshness")[""]["18T11"]; v.Value != 90*60 {
		t.Errorf("age of the newest delivery: %+v", v)
	}
	var list []record.Delivery
	dbtest.Must(t, s.Admin.Get(t.Context(), "/datasets/landing.parcels/deliveries", nil, &list))
	if len(list) != 4 || list[0].State != "broken" || !strings.Contains(list[0].Message, "line 2") ||
		list[1].State != "doubled" || !strings.Contains(list[1].Message, "a.csv") {
		t.Errorf("deliveries: %+v", list)
	}
	var page httpapi.AlertPage
	open := func() []record.Alert {
		dbtest.Must(t, s.Admin.Get(t.Context(), "/alerts", url.Values{"state": {"open"}}, &page))
		return page.Alerts
	}
	if alerts := open(); len(alerts) != 1 || alerts[0].Cause != record.CauseFile {
		t.Errorf("a broken delivery rings: %+v", alerts)
	}
	// A file that grows is not taken before it rests.
	land("parcels/Orme/e.csv", "parcel,kg\n7,2\n", now)
	collectNow(t, s, "state = 'ready'")
	land("parcels/Orme/e.csv", "parcel,kg\n7,2\n8,2\n", now.Add(3*time.Second))
	s.Clock.Set(now.Add(4 * time.Second))
	collectNow(t, s, "state = 'ready'")
	state := func() record.Delivery {
		dbtest.Must(t, s.Admin.Get(t.Context(), "/datasets/landing.parcels/deliveries", nil, &list))
		return list[0]
	}
	if d := state(); d.State != "growing" {
		t.Errorf("while it grows: %+v", d)
	}
	s.Clock.Set(now.Add(20 * time.Second))
	collectNow(t, s, "state = 'ready'")
	if d := state(); d.State != "taken" || *d.Rows != 2 {
		t.Errorf("when it rests: %+v", d)
	}
	if alerts := open(); len(alerts) != 0 {
		t.Errorf("a good delivery ends the alert: %+v", alerts)
	}
	dbtest.Must(t, os.Rename(folder, folder+"-gone"))
	for range 3 {
		s.Clock.Set(s.Clock.Now().Add(time.Minute))
		collectNow(t, s, "state = 'ready'")
	}
	if alerts := open(); len(alerts) != 1 || alerts[0].Cause != record.CauseUnreadable || !strings.Contains(alerts[0].Sentence,
		"no such file") {
		t.Errorf("a folder that is gone: %+v", alerts)
	}
	dbtest.Must(t, os.Rename(folder+"-gone", folder))
	collectNow(t, s, "state = 'ready'")
	if alerts := open(); len(alerts) != 0 {
		t.Errorf("a folder that is back: %+v", alerts)
	}
}
