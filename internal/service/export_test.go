package service_test

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"math"
	"strings"
	"testing"
	"time"

	"github.com/parquet-go/parquet-go"

	"tinbell/core/timeline"
	"tinbell/internal/chart"
	"tinbell/internal/dbtest"
	"tinbell/internal/flat"
)

// fetched reads a file that the service answers, with its media type.
func fetched(t *testing.T, s *dbtest.Service, path string) string {
	t.Helper()
	code, text, _ := request(t, s, "GET", "/api/v1"+path, nil, nil)
	if code != 200 {
		t.Fatalf("%s: %d %s", path, code, text)
	}
	return text
}

func TestValuesGoOutAsDataInThreeFormats(t *testing.T) {
	t.Parallel()
	s := harbour(t)
	path := "/metrics/scans/export?segment=a&from=" + longFault.Add(-2*time.Hour).Format(time.RFC3339) + "&to=" +
		longFault.Add(20*time.Hour).Format(time.RFC3339)
	var rows []chart.SeriesValue
	for _, line := range strings.Split(strings.TrimSpace(fetched(t, s, path+"&format=ndjson")), "\n") {
		var v chart.SeriesValue
		dbtest.Must(t, json.Unmarshal([]byte(line), &v))
		rows = append(rows, v)
	}
	if len(rows) != 22 {
		t.Fatalf("%d periods of 22 hours", len(rows))
	}
	claimed := 0
	for i, v := range rows {
		if v.Segment != "a" || v.Value == nil || v.Expected == nil || *v.Low > *v.Expected || *v.High < *v.Expected || v.Filled {
			t.Fatalf("period %d: %+v", i, v)
		}
		if inside := i >= 2 && i < 16; (v.Incident != "") != inside {
			t.Errorf("period %d is of incident %q", i, v.Incident)
		}
		if v.AlertID != 0 {
			claimed++
		}
	}
	if claimed < 8 {
		t.Errorf("the alert claims %d periods of 14", claimed)
	}
	table, err := csv.NewReader(strings.NewReader(fetched(t, s, path))).ReadAll()
	dbtest.Must(t, err)
	if len(table) != 23 || table[1][3] != rows[0].At.UTC().Format(time.RFC3339) {
		t.Errorf("CSV: %d lines, %v", len(table), table[1])
	}
	raw := fetched(t, s, path+"&format=parquet")
	type read struct {
		Value    *float64 `parquet:"value,optional"`
		Expected *float64 `parquet:"expected,optional"`
	}
	back, err := parquet.Read[read](bytes.NewReader([]byte(raw)), int64(len(raw)))
	if err != nil || len(back) != 22 || *back[5].Value != *rows[5].Value || math.Abs(*back[5].Expected-*rows[5].Expected) > 1e-9 {
		t.Errorf("Parquet: %v, %d rows", err, len(back))
	}
	for path, want := range map[string]int{"/metrics/none/export": 404, "/metrics/scans/export?segment=zz": 404,
		"/metrics/scans/export?format=xml": 422, "/metrics/scans/export?from=2030-01-01T00:00:00Z&to=2029-01-01T00:00:00Z": 422,
		"/alerts/export?monitor=none": 404} {
		if code, text, _ := request(t, s, "GET", "/api/v1"+path, nil, nil); code != want {
			t.Errorf("%s: %d, want %d: %s", path, code, want, text)
		}
	}
	for _, path := range []string{"/alerts/export", "/scorecard/export", "/incidents/export"} {
		if lines := strings.Count(fetched(t, s, path), "\n"); lines < 2 {
			t.Errorf("%s: %d lines", path, lines)
		}
	}
}

func TestWhatDidNotComeIsFilledAsAskedAndMarked(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	declare(t, s, "level", timeline.Value)
	from := now.AddDate(0, 0, -3)
	hours := func(at time.Time) float64 { return at.Sub(from).Hours() }
	// Three hours never come.
	_, err := push(t, s, "", ndjson, samples("level", "", from, from.Add(10*time.Hour), time.Hour, hours)+samples("level", "",
		from.Add(13*time.Hour), now, time.Hour, hours))
	dbtest.Must(t, err)
	for fill, want := range map[string]string{"": ",,,", "zero": "0,0,0,", "previous": "9,9,9,", "linear": "10,11,12,"} {
		table, err := csv.NewReader(strings.NewReader(fetched(t, s, "/metrics/level/export?fill="+fill+"&from="+
			from.Add(10*time.Hour).Format(time.RFC3339)+"&to="+from.Add(13*time.Hour).Format(time.RFC3339)))).ReadAll()
		dbtest.Must(t, err)
		got := ""
		for _, row := range table[1:] {
			got += row[5] + ","
			if row[6] != map[bool]string{true: "true", false: "false"}[fill != ""] {
				t.Errorf("%q: marked as filled: %s", fill, row[6])
			}
		}
		if got != want {
			t.Errorf("%q: %s, want %s", fill, got, want)
		}
	}
}

func TestLabelsAndIncidentsComeBackAsJSON(t *testing.T) {
	t.Parallel()
	s, ids := withAlerts(t, 3)
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/labels", map[string]any{"alerts": ids[:2], "verdict": "fault",
		"note": "ätherisch; \"x\""}, nil))
	out := fetched(t, s, "/labels/export?format=ndjson")
	if strings.Count(out, "\n") != 2 {
		t.Fatalf("%s", out)
	}
	var got flat.Import
	send := func(body string) error {
		got = flat.Import{}
		return s.Admin.Stream(t.Context(), "POST", "/labels/import", "application/x-ndjson", strings.NewReader(body), &got)
	}
	if err := send(out); err != nil || got.Replaced != 2 || got.Added != 0 {
		t.Errorf("said twice: %v %+v", err, got)
	}
	lines := strings.Split(strings.TrimSpace(out), "\n")
	if err := send("[" + strings.Replace(strings.Join(lines, ","), `"fault"`, `"noise"`, 1) + "]"); err != nil ||
		got.Added != 1 || got.Replaced != 1 {
		t.Errorf("a JSON array with one changed: %v %+v", err, got)
	}
	if err := send(`{"alert":1,"verdict":"fault","colour":"red"}` + "\n" + `{"alert":[1],"verdict":"fault"}` +
		"\n7\n"); err != nil || got.Refused != 3 || !strings.Contains(got.Problems[0].Reason, "colour") || got.Problems[2].Line != 3 {
		t.Errorf("bad records are named: %v %+v", err, got)
	}
	if err := send(`{"alert":1,"verdict":"fault"} {"alert":`); err == nil || !strings.Contains(err.Error(), "record 2") {
		t.Errorf("half a record: %v", err)
	}
	incident := `{"reference":"X-1","dataset":"ops.dock_queue","title":"Quay closed","started_at":"2026-06-01T00:00:00Z","ended_at":null,"downstream":true}`
	if err := s.Admin.Stream(t.Context(), "POST", "/incidents/import", "application/x-ndjson", strings.NewReader(incident),
		&got); err != nil || got.Added != 1 {
		t.Errorf("an incident as JSON: %v %+v", err, got)
	}
	if back := fetched(t, s, "/incidents/export?format=ndjson"); !strings.Contains(back, `"reference":"X-1"`) ||
		!strings.Contains(back, `"downstream":true`) {
		t.Errorf("and back: %s", back)
	}
}
