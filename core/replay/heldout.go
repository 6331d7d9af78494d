package replay

import (
	"errors"
	"math"
	"sort"
	"time"

	"tinbell/core/baseline"
	"tinbell/core/detect"
)

// Held is what limits from the first two thirds of a history would have rung in
// the last third, over the series of a monitor, for one rule.
type Held struct {
	Rung   int     // occasions on which it rang
	Stated float64 // false alarms, by the budget
	Logs   float64 // of what rang: sum of ln of the statistic over its limit
}

// Ratio is how many times what is stated rings, drawn towards one while there is
// little to go by.
func (h Held) Ratio() float64 { return (float64(h.Rung) + heldPrior) / (h.Stated + heldPrior) }

// Caution is by how much the rule's limit must be raised for its rings to be as
// many as stated: strengths beyond a limit fall off as a power, whose exponent is
// their mean logarithm (Hill 1975), drawn towards a prior.
func (h Held) Caution() float64 {
	if h.Ratio() <= 1 {
		return 1
	}
	if h.Rung < 2 {
		return math.Pow(h.Ratio(), tailIndex) // one occasion tells nothing of a tail
	}
	index := (h.Logs + hillPrior*tailIndex) / (float64(h.Rung) + hillPrior)
	return min(math.Pow(h.Ratio(), index), mostCaution)
}

const (
	heldPrior   = 2
	hillPrior   = 2
	tailIndex   = 0.25
	mostCaution = 6
)

// rules are the rules that are held to the budget.
var rules = []detect.Cause{detect.Deviation, detect.Silence, detect.Missing, detect.Stuck, detect.Step}

// HoldOut walks the last third of each job's history before From with baselines
// from the first two thirds, labels known. What rings counts by occasions, for each
// rule; what still rings at the end does not count. Of many series only some are
// tried.
func HoldOut(jobs []Job) (map[detect.Cause]Held, error) {
	found, rung := map[detect.Cause]Held{}, map[detect.Cause][]ring{}
	stride := max(1, len(jobs)/mostHeld)
	for i := 0; i < len(jobs); i += stride {
		job := jobs[i]
		end := sort.Search(len(job.History), func(k int) bool { return job.History[k].At >= job.From })
		if end < 9 {
			continue
		}
		if job.Rule.BandOnly {
			continue
		}
		job.Rule.Bounds = detect.Bounds{} // what lies beyond them is asked for
		cut := end * 2 / 3
		job.History, job.From = job.History[:end], job.History[cut].At
		alerts, e, err := WalkOn(job)
		var short baseline.TooShort
		if errors.As(err, &short) {
			continue
		}
		if err != nil {
			return nil, err
		}
		span := time.Duration(job.History[end-1].At-job.From) * time.Second
		budget := detect.Budget(job.Rule.Normal().Warn, job.Rule.Series) * span.Hours() / 720
		for _, cause := range rules {
			if stepped := e != nil && e.Family() == baseline.Stepped; stepped != (cause == detect.Step) && cause != detect.Missing {
				continue // a rule that this series does not have
			}
			h := found[cause]
			h.Stated += budget * detect.Share(cause)
			found[cause] = h
		}
		known := Faults(job.Exclusions, math.MaxInt64)
		for _, a := range alerts {
			if a.Closed == 0 || known.Touches(a.Since, a.End) {
				continue // open, it is being asked about
			}
			rung[a.Cause] = append(rung[a.Cause], ring{i, a.Since, max(a.End, a.Since+1), math.Log(max(a.Strength, 1))})
		}
	}
	for cause, rings := range rung {
		h := found[cause]
		h.Rung, h.Logs = occasions(rings)
		found[cause] = h
	}
	return found, nil
}

// mostHeld is how many series of a monitor are tried.
const mostHeld = 24

// CautionOf turns what was held out into the caution of each rule.
func CautionOf(held map[detect.Cause]Held) detect.Caution {
	c := detect.Caution{}
	for cause, h := range held {
		c = c.With(cause, h.Caution())
	}
	return c
}
