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
// Candidates are tried on the last weeks; a first pass through the whole
// history calibrates windows and thresholds, a second one replays it under
// them, so that long faults in it do not bend the level.
func Fit(cfg baseline.Config, rule Rule, history []timeline.Sample, mask timeline.Mask) (*Evaluator, error) {
	prepared, err := baseline.Prepare(cfg, history, mask)
	if err != nil {
		return nil, err
	}
	model := prepared.Choose()
	e := newEvaluator(cfg, rule)
	e.replaying = true
	e.begin(model)
	e.Stuck.train(prepared.Points)
	e.calibrate(prepared.Points)
	if model.Family == baseline.Stepped {
		e.replaying = false
		return e, nil
	}
	learned := e.state
	e.begin(prepared.Restart(model))
	e.Scale, e.Maxima, e.Absence, e.Stuck = learned.Scale, learned.Maxima, learned.Absence, learned.Stuck
	e.First = prepared.Points[0].At
	e.Last = prepared.Points[len(prepared.Points)-1].At
	e.settleThresholds()
	for i := range prepared.Points {
		e.take(&prepared.Points[i], history[i].Value)
	}
	e.replaying = false
	e.settleThresholds()
	e.Open, e.Alert, e.Closing = false, Alert{}, closing{}
	return e, nil
}

func (e *Evaluator) begin(m *baseline.Model) {
	version, scale := e.Version, e.Scale
	e.state = state{Version: version, Scale: scale, Model: m, Band: baseline.NewBand(e.cfg.Coverage)}
	e.Ring = newRing(e.cadence.windows[4])
}

// calibrate replays without alerts and sets, per window and side, the scale of
// its statistic (which prices in autocorrelation), and the block maxima.
func (e *Evaluator) calibrate(points []baseline.Point) {
	e.calibrating = true
	defer func() { e.calibrating = false }()
	missing := 0
	burn := 0
	if len(points) > 21*e.Model.PerDay {
		burn = 7 * e.Model.PerDay
	}
	var z [2][5][]float64
	for s := range 2 {
		for w := range z[s] {
			z[s][w] = make([]float64, 0, len(points))
		}
	}
	raws := make([][2][5]float64, 0, len(points))
	blocks := make([]int64, 0, len(points))
	for i := range points {
		pt := &points[i]
		if !pt.Known && !pt.Masked && pt.Rows != timeline.NoRows {
			missing++
		}
		e.take(pt, pt.X)
		if i < burn || e.Model.Family == baseline.Stepped || !pt.Usable() {
			continue
		}
		v := &e.verdict
		for s := range 2 {
			for w := range v.raw[s] {
				if !math.IsNaN(v.raw[s][w]) {
					z[s][w] = append(z[s][w], v.raw[s][w])
				}
			}
		}
		row := v.raw
		for s := range 2 {
			if v.u[s] == 0 {
				row[s] = [5]float64{}
			}
		}
		raws, blocks = append(raws, row), append(blocks, e.Block)
	}
	e.Absence.All = float64(missing) / float64(max(len(points), 1))
	for s := range 2 {
		for w := range z[s] {
			e.Scale[s][w] = scaleOf(z[s][w])
		}
	}
	e.fillMaxima(raws, blocks)
}

// scaleOf is the upper spread of a statistic in units of a normal one, shrunk
// towards 1 while few values carry it.
func scaleOf(z []float64) float64 {
	n := float64(len(z))
	if n < 20 {
		return 1
	}
	upper, middle := baseline.Quantile(z, 0.9), baseline.Quantile(z, 0.5)
	own := max((upper-middle)/1.2816, 0.35)
	return math.Exp(n * math.Log(own) / (n + 100))
}

func (e *Evaluator) fillMaxima(raws [][2][5]float64, blocks []int64) {
	for s := range 2 {
		m := maxima{}
		for i := range raws {
			if i > 0 && blocks[i] != blocks[i-1] {
				m.Values = append(m.Values, m.Current)
				m.Current = 0
			}
			for w, raw := range raws[i][s] {
				if u := raw / e.Scale[s][w]; u > m.Current {
					m.Current = u
				}
			}
		}
		if extra := len(m.Values) - e.cadence.blocks; extra > 0 {
			m.Values = m.Values[extra:]
		}
		m.Current = 0
		m.settle()
		e.Maxima[s] = m
	}
}
