package detect

import (
	"math"

	"tinbell/core/baseline"
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
	prepared, err := baseline.Prepare(cfg, history, mask)
	if err != nil {
		return nil, err
	}
	model := prepared.Choose()
	e := newEvaluator(cfg, rule)
	e.replaying = true
	e.begin(model)
	if e.plainly {
		e.fitPlain(prepared.Points)
		e.Stuck.train(prepared.Points, false)
		e.replaying = false
		e.settleThresholds()
		return e, nil
	}
	e.Stuck.train(prepared.Points, model.Family == baseline.Mult)
	e.calibrate(prepared.Points)
	if model.Family != baseline.Stepped && e.wouldAlarm() {
		e.replay(prepared, history)
	}
	e.replaying = false
	e.settleThresholds()
	e.Open, e.Alert, e.Closing = false, Alert{}, closing{}
	return e, nil
}

func (e *Evaluator) begin(m *baseline.Model) {
	version, scale := e.Version, e.Scale
	e.state = state{Version: version, Scale: scale, Model: m, Band: baseline.NewBand(e.cfg.Coverage)}
	e.Recent = newRecent(e.cadence.windows[4])
}

// replay goes through the history again, alerts and all, and calibrates on the
// periods without one.
func (e *Evaluator) replay(p *baseline.Prepared, history []timeline.Sample) {
	learned := e.state
	e.begin(p.Restart(learned.Model))
	e.Scale, e.Centre, e.Maxima, e.Absence, e.Stuck, e.Year = learned.Scale, learned.Centre, learned.Maxima, learned.Absence, learned.Stuck, learned.Year
	e.Stuck.forget()
	e.First, e.Last = learned.First, learned.Last
	e.settleThresholds()
	c := newCalibration(e, len(p.Points))
	for i := range p.Points {
		c.sample(i)
		e.take(&p.Points[i], baseline.Bound(history[i].Value))
		if !e.Open {
			c.see(i, &p.Points[i])
		}
	}
	c.settle()
}

// wouldAlarm tells whether any block of the history reaches a threshold.
func (e *Evaluator) wouldAlarm() bool {
	e.settleThresholds()
	for s := range 2 {
		for _, u := range e.Maxima[s].Told {
			if u > e.warn[s] {
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
		e.take(pt, pt.X)
		c.see(i, pt)
	}
	c.settle()
	e.calibrating, e.idle = false, false
	e.Steps.settle()
	e.Absence.settle(float64(missing) / float64(max(len(points), 1)))
}

// calibration sets, per window and side, the scale of its statistic (which
// prices in autocorrelation), and the block maxima. Scales come from every
// eighth period, maxima from all; the first week of long histories only warms
// up.
type calibration struct {
	*Evaluator
	burn, stride int
	z            [2][5][]float64
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
	backing := make([]float64, 10*size)
	for s := range 2 {
		for w := range c.z[s] {
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
	if c.sampling {
		for s := range 2 {
			for w, raw := range v.raw[s] {
				if !math.IsNaN(raw) {
					c.z[s][w] = append(c.z[s][w], raw)
				}
			}
		}
	}
	if n := len(c.blocks); n == 0 || c.blocks[n-1].number != c.Block {
		c.blocks = append(c.blocks, block{number: c.Block})
	}
	c.blocks[len(c.blocks)-1].see(v)
}

func (c *calibration) settle() {
	c.sampling = false
	for s := range 2 {
		for w := range c.z[s] {
			c.Scale[s][w], c.Centre[s][w] = scaleOf(c.z[s][w])
		}
	}
	c.fillMaxima(c.blocks)
}

// scaleOf is the upper spread of a statistic in units of a normal one, shrunk
// towards 1 while few values carry it, and its median.
func scaleOf(z []float64) (scale, centre float64) {
	n := float64(len(z))
	if n < 20 {
		return 1, 0
	}
	upper, middle := baseline.Quantile(z, 0.9), baseline.Quantile(z, 0.5)
	own := max((upper-middle)/1.2816, 0.35)
	return math.Exp(n * math.Log(own) / (n + 100)), middle
}

// block holds the largest statistic of each window and side over a day or week,
// before scales are known.
type block struct {
	number    int64
	raw, told [2][5]float64
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

func (e *Evaluator) fillMaxima(blocks []block) {
	if n := len(blocks); n > 0 {
		blocks = blocks[:n-1] // the last one may not be over
	}
	if extra := len(blocks) - e.cadence.blocks; extra > 0 {
		blocks = blocks[extra:]
	}
	for s := range 2 {
		m := maxima{}
		for i := range blocks {
			u, told := 0.0, 0.0
			for w, scale := range e.Scale[s] {
				u, told = max(u, blocks[i].raw[s][w]/scale), max(told, blocks[i].told[s][w]/scale)
			}
			m.Values, m.Told = append(m.Values, u), append(m.Told, told)
		}
		m.restore()
		e.Maxima[s] = m
	}
}
