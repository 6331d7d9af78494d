package detect

import (
	"math"
	"sort"

	"tinbell/core/baseline"
	"tinbell/core/timeline"
)

// Episode is a stretch of the past in which a rule came near to its limit or
// beyond it. Times are Unix seconds.
type Episode struct {
	From, To  int64
	Cause     Cause
	Direction Direction
	Strength  float64 // largest statistic over the limit
}

// nearLimit is how much of its limit a rule must reach for an episode.
const nearLimit = 0.6

// Episodes goes through a history with the limits that follow from it, and gives
// the stretches that come nearest to them or lie beyond, strongest first.
func (e *Evaluator) Episodes(history []timeline.Sample, mask timeline.Mask) ([]Episode, error) {
	prepared, err := baseline.Prepare(e.cfg, history, mask)
	if err != nil || !e.windowed() {
		return nil, err
	}
	again := newEvaluator(e.cfg, e.rule)
	again.rule.BandOnly, again.replaying = true, true
	again.begin(prepared.Restart(e.Model))
	again.Scales, again.Stuck = e.Scales, e.Stuck
	again.Silence.Empty, again.Silence.Seen, again.Silence.All = e.Silence.Empty, e.Silence.Seen, e.Silence.All
	again.Absence.Missed, again.Absence.Seen, again.Absence.All = e.Absence.Missed, e.Absence.Seen, e.Absence.All
	again.Stuck.forget()
	gather := gatherer{step: e.step, gap: max(6*e.step, 6*3600)}
	for i := range prepared.Points {
		pt := &prepared.Points[i]
		again.judge.take(pt, baseline.Bound(history[i].Value))
		if pt.Masked || pt.Holiday {
			continue
		}
		for s, d := range [2]Direction{Low, High} {
			if told := again.verdict.told[s]; pt.Known && told > 0 && (e.rule.Direction == Both || e.rule.Direction == d) {
				onset, _ := again.began(d, again.verdict.window[s], pt.At)
				gather.see(Episode{Cause: Deviation, Direction: d, Strength: told / e.warn[s]}, pt.At, onset.At)
			}
		}
		for _, r := range []struct {
			cause Cause
			own   *surprise
			run   *surprise
		}{{Silence, &e.Silence.Odds, &again.Silence.Odds}, {Missing, &e.Absence.Odds, &again.Absence.Odds}} {
			if r.run.N > 0 {
				warn, _ := r.own.limits(e, r.cause)
				gather.see(Episode{Cause: r.cause, Direction: Low, Strength: r.run.S / warn}, pt.At, r.run.Since)
			}
		}
	}
	return gather.strongest(), nil
}

// gatherer joins what follows closely into episodes.
type gatherer struct {
	step, gap int64
	open      []Episode
	done      []Episode
}

func (g *gatherer) see(e Episode, at, since int64) {
	if e.Strength < nearLimit {
		return
	}
	e.From, e.To = since, at+g.step
	for i := range g.open {
		o := &g.open[i]
		if o.Cause != e.Cause || o.Direction != e.Direction {
			continue
		}
		if since-o.To > g.gap {
			g.done = append(g.done, *o)
			*o = e
			return
		}
		o.From, o.To, o.Strength = min(o.From, e.From), e.To, max(o.Strength, e.Strength)
		return
	}
	g.open = append(g.open, e)
}

func (g *gatherer) strongest() []Episode {
	list := append(g.done, g.open...)
	sort.SliceStable(list, func(i, j int) bool { return list[i].Strength > list[j].Strength })
	return list
}

// Limits are what a series must reach for each rule to tell of it: of windows the
// statistic before it is scaled, by side and length.
type Limits struct {
	Windows                [2][]float64
	Silence, Missing, Step float64
}

// Limits gives the series' limits, for comparison with those of another fit.
func (e *Evaluator) Limits() Limits {
	var l Limits
	for s := range 2 {
		for w := range e.cadence.count {
			l.Windows[s] = append(l.Windows[s], (e.warn[s]-e.Scales.Shift[s][w])*e.Scales.Scale[s][w])
		}
	}
	l.Silence, _ = e.Silence.Odds.limits(e, Silence)
	l.Missing, _ = e.Absence.Odds.limits(e, Missing)
	l.Step = e.Steps.Reach
	return l
}

// Lower tells by how much limits lie below others: the largest logarithm of a
// ratio.
func (l Limits) Lower(than Limits) float64 {
	most := 0.0
	gain := func(own, other float64) {
		if own > 0 && other > own {
			most = max(most, math.Log(other/own))
		}
	}
	for s := range 2 {
		for w := range l.Windows[s] {
			gain(l.Windows[s][w], than.Windows[s][w])
		}
	}
	gain(l.Silence, than.Silence)
	gain(l.Missing, than.Missing)
	gain(l.Step, than.Step)
	return most
}
