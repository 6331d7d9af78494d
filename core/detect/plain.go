package detect

import (
	"math"
	"math/bits"

	"tinbell/core/baseline"
	"tinbell/core/robust"
	"tinbell/core/timeline"
)

// plain judges under one of the simple baselines: a period alarms by lying
// outside the band. Unless spikes are asked for, two in a row are needed.
type plain struct {
	State  *baseline.Plain
	Before float64    // distance of the period before, in units
	Inside int        // periods inside the band since the last outside, while open
	Run    [2]Stretch // by side: since the first outside that still counts
}

// yard is the scale a value is judged on: itself, or its ratio to its siblings.
func (e *Evaluator) yard(pt *baseline.Point) (y, factor float64) {
	if e.cfg.Method.Name != baseline.Siblings {
		return pt.X, 1
	}
	if pt.Rows <= 0 {
		return math.NaN(), math.NaN()
	}
	return pt.X / pt.Rows, pt.Rows
}

// fitPlain learns a simple baseline from a history: what it remembers, the
// usual size of a distance, and the block maxima that widths from a budget
// follow from.
func (e *Evaluator) fitPlain(points []baseline.Point) {
	method := e.cfg.Method
	values := make([]float64, len(points))
	for i := range points {
		values[i] = math.NaN()
		if points[i].Usable() {
			values[i], _ = e.yard(&points[i])
		}
	}
	p := baseline.NewPlain(method, values)
	e.Plain = plain{State: p}
	if n := len(points); n > 0 {
		e.First, e.Last = points[0].At, points[n-1].At
	}
	distances := make([]float64, len(points))
	var sizes []float64
	missing := 0
	for i, v := range values {
		distances[i] = math.NaN()
		if _, inner, spread, known := p.Around(method); known && !math.IsNaN(v) {
			distances[i] = baseline.Distance(v, inner, spread)
			sizes = append(sizes, math.Abs(distances[i]))
		}
		p.Learn(v)
		pt := &points[i]
		if pt.Known {
			*e.Absence.Seen.at(&pt.Slot, e.Model.PerDay)++
		} else if !pt.Masked && pt.Rows != timeline.NoRows {
			*e.Absence.Missed.at(&pt.Slot, e.Model.PerDay)++
			*e.Absence.Seen.at(&pt.Slot, e.Model.PerDay)++
			missing++
		}
	}
	e.Absence.All = float64(missing) / float64(max(len(points), 1))
	if n := len(sizes); n > 0 {
		p.Unit = max(robust.Quantile(sizes, 0.6827), 1e-9)
	}
	var blocks []block
	for i, d := range distances {
		pt := &points[i]
		e.turnBlock(pt)
		e.gather(pt, values[i])
		if math.IsNaN(d) {
			continue
		}
		d /= p.Unit
		e.Band.Add(d)
		if n := len(blocks); n == 0 || blocks[n-1].number != e.Block {
			blocks = append(blocks, block{number: e.Block})
		}
		b := &blocks[len(blocks)-1]
		for s := range 2 {
			u := e.plainStatistic(s, d)
			b.raw[s][0], b.told[s][0] = max(b.raw[s][0], u), max(b.told[s][0], u)
		}
		e.Plain.Before = d
	}
	e.fillMaxima(e.kept(blocks))
	for s := range 2 {
		e.Maxima[s].Alone = true // the pool is of windows
	}
}

// gather counts what the rules beside the band have reached in a history.
func (e *Evaluator) gather(pt *baseline.Point, value float64) {
	switch {
	case pt.Masked:
		e.Absence.end(false)
		e.Stuck.clear()
	case pt.Known && !math.IsNaN(value):
		e.InBlock++
		e.Absence.end(true)
		e.Stuck.see(e, pt, &baseline.Expectation{Mu: pt.X, Sigma: 1}, true)
	case !pt.Known && !pt.Holiday && pt.Rows != timeline.NoRows:
		e.InBlock++
		e.Absence.missed(e, pt, false)
	}
}

// patient tells whether one period alone may not alarm.
func (e *Evaluator) patient() bool { return !e.rule.Spikes && !e.dated }

// plainStatistic is how far out the period is on a side and, where one alone
// may not alarm, the one before it.
func (e *Evaluator) plainStatistic(s int, d float64) float64 {
	sign := float64(2*s - 1)
	u := d * sign
	if e.patient() {
		u = min(u, e.Plain.Before*sign)
	}
	return max(u, 0)
}

// widths is how many spreads away the band ends on each side.
func (e *Evaluator) widths() [2]float64 {
	m := e.cfg.Method
	if m.Name == baseline.Fixed {
		return [2]float64{}
	}
	if m.Width > 0 {
		return [2]float64{m.Width, m.Width}
	}
	return [2]float64{e.warn[low] * e.Plain.State.Unit, e.warn[high] * e.Plain.State.Unit}
}

// simple judges by one of the simple methods.
type simple struct{ *Evaluator }

func (e simple) peek(pt *baseline.Point, s timeline.Sample) Reading {
	r := Reading{At: pt.At, Observed: s.Value, Rows: pt.Rows, Expected: math.NaN(), Low: math.NaN(), High: math.NaN()}
	if centre, inner, spread, known := e.Plain.State.Around(e.cfg.Method); known && e.cfg.Method.Name != baseline.Siblings {
		e.plainBand(&r, centre, inner, spread, 1)
	}
	return r
}

func (e simple) explain(s timeline.Sample) []baseline.Part {
	return []baseline.Part{{Name: e.cfg.Method.Told(), Amount: e.Peek(s).Expected}}
}

func (e simple) take(pt *baseline.Point, observed float64) Reading {
	e.turnBlock(pt)
	method, p := e.cfg.Method, e.Plain.State
	y, factor := e.yard(pt)
	centre, inner, spread, known := p.Around(method)
	r := Reading{At: pt.At, Observed: observed, Rows: pt.Rows, Masked: pt.Masked, Expected: math.NaN(), Low: math.NaN(),
		High: math.NaN(), ReturnPeriod: float64(e.step)}
	e.Last = pt.At
	if !known || pt.Masked || !pt.Known || math.IsNaN(y) {
		e.Bits[low], e.Bits[high] = e.Bits[low]<<1, e.Bits[high]<<1
		if known && !math.IsNaN(factor) {
			e.plainBand(&r, centre, inner, spread, factor)
		}
		switch {
		case pt.Lasting && pt.Known:
			p.Learn(y)
			return r
		case pt.Masked:
			p.Keep(method)
			e.Absence.end(false)
			e.Stuck.clear()
			return r
		case !pt.Known:
			r.Observed = math.NaN()
			p.Learn(math.NaN())
			if !pt.Holiday && pt.Rows != timeline.NoRows {
				r.Change = e.miss(pt)
			}
			return r
		}
		if e.Open {
			y = math.NaN() // a fault is not learned
		}
		p.Learn(y)
		return r
	}
	e.plainBand(&r, centre, inner, spread, factor)
	r.Deviation = deviation(observed, r.Expected, r.Low, r.High)
	d := baseline.Distance(y, inner, spread) / p.Unit
	if math.Abs(r.Deviation) > 0.5 {
		r.ReturnPeriod = clampReturnPeriod(float64(e.step) / e.Band.TailProbability(d))
	}
	e.InBlock++
	learns, counts, was := e.learning(), !e.hushed(), e.Open
	e.Absence.arrived(e.Evaluator, pt, learns, counts)
	e.Stuck.see(e.Evaluator, pt, &baseline.Expectation{Mu: r.Expected, Sigma: 1}, counts)
	for s := range 2 {
		u := e.plainStatistic(s, d)
		e.verdict.u[s], e.verdict.told[s] = u, u
	}
	if r.Change = e.tell(pt, &r); e.Open && !was {
		p.Forget(e.between(e.Alert.Since, pt.At))
	}
	for s := range 2 {
		if !e.hushed() && !e.settling() {
			e.Maxima[s].see(&e.verdict, s)
		}
	}
	e.Plain.Before = d
	if e.Open {
		p.Keep(method)
	} else {
		p.Learn(y)
		e.Band.Add(d)
	}
	return r
}

func (e *Evaluator) plainBand(r *Reading, centre float64, inner [2]float64, spread, factor float64) {
	w := e.widths()
	if spread == 0 { // nothing ever differed: the band is the value itself
		w = [2]float64{}
	}
	edges := [2]float64{inner[0] - w[low]*spread, inner[1] + w[high]*spread}
	if e.cfg.Kind != timeline.Value {
		edges[0] = max(edges[0], 0)
	}
	if e.cfg.Kind == timeline.Share {
		edges[1] = min(edges[1], 1)
	}
	r.Expected, r.Low, r.High = centre*factor, edges[0]*factor, edges[1]*factor
}

// tell opens, follows and closes the alert of a simple baseline.
func (e simple) tell(pt *baseline.Point, r *Reading) Change {
	if e.rule.BandOnly {
		return None
	}
	outside := [2]bool{r.Observed < r.Low, r.Observed > r.High}
	for s := range 2 {
		e.Bits[s] <<= 1
		if outside[s] {
			e.Bits[s] |= 1
		}
	}
	if e.Open {
		return e.follow(pt, r, outside)
	}
	m, n := e.rule.Persist, e.rule.Of
	if e.patient() {
		m, n = max(m, 2), max(n, 2)
	}
	for s := range 2 {
		if run := &e.Plain.Run[s]; e.Bits[s]&(1<<n-1) == 0 {
			*run = Stretch{}
		} else {
			run.add(e.cfg.Kind, pt.At, e.length(pt.At), r.Observed, r.Expected)
		}
	}
	for s, d := range [2]Direction{Low, High} {
		if (!e.settling() || e.verdict.told[s] > e.settleLimit()*e.warn[s]) && (e.rule.Direction == Both ||
			e.rule.Direction == d) && outside[s] && bits.OnesCount64(e.Bits[s]&(1<<n-1)) >= m {
			since := e.ago(pt.At, n-1-bits.LeadingZeros64(e.Bits[s]<<(64-n)))
			return e.open(pt, r, Alert{Cause: Deviation, Direction: d, Severity: Warning, Window: n, Since: since, Rang: e.Plain.Run[s]})
		}
	}
	if e.Stuck.tells(e.Evaluator) {
		return e.open(pt, r, Alert{Cause: Stuck, Severity: Warning, Since: e.Stuck.Since})
	}
	return None
}

// follow closes after as many periods inside as one alarm needs outside,
// or takes up learning again when a change has lasted long enough to be the new
// normal.
func (e simple) follow(pt *baseline.Point, r *Reading, outside [2]bool) Change {
	e.weigh(pt, r)
	if e.Alert.Quiet {
		return e.listen(pt, r)
	}
	switch e.Alert.Cause {
	case Missing:
		return e.shut(pt, pt.At, "recovered")
	case Stuck:
		if e.Stuck.Run <= 1 {
			return e.shut(pt, pt.At, "recovered")
		}
		return Updated
	case Bound:
		if e.beyond != e.Alert.Direction {
			return e.shut(pt, pt.At, "recovered")
		}
		return Updated
	}
	if outside[side(e.Alert.Direction)] {
		e.Plain.Inside = 0
	} else if e.Plain.Inside++; e.Plain.Inside >= 2 || !e.patient() {
		since := e.ago(pt.At, e.Plain.Inside-1)
		e.Plain.Inside = 0
		return e.shut(pt, since, "recovered")
	}
	wait := e.adoptAfter()
	if name := e.cfg.Method.Name; wait > 0 && (name == baseline.Change || name == baseline.Rolling || name == baseline.Siblings) &&
		e.after(pt.At)-e.Alert.Since >= wait {
		e.Plain.State.Renew()
		e.settleDown(pt.At, false)
		return e.shut(pt, pt.At, "level_adopted")
	}
	return Updated
}
