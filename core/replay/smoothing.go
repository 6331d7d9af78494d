package replay

import (
	"math"
	"slices"

	"tinbell/core/detect"
	"tinbell/core/robust"
	"tinbell/core/timeline"
)

// Smoothing is what a moving median or mean before detection would do to a series.
type Smoothing struct {
	Periods     int        `json:"periods" doc:"of the window; 1 is none"`
	By          string     `json:"by" enum:"median,mean"`
	Spikes      [3]float64 `json:"spikes" doc:"share of planted spikes of 1, 2 and 3 periods that would alarm"`
	Dips        float64    `json:"dips" doc:"share of planted faults of twelve periods that are found"`
	Delay       float64    `json:"delay_seconds" doc:"median delay of those found"`
	FalseBefore int        `json:"false_before" doc:"past alerts that were no fault, without smoothing"`
	FalseGone   int        `json:"false_gone" doc:"… that vanish"`
	FaultsFound int        `json:"faults_found" doc:"known faults of the stretch that are told"`
	Faults      int        `json:"faults"`
	Recommended bool       `json:"recommended"`
}

// What smooths.
const (
	ByMedian = "median"
	ByMean   = "mean"
)

// smoothings are the windows that a bench compares: none, a few periods, then hours up to
// a day, each with a median and a mean.
func smoothings(g timeline.Grid) []Smoothing {
	rows := []Smoothing{{Periods: 1, By: ByMedian}}
	lengths := []int{3, 5, 7, 9}
	for _, hours := range []int{1, 3, 6, 12, 24} {
		if n := hours * g.PerDay() / 24; n > lengths[len(lengths)-1] {
			lengths = append(lengths, n)
		}
	}
	for _, n := range lengths {
		rows = append(rows, Smoothing{Periods: n, By: ByMedian}, Smoothing{Periods: n, By: ByMean})
	}
	return rows
}

// SmoothingBench replays a series under each moving median and mean and plants spikes
// and faults at places spread over the stretch. faults are the known true ones.
func SmoothingBench(job Job, faults []timeline.Span) ([]Smoothing, error) {
	rows := smoothings(job.Config.Grid)
	var plain []detect.Alert
	for i := range rows {
		row := &rows[i]
		row.Faults = len(faults)
		job.Rule.Smooth, job.Rule.SmoothMean = row.Periods, row.By == ByMean
		alerts, err := row.replay(job)
		if err != nil {
			return nil, err
		}
		if row.Periods == 1 {
			plain = alerts
		}
		row.compare(plain, alerts, faults)
	}
	recommend(rows)
	return rows, nil
}

// places is how many stretches of the past get planted spikes and faults.
const places = 10

func (row *Smoothing) replay(job Job) ([]detect.Alert, error) {
	step := int64(job.Config.Grid.Period.Seconds())
	first := slices.IndexFunc(job.History, func(s timeline.Sample) bool { return s.At >= job.From })
	const reach = 24
	if first < 0 {
		first = len(job.History)
	}
	room := len(job.History) - first - reach
	var spikes [3]int
	var delays []float64
	planted := 0
	job.Visit = func(i int, e *detect.Evaluator) {
		if room < places || (i-first)%(room/places) != room/places/2 || i-first > room {
			return
		}
		if _, open := e.OpenAlert(); open {
			return
		}
		blob, err := e.MarshalBinary()
		if err != nil {
			return
		}
		planted++
		around := job.History[i : i+reach]
		for k := range spikes {
			if raised, _ := plant(job, blob, around, k+1, true); raised {
				spikes[k]++
			}
		}
		if raised, after := plant(job, blob, around, 12, false); raised {
			delays = append(delays, float64(after)*float64(step))
		}
	}
	alerts, err := Walk(job)
	if err != nil {
		return nil, err
	}
	for k := range spikes {
		row.Spikes[k] = float64(spikes[k]) / float64(max(planted, 1))
	}
	row.Dips = float64(len(delays)) / float64(max(planted, 1))
	if len(delays) > 0 {
		row.Delay = robust.Median(delays)
	}
	return alerts, nil
}

// plant alters the first length periods: a spike is far above, a fault loses
// most of a count and moves anything else far off. It tells whether an alert
// follows, and after how many periods.
func plant(job Job, blob []byte, around []timeline.Sample, length int, spike bool) (bool, int) {
	e, err := detect.Load(job.Config, job.Rule, blob)
	if err != nil {
		return false, 0
	}
	for k, s := range around {
		if k < length && !s.Missing() {
			r := e.Peek(s)
			half := max((r.High-r.Low)/2, 1e-9)
			switch {
			case spike:
				s.Value = r.Expected + 8*half
			case job.Config.Kind == timeline.Count:
				s.Value = math.Round(0.2 * s.Value)
			default:
				s.Value = r.Expected + 3*half
			}
			if job.Config.Kind == timeline.Share {
				s.Value = min(s.Value, 1)
			}
		}
		if r := e.Step(s, timeline.Judged); r.Change == detect.Opened && k < length+6 {
			return true, k + 1
		}
	}
	return false, 0
}

func (row *Smoothing) compare(plain, alerts []detect.Alert, faults []timeline.Span) {
	touches := func(a detect.Alert, s timeline.Span) bool {
		return a.Since < s.To && (a.End == 0 || a.End > s.From)
	}
	for _, f := range faults {
		if slices.ContainsFunc(alerts, func(a detect.Alert) bool { return touches(a, f) }) {
			row.FaultsFound++
		}
	}
	for _, a := range plain {
		if slices.ContainsFunc(faults, func(f timeline.Span) bool { return touches(a, f) }) {
			continue
		}
		row.FalseBefore++
		still := slices.ContainsFunc(alerts, func(b detect.Alert) bool {
			return touches(b, timeline.Span{From: a.Since, To: max(a.End, a.Raised)})
		})
		if !still {
			row.FalseGone++
		}
	}
}

// spikes is the share of all planted spikes that alarm.
func (row *Smoothing) spikes() float64 { return (row.Spikes[0] + row.Spikes[1] + row.Spikes[2]) / 3 }

// recommend marks the window that rids the past of most false alarms without losing a
// known fault or a planted one, or alarming at more planted spikes; the shortest of
// equals, a median before a mean.
func recommend(rows []Smoothing) {
	best := 0
	for i, r := range rows {
		if r.FaultsFound < rows[0].FaultsFound || r.Dips < rows[0].Dips-0.1 || r.spikes() > rows[0].spikes()+0.1 {
			continue
		}
		if gain := r.FalseGone - rows[best].FalseGone; gain > 0 {
			best = i
		}
	}
	rows[best].Recommended = true
}
