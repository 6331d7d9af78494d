package service_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"tinbell/core/timeline"
	"tinbell/internal/collect"
	"tinbell/internal/dbtest"
	"tinbell/internal/flat"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/scorecard"
)

// One incident hit two datasets: it is found by an alert on either, is on the charts of
// both, goes out and comes back with both, and two incidents of two datasets become one.
func TestAnIncidentSpansSeveralDatasets(t *testing.T) {
	t.Parallel()
	s := harbour(t)
	ctx := t.Context()
	dbtest.Must(t, s.Admin.Send(ctx, "POST", "/metrics/declare", collect.Declaration{Metric: "berths", Dataset: "ops.berths",
		Measure: "rows", Kind: timeline.Count, Period: "1h"}, nil))
	incidents := func(query string) (list []record.Incident) {
		dbtest.Must(t, s.Admin.Get(ctx, "/incidents"+query, nil, &list))
		return list
	}
	hits := func() (n int) {
		var card scorecard.Scorecard
		dbtest.Must(t, s.Admin.Get(ctx, "/scorecard", nil, &card))
		if card.Overall.Recall.N != len(incidents("")) {
			t.Errorf("%d incidents count", card.Overall.Recall.N)
		}
		return card.Overall.Recall.K
	}
	first := incidents("")[0]
	dbtest.Must(t, s.Admin.Send(ctx, "DELETE", "/incidents/"+first.Reference, nil, nil))
	end := longFault.Add(14 * time.Hour)
	add := func(v httpapi.NewIncident) (made record.Incident, err error) {
		v.StartedAt, v.EndedAt, v.Title = longFault, &end, "The switch of the quay"
		return made, s.Admin.Send(ctx, "POST", "/incidents", v, &made)
	}
	alone, err := add(httpapi.NewIncident{Dataset: "ops.berths"})
	dbtest.Must(t, err)
	if hits() != 0 {
		t.Error("an incident of a dataset that nobody watches is found")
	}
	both, err := add(httpapi.NewIncident{Dataset: "ops.berths", Also: record.Strings{"ops.dock_queue", "ops.berths", "ops.dock_queue"}})
	dbtest.Must(t, err)
	if !slices.Equal(both.Datasets(), []string{"ops.berths", "ops.dock_queue"}) || hits() != 1 ||
		len(incidents("?dataset=ops.dock_queue")) != 1 || len(incidents("?dataset=ops.berths")) != 2 {
		t.Errorf("it is of %v, %d found", both.Datasets(), hits())
	}
	if _, err := add(httpapi.NewIncident{Dataset: "ops.berths", Also: record.Strings{"ops.none"}}); err == nil ||
		!strings.Contains(err.Error(), "ops.none") {
		t.Errorf("a dataset that is not there: %v", err)
	}
	file := fetched(t, s, "/incidents/export?format=csv")
	var imported flat.Import
	dbtest.Must(t, s.Admin.Stream(ctx, "POST", "/incidents/import", "text/csv", strings.NewReader(file), &imported))
	if imported.Replaced != 2 || imported.Refused != 0 || len(incidents("?dataset=ops.dock_queue")) != 1 {
		t.Errorf("what went out came back as %+v", imported)
	}
	third, err := add(httpapi.NewIncident{Dataset: "ops.dock_queue"})
	dbtest.Must(t, err)
	var one record.Incident
	dbtest.Must(t, s.Admin.Send(ctx, "POST", "/incidents/"+alone.Reference+"/merge",
		map[string][]string{"others": {both.Reference, third.Reference}}, &one))
	if !slices.Equal(one.Datasets(), []string{"ops.berths", "ops.dock_queue"}) || len(incidents("")) != 1 {
		t.Errorf("merged: %+v", one)
	}
}
