package detect

import (
	"errors"
	"fmt"
	"math"
	"time"

	"tinbell/core/baseline"
	"tinbell/core/timeline"
)

// Evaluator judges one series, sample by sample. Make one with Fit or Load.
// Not safe for concurrent use.
type Evaluator struct {
	cfg     baseline.Config
	rule    Rule
	cadence cadence
	slotter *timeline.Slotter
	judge   judge
	dated   bool  // periods of a day or longer
	day     int64 // the series' own, seconds
	step    int64
	state
	youth          float64 // 1 at birth, 0 once old enough: what a first fit saw it fits too well
	warn, critical [2]float64
	verdict        verdict
	point          baseline.Point // the newest; here it need not be made anew
	odd            []float32      // room for fits of tails
	mask           timeline.Mask  // while fitting
	calibrating    bool           // replaying to set scales and thresholds: no alerts
	bandFrom       int64          // while calibrating: residuals before are forgotten anyway
	idle           bool           // while calibrating: nobody asks for the windows
	sampling       bool           // all windows of both sides are asked for
	replaying      bool           // fitting: nobody reads the readings
	beyond         Direction      // of the bounds that a person gave, by the newest period
}

// judge is one way of judging: by level and weekly shape, by one of the simple
// methods, or by steps.
type judge interface {
	take(pt *baseline.Point, observed float64) Reading
	peek(pt *baseline.Point, s timeline.Sample) Reading
	explain(s timeline.Sample) []baseline.Part
}

// state is everything that is stored between samples.
type state struct {
	Version   int
	Model     *baseline.Model
	Band      *baseline.Band
	Recent    recent
	Scales    scales
	Maxima    [2]maxima
	Block     int64 // number of the current block of days
	InBlock   int   // periods of it that were judged
	First     int64 // first sample ever seen
	Last      int64 // last period judged
	Bits      [2]uint64
	Open      bool
	Alert     Alert // open, or the last closed
	Closing   closing
	Stuck     stuck
	Silence   silence
	Absence   absence
	Steps     steps
	Plain     plain
	Lately    lately
	Year      year // of daily and longer series
	Moved     moved
	Known     []novelty       // what was told, newest last
	Hushed    []timeline.Span // what came back and was not told again
	Probation int64           // until then a new level is settling
	Earlier   earlier
	Former    former // level before the one that was adopted
	Regime    int64  // start of a history of its own, 0 for none
	Begun     bool   // … before which there was nothing
	Beginning beginning
	EmptyAt   int64 // the last period at which counts had been as good as none
}

const stateVersion = 9

// ErrOutdated is wrapped by Load for a stored baseline that must be fitted
// again: one of another version of the program, or of another method.
var ErrOutdated = errors.New("stored baseline is outdated, fit it again")

func unixTime(at int64) time.Time { return time.Unix(at, 0) }

func newEvaluator(cfg baseline.Config, rule Rule) *Evaluator {
	if cfg.Coverage == 0 {
		cfg.Coverage = 0.99
	}
	e := &Evaluator{
		cfg: cfg, rule: rule.Normal(), cadence: cadenceOf(cfg.Grid), dated: cfg.Grid.Dated(),
		slotter: timeline.NewSlotter(cfg.Grid), step: int64(cfg.Grid.Period.Seconds()), day: int64(cfg.Grid.Day().Seconds()),
	}
	e.Version, e.Scales = stateVersion, unitScales()
	e.cadence.count = e.rule.Sustained.windows(e.cadence.count)
	if e.rule.KeepWorst {
		e.cadence.drop = 0
	}
	if e.rule.Spikes && !e.dated {
		e.cadence.windows[0], e.cadence.dropFrom = 1, 2
	}
	return e
}

// appoint chooses who judges, once the model is known.
func (e *Evaluator) appoint() {
	switch {
	case e.plainly():
		e.judge = simple{e}
	case e.Model.Family == baseline.Stepped:
		e.judge = stepped{e}
	default:
		e.judge = seasonal{e}
	}
}

func (e *Evaluator) plainly() bool { return e.cfg.Method.Plain() }

// windowed tells whether the series is judged by windows.
func (e *Evaluator) windowed() bool { return !e.plainly() && e.Model.Family != baseline.Stepped }

// Load restores an evaluator from MarshalBinary's bytes under a configuration
// and rule, which may differ from those it was fitted with.
func Load(cfg baseline.Config, rule Rule, blob []byte) (*Evaluator, error) {
	e := newEvaluator(cfg, rule)
	if err := e.restore(blob); err != nil {
		return nil, fmt.Errorf("%w: it cannot be read: %w", ErrOutdated, err)
	}
	if e.Version != stateVersion {
		return nil, fmt.Errorf("%w: it has version %d, this program reads %d", ErrOutdated, e.Version, stateVersion)
	}
	if cfg.Method.Plain() != (e.Plain.State != nil) {
		return nil, fmt.Errorf("%w: it was made by another method", ErrOutdated)
	}
	e.Model.Restore()
	e.Band.Restore()
	if e.Plain.State != nil {
		e.Plain.State.Restore()
	}
	for s := range 2 {
		e.Maxima[s].All.restore()
	}
	for _, p := range []*peaks{&e.Silence.Odds.Peaks, &e.Absence.Odds.Peaks, &e.Stuck.Odds.Peaks, &e.Steps.Peaks} {
		p.restore()
	}
	e.appoint()
	e.settleLimits()
	return e, nil
}

// OpenAlert gives the series' alert and whether it is open; a closed one is the
// last there was. One that is not told is not open.
func (e *Evaluator) OpenAlert() (Alert, bool) { return e.Alert, e.Open && !e.Alert.Quiet }

// Adopt closes an open alert because a person said that its level is the new
// normal.
func (e *Evaluator) Adopt(at int64) {
	if !e.Open {
		return
	}
	comes := e.comingUp()
	e.Alert.End, e.Alert.Closed, e.Alert.Reason = at, at, "level_adopted"
	e.Open = false
	e.Recent.restart()
	if e.windowed() && e.Alert.Cause == Deviation {
		if comes {
			e.startOver(e.Alert.Since)
		}
		e.settleDown(at, false)
	}
}

// Choice tells the fitted half-lives and prior weights.
func (e *Evaluator) Choice() baseline.Choice { return e.Model.Choice }

// sides is how many directions share the budget.
func (e *Evaluator) sides() int {
	if e.rule.Direction == Both {
		return 2
	}
	return 1
}

// budget is what the series may spend in 30 of its own days.
func (e *Evaluator) budget(returnPeriod time.Duration) float64 {
	return Budget(returnPeriod, e.rule.Series) * float64(e.day) / daySeconds
}

// ownStep is how long a period is where a day is one of the series' own, seconds.
func (e *Evaluator) ownStep() int64 { return e.step * daySeconds / e.day }

// after is the end of the period that starts at an instant.
func (e *Evaluator) after(at int64) int64 { return e.ago(at, -1) }

// ago is the start of the period so many before the one that starts at an instant.
func (e *Evaluator) ago(at int64, periods int) int64 {
	if e.cfg.Grid.Long() {
		return e.cfg.Grid.Add(unixTime(at), -periods).Unix()
	}
	return at - int64(periods)*e.step
}

// length is how long the period that starts at an instant is, seconds.
func (e *Evaluator) length(at int64) int64 { return e.after(at) - at }

// between is how many periods lie between two starts.
func (e *Evaluator) between(from, to int64) int { return int((to - from + e.step/2) / e.step) }

// settleLimits derives every rule's limit from its peaks.
func (e *Evaluator) settleLimits() {
	e.youth = 0
	if e.Last > e.First {
		e.youth = max(0, 1-float64(e.Last-e.First)/float64(e.day)/e.cadence.coldDays)
	}
	cold := e.rule.Kin.raise(e.youth) * e.rule.Caution.Of(Deviation)
	for s := range 2 {
		m := &e.Maxima[s]
		m.settle(e.rule.Kin.windows(s), &e.odd)
		e.warn[s] = cold * m.threshold(e.budget(e.rule.Warn), e.sides(), e.cadence.block)
		e.critical[s] = cold * m.threshold(e.budget(e.rule.Critical), e.sides(), e.cadence.block)
	}
	e.Silence.Odds.settle(e, Silence)
	e.Absence.Odds.settle(e, Missing)
	e.Stuck.Odds.settle(e, Stuck)
	e.Steps.settle(e)
}

// Step judges the next period. Periods come in order, each once; masked ones
// (planned events) are read but neither learned nor alarmed on, widened ones only
// outside of a band that is WideBand times as wide. After masked
// ones that last, the level goes on from where they left it. A period that is
// not later than the last one judged is read and changes nothing.
func (e *Evaluator) Step(s timeline.Sample, mark timeline.Mark) Reading {
	if s.At <= e.Last && e.Last != 0 {
		return e.Peek(s)
	}
	s.Value = baseline.Bound(s.Value)
	if mark == timeline.Widened {
		return e.stepWide(s)
	}
	e.bounded(s, mark)
	e.point = e.Model.NewPoint(s, e.slotter.At(s.At), &e.cfg, mark)
	r := e.judge.take(&e.point, s.Value)
	e.ring(&e.point, &r)
	return r
}

// WideBand is how many times wider the band is where a planned event widens it.
const WideBand = 3

// stepWide judges a period whose band a planned event widens: inside it nothing
// is learned or alarmed on, outside it the period is judged like any other.
func (e *Evaluator) stepWide(s timeline.Sample) Reading {
	peek := e.Peek(s)
	low, high := peek.Expected-WideBand*(peek.Expected-peek.Low), peek.Expected+WideBand*(peek.High-peek.Expected)
	if peek.Low >= 0 {
		low = max(low, 0)
	}
	mark := timeline.Masked
	if s.Value < low || s.Value > high {
		mark = timeline.Judged
	}
	r := e.Step(s, mark)
	r.Low, r.High = low, high
	return r
}

// Peek reads a period without judging it: what the band says of a period to
// come (missing value) or of the one just passed.
func (e *Evaluator) Peek(s timeline.Sample) Reading {
	s.Value = baseline.Bound(s.Value)
	pt := e.Model.NewPoint(s, e.slotter.At(s.At), &e.cfg, timeline.Judged)
	return e.judge.peek(&pt, s)
}

// Explain splits what was expected of a period into its parts.
func (e *Evaluator) Explain(s timeline.Sample) []baseline.Part { return e.judge.explain(s) }

func (e *Evaluator) rowsOr(rows float64) float64 {
	if rows <= 0 && e.Model.MeanRows > 0 {
		return e.Model.MeanRows
	}
	return rows
}

func (e *Evaluator) expect(pt *baseline.Point) (ex baseline.Expectation) {
	e.expectInto(&ex, pt)
	return ex
}

func (e *Evaluator) expectInto(ex *baseline.Expectation, pt *baseline.Point) {
	e.Model.ExpectInto(ex, &pt.Slot, e.rowsOr(pt.Rows))
	if pt.Holiday {
		e.Model.Holiday(ex, pt.X, e.rowsOr(pt.Rows), pt.Known)
	}
}

// moved sums up a masked stretch whose change lasts.
type moved struct {
	X, Mu, N float64
	Due      float64 // sum of its periods' profiles, whose mean is 1
	Since    int64
}

// leastDue is the share of what is due on the average that a stretch must hold to say
// anything of the level of counts.
const leastDue = 0.1

// move sums up a period of such a stretch.
func (e *Evaluator) move(pt *baseline.Point, ex *baseline.Expectation) {
	m := &e.Moved
	if m.N == 0 {
		m.Since = pt.At
		if !e.comingUp() {
			e.begins(pt.At)
		}
	}
	m.X, m.Mu, m.N, m.Due = m.X+pt.X, m.Mu+ex.Mu, m.N+1, m.Due+ex.Profile
	e.Beginning.see(&pt.Slot, pt.X, ex.Exposure)
}

// moveLevel goes on from the level that a lasting change left, if it is clear
// of chance.
func (e *Evaluator) moveLevel() {
	m := e.Moved
	e.Moved = moved{}
	if m.Since <= e.First || e.Begun && len(e.Beginning) > 0 {
		return // there was nothing before it
	}
	if len(e.Beginning) > 0 && m.X != 0 {
		e.comeUp(m.Since)
	} else if e.Model.Family == baseline.Mult {
		if times := (m.X + 1) / (m.Mu + 1); m.X > 0 && m.Due > leastDue*m.N && math.Abs(math.Log(times)) > 0.05 {
			e.Model.SetLevel(e.Model.Level() * times)
		}
	} else if shift := (m.X - m.Mu) / m.N; math.Abs(shift) > 0.5*e.Model.Spread {
		e.Model.SetLevel(e.Model.Level() + shift)
	}
	e.Recent.restart()
}

// blockOf numbers the days (or weeks) that an instant lies in.
func (e *Evaluator) blockOf(at int64) int64 {
	return (at + daySeconds/2) / e.day / int64(e.cadence.block)
}

// turnBlock closes the block of peaks when the local day (or week) changes. A
// block in which nothing was judged says nothing.
func (e *Evaluator) turnBlock(pt *baseline.Point) (turned bool) {
	noon := e.blockOf(pt.At)
	if noon == e.Block {
		return false
	}
	if e.Block != 0 && e.InBlock > 0 {
		keep := e.cadence.blocks
		if !e.replaying {
			for s := range 2 {
				e.Maxima[s].close(keep)
			}
		}
		e.Silence.Odds.Peaks.close(keep)
		e.Absence.Odds.Peaks.close(keep)
		e.Stuck.Odds.Peaks.close(keep)
		e.Steps.Peaks.close(keep)
	}
	e.Block, e.InBlock = noon, 0
	if !e.replaying {
		e.settleLimits()
	}
	return true
}

// ordinaryNoise is the relative spread of a period from which on the smallest
// effect worth an alert is as large as it gets.
const ordinaryNoise = 0.1

func (e *Evaluator) effect(ex *baseline.Expectation) float64 {
	effect := e.rule.MinEffect
	if e.cfg.Kind == timeline.Count {
		// The quieter the series, the smaller a loss is worth telling.
		noise := math.Sqrt(e.Model.Phi + 1/max(ex.Level, 1e-9))
		effect = max(effect, e.cadence.minEffect*min(max(noise/ordinaryNoise, 0.25), 1)*ex.Level*float64(e.Model.PerDay))
	}
	return effect
}

func (e *Evaluator) read(pt *baseline.Point, ex *baseline.Expectation, observed float64) Reading {
	rows := e.rowsOr(pt.Rows)
	lowEdge, highEdge := e.Band.Edges(e.Model, ex, 1+0.3*e.youth)
	r := Reading{
		At: pt.At, Observed: observed, Rows: pt.Rows, Masked: pt.Masked,
		Expected: e.Model.Back(ex.Mu, rows), Low: e.Model.Back(lowEdge, rows), High: e.Model.Back(highEdge, rows),
	}
	if !pt.Known {
		r.Observed = math.NaN()
		return r
	}
	r.Deviation = deviation(observed, r.Expected, r.Low, r.High)
	if math.Abs(r.Deviation) > 0.5 {
		p := e.Band.TailProbability(e.Model.Residual(ex, pt.X))
		r.ReturnPeriod = clampReturnPeriod(float64(e.step) / p)
	} else {
		r.ReturnPeriod = float64(e.step)
	}
	return r
}

// deviation is the signed distance from expected in half-widths of the band on
// that side, at most 99.
func deviation(observed, expected, low, high float64) float64 {
	d := observed - expected
	if d == 0 {
		return 0
	}
	width := high - expected
	if d < 0 {
		width = expected - low
	}
	floor := max(1e-9, 1e-6*math.Abs(expected))
	return min(max(d/max(width, floor), -99), 99)
}
