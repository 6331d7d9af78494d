package baseline

import (
	"math"

	"tinbell/core/robust"
	"tinbell/core/timeline"
)

// Config says what a series is. Holidays are local dates as yyyymmdd.
type Config struct {
	Kind     timeline.Kind
	Grid     timeline.Grid
	Holidays map[int]bool
	Coverage float64 // of the drawn band; 0 means 0.99
	Method   Method
}

// Holiday tells whether a period is a holiday; longer ones than a day are none.
func (c *Config) Holiday(slot *timeline.Slot) bool {
	return !c.Grid.Long() && c.Holidays[int(slot.Date)]
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
	Lasting bool // masked, and the level goes on from there
	Holiday bool
}

// Usable tells whether the point may be learned from.
func (p *Point) Usable() bool { return p.Known && !p.Masked && !p.Holiday }

// Prepared is a history on its slots together with an unfitted model shape.
type Prepared struct {
	Points  []Point
	Ties    float64 // share of equal neighbours
	shape   Model
	started struct {
		at     int64
		values []float64
		level  float64
	}
}

// Prepare lays the history on its slots and settles family and transform:
// counts and shares with row counts are multiplicative, everything else
// additive on a transformed scale, and a series that mostly repeats itself is
// stepped. It returns TooShort if fewer samples than Need are usable.
func Prepare(cfg Config, history []timeline.Sample, mask timeline.Mask) (*Prepared, error) {
	var rows []float64
	n, equal, pairs := 0, 0, 0
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
		n++
		if s.Rows > 0 {
			rows = append(rows, s.Rows)
		}
	}
	if need := Need(cfg); n < need {
		return nil, TooShort{Have: n, Need: need}
	}
	if len(history) == 0 {
		return &Prepared{shape: Model{Family: Flat, PerDay: cfg.Grid.PerDay(), Long: cfg.Grid.Long()}}, nil
	}
	p := &Prepared{Ties: float64(equal) / float64(max(pairs, 1))}
	median := 0.0
	if p.Ties > 0.5 || cfg.Kind == timeline.Duration {
		median = robust.Median(known(history))
	}
	p.shape = Model{Family: Add, PerDay: cfg.Grid.PerDay(), Long: cfg.Grid.Long()}
	switch kind := cfg.Kind; {
	case cfg.Method.Plain():
		p.shape.Family = Flat
	case kind == timeline.Count:
		p.shape.Family = Mult
	case kind == timeline.Share:
		if len(rows)*2 > n {
			p.shape.Family, p.shape.MeanRows = Mult, robust.Mean(rows)
		} else {
			p.shape.Transform = Arcsine
		}
	case kind == timeline.Duration:
		p.shape.Transform, p.shape.Offset = Log, max(0.001*median, 1e-6)
	}
	if p.shape.Family == Add && len(rows)*2 > n {
		p.shape.UsualRows = robust.Median(rows)
	}
	slotter := timeline.NewSlotter(cfg.Grid)
	p.Points = make([]Point, len(history))
	date, holiday, masked := int32(0), false, len(mask.Spans()) > 0
	for i, s := range history {
		pt := &p.Points[i]
		pt.Slot = slotter.At(s.At)
		if pt.Slot.Date != date {
			date, holiday = pt.Slot.Date, cfg.Holiday(&pt.Slot)
		}
		pt.Holiday = holiday
		p.shape.fill(pt, s)
		if masked {
			pt.take(mask.Mark(s.At, cfg.Grid.End(s.At)))
		}
	}
	if p.shape.Family != Flat && p.Ties > 0.5 && median > 0 && (cfg.Kind == timeline.Count || cfg.Kind == timeline.Value) &&
		p.repeatsItself() {
		p.shape = Model{Family: Stepped, PerDay: p.shape.PerDay, Long: p.shape.Long}
	}
	p.learnCalendar()
	p.learnYear(cfg.Grid)
	return p, nil
}

// known gives the values that came.
func known(history []timeline.Sample) []float64 {
	values := make([]float64, 0, len(history))
	for _, s := range history {
		if !s.Missing() {
			values = append(values, s.Value)
		}
	}
	return values
}

// repeatsItself tells a stepped series from a seasonal one with many equal
// neighbours: its last value foretells it better than its period of day does.
func (p *Prepared) repeatsItself() bool {
	cells := make([][]float64, 2*p.shape.PerDay)
	cell := func(pt *Point) int { return pt.Slot.Cell(p.shape.PerDay) }
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
		centres[i] = robust.Median(cells[i])
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
func (m *Model) NewPoint(s timeline.Sample, slot timeline.Slot, cfg *Config, mark timeline.Mark) Point {
	pt := Point{Slot: slot}
	pt.take(mark)
	if len(cfg.Holidays) > 0 {
		pt.Holiday = cfg.Holiday(&slot)
	}
	m.fill(&pt, s)
	return pt
}

func (p *Point) take(mark timeline.Mark) {
	p.Masked, p.Lasting = mark != timeline.Judged, mark == timeline.Lasting
}

// Largest is the largest magnitude that is told apart; values beyond it count
// as this far out, so that squares and sums stay finite.
const Largest = 1e100

// Bound brings a value within what is told apart; NaN stays.
func Bound(v float64) float64 { return min(max(v, -Largest), Largest) }

func (m *Model) fill(pt *Point, s timeline.Sample) {
	s.Value = Bound(s.Value)
	pt.At, pt.Rows, pt.Known = s.At, s.Rows, !s.Missing()
	if !pt.Known {
		return
	}
	pt.X = clamp(m.Forward(s), -Largest, Largest)
	if m.MeanRows > 0 && s.Rows <= 0 {
		pt.Known = false // a share of no rows says nothing
	}
}
