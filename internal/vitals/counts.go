package vitals

import (
	"cmp"
	"math"
	"sync"
	"time"
)

// works are the counts of what is done without being asked, by kind.
type works struct {
	mu     sync.Mutex
	kinds  map[string]*done
	judged float64 // seconds from ordering a judgement to its end, of late
	taken  int64   // samples that were pushed and stored
}

type done struct {
	jobs, failed int64
	took         time.Duration
}

// called are jobs as their figures are called.
var called = map[string]string{"evaluate": "judge", "learn": "fit", "collect": "probe"}

// kinds are the jobs that are told of, whether or not one has come.
var kinds = []string{"backfill", "drift", "fit", "judge", "probe", "rejudge", "relearn", "summarise", "trial", "tune"}

// recent is the weight of one judgement in what is told of late.
const recent = 0.05

// Worked counts a job: how long it had waited, how long it took, and whether it failed.
func (r *Reader) Worked(kind string, waited, took time.Duration, err error) {
	kind = cmp.Or(called[kind], kind)
	w := &r.works
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.kinds == nil {
		w.kinds = map[string]*done{}
	}
	d := w.kinds[kind]
	if d == nil {
		d = &done{}
		w.kinds[kind] = d
	}
	d.jobs++
	d.took += took
	if err != nil {
		d.failed++
	}
	if kind == "judge" {
		if after := (waited + took).Seconds(); w.judged == 0 {
			w.judged = after
		} else {
			w.judged += recent * (after - w.judged)
		}
	}
}

// Took counts samples that were pushed and stored.
func (r *Reader) Took(samples int64) {
	r.works.mu.Lock()
	defer r.works.mu.Unlock()
	r.works.taken += samples
}

// worked are the figures of it.
func (r *Reader) worked() (list []Figure) {
	w := &r.works
	w.mu.Lock()
	defer w.mu.Unlock()
	list = append(list, Figure{"samples_pushed", "counter", "samples that were pushed to this process and stored", "samples",
		false, float64(w.taken)},
		Figure{"judged_after_seconds", "gauge", "from a sample's coming to its judgement, of late", "s", true,
			math.Round(w.judged*1e4) / 1e4})
	for _, kind := range kinds {
		d := done{}
		if counted := w.kinds[kind]; counted != nil {
			d = *counted
		}
		list = append(list, Figure{kind + "_jobs", "counter", "jobs of the kind " + kind + " that this process did", "jobs",
			false, float64(d.jobs)},
			Figure{kind + "_failed", "counter", "of these, those that failed", "jobs", false, float64(d.failed)},
			Figure{kind + "_seconds", "counter", "time that they took", "s", false, d.took.Seconds()})
	}
	return list
}
