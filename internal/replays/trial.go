package replays

import (
	"context"
	"fmt"
	"math"
	"time"

	"tinbell/core/score"
	"tinbell/internal/record"
	"tinbell/internal/wire"
	"tinbell/internal/words"
)

// Compared is what a proposal changes beside what is in force, on the same past.
type Compared struct {
	Gone   []BacktestAlert `json:"gone" doc:"alerts that would no longer be told"`
	New    []BacktestAlert `json:"new"`
	Stays  int             `json:"stays"`
	Gained []string        `json:"incidents_gained" doc:"references"`
	Lost   []string        `json:"incidents_lost"`
	Paired Paired          `json:"paired"`
}

// Paired is the difference, proposal less today, with its uncertainty.
type Paired struct {
	False      int      `json:"false_alarms" doc:"more, or fewer"`
	FalseLow   float64  `json:"false_alarms_low" doc:"95 % interval"`
	FalseHigh  float64  `json:"false_alarms_high"`
	FalseP     float64  `json:"false_alarms_p" doc:"how often chance alone makes a difference as large"`
	Recall     *float64 `json:"recall"`
	RecallLow  *float64 `json:"recall_low"`
	RecallHigh *float64 `json:"recall_high"`
	RecallP    float64  `json:"recall_p"`
	Precision  *float64 `json:"precision"`
	PrecLow    *float64 `json:"precision_low"`
	PrecHigh   *float64 `json:"precision_high"`
}

// compared sets the alerts of two configurations beside each other. Alerts are
// the same if they are of one series and overlap. incidents are those that could
// have been found.
func compared(today, proposed []BacktestAlert, incidents []string, series int, now time.Time) Compared {
	c := Compared{Gone: []BacktestAlert{}, New: []BacktestAlert{}, Gained: []string{}, Lost: []string{}}
	same := func(a, b BacktestAlert) bool {
		return a.SeriesID == b.SeriesID && a.Since.Before(b.until(now)) && b.Since.Before(a.until(now))
	}
	in := func(a BacktestAlert, list []BacktestAlert) bool {
		for _, other := range list {
			if same(a, other) {
				return true
			}
		}
		return false
	}
	for _, a := range today {
		if in(a, proposed) {
			c.Stays++
		} else {
			c.Gone = append(c.Gone, a)
		}
	}
	for _, a := range proposed {
		if !in(a, today) {
			c.New = append(c.New, a)
		}
	}
	before, after := found(today), found(proposed)
	var pairs [][2]bool
	for _, i := range incidents {
		pairs = append(pairs, [2]bool{before[i], after[i]})
		switch {
		case after[i] && !before[i]:
			c.Gained = append(c.Gained, i)
		case before[i] && !after[i]:
			c.Lost = append(c.Lost, i)
		}
	}
	c.Paired = pair(score.Compare(pairs, tallies(today, proposed, series)))
	return c
}

// tallies counts by series; those that never rang count too.
func tallies(today, proposed []BacktestAlert, series int) [][2]score.Tally {
	place := map[int64]int{}
	var list [][2]score.Tally
	for way, alerts := range [][]BacktestAlert{today, proposed} {
		for _, a := range alerts {
			k, there := place[a.SeriesID]
			if !there {
				k = len(list)
				place[a.SeriesID], list = k, append(list, [2]score.Tally{})
			}
			switch a.Outcome {
			case score.Hit:
				list[k][way].Hits++
			case score.FalseAlarm:
				list[k][way].False++
			}
		}
	}
	for len(list) < series {
		list = append(list, [2]score.Tally{})
	}
	return list
}

func pair(p score.Paired) Paired {
	return Paired{p.False, nothing(p.FalseLow), nothing(p.FalseHigh), p.FalseP, wire.Finite(p.Recall.Estimate), wire.Finite(p.Recall.Low),
		wire.Finite(p.Recall.High), p.RecallP,
		wire.Finite(p.Precision.Estimate), wire.Finite(p.Precision.Low), wire.Finite(p.Precision.High)}
}

// nothing is what a difference of nothing is.
func nothing(x float64) float64 {
	if math.IsNaN(x) {
		return 0
	}
	return x
}

// Trial is two configurations on the same past, over any set of monitors.
type Trial struct {
	record.Tried
	Today    Backtest `json:"today"`
	Proposed Backtest `json:"proposed"`
	Compared
	Sentence string `json:"sentence"`
}

// Try replays monitors over [from, to) under their own settings and under
// others. proceed is told of each monitor done and may stop it.
func (b *Bench) Try(ctx context.Context, monitors []record.Monitor, from, to time.Time, tried record.Tried,
	proceed func(done, total int) error) (Trial, error) {
	t := Trial{Tried: tried}
	var err error
	total := 2 * len(monitors)
	step := func(base int) func(int) error { return func(n int) error { return proceed(base+n, total) } }
	if t.Today, err = b.backtest(ctx, monitors, from, to, record.Tried{}, step(0)); err != nil {
		return t, err
	}
	if t.Proposed, err = b.backtest(ctx, monitors, from, to, tried, step(len(monitors))); err != nil {
		return t, err
	}
	t.Compared = compared(t.Today.Alerts, t.Proposed.Alerts, t.Today.incidents, t.Today.Series, t.Today.To)
	t.Sentence = changeSentence(t.Today.Alerts, t.Proposed.Alerts, t.Compared, t.Today.To.Sub(t.Today.From))
	return t, nil
}

// changeSentence says in one line what a proposal changes.
func changeSentence(today, proposed []BacktestAlert, c Compared, length time.Duration) string {
	count := func(list []BacktestAlert) (n int) {
		for _, a := range list {
			if a.Outcome == score.FalseAlarm {
				n++
			}
		}
		return n
	}
	falseBefore, falseAfter := count(today), count(proposed)
	span := "Rehearsed on " + words.Duration(length.Round(time.Hour))
	if len(c.Gone) == 0 && len(c.New) == 0 {
		return span + ", the proposal tells the same as today."
	}
	var parts []string
	switch d := falseAfter - falseBefore; {
	case d < 0:
		parts = append(parts, fmt.Sprintf("sheds %d of %d false alarms", -d, falseBefore))
	case d > 0:
		parts = append(parts, fmt.Sprintf("adds %s", words.Plural(d, "false alarm")))
	}
	if n := len(c.Gained); n > 0 {
		parts = append(parts, fmt.Sprintf("finds %s more", words.Plural(n, "incident")))
	}
	if n := len(c.Lost); n > 0 {
		parts = append(parts, fmt.Sprintf("misses %s that today finds", words.Plural(n, "incident")))
	}
	if len(parts) == 0 {
		parts = append(parts, fmt.Sprintf("tells %d other alerts, none of them false or new", len(c.New)))
	}
	return span + ", the proposal " + words.List(parts) + "."
}
