package watch

import (
	"context"
	"math"
	"sort"
	"time"

	"tinbell/core/arrival"
	"tinbell/core/detect"
	"tinbell/core/replay"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// Waits gives what to do with a series' readings from..to so that they show what
// the monitor judges: for arrivals, the age at which the next load is expected
// and the one from which it is overdue, instead of the seasonal band; for
// anything else, nothing.
func (v *Subject) Waits(ctx context.Context, s *store.Store, from, to time.Time) (func(*detect.Reading), error) {
	if v.Monitor.Settings.Method != record.MethodArrival {
		return func(*detect.Reading) {}, nil
	}
	loads, err := s.Loads(ctx, v.Metric.DatasetID, time.Time{}, to)
	if err != nil {
		return nil, err
	}
	rule := v.Monitor.ArrivalRule()
	waits := arrival.Waits(unixTimes(loads), v.Grid.Zone, rule, from.Unix(), to.Unix(), replay.RefitEvery)
	newest := math.NaN() // the newest row's time, as the last reading had it
	return func(r *detect.Reading) {
		end := v.Grid.Next(time.Unix(r.At, 0)).Unix()
		if !math.IsNaN(r.Observed) {
			newest = float64(end) - r.Observed
		}
		r.Expected, r.Low, r.High, r.Deviation, r.ReturnPeriod = math.NaN(), math.NaN(), math.NaN(), 0, 0
		i := sort.Search(len(waits), func(i int) bool { return waits[i].Last > end }) - 1
		if i < 0 || math.IsNaN(newest) {
			return
		}
		r.Low, r.High = 0, max(float64(waits[i].Deadline)-newest, 0)
		r.Expected = min(max(float64(waits[i].Expected)-newest, 0), r.High)
		if math.IsNaN(r.Observed) {
			return
		}
		if over := r.Observed - r.Expected; over > 0 {
			r.Deviation = min(over/max(r.High-r.Expected, 60), 99)
		}
		if r.Observed > r.High {
			r.ReturnPeriod = rule.Normal().Warn.Seconds()
		}
	}, nil
}
