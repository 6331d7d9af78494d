package service_test

import (
	"testing"
	"time"

	"tinbell/core/timeline"
	"tinbell/internal/collect"
	"tinbell/internal/dbtest"
	"tinbell/internal/health"
)

// What came of a dataset counts and is drawn from its first hour on, before there is a
// band, and while there is one for a part of it.
func TestAYoungDatasetCountsWhatCame(t *testing.T) {
	t.Parallel()
	for hours, day := range map[int]float64{5: 5, 30: 24, 80: 24, 200: 24} {
		s := dbtest.Start(t, now)
		declared(t, s, collect.Declaration{Metric: "queue", Kind: timeline.Count, Period: "1h"}, nil)
		for _, segment := range []string{"a", "b", "c"} {
			pushed(t, s, samples("queue", segment, now.Add(-time.Duration(hours)*time.Hour), now, time.Hour, rush))
		}
		s.Settle(t)
		m, err := s.Parts.Store.Metric(t.Context(), "queue")
		dbtest.Must(t, err)
		dbtest.Must(t, s.Parts.Health.Refresh(t.Context(), m.DatasetID))
		var list []health.Health
		dbtest.Must(t, s.Admin.Get(t.Context(), "/datasets", nil, &list))
		want := 0.0 // but the newest hour, which is settled an hour later
		for at := now.Add(-time.Duration(day) * time.Hour); at.Before(now.Add(-time.Hour)); at = at.Add(time.Hour) {
			want += 3 * rush(at)
		}
		if day == 24 {
			want += 3 * rush(now.Add(-25*time.Hour))
		}
		if h := list[0]; h.Rows24h == nil || *h.Rows24h != want || len(h.Spark.Observed) != min(hours-1, 7*24) {
			t.Errorf("after %d hours: %v rows in a day, want %v, and %d periods are drawn", hours, h.Rows24h, want, len(h.Spark.Observed))
		}
	}
}
