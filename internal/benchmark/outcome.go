package benchmark

import (
	"fmt"
	"math"
	"runtime"
	"time"

	"golang.org/x/sync/errgroup"

	"tinbell/core/detect"
	"tinbell/core/replay"
	"tinbell/core/score"
)

// Outcome is how one way of alerting did on some scenes.
type Outcome struct {
	Way    string
	Limit  float64 // of a rival
	Alerts int
	Hits   int
	False  int
	Faults int
	Found  int
	Delays []int64 // seconds, −1 for missed
	Weeks  float64 // series-weeks judged
	Kinds  map[string]KindCount
	hits   []int // by scene, for intervals
	counts []int
	found  []bool // by fault, in order
}

// KindCount is how many faults of a kind were found.
type KindCount struct{ Found, Faults int }

// Precision and Recall with 95 % intervals; precision's allows for alerts of a
// series being alike.
func (o Outcome) Precision() score.Interval { return score.Clustered(o.hits, o.counts) }
func (o Outcome) Recall() score.Interval    { return score.Wilson(o.Found, o.Faults) }

// FalseWeekly is the number of false alarms per series and week.
func (o Outcome) FalseWeekly() float64 { return float64(o.False) / o.Weeks }

// Delay is the median delay from a fault's start to its first alert.
func (o Outcome) Delay() time.Duration {
	d := score.MedianDelay(o.Delays).Estimate
	if math.IsNaN(d) {
		return -1
	}
	return time.Duration(d) * time.Second
}

// DelayBeside is the median delay on the faults that both found: the quick
// finds of a rule that finds little are no merit.
func (o Outcome) DelayBeside(other Outcome) time.Duration {
	var both []int64
	for i, found := range o.found {
		if found && other.found != nil && other.found[i] {
			both = append(both, o.Delays[i])
		}
	}
	if len(both) == 0 {
		return -1
	}
	return time.Duration(score.MedianDelay(both).Estimate) * time.Second
}

// tally scores each scene's alerts against what was planted.
func tally(way string, scenes []Scene, alerts [][]detect.Alert) Outcome {
	o := Outcome{Way: way, Kinds: map[string]KindCount{}}
	for i, s := range scenes {
		step := int64(s.Config.Grid.Period.Seconds())
		end := s.History[len(s.History)-1].At + step
		m := score.Match(scored(s, alerts[i]), faultsOf(s), end)
		hits, counted := 0, 0
		for _, outcome := range m.Outcomes {
			switch outcome {
			case score.Hit:
				hits, counted = hits+1, counted+1
			case score.FalseAlarm:
				counted++
			}
		}
		o.hits, o.counts = append(o.hits, hits), append(o.counts, counted)
		o.Alerts, o.Hits, o.False = o.Alerts+len(alerts[i]), o.Hits+hits, o.False+counted-hits
		o.Faults, o.Delays = o.Faults+len(s.Faults), append(o.Delays, m.Delay...)
		for k, f := range s.Faults {
			c := o.Kinds[f.Kind]
			c.Faults++
			if m.Found[k] {
				o.Found++
				c.Found++
			}
			o.Kinds[f.Kind] = c
		}
		o.found = append(o.found, m.Found...)
		o.Weeks += float64(end-s.From) / (7 * 86400)
	}
	return o
}

// scored gives a scene's alerts as they are scored.
func scored(s Scene, alerts []detect.Alert) []score.Alert {
	step := int64(s.Config.Grid.Period.Seconds())
	list := make([]score.Alert, len(alerts))
	for k, a := range alerts {
		list[k] = score.Alert{Start: a.Raised, End: a.End, Slack: 3 * step}
		for _, x := range s.Exclusions {
			list[k].Planned = list[k].Planned || x.Planned && a.Since < x.Span.To+3*step && a.Raised > x.Span.From
		}
	}
	return list
}

func faultsOf(s Scene) []score.Incident {
	list := make([]score.Incident, len(s.Faults))
	for k, f := range s.Faults {
		list[k] = score.Incident{Start: f.From, End: f.To, Covers: func(int64) bool { return true }}
	}
	return list
}

// each does a scene's work on all cores.
func each(n int, do func(i int) error) error {
	var group errgroup.Group
	group.SetLimit(runtime.NumCPU())
	for i := range n {
		group.Go(func() error { return do(i) })
	}
	return group.Wait()
}

// walkAll judges all scenes under a rule.
func walkAll(scenes []Scene, rule detect.Rule) ([][]detect.Alert, error) {
	alerts := make([][]detect.Alert, len(scenes))
	err := each(len(scenes), func(i int) error {
		s := &scenes[i]
		found, err := replay.Walk(replay.Job{Config: s.Config, Rule: rule, History: s.History, Exclusions: s.Exclusions, From: s.From})
		if err != nil {
			return fmt.Errorf("%s: %w", s.Family, err)
		}
		alerts[i] = found
		return nil
	})
	return alerts, err
}

// rivals scores every simple rule twice: at the limit people choose, and at
// the limit, chosen on the answers, that rings falsely as often as allowed.
func rivals(scenes []Scene, inRow int, allowed int) (usual, equal []Outcome) {
	for _, r := range replay.Rivals(inRow) {
		name := fmt.Sprintf("%s, %d in a row", r.Name, r.Points)
		scores := make([][]float64, len(scenes))
		start := make([]int, len(scenes))
		_ = each(len(scenes), func(i int) error {
			s := &scenes[i]
			for start[i] < len(s.History) && s.History[start[i]].At < s.From {
				start[i]++
			}
			scores[i] = r.Scores(s.History, start[i], s.Config.Grid.PerDay())
			return nil
		})
		at := func(limit float64) Outcome {
			alerts := make([][]detect.Alert, len(scenes))
			for i, s := range scenes {
				alerts[i] = r.Alerts(s.History, scores[i], start[i], limit, int64(s.Config.Grid.Period.Seconds()))
			}
			o := tally(name, scenes, alerts)
			o.Limit = limit
			return o
		}
		usual = append(usual, at(r.Usual))
		best := Outcome{Way: name, Limit: math.Inf(1), Weeks: 1}
		for limit := r.Usual / 8; limit < r.Usual*3000; limit *= 1.12 {
			if o := at(limit); o.False <= allowed && (o.Found > best.Found || best.Faults == 0) {
				best = o
			}
		}
		equal = append(equal, best)
	}
	return usual, equal
}
