package store_test

import (
	"testing"

	"tinbell/internal/pgtest"
	"tinbell/internal/store"
)

// What is large is spread by what stands first in its key, so that a distributed database, or
// several servers, could hold the parts: samples and what belongs to a series by the series,
// everything else by its dataset, monitor, comparison or log.
func TestLargeTablesAreKeyedByWhatTheyAreSpreadBy(t *testing.T) {
	s, err := store.Open(t.Context(), pgtest.Empty(t))
	pgtest.Must(t, err)
	t.Cleanup(s.Close)
	spread := map[string]string{
		"sample": "series_id", "sample_day": "series_id", "point": "series_id", "point_due": "series_id",
		"baseline": "monitor_id", "series_state": "monitor_id", "late_change": "monitor_id", "load": "dataset_id", "health": "dataset_id",
		"drift_day": "comparison_id", "drift_period": "comparison_id", "sla_day": "sla_id", "run_dataset": "run_id",
		"log_count": "log_id", "log_seen": "log_id", "log_template": "log_id", "log_part": "log_id", "log_value": "log_id",
		"log_attribute": "log_id",
	}
	for table, want := range spread {
		var first string
		err := s.DB.Get(&first, `
			select coalesce(min(a.attname), '') from pg_index i join pg_attribute a on a.attrelid = i.indrelid and a.attnum = i.indkey[0]
			where i.indrelid = $1::regclass and i.indisprimary`, table)
		pgtest.Must(t, err)
		if first != want {
			t.Errorf("the key of %s begins with %q, it is spread by %s", table, first, want)
		}
	}
}
