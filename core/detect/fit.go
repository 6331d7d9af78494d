package detect

import (
	"errors"
	"math"
	"slices"
	"sort"

	"tinbell/core/baseline"
	"tinbell/core/robust"
	"tinbell/core/timeline"
)

// Fit learns a series from its history: dense, ascending samples as
// timeline.Dense gives them, masked spans left out of learning and judging.
// It returns an evaluator that has judged all of the history, with no alert
// open, or baseline.TooShort.
//
// Candidates are tried on the last weeks; then a pass through the whole history
// calibrates windows and thresholds. Where something in it would have alarmed,
// it is replayed under them and calibrated again on what is left, so that
// faults nobody labelled bend neither the level nor the thresholds.
func Fit(cfg baseline.Config, rule Rule, history []timeline.Sample, mask timeline.Mask) (*Evaluator, error) {
	e, err := fit(cfg, rule, history, mask)
	if err == nil {
		e.recall(history)
	}
	return e, err
}

// Refit is Fit for a series that an evaluator has judged so far, whose open alert
// and memory the new one takes over. What is being told about, and what came back
// and was not told, is left out of learning; a series that became another one is
// learned from its new beginning as soon as that is long enough; one that was empty before
// is not fitted until then, and the old evaluator is given back. Without an old evaluator it
// is Fit.
func Refit(old *Evaluator, cfg baseline.Config, rule Rule, history []timeline.Sample, mask timeline.Mask) (*Evaluator, error) {
	if old == nil {
		return Fit(cfg, rule, history, mask)
	}
	spans := old.Hushed
	if a, open := old.OpenAlert(); open && (a.Cause == Deviation || a.Cause == Silence) {
		spans = append(slices.Clone(spans), timeline.Span{From: a.Since, To: math.MaxInt64})
	}
	if len(spans) > 0 {
		mask = mask.And(spans...)
	}
	from := 0
	if at, due := old.RegimeDue(); due > 0 && len(history) > 0 && (old.Begun || history[len(history)-1].At >= due) {
		from = sort.Search(len(history), func(i int) bool { return history[i].At >= at })
	}
	e, err := fit(cfg, rule, history[from:], mask)
	if short := (baseline.TooShort{}); old.Begun && errors.As(err, &short) {
		return old, nil
	}
	if err == nil {
		e.carry(old, history)
		e.recall(history)
	}
	return e, err
}

// carry is Carry to the end of a history beyond which the old evaluator may have
// judged: what it told after that is not known there yet.
func (e *Evaluator) carry(old *Evaluator, history []timeline.Sample) {
	e.Carry(old)
	if len(history) == 0 {
		return
	}
	end := e.after(history[len(history)-1].At)
	e.Known = slices.DeleteFunc(slices.Clone(e.Known), func(k novelty) bool { return k.Raised > end })
	if e.Open && e.Alert.Raised > end {
		e.Open, e.Alert, e.Closing = false, Alert{}, closing{}
	}
}

// RegimeDue gives where a series began that is another one than before, and when
// that is long enough to be fitted by itself; zeros for none.
func (e *Evaluator) RegimeDue() (from, due int64) {
	if e.Regime == 0 {
		return 0, 0
	}
	days := e.cadence.regime
	if e.Begun {
		days = alone(e.cfg.Grid)
	}
	return e.Regime, e.Regime + int64(days)*e.day
}

func fit(cfg baseline.Config, rule Rule, history []timeline.Sample, mask timeline.Mask) (*Evaluator, error) {
	history = history[Opening(cfg, history):]
	prepared, err := baseline.Prepare(cfg, history, mask)
	if err != nil {
		return nil, err
	}
	model := prepared.Choose()
	e := newEvaluator(cfg, rule)
	e.replaying = true
	e.begin(model)
	e.mask = mask
	if len(prepared.Points) > 0 {
		e.First = prepared.Points[0].At
	}
	if e.plainly() {
		e.Stuck.train(prepared.Points, false)
		e.fitPlain(prepared.Points)
		e.replaying = false
		e.settleLimits()
		return e, nil
	}
	e.Stuck.train(prepared.Points, model.Family == baseline.Mult)
	e.calibrate(prepared.Points)
	if e.wouldAlarm() {
		e.replay(prepared, history)
	}
	e.replaying = false
	e.settleLimits()
	e.Open, e.Alert, e.Closing = false, Alert{}, closing{}
	return e, nil
}

func (e *Evaluator) begin(m *baseline.Model) {
	e.state = state{Version: e.Version, Scales: unitScales(), Model: m, Band: baseline.NewBand(e.cfg.Coverage)}
	e.Recent = newRecent(e.cadence.windows[e.cadence.count-1])
	e.appoint()
}

// replay goes through the history again, alerts and all. Levels, shapes and
// scales are learned from the periods without one; the peaks that limits follow
// from are taken from all: what a series does is part of it.
func (e *Evaluator) replay(p *baseline.Prepared, history []timeline.Sample) {
	learned := e.state
	e.begin(p.Restart(learned.Model))
	e.Scales, e.Maxima, e.Year, e.Steps = learned.Scales, learned.Maxima, learned.Year, learned.Steps
	e.Silence, e.Absence, e.Stuck = learned.Silence, learned.Absence, learned.Stuck
	e.Steps.Known, e.Steps.Peaks = false, peaks{} // learned already
	e.Silence.Odds.Peaks, e.Absence.Odds.Peaks, e.Stuck.Odds.Peaks = peaks{}, peaks{}, peaks{}
	e.Silence.Odds.end(false)
	e.Absence.end(false)
	e.Stuck.forget()
	e.First, e.Last = learned.First, learned.Last
	c := newCalibration(e, len(p.Points))
	for i := range p.Points {
		c.sample(i)
		e.judge.take(&p.Points[i], baseline.Bound(history[i].Value))
		c.see(i, &p.Points[i])
	}
	c.settle()
	e.Steps.Peaks = learned.Steps.Peaks
}

// wouldAlarm tells whether anything of the history rings, or comes near to it
// where how often periods are empty or missing is only known at its end.
func (e *Evaluator) wouldAlarm() bool {
	e.settleLimits()
	if s := &e.Silence.Odds; s.Peaks.largest() > 0.8*s.least {
		return true
	}
	if s := &e.Absence.Odds; s.Peaks.largest() > 0.8*s.least {
		return true
	}
	for s := range 2 {
		for _, u := range e.Maxima[s].Told {
			if float64(u) > e.warn[s] {
				return true
			}
		}
	}
	return false
}

// calibrate goes through the history without alerts.
func (e *Evaluator) calibrate(points []baseline.Point) {
	e.calibrating = true
	if n := len(points) - baseline.BandMemory*5/4; n > 0 {
		e.bandFrom = points[n].At
	}
	missing := 0
	c := newCalibration(e, len(points))
	// Maxima are kept of the last blocks only.
	recent := max(c.burn, len(points)-(e.cadence.blocks+2)*e.cadence.block*e.Model.PerDay)
	for i := range points {
		pt := &points[i]
		if !pt.Known && !pt.Masked && pt.Rows != timeline.NoRows {
			missing++
		}
		c.sample(i)
		e.idle = !e.sampling && i < recent
		e.judge.take(pt, pt.X)
		c.see(i, pt)
	}
	c.settle()
	e.calibrating, e.idle = false, false
	if len(points) > 0 && e.Model.Family == baseline.Stepped {
		e.Steps.settleLasting(e.blockOf(points[0].At), e.Block, e.day, e.cadence.blocks)
	}
	e.Absence.All = float64(missing) / float64(max(len(points), 1))
}

// calibration sets, per window and side, the scale of its statistic (which
// prices in autocorrelation), and the block maxima. Scales come from every
// eighth period, maxima from all; the first week of long histories only warms
// up.
type calibration struct {
	*Evaluator
	burn, stride int
	z            [2][maxWindows][]float64
	blocks       []block
}

func newCalibration(e *Evaluator, n int) *calibration {
	c := &calibration{Evaluator: e, stride: 8}
	if n > 21*e.Model.PerDay {
		c.burn = 7 * e.Model.PerDay
	}
	if n < 1000 {
		c.stride = 1
	}
	size := n/c.stride + 1
	backing := make([]float64, 2*e.cadence.count*size)
	for s := range 2 {
		for w := range e.cadence.count {
			c.z[s][w] = backing[:0:size]
			backing = backing[size:]
		}
	}
	c.blocks = make([]block, 0, n/e.Model.PerDay+2)
	return c
}

// sample says before a period whether all windows of both sides are asked for.
func (c *calibration) sample(i int) { c.sampling = i >= c.burn && i%c.stride == 0 }

func (c *calibration) see(i int, pt *baseline.Point) {
	if i < c.burn || c.Model.Family == baseline.Stepped || !pt.Usable() {
		return
	}
	v := &c.verdict
	if c.sampling && !c.Open {
		for s := range 2 {
			for w, raw := range v.raw[s][:c.cadence.count] {
				if !math.IsNaN(raw) {
					c.z[s][w] = append(c.z[s][w], raw)
				}
			}
		}
	}
	if n := len(c.blocks); n == 0 || c.blocks[n-1].number != c.Block {
		from := c.Block*int64(c.cadence.block)*c.day - daySeconds/2
		c.blocks = append(c.blocks, block{number: c.Block, ordinary: c.mask.CalledOrdinary(from, from+int64(c.cadence.block)*c.day)})
	}
	c.blocks[len(c.blocks)-1].see(v)
}

func (c *calibration) settle() {
	c.sampling = false
	for s := range 2 {
		for w := range c.cadence.count {
			c.Scales.Scale[s][w], c.Scales.Centre[s][w] = scaleOf(c.z[s][w])
		}
	}
	blocks := c.kept(c.blocks)

	c.Scales.ownTails(blocks, c.cadence.count, &c.odd)
	c.fillMaxima(blocks)
}

// ownTails gives each window of a history that is long enough the scale and
// shift at which its block maxima have the tail of a standard normal one's.
func (s *scales) ownTails(blocks []block, windows int, odd *[]float32) {
	n := len(blocks)
	if n <= 6 {
		return
	}
	values, sorted := make([]float32, n), make([]float32, n)
	for side := range 2 {
		for w := range windows {
			for i := range blocks {
				values[i] = float32(blocks[i].raw[side][w])
			}
			copy(sorted, values)
			slices.Sort(sorted)
			prior := slopePrior{slope: windowPrior * s.Scale[side][w], worth: tailPrior}
			t := fitTail(values, sorted, prior)
			if largest := slices.Index(values, sorted[n-1]); !blocks[largest].ordinary {
				t = fitWithoutOne(values, sorted, prior, odd)
			}
			scale := t.slope() / windowPrior
			s.Scale[side][w], s.Shift[side][w] = scale, windowBase-t.base/scale
		}
	}
}

// scaleOf is the upper spread of a statistic in units of a normal one, shrunk
// towards 1 while few values carry it, and its median.
func scaleOf(z []float64) (scale, centre float64) {
	n := float64(len(z))
	if n < 20 {
		return 1, 0
	}
	upper, middle := robust.Quantile(z, 0.9), robust.Quantile(z, 0.5)
	own := max((upper-middle)/1.2816, 0.35)
	return math.Exp(n * math.Log(own) / (n + 100)), middle
}

// block holds the largest statistic of each window and side over a day or week,
// before scales are known.
type block struct {
	number    int64
	ordinary  bool // somebody called what it holds ordinary
	raw, told [2]perWindow
}

func (b *block) see(v *verdict) {
	for s := range 2 {
		if v.u[s] == 0 {
			continue // the newest period does not deviate to this side
		}
		for w, raw := range v.raw[s] {
			if raw > b.raw[s][w] {
				b.raw[s][w] = raw
			}
			if v.ample[s][w] && raw > b.told[s][w] {
				b.told[s][w] = raw
			}
		}
	}
}

// kept are the blocks that are over and not too old; what the last one holds so
// far goes on.
func (e *Evaluator) kept(blocks []block) []block {
	if n := len(blocks); n > 0 {
		blocks = blocks[:n-1]
	}
	return blocks[max(0, len(blocks)-e.cadence.blocks):]
}

func (e *Evaluator) fillMaxima(blocks []block) {
	for s := range 2 {
		m := maxima{}
		m.All.Values, m.Told = make([]float32, 0, len(blocks)+1), make([]float32, 0, len(blocks)+1)
		for i := range blocks {
			u, told := 0.0, 0.0
			for w := range e.cadence.count {
				u, told = max(u, e.Scales.of(s, w, blocks[i].raw[s][w])), max(told, e.Scales.of(s, w, blocks[i].told[s][w]))
			}
			m.All.Values, m.Told = append(m.All.Values, float32(u)), append(m.Told, float32(told))
		}
		m.All.restore()
		if n := len(blocks); n > 0 {
			m.All.Whole = blocks[slices.Index(m.All.Values, m.All.sorted[n-1])].ordinary
		}
		e.Maxima[s] = m
	}
}
