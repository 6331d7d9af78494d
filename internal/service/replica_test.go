package service_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"tinbell/internal/collect"
	"tinbell/internal/dbtest"
	"tinbell/internal/service"
)

// Long readings of the past come from a replica; what is set up, from the database itself; and
// all of it while the replica is away.
func TestChartsAreReadFromAReplicaAndWithoutItToo(t *testing.T) {
	copied := dbtest.Start(t, now) // what a replica had a moment ago: a copy, with a sample of its own
	declared(t, copied, collect.Declaration{Metric: "gates", Kind: "count", Period: "1h", Zone: "UTC"}, nil)
	pushed(t, copied, sampleAt(-3, 7))
	copied.Settle(t)
	s := dbtest.Start(t, now, func(o *service.Options) { o.ReadDatabase = copied.Database })
	declared(t, s, collect.Declaration{Metric: "gates", Kind: "count", Period: "1h", Zone: "UTC"}, nil)
	pushed(t, s, sampleAt(-3, 5))
	s.Settle(t)
	seen := func() string {
		var chart struct {
			Observed []*float64 `json:"observed"`
		}
		query := fmt.Sprintf("/series/1/chart?from=%s&to=%s", now.Add(-5*time.Hour).Format(time.RFC3339), now.Format(time.RFC3339))
		dbtest.Must(t, s.Admin.Get(t.Context(), query, nil, &chart))
		var values []string
		for _, v := range chart.Observed {
			if v != nil {
				values = append(values, fmt.Sprint(*v))
			}
		}
		return strings.Join(values, " ")
	}
	if got := seen(); got != "7" {
		t.Errorf("the chart shows %q, the replica has 7", got)
	}
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/notes", map[string]any{"at": now, "text": "of the database itself"}, nil))
	var notes []struct{ Text string }
	dbtest.Must(t, s.Admin.Get(t.Context(), "/notes", nil, &notes))
	if len(notes) != 1 {
		t.Errorf("what was set up a moment ago is not there: %v", notes)
	}
	copied.Stop()
	_, err := s.Parts.Store.DB.Exec(`alter database ` + databaseOf(copied.Database) + ` with allow_connections false`)
	dbtest.Must(t, err)
	_, err = s.Parts.Store.DB.Exec(`select pg_terminate_backend(pid) from pg_stat_activity where datname = $1`, databaseOf(copied.Database))
	dbtest.Must(t, err)
	for range 3 {
		if got := seen(); got != "5" {
			t.Errorf("without the replica the chart shows %q", got)
		}
	}
}

func sampleAt(hours int, value float64) string {
	return fmt.Sprintf(`{"metric":"gates","at":"%s","value":%g}`, now.Add(time.Duration(hours)*time.Hour).Format(time.RFC3339), value)
}

// databaseOf is the name in an address.
func databaseOf(address string) string {
	name := address[strings.LastIndex(address, "/")+1:]
	name, _, _ = strings.Cut(name, "?")
	return name
}
