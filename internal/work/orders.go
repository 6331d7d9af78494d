package work

import (
	"time"

	"github.com/riverqueue/river"
)

// Later has a job done again after a while, as if it had been ordered for then.
type Later struct{ In time.Duration }

func (l Later) Error() string { return "to be done in " + l.In.String() }

// NextRetry is soon: what failed was most often the database being away.
func (w *worker[T]) NextRetry(job *river.Job[T]) time.Time {
	return time.Now().Add(min(time.Second<<min(job.Attempt, 6), time.Minute))
}

// patient is how often a job is tried that something always orders again, should
// it be given up.
const patient = 25

func optionsOf(job river.JobArgs) *river.InsertOpts {
	switch job.(type) {
	case Collect:
		return &river.InsertOpts{MaxAttempts: 1, UniqueOpts: river.UniqueOpts{ByArgs: true, ByState: unfinished}}
	case Evaluate, Rejudge:
		return &river.InsertOpts{MaxAttempts: patient, UniqueOpts: river.UniqueOpts{ByArgs: true, ByState: unfinished}}
	case Summarise:
		return &river.InsertOpts{MaxAttempts: patient, ScheduledAt: time.Now().Add(burst),
			UniqueOpts: river.UniqueOpts{ByArgs: true, ByState: unfinished}}
	case Relearn:
		return &river.InsertOpts{MaxAttempts: patient, ScheduledAt: time.Now().Add(time.Second),
			UniqueOpts: river.UniqueOpts{ByArgs: true, ByState: unfinished}}
	case Tune, Trial, Drift:
		return &river.InsertOpts{Queue: "long", MaxAttempts: 1}
	case Backfill, Learn:
		return &river.InsertOpts{Queue: "long", MaxAttempts: patient}
	}
	return &river.InsertOpts{MaxAttempts: patient}
}
