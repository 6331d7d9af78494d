package baseline

import (
	"math"

	"tinbell/core/timeline"
)

// Config says what a series is. Holidays are local dates as yyyymmdd.
type Config struct {
	Kind     timeline.Kind
	Grid     timeline.Grid
	Holidays map[int]bool
	Coverage float64 // of the drawn band; 0 means 0.99
}

// Point is a sample made ready for the model: its slot, its value on the
// model's scale, and whether it may be used at all.
type Point struct {
	At      int64
	X       float64
	Rows    float64
	Slot    timeline.Slot
	Known   bool // came
	Masked  bool // labelled fault or planned event
	Holiday bool
}

// Usable tells whether the point may be learned from.
func (p *Point) Usable() bool { return p.Known && !p.Masked && !p.Holiday }

// Prepared is a history on its slots together with an unfitted model shape.
type Prepared struct {
	Points []Point
	Ties   float64 // share of equal neighbours
	shape  Model
}

// Prepare lays the history on its slots and settles family and transform:
// counts and shares with row counts are multiplicative, everything else
// additive on a transformed scale, and a series that mostly repeats itself is
// stepped. It returns TooShort if fewer samples than Need are usable.
func Prepare(cfg Config, history []timeline.Sample, mask timeline.Mask) (*Prepared, error) {
	values := make([]float64, 0, len(history))
	rows, withRows := 0.0, 0
	equal, pairs := 0, 0
	last := math.NaN()
	for _, s := range history {
		if s.Missing() {
			continue
		}
		if !math.IsNaN(last) {
			pairs++
			if s.Value == last {
				equal++
			}
		}
		last = s.Value
		values = append(values, s.Value)
		if s.Rows > 0 {
			rows, withRows = rows+s.Rows, withRows+1
		}
	}
	if need := Need(cfg.Grid); len(values) < need {
		return nil, TooShort{Have: len(values), Need: need}
	}
	p := &Prepared{Ties: float64(equal) / float64(max(pairs, 1))}
	median := Median(values)
	p.shape = Model{Family: Add, PerDay: cfg.Grid.PerDay()}
	switch cfg.Kind {
	case timeline.Count:
		p.shape.Family = Mult
	case timeline.Share:
		if withRows*2 > len(values) {
			p.shape.Family, p.shape.MeanRows = Mult, rows/float64(withRows)
		} else {
			p.shape.Transform = Arcsine
		}
	case timeline.Duration:
		p.shape.Transform, p.shape.Offset = Log, max(0.001*median, 1e-6)
	}
	slotter := timeline.NewSlotter(cfg.Grid)
	p.Points = make([]Point, len(history))
	for i, s := range history {
		p.Points[i] = p.shape.point(s, slotter.At(s.At), cfg, mask)
	}
	if p.Ties > 0.5 && median > 0 && (cfg.Kind == timeline.Count || cfg.Kind == timeline.Value) && p.repeatsItself() {
		p.shape = Model{Family: Stepped, PerDay: p.shape.PerDay}
	}
	return p, nil
}

// repeatsItself tells a stepped series from a seasonal one with many equal
// neighbours: its last value foretells it better than its period of day does.
func (p *Prepared) repeatsItself() bool {
	cells := make([][]float64, 2*p.shape.PerDay)
	cell := func(pt *Point) int { return pt.Slot.Class*p.shape.PerDay + pt.Slot.Hour }
	steps, last := 0.0, math.NaN()
	for i := range p.Points {
		if pt := &p.Points[i]; pt.Usable() {
			cells[cell(pt)] = append(cells[cell(pt)], pt.X)
			if !math.IsNaN(last) {
				steps += math.Abs(pt.X - last)
			}
			last = pt.X
		}
	}
	centres := make([]float64, len(cells))
	for i := range cells {
		centres[i] = Median(cells[i])
	}
	off := 0.0
	for i := range p.Points {
		if pt := &p.Points[i]; pt.Usable() {
			off += math.Abs(pt.X - centres[cell(pt)])
		}
	}
	return steps <= off
}

// NewPoint makes a sample ready for the fitted model.
func (m *Model) NewPoint(s timeline.Sample, slot timeline.Slot, cfg Config, masked bool) Point {
	pt := Point{At: s.At, Rows: s.Rows, Slot: slot, Known: !s.Missing(), Masked: masked, Holiday: cfg.Holidays[slot.Date]}
	if pt.Known {
		pt.X = m.Forward(s)
		if m.MeanRows > 0 && s.Rows <= 0 {
			pt.Known = false // a share of no rows says nothing
		}
	}
	return pt
}

func (m *Model) point(s timeline.Sample, slot timeline.Slot, cfg Config, mask timeline.Mask) Point {
	end := s.At + int64(cfg.Grid.Period.Seconds())
	return m.NewPoint(s, slot, cfg, mask.Touches(s.At, end))
}

// Choose fits by trying candidates on the last six weeks and keeping the one
// with the lowest error one day (daily series: one week) ahead. A one-step
// error would always prefer a level that follows faults.
func (p *Prepared) Choose() *Model {
	if p.shape.Family == Stepped {
		m := newModel(Stepped, p.shape.PerDay, Choice{HalfLife: 1, Weeks: 1, Parent: 1, Slot: 1})
		return m
	}
	perDay := p.shape.PerDay
	day := float64(perDay)
	first := Choice{HalfLife: 3 * day, Weeks: 6, Parent: 2, Slot: 4}
	var halfLives []float64
	var shapes []Choice
	switch {
	case perDay == 1:
		first.HalfLife = 14
		halfLives = []float64{7, 28}
		shapes = []Choice{{Weeks: 13, Parent: 2, Slot: 4}, {Weeks: 6, Parent: 2, Slot: 20}}
	case perDay <= 48:
		halfLives = []float64{day, 7 * day}
		shapes = []Choice{{Weeks: 2, Parent: 2, Slot: 4}, {Weeks: 6, Parent: 1, Slot: 1}, {Weeks: 2, Parent: 1, Slot: 1}, {Weeks: 6, Parent: 2, Slot: 20}}
	default:
		first.Slot = 20
	}
	points := p.Points
	if window := 42 * perDay; perDay > 1 && len(points) > window {
		points = points[len(points)-window:]
	}
	phi, spread := p.roughNoise(points)
	best := p.try(points, first, phi, spread)
	if len(p.Points) >= 21*perDay && len(p.Points) > 21 {
		best.estimateNoise()
		phi, spread = best.model.Phi, best.model.Spread
		for _, h := range halfLives {
			c := first
			c.HalfLife = h
			best = best.better(p.try(points, c, phi, spread))
		}
		for _, c := range shapes {
			c.HalfLife = best.model.Choice.HalfLife
			best = best.better(p.try(points, c, phi, spread))
		}
	}
	best.estimateNoise()
	m := p.Start(p.Points, best.model.Choice)
	m.Phi, m.Spread = best.model.Phi, best.model.Spread
	return m
}

// trial is a candidate, its error, and what it expected of the second half.
type trial struct {
	model   *Model
	loss    float64
	xs, mus []float64
}

func (t trial) estimateNoise() { t.model.estimateNoise(t.xs, t.mus) }

func (t trial) better(other trial) trial {
	if other.loss < t.loss*0.999 {
		return other
	}
	return t
}

// try replays the points through a candidate.
func (p *Prepared) try(points []Point, c Choice, phi, spread float64) trial {
	m := p.Start(points, c)
	m.Phi, m.Spread = phi, spread
	ahead := m.PerDay
	if ahead == 1 {
		ahead = 7
	}
	levels := make([]float64, ahead)
	burn := min(14*m.PerDay, len(points)/2)
	sum, n := 0.0, 0
	xs, mus := make([]float64, 0, len(points)-burn), make([]float64, 0, len(points)-burn)
	for i := range points {
		pt := &points[i]
		level := levels[i%ahead]
		if pt.Usable() {
			e := m.Expect(pt.Slot, pt.Rows)
			if i >= burn && i >= ahead {
				sum += m.loss(pt.X, level, &e)
				n++
				xs, mus = append(xs, pt.X), append(mus, e.Mu)
			}
			m.Learn(&e, pt.X)
		}
		levels[i%ahead] = m.Level()
	}
	return trial{m, sum / float64(max(n, 1)), xs, mus}
}

func (m *Model) loss(x, level float64, e *Expectation) float64 {
	if m.Family == Mult {
		const k = 0.02
		f := level * e.Profile * e.Exposure
		return min(math.Abs(math.Asinh(math.Sqrt(k*(x+.375)))-math.Asinh(math.Sqrt(k*(f+.375))))*2/math.Sqrt(k), 6)
	}
	return min(math.Abs(x-level-e.Profile)/m.Spread, 5)
}

// estimateNoise solves for the dispersion so that the median squared
// standardised residual is that of a normal, over periods above the first
// quartile of expectation; additive models take the scaled median residual.
func (m *Model) estimateNoise(xs, mus []float64) {
	if len(xs) < 20 {
		return
	}
	if m.Family == Add {
		abs := make([]float64, len(xs))
		for i := range xs {
			abs[i] = math.Abs(xs[i] - mus[i])
		}
		m.Spread = max(1.4826*Median(abs), m.floorSpread(mus))
		return
	}
	stride := max(len(xs)/600, 1)
	quartile := Quantile(append([]float64(nil), mus...), 0.25)
	var x, mu []float64
	for i := 0; i < len(xs); i += stride {
		if mus[i] >= quartile && mus[i] > 0 {
			x, mu = append(x, xs[i]), append(mu, mus[i])
		}
	}
	if len(x) < 10 {
		return
	}
	ratios := make([]float64, len(x))
	lo, hi := math.Log(1e-6), math.Log(3.0)
	for range 18 {
		mid := (lo + hi) / 2
		phi := math.Exp(mid)
		for i := range x {
			d := x[i] - mu[i]
			ratios[i] = d * d / (mu[i] + phi*mu[i]*mu[i])
		}
		if Median(ratios) > 0.455 {
			lo = mid
		} else {
			hi = mid
		}
	}
	m.Phi = math.Exp((lo + hi) / 2)
}

// floorSpread keeps a constant series from having no spread at all.
func (m *Model) floorSpread(mus []float64) float64 {
	largest := 0.0
	for _, mu := range mus {
		largest = max(largest, math.Abs(mu))
	}
	return max(1e-9, 1e-6*largest)
}

func (p *Prepared) roughNoise(points []Point) (phi, spread float64) {
	var xs []float64
	for i := range points {
		if points[i].Usable() {
			xs = append(xs, points[i].X)
		}
	}
	median := Median(xs)
	for i := range xs {
		xs[i] = math.Abs(xs[i] - median)
	}
	m := Model{}
	return 0.02, max(0.7*Median(xs), m.floorSpread([]float64{median}), 1e-3*math.Abs(median))
}

// Start makes a model with start values from the first two weeks of points:
// per class and period of day the median (few counts: the mean without the
// lowest and highest), the level their mean over a week.
func (p *Prepared) Start(points []Point, c Choice) *Model {
	m := newModel(p.shape.Family, p.shape.PerDay, c)
	m.Transform, m.Offset, m.MeanRows = p.shape.Transform, p.shape.Offset, p.shape.MeanRows
	perDay := m.PerDay
	first := points[:min(len(points), 14*perDay)]
	if perDay == 1 {
		first = points[:min(len(points), 42)]
	}
	cells := make([][]float64, 2*perDay)
	var all []float64
	for i := range first {
		pt := &first[i]
		if !pt.Usable() {
			continue
		}
		x := pt.X
		if m.MeanRows > 0 {
			x *= m.MeanRows / pt.Rows
		}
		k := pt.Slot.Class*perDay + pt.Slot.Hour
		cells[k] = append(cells[k], x)
		all = append(all, x)
	}
	overall := 0.0
	if len(all) > 0 {
		overall = middle(all, m.Family)
	}
	values := make([]float64, 2*perDay)
	level := 0.0
	for h := range perDay {
		for class := range 2 {
			own, other := cells[class*perDay+h], cells[(1-class)*perDay+h]
			v := overall
			if len(own) > 0 {
				v = middle(own, m.Family)
			} else if len(other) > 0 {
				v = middle(other, m.Family)
			}
			values[class*perDay+h] = v
			level += v * [2]float64{5, 2}[class] / float64(7*perDay)
		}
	}
	if m.Family == Mult {
		level = max(level, 1e-6)
	}
	weight := min(24, float64(7*perDay))
	m.LevelSum, m.LevelWeight = level*weight, weight
	for class := range 2 {
		for h := range perDay {
			v := values[class*perDay+h]
			profile := v - level
			if m.Family == Mult {
				profile = max(v/level, 1e-4)
			}
			m.CellSum[class][h], m.CellWeight[class][h] = profile*c.Parent, c.Parent
		}
	}
	return m
}

// middle is a robust centre; it reorders values.
func middle(values []float64, family Family) float64 {
	median := Median(values)
	if family != Mult || median >= 10 || len(values) < 4 {
		return median
	}
	sum, lo, hi := 0.0, math.Inf(1), math.Inf(-1)
	for _, v := range values {
		sum += v
		lo, hi = min(lo, v), max(hi, v)
	}
	return (sum - lo - hi) / float64(len(values)-2)
}

// Restart makes a fresh model with the choice and noise of a fitted one.
func (p *Prepared) Restart(fitted *Model) *Model {
	m := p.Start(p.Points, fitted.Choice)
	m.Phi, m.Spread = fitted.Phi, fitted.Spread
	return m
}
