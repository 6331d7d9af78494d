package watch

import (
	"sort"
	"time"

	"tinbell/core/baseline"
	"tinbell/core/detect"
	"tinbell/core/replay"
	"tinbell/core/timeline"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// goOn gives how far a series is judged, by an evaluator that stands where its stored state
// did, and the state there.
func (v *Subject) goOn(e *detect.Evaluator, series record.Series, last record.Baseline, history []timeline.Sample) (*store.Judged, error) {
	from, to := stands(last).Unix(), last.JudgedTo.Unix()
	for _, s := range history {
		if s.At >= from && s.At < to {
			e.Step(s, replay.MarkOf(v.Exclusions[series.ID], s.At, v.Grid.End(s.At)))
		}
	}
	state, err := e.MarshalBinary()
	return &store.Judged{SeriesID: series.ID, State: state, To: last.JudgedTo, RefitAt: v.refitAt(e)}, err
}

// hold is for how long a period may still be corrected.
func (v *Subject) hold() time.Duration {
	return max(time.Duration(v.Metric.LookbackSeconds)*time.Second, 24*time.Hour) + v.Grid.Period
}

// refitAt is from when on a series that became another one can be fitted by itself, past
// correction; nil for one that is what it was.
func (v *Subject) refitAt(e *detect.Evaluator) *time.Time {
	_, due := e.RegimeDue()
	if due == 0 {
		return nil
	}
	at := time.Unix(due, 0).UTC().Add(v.hold())
	return &at
}

// settledPart is how many leading samples are past correction: older than the
// metric's lookback, and than a day.
func (v *Subject) settledPart(history []timeline.Sample) int {
	end := history[len(history)-1].At - int64(v.hold().Seconds())
	n := sort.Search(len(history), func(i int) bool { return history[i].At > end })
	if n == 0 || n < baseline.Need(v.Config) {
		return len(history)
	}
	return n
}

// dayBefore is how long before a monitor was in force a series' first samples may
// lie and still be news: they came after it.
const dayBefore = 24 * time.Hour

// inForce is when a monitor was first in force for a series: alerts from then on
// are no history.
func inForce(state record.SeriesState, m record.Monitor) time.Time {
	switch {
	case !state.Since.IsZero():
		return state.Since
	case m.LearnedAt != nil:
		return *m.LearnedAt
	}
	return farFuture
}
