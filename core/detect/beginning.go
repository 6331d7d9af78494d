package detect

import (
	"math"

	"tinbell/core/baseline"
	"tinbell/core/timeline"
)

// beginning is what a series that was empty, or always the same, does by the period of the
// day since it began to be otherwise: its history knows no level, no shape and no noise to
// judge it by.
type beginning []visits

// visits are values of one period of the day on the model's scale, their squares, and how
// often it came.
type visits struct{ X, Squares, N float64 }

// beginDays is how many days of a beginning make its shape. Until then nothing is told of it
// but that it began.
const beginDays = 3

func (b beginning) see(slot *timeline.Slot, x, exposure float64) {
	if hour := int(slot.Hour); hour < len(b) && exposure > 0 {
		v := &b[hour]
		v.X, v.Squares, v.N = v.X+x, v.Squares+x*x, v.N+exposure
	}
}

// birth is what a beginning shows: what comes in a period on the average, what comes by the
// period of the day, each with its neighbours of half an hour, and how far values stray from
// that (of periods that came more than once).
func (b beginning) birth() baseline.Birth {
	reach, seen, strayed, free := len(b)/48, 0.0, 0.0, 0.0
	born := baseline.Birth{Means: make([]float64, len(b))}
	for h := range b {
		var near visits
		for k := -reach; k <= reach; k++ {
			v := b[(h+k+len(b))%len(b)]
			near.X, near.N = near.X+v.X, near.N+v.N
		}
		if born.Means[h] = math.NaN(); near.N > 0 {
			born.Means[h] = near.X / near.N
			born.Level, seen = born.Level+born.Means[h], seen+1
		}
		if v := b[h]; v.N > 1 {
			strayed, free = strayed+max(v.Squares-v.X*v.X/v.N, 0), free+v.N-1
		}
	}
	born.Level /= max(seen, 1)
	for h := range born.Means {
		if math.IsNaN(born.Means[h]) {
			born.Means[h] = born.Level
		}
	}
	if free > 0 {
		born.Spread = math.Sqrt(strayed / free)
	}
	return born
}

// begins follows a series from an instant at which it deviates, if it was empty until then.
func (e *Evaluator) begins(since int64) {
	if e.beginning() {
		return // it is followed already
	}
	if e.Beginning = nil; e.EmptyAt > 0 && e.EmptyAt >= e.ago(since, 1) {
		e.Beginning = make(beginning, e.Model.PerDay)
	}
}

// comingUp tells whether it is told that rows come of a series that was empty, which are not
// taken for what it is yet.
func (e *Evaluator) comingUp() bool { return len(e.Beginning) > 0 && e.Open && !e.hushed() }

// startOver takes what a series that was empty became for what it is. It is as young as one
// that never was: what its band, limits, silences and deviations were says nothing of it; only
// how its periods come is known.
func (e *Evaluator) startOver(since int64) {
	was := e.state
	e.begin(was.Model)
	e.First, e.Last, e.Block, e.InBlock = since, was.Last, was.Block, was.InBlock
	e.Open, e.Alert, e.Closing = was.Open, was.Alert, was.Closing
	e.Absence, e.Lately, e.Year = was.Absence, was.Lately, was.Year
	e.Known, e.Hushed, e.Former, e.EmptyAt = was.Known, was.Hushed, was.Former, was.EmptyAt
	e.Begun, e.Regime, e.Beginning = true, since, was.Beginning
	e.Model.StartOver(e.Beginning.birth())
	e.settleLimits()
}

// comeUp is startOver of a stretch of which somebody said that it lasts. What a fit goes
// through on its way keeps what it has learned of the rest.
func (e *Evaluator) comeUp(since int64) {
	if e.replaying {
		e.Begun, e.Regime = true, since
		e.Model.StartOver(e.Beginning.birth())
		return
	}
	e.startOver(since)
	e.settleDown(e.Last, false)
}

// growUp learns the beginning of a series, day by day, until there is enough of it.
func (e *Evaluator) growUp() {
	if len(e.Beginning) == 0 || !e.Begun {
		return
	}
	e.Model.StartOver(e.Beginning.birth())
	e.Recent.restart() // what it did before it was known is no deviation from it
	if !e.beginning() {
		e.Beginning = nil
	}
}

// beginning tells whether the series began so lately that its day is not known yet.
func (e *Evaluator) beginning() bool {
	return e.Begun && e.Model.PerDay > 1 && e.Last < e.Regime+beginDays*e.day
}

// Opening is where a history begins that was as good as empty before, or always the same, for
// a week of the series' own days at least, if what came since can be fitted by itself; 0 for
// any other. It begins with the first three days in a row on which something came.
func Opening(cfg baseline.Config, history []timeline.Sample) int {
	perDay := cfg.Grid.PerDay()
	need := baseline.Need(cfg)
	if cfg.Method.Plain() || len(history) < fitAlone*perDay+need {
		return 0
	}
	weigh := arrivals(cfg.Kind, history)
	came, run, from := 0.0, 0, 0
	sum := func(from, to int) (sum float64) {
		for i := from; i < to; i++ {
			sum += weigh(i)
		}
		return sum
	}
	for from = 0; run < beginDays; from += perDay {
		if from+perDay > len(history) {
			return 0
		}
		day := sum(from, from+perDay)
		if run++; day == 0 {
			run = 0
		}
		came += day
	}
	from -= beginDays * perDay
	came -= sum(from, from+beginDays*perDay)
	before, since := came/float64(from), sum(from, len(history))/float64(len(history)-from) // a period
	if from < fitAlone*perDay || len(history)-from < need || before >= nothing || before >= anotherSeries*since {
		return 0
	}
	for weigh(from) == 0 {
		from++
	}
	return from
}

// arrivals gives how much came in a period of a history: rows, rows that a share counts, and
// of anything else whether its value is another than it was at first and just before: what
// stands still at another value has not begun to vary.
func arrivals(kind timeline.Kind, history []timeline.Sample) func(int) float64 {
	first := math.NaN()
	for i := range history {
		if first = history[i].Value; !history[i].Missing() {
			break
		}
	}
	return func(i int) float64 {
		s := &history[i]
		switch {
		case s.Missing():
			return 0
		case kind == timeline.Count:
			return s.Value
		case kind == timeline.Share && s.Rows > 0:
			return s.Value * s.Rows
		case i > 0 && s.Value != first && s.Value != history[i-1].Value:
			return 1
		}
		return 0
	}
}

// alone is from how many of its own days on a beginning is fitted by itself.
func alone(g timeline.Grid) int {
	if g.Dated() {
		return cadenceOf(g).regime
	}
	return fitAlone
}

const (
	fitAlone = 7
	// nothing is up to how many rows a period count as none, and anotherSeries which share of
	// what came later.
	nothing, anotherSeries = 0.1, 0.05
)
