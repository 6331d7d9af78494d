package baseline

import (
	"math"

	"tinbell/core/robust"
)

// Choose fits by trying candidates on the last six weeks and keeping the one
// with the lowest error one day (daily series: one week, longer periods: three) ahead. A one-step
// error would always prefer a level that follows faults.
func (p *Prepared) Choose() *Model {
	if p.shape.Family == Stepped || p.shape.Family == Flat {
		m := newModel(p.shape.Family, p.shape.PerDay, Choice{HalfLife: 1, Weeks: 1, Parent: 1, Slot: 1})
		m.Long = p.shape.Long
		return m
	}
	perDay := p.shape.PerDay
	day := float64(perDay)
	first := Choice{HalfLife: 3 * day, Weeks: 6, Parent: 2, Slot: 4}
	var halfLives []float64
	var shapes []Choice
	switch {
	case p.shape.Long:
		// A month of the year is met once a year: whether it stands out is tried at all.
		first = Choice{HalfLife: 6, Weeks: 13, Parent: 2, Slot: noSeason}
		halfLives = []float64{3, 12}
		shapes = []Choice{{Weeks: 13, Parent: 2, Slot: 1}, {Weeks: 13, Parent: 2, Slot: 4}}
	case perDay == 1:
		first.HalfLife = 14
		halfLives = []float64{7, 28}
		shapes = []Choice{{Weeks: 13, Parent: 2, Slot: 4}, {Weeks: 6, Parent: 2, Slot: 20}}
	case perDay <= 48:
		halfLives = []float64{day, 7 * day}
		shapes = []Choice{{Weeks: 2, Parent: 2, Slot: 4}, {Weeks: 6, Parent: 1, Slot: 1}, {Weeks: 6, Parent: 2, Slot: 20}}
	default:
		first.Slot = 20
	}
	t := newTrials(p, p.recent(perDay))
	best := t.try(first)
	if len(p.Points) >= 21*perDay && len(p.Points) > 21 {
		t.noise(&best)
		for _, h := range halfLives {
			c := first
			c.HalfLife = h
			best = t.better(best, c)
		}
		for _, c := range shapes {
			c.HalfLife = best.choice.HalfLife
			best = t.better(best, c)
		}
	}
	t.noise(&best)
	m := p.Start(p.Points, best.choice)
	m.Phi, m.Spread, m.RowsWeight = t.phi, t.spread, t.rowsWeight
	return m
}

// noSeason is how many visits of a slot its shape is worth where slots say nothing.
const noSeason = 1e6

// recent are the points that candidates are tried on: of series within a day the
// six weeks up to the last period that can be learned from, or all, if hardly any
// of these can be.
func (p *Prepared) recent(perDay int) []Point {
	points := p.Points
	for n := len(points); n > 0 && !points[n-1].Usable(); n-- {
		points = points[:n-1]
	}
	if len(points) == 0 {
		return p.Points
	}
	window := 42 * perDay
	if perDay == 1 || len(points) <= window {
		return points
	}
	last := points[len(points)-window:]
	usable := 0
	for i := range last {
		if last[i].Usable() {
			usable++
		}
	}
	if usable < 3*perDay {
		return points
	}
	return last
}

// trials replays points through one candidate after another. Of each it keeps
// the error a day ahead and what it expected of the second part.
type trials struct {
	prepared    *Prepared
	points      []Point
	burn, ahead int
	levels      []float64
	spare       []float64

	phi, spread, rowsWeight float64
}

type trial struct {
	choice Choice
	loss   float64
	mus    []float64 // of usable points after the burn-in
}

func newTrials(p *Prepared, points []Point) *trials {
	t := &trials{prepared: p, points: points, burn: min(14*p.shape.PerDay, len(points)/2), ahead: p.shape.PerDay}
	switch {
	case p.shape.Long:
		t.ahead = 3
	case t.ahead == 1:
		t.ahead = 7
	}
	t.levels = make([]float64, t.ahead)
	t.phi, t.spread = p.roughNoise(points)
	return t
}

func (t *trials) better(best trial, c Choice) trial {
	if other := t.try(c); other.loss < best.loss*0.999 {
		t.spare = best.mus
		return other
	} else {
		t.spare = other.mus
	}
	return best
}

func (t *trials) try(c Choice) trial {
	m := t.prepared.Start(t.points, c)
	m.Phi, m.Spread, m.light = t.phi, t.spread, true
	mus := t.spare[:0]
	if mus == nil {
		mus = make([]float64, 0, len(t.points)-t.burn)
	}
	sum, n, k := 0.0, 0, 0
	var e Expectation
	for i := range t.points {
		pt := &t.points[i]
		level := t.levels[k]
		if pt.Usable() {
			m.ExpectInto(&e, &pt.Slot, pt.Rows)
			if i >= t.burn && i >= t.ahead {
				sum += m.loss(pt.X, level, &e)
				n++
				mus = append(mus, e.Mu)
			}
			m.Learn(&e, pt.X)
		}
		t.levels[k] = m.Level()
		if k++; k == t.ahead {
			k = 0
		}
	}
	return trial{c, sum / float64(max(n, 1)), mus}
}

// loss is the error of a forecast made a day ahead, in units of its noise and
// bounded, so that faults do not decide.
func (m *Model) loss(x, level float64, e *Expectation) float64 {
	if m.Family == Mult {
		f := level * e.Profile * e.Exposure
		middle := (x + f) / 2
		return min(math.Abs(x-f)/math.Sqrt(middle+0.375+0.02*middle*middle), 6)
	}
	return min(math.Abs(x-level-e.Profile)/m.Spread, 5)
}

// noise estimates the dispersion from a trial's residuals, so that the median
// squared standardised residual is that of a normal. For counts each residual
// gives the dispersion at which it would be just that far out, and their median
// is the answer; periods below the first quartile of expectation are left out.
func (t *trials) noise(best *trial) {
	if len(best.mus) < 20 {
		return
	}
	values := make([]float64, 0, len(best.mus))
	quartile := 0.0
	mult := t.prepared.shape.Family == Mult
	if mult {
		quartile = robust.Quantile(append(values, best.mus...), 0.25)
	}
	var residuals, rows []float64
	k := 0
	for i := max(t.burn, t.ahead); i < len(t.points); i++ {
		pt := &t.points[i]
		if !pt.Usable() {
			continue
		}
		mu := best.mus[k]
		k++
		d := pt.X - mu
		switch {
		case !mult:
			residuals, rows = append(residuals, math.Abs(d)), append(rows, pt.Rows)
		case mu >= quartile && mu > 0:
			values = append(values, (d*d/0.455-mu)/(mu*mu))
		}
	}
	if mult {
		if len(values) >= 10 {
			t.phi = clamp(robust.Median(values), 1e-6, 3)
		}
		return
	}
	t.rowsWeight = t.prepared.shape.chooseRowsWeight(residuals, rows)
	m := Model{RowsWeight: t.rowsWeight, UsualRows: t.prepared.shape.UsualRows}
	for i := range residuals {
		residuals[i] /= math.Sqrt(m.rowsNoise(rows[i]))
	}
	// Where most values are exactly as expected (rain, refunds) the median says
	// nothing of the rest.
	average := robust.Mean(residuals)
	t.spread = max(1.4826*robust.Median(residuals), 0.25*1.2533*average, floorSpread(best.mus))
}

// chooseRowsWeight finds how much of the noise falls with the row count: the
// share under which scaled residuals are most alike (a Laplace likelihood).
func (m Model) chooseRowsWeight(residuals, rows []float64) float64 {
	if m.UsualRows == 0 {
		return 0
	}
	best, least := 0.0, math.Inf(1)
	for _, w := range []float64{0, 0.15, 0.3, 0.5, 0.7, 0.85, 1} {
		m.RowsWeight = w
		logs, sum := 0.0, 0.0
		for i, r := range residuals {
			scale := math.Sqrt(m.rowsNoise(rows[i]))
			logs, sum = logs+math.Log(scale), sum+r/scale
		}
		n := float64(len(residuals))
		if loss := logs/n + math.Log(max(sum/n, 1e-300)); loss < least-1e-9 {
			best, least = w, loss
		}
	}
	return best
}

// floorSpread keeps a constant series from having no spread at all.
func floorSpread(mus []float64) float64 {
	largest := 0.0
	for _, mu := range mus {
		largest = max(largest, math.Abs(mu))
	}
	return max(1e-9, 1e-6*largest)
}

// roughNoise is what the first trial starts from.
func (p *Prepared) roughNoise(points []Point) (phi, spread float64) {
	if p.shape.Family == Mult {
		return 0.02, 1
	}
	xs := make([]float64, 0, len(points))
	for i := range points {
		if points[i].Usable() {
			xs = append(xs, points[i].X)
		}
	}
	median := robust.Median(xs)
	for i := range xs {
		xs[i] = math.Abs(xs[i] - median)
	}
	return 0.02, max(0.7*robust.Median(xs), floorSpread([]float64{median}), 1e-3*math.Abs(median))
}

// Start makes a model with start values from the first two weeks of points:
// per class and period of day the median (few counts: the mean without the
// lowest and highest), the level their mean over a week.
func (p *Prepared) Start(points []Point, c Choice) *Model {
	m := newModel(p.shape.Family, p.shape.PerDay, c)
	m.Transform, m.Offset, m.MeanRows = p.shape.Transform, p.shape.Offset, p.shape.MeanRows
	m.Calendar, m.DayType, m.UsualRows = p.shape.Calendar, p.shape.DayType, p.shape.UsualRows
	m.Dates, m.Year, m.Long = p.shape.Dates, p.shape.Year, p.shape.Long
	perDay := m.PerDay
	values, level := p.startValues(points)
	weight := min(24, float64(7*perDay))
	m.Mean, m.level = fading{level * weight, weight}, level
	for class := range 2 {
		for h := range perDay {
			v := values[class*perDay+h]
			profile := v - level
			if m.Family == Mult {
				profile = max(v/level, 1e-4)
			}
			m.cells.list[class*perDay+h] = fading{profile * c.Parent, c.Parent}
		}
	}
	return m
}

// startValues gives the robust centre per class and period of day, and their
// mean over a week; it remembers those of the points it was last asked for.
func (p *Prepared) startValues(points []Point) (values []float64, level float64) {
	if p.started.values != nil && p.started.at == points[0].At {
		return p.started.values, p.started.level
	}
	perDay := p.shape.PerDay
	first := points[:min(len(points), 14*perDay)]
	if perDay == 1 {
		first = points[:min(len(points), 42)]
	}
	cells := make([][]float64, 2*perDay)
	backing := make([]float64, 14*len(cells))
	for k := range cells {
		cells[k] = backing[14*k : 14*k : 14*k+14]
	}
	all := make([]float64, 0, len(first))
	for i := range first {
		pt := &first[i]
		if !pt.Usable() {
			continue
		}
		x := pt.X
		if p.shape.MeanRows > 0 {
			x *= p.shape.MeanRows / pt.Rows
		}
		x /= p.shape.turn(&pt.Slot)
		k := pt.Slot.Cell(perDay)
		cells[k] = append(cells[k], x)
		all = append(all, x)
	}
	overall := 0.0
	if len(all) > 0 {
		overall = middle(all, p.shape.Family)
	}
	values = make([]float64, 2*perDay)
	for h := range perDay {
		for class := range 2 {
			own, other := cells[class*perDay+h], cells[(1-class)*perDay+h]
			v := overall
			if len(own) > 0 {
				v = middle(own, p.shape.Family)
			} else if len(other) > 0 {
				v = middle(other, p.shape.Family)
			}
			values[class*perDay+h] = v
			level += v * [2]float64{5, 2}[class] / float64(7*perDay)
		}
	}
	if p.shape.Family == Mult {
		level = max(level, 1e-6)
	}
	p.started.at, p.started.values, p.started.level = points[0].At, values, level
	return values, level
}

// middle is a robust centre; it reorders values.
func middle(values []float64, family Family) float64 {
	median := robust.Median(values)
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
	m.Phi, m.Spread, m.RowsWeight = fitted.Phi, fitted.Spread, fitted.RowsWeight
	return m
}
