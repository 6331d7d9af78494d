package service_test

import (
	"fmt"
	"net/url"
	"strings"
	"testing"
	"time"

	"tinbell/internal/chart"
	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
)

func TestANoteStandsOnTheChartsOfItsDataset(t *testing.T) {
	t.Parallel()
	s := harbour(t)
	add := func(in httpapi.NewNote) (n record.Note, err error) {
		return n, s.Admin.Send(t.Context(), "POST", "/notes", in, &n)
	}
	at := now.Add(-36 * time.Hour)
	own, err := add(httpapi.NewNote{Dataset: "ops.dock_queue", At: at, Text: " scanner firmware 4.2 ", Link: "https://example.com/81"})
	if err != nil || own.Text != "scanner firmware 4.2" || own.Author != "administrator" {
		t.Fatalf("%v %+v", err, own)
	}
	everywhere, err := add(httpapi.NewNote{Text: "warehouse moved"})
	if err != nil || !everywhere.At.Equal(now) {
		t.Fatalf("now if no time is given: %v %+v", err, everywhere)
	}
	for want, in := range map[string]httpapi.NewNote{"no dataset": {Dataset: "ops.none", Text: "x"}, "characters": {Text: "   "},
		"http or https": {Text: "x", Link: "javascript:alert(1)"}, "500": {Text: strings.Repeat("ä", 501)}} {
		if _, err := add(in); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", want, err)
		}
	}
	var series []record.Series
	dbtest.Must(t, s.Admin.Get(t.Context(), "/metrics/scans/series", nil, &series))
	notesIn := func(from, to time.Time) int {
		var c chart.Chart
		dbtest.Must(t, s.Admin.Get(t.Context(), fmt.Sprintf("/series/%d/chart", series[0].ID),
			url.Values{"from": {from.Format(time.RFC3339)}, "to": {to.Format(time.RFC3339)}}, &c))
		return len(c.Notes)
	}
	if a, b := notesIn(at.Add(-time.Hour), now.Add(time.Hour)), notesIn(at.Add(time.Hour), at.Add(5*time.Hour)); a != 2 || b != 0 {
		t.Errorf("charts have %d and %d notes", a, b)
	}
	dbtest.Must(t, s.Admin.Send(t.Context(), "DELETE", fmt.Sprintf("/notes/%d", own.ID), nil, nil))
	if err := s.Admin.Send(t.Context(), "DELETE", fmt.Sprintf("/notes/%d", own.ID), nil, nil); status(err) != 404 {
		t.Errorf("removed twice: %v", err)
	}
	var left []record.Note
	dbtest.Must(t, s.Admin.Get(t.Context(), "/notes", url.Values{"dataset": {"ops.dock_queue"}}, &left))
	if len(left) != 1 || left[0].ID != everywhere.ID {
		t.Errorf("left: %+v", left)
	}
}
