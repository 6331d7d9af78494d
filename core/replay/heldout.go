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

// Trial is what limits from the first two thirds of a monitor's past do in the last third:
// for each rule, and what its series say of each other.
type Trial struct {
	Rules map[detect.Cause]Held
	Kin   detect.Kinship
}

// Keep gives a rule with limits that keep the budget on that past.
func (t Trial) Keep(rule detect.Rule) detect.Rule {
	rule.Kin = t.Kin
	for cause, h := range t.Rules {
		rule.Caution = rule.Caution.With(cause, h.Caution())
	}
	return rule
}

// HoldOut walks the last third of each job's history before From with baselines
// from the first two thirds, labels known. What rings counts by occasions, for each
// rule; what still rings at the end does not count. Of many series only some are
// tried.
func HoldOut(jobs []Job) (Trial, error) {
	parts := parted(jobs)
	fitted := make([]detect.Extremes, 0, len(parts))
	for _, p := range parts {
		e, err := detect.Fit(p.Config, p.Rule, p.History[:p.cut], Mask(p.Exclusions, p.From))
		var short baseline.TooShort
		if err != nil && !errors.As(err, &short) {
			return Trial{}, err
		}
		if err == nil {
			fitted = append(fitted, e.Extremes())
		}
	}
	young := detect.KinOf(fitted)
	t, rung := Trial{Rules: map[detect.Cause]Held{}}, map[detect.Cause][]ring{}
	var strangers detect.Strangers
	old := make([]detect.Extremes, 0, len(parts))
	for _, p := range parts {
		p.Rule.Kin = young
		rings, e, err := p.walk(&strangers)
		var short baseline.TooShort
		if errors.As(err, &short) {
			continue
		}
		if err != nil {
			return t, err
		}
		if e != nil {
			old = append(old, e.Extremes())
		}
		t.state(&p, e)
		for cause, list := range rings {
			rung[cause] = append(rung[cause], list...)
		}
	}
	for cause, rings := range rung {
		h := t.Rules[cause]
		h.Rung, h.Logs = occasions(rings)
		t.Rules[cause] = h
	}
	t.Kin = detect.KinOf(old)
	t.Kin.Young = strangers.Young()
	return t, nil
}

// part is a job whose last third is judged; cut is where it begins.
type part struct {
	Job
	number, cut int
}

// parted gives the jobs that are tried. Bounds are left out: what lies beyond them is
// asked for.
func parted(jobs []Job) (list []part) {
	stride := max(1, len(jobs)/mostHeld)
	for i := 0; i < len(jobs); i += stride {
		job := jobs[i]
		end := sort.Search(len(job.History), func(k int) bool { return job.History[k].At >= job.From })
		if end < 9 || job.Rule.BandOnly {
			continue
		}
		cut := end * 2 / 3
		job.Rule.Bounds = detect.Bounds{}
		job.History, job.From = job.History[:end], job.History[cut].At
		list = append(list, part{job, i, cut})
	}
	return list
}

// walk gives what rings without being called a fault, and the evaluator at the end, nil
// where there never was enough history.
func (p *part) walk(strangers *detect.Strangers) (map[detect.Cause][]ring, *detect.Evaluator, error) {
	known := Faults(p.Exclusions, math.MaxInt64)
	var now *detect.Evaluator
	var follow func(*detect.Evaluator, bool)
	p.Visit = func(_ int, e *detect.Evaluator) {
		if now = e; follow == nil {
			follow = strangers.Meet(e)
		}
	}
	p.Read = func(r detect.Reading) { follow(now, !r.Masked && !known.Touches(r.At, p.Config.Grid.End(r.At))) }
	alerts, e, err := WalkOn(p.Job)
	if err != nil {
		return nil, nil, err
	}
	rings := map[detect.Cause][]ring{}
	for _, a := range alerts {
		if a.Closed == 0 || known.Touches(a.Since, a.End) {
			continue // open, it is being asked about
		}
		rings[a.Cause] = append(rings[a.Cause], ring{p.number, a.Since, max(a.End, a.Since+1), math.Log(max(a.Strength, 1))})
	}
	return rings, e, nil
}

// state adds what the budget states for each rule that the series has.
func (t *Trial) state(p *part, e *detect.Evaluator) {
	span := time.Duration(p.History[len(p.History)-1].At-p.From) * time.Second
	budget := detect.Budget(p.Rule.Normal().Warn, p.Rule.Series) * span.Hours() / 720
	for _, cause := range rules {
		if stepped := e != nil && e.Family() == baseline.Stepped; stepped != (cause == detect.Step) && cause != detect.Missing {
			continue
		}
		h := t.Rules[cause]
		h.Stated += budget * detect.Share(cause)
		t.Rules[cause] = h
	}
}

// mostHeld is how many series of a monitor are tried.
const mostHeld = 24
