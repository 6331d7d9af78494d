// Package baseline fits what a series is expected to do: a level, a weekly
// shape in local time, the spread around both, and a calibrated, asymmetric
// band.
//
// A Model is a small value that takes one sample at a time in constant time
// and memory. Replaying history through it gives true out-of-sample residuals,
// so fitting, backtests and the live service are the same loop.
package baseline

import (
	"math"

	"tinbell/core/timeline"
)

// Family is how expectation and observation are related.
type Family uint8

const (
	// Mult: expected = level × profile × exposure. Counts and null counts;
	// every estimate is a ratio of sums, so zeros and low counts are at home.
	Mult Family = iota
	// Add: expected = level + profile, on a transformed value.
	Add
	// Stepped: a series that mostly repeats its last value (reference tables).
	Stepped
	// Flat: one of the simple methods judges the value as it is.
	Flat
)

// Transform maps an observed value onto the scale of an Add model.
type Transform uint8

const (
	Identity Transform = iota
	Arcsine            // 2·asin(√x), shares without a row count
	Log                // ln(x + offset), durations
)

// Choice is one candidate of the model choice. HalfLife is of the level in
// periods, Weeks of the profile; Parent and Slot are prior weights in visits.
type Choice struct {
	HalfLife float64
	Weeks    float64
	Parent   float64
	Slot     float64
}

// Model is the state of a seasonal baseline. The exported fields and the profiles
// are what is stored; the rest is derived from them.
type Model struct {
	Family     Family
	Transform  Transform
	Offset     float64 // of the Log transform
	MeanRows   float64 // mean row count where exposure is known, else 0
	Calendar   bool    // days at the turn of the month differ
	DayType    [timeline.MonthDays]float64
	Dates      []float64 // factor by date within the month, nil where none stands out
	Year       []float64 // factor by day of the year, nil where nothing comes every year
	UsualRows  float64   // median row count of a mean
	RowsWeight float64   // share of the noise that falls with the row count
	Choice     Choice
	PerDay     int
	Long       bool // periods longer than a day: the slots are months of the year

	Mean   fading    // the level
	Days   [7]fading // factor or shift by weekday
	Phi    float64   // dispersion, Mult
	Spread float64   // residual sd, Add
	Seen   int       // samples learned from

	cells  profile // by class and period of day
	slots  profile // by period of the week
	scales profile // spread by class and period of day

	light            bool // a candidate: spread by period of day is not followed
	lam, gSlot, gDay float64
	level            float64
	gClass           [2]float64
	dayPrior         [2]float64
}

// fading is a mean as its two sums, of which older visits fade.
type fading struct{ Sum, Weight float64 }

func (f *fading) see(keep, value, weight float64) {
	f.Sum, f.Weight = keep*f.Sum+value, keep*f.Weight+weight
}

func newModel(family Family, perDay int, choice Choice) *Model {
	m := &Model{Family: family, PerDay: perDay, Choice: choice, Phi: 0.02, Spread: 1}
	sums := make([]fading, 4*perDay+timeline.Slots(perDay))
	m.cells.list, m.scales.list, m.slots.list = sums[:2*perDay:2*perDay], sums[2*perDay:4*perDay:4*perDay], sums[4*perDay:]
	m.derive()
	return m
}

// derive recomputes the constants that follow from the stored fields.
func (m *Model) derive() {
	m.lam = math.Exp2(-1 / m.Choice.HalfLife)
	m.gSlot = math.Exp2(-1 / m.Choice.Weeks)
	m.gDay = math.Exp2(-1 / (m.Choice.Weeks * float64(m.PerDay)))
	m.gClass = [2]float64{math.Exp2(-0.2 / m.Choice.Weeks), math.Exp2(-0.5 / m.Choice.Weeks)}
	m.dayPrior = [2]float64{float64(m.PerDay) / 6, float64(m.PerDay) / 2}
	m.level = max(m.Mean.Sum/m.Mean.Weight, m.leastLevel())
}

// A series that has been empty for long keeps a level and a shape from which the
// first rows that come are not infinitely many.
const (
	leastLevel   = 0.01
	emptyLevel   = 0.1 // under it the shape says nothing
	emptyProfile = 0.3
	// quietProfile is under which a period says nothing of the level: of a night in which next
	// to nothing was due, two rows would be ten thousand times as many.
	quietProfile = 0.01
)

func (m *Model) leastLevel() float64 {
	if m.Family == Mult && m.MeanRows == 0 {
		return leastLevel
	}
	return math.Inf(-1)
}

// Level is the current level on the model's own scale.
func (m *Model) Level() float64 { return m.level }

// SetLevel restarts the level, keeping shape and spread ("new normal").
func (m *Model) SetLevel(level float64) { m.level, m.Mean.Sum = level, level*m.Mean.Weight }

// Empty tells whether counts have been as good as none for so long that their shape says
// nothing either, or anything else has always been the same, so that there is no noise.
func (m *Model) Empty() bool {
	switch m.Family {
	case Mult:
		return m.level < emptyLevel
	case Add:
		return m.Spread <= 2*floorSpread([]float64{m.level})
	}
	return false
}

// Birth is what a series that was Empty does since: its mean, the mean of each period of the
// day, and, of anything but counts, how far it strays from that.
type Birth struct {
	Level, Spread float64
	Means         []float64
}

// StartOver makes a model that was Empty one of what began, until more of it is seen: a day
// more counts as much as half of that.
func (m *Model) StartOver(b Birth) {
	const days = 2
	for class := range 2 {
		for h := range m.PerDay {
			profile := b.Means[h] - b.Level
			if m.Family == Mult {
				profile = 1
				if b.Level > 0 {
					profile = max(b.Means[h]/b.Level, 1e-4)
				}
			}
			m.cells.put(class*m.PerDay+h, fading{days * profile, days})
		}
	}
	m.slots.fill(fading{})
	m.scales.fill(fading{})
	m.Days = [7]fading{}
	if m.Family == Add {
		m.Spread = max(b.Spread, 0.1*math.Abs(b.Level-m.level), floorSpread([]float64{b.Level}))
	}
	m.SetLevel(b.Level)
}

// Expectation is what the model says of one period, before its value is seen.
type Expectation struct {
	Slot     timeline.Slot
	Exposure float64 // row count over its mean, 1 where unknown, times Turn
	Turn     float64 // what the date does to it: within the month, at its turn, in the year
	Parent   float64 // profile of the period of day, by class
	Day      float64 // factor (Mult) or shift (Add) of the weekday
	Profile  float64 // profile of the slot, exposure not included
	Level    float64
	Mu       float64 // expected, on the model's scale
	Sigma    float64
	base     float64
	v        float64
}

// Expect predicts the period in the slot. rows is the sample's row count, 0 if
// unknown. (Section 1.3 of the method: slot shrunk to class × weekday.)
func (m *Model) Expect(slot timeline.Slot, rows float64) Expectation {
	var e Expectation
	m.ExpectInto(&e, &slot, rows)
	return e
}

// turn is what the date does to counts.
func (m *Model) turn(slot *timeline.Slot) float64 {
	turn := 1.0
	if m.Calendar {
		turn = m.DayType[slot.MonthDay]
	}
	if m.Dates != nil {
		turn *= m.Dates[slot.MonthDate]
	}
	if m.Year != nil {
		turn *= m.Year[slot.YearDay]
	}
	return turn
}

// ExpectInto is Expect into an expectation that is there already.
func (m *Model) ExpectInto(e *Expectation, slot *timeline.Slot, rows float64) {
	e.Slot, e.Exposure, e.Level = *slot, 1, m.level
	if m.MeanRows > 0 {
		e.Exposure = rows / m.MeanRows
	} else if m.PerDay == 1 && m.Family == Mult {
		e.Exposure = float64(slot.Length)
	}
	e.Turn = m.turn(slot)
	e.Exposure *= e.Turn
	k2 := m.Choice.Slot
	cell, own, weekday := m.cells.at(slot.Cell(m.PerDay)), m.slots.at(int(slot.Week)), &m.Days[slot.Day]
	e.Parent = cell.Sum / cell.Weight
	if m.Family == Mult {
		e.Day = 1
		if m.PerDay > 1 {
			e.Day = (weekday.Sum + m.dayPrior[0]) / (weekday.Weight + m.dayPrior[0])
		}
		e.Profile = max((own.Sum+k2*e.Parent*e.Day)/(own.Weight+k2), 1e-4)
		if e.Level < emptyLevel {
			e.Profile = max(e.Profile, emptyProfile)
		}
		e.Mu = e.Level * e.Profile * e.Exposure
		e.base = max(e.Mu, 0.3) + m.Phi*e.Mu*e.Mu
	} else {
		e.Day = 0
		if m.PerDay > 1 {
			e.Day = weekday.Sum / (weekday.Weight + m.dayPrior[1])
		}
		e.Profile = (own.Sum + k2*(e.Parent+e.Day)) / (own.Weight + k2)
		e.Mu = e.Level + e.Profile
		e.base = m.Spread * m.Spread * m.rowsNoise(rows)
	}
	if m.light {
		e.Sigma = math.Sqrt(e.base)
		return
	}
	scale := m.scales.at(slot.Cell(m.PerDay))
	e.v = (scale.Sum + 6) / (scale.Weight + 6)
	variance := e.base * e.v * e.v * (1 + 0.5/(own.Weight+k2+0.5))
	known := scale.Weight
	if m.PerDay > 1 {
		known = min(known, weekday.Weight*8/float64(m.PerDay))
	}
	tau := 0.3 / (1 + known)
	if m.Family == Mult {
		tau *= e.Mu
	} else {
		tau *= 3 * m.Spread
	}
	e.Sigma = math.Sqrt(variance + tau*tau)
}

// rowsNoise is the variance of a mean of that many rows, relative to one of the
// usual number of rows: a share RowsWeight of it falls with the row count.
func (m *Model) rowsNoise(rows float64) float64 {
	if m.RowsWeight == 0 || rows <= 0 {
		return 1
	}
	return 1 - m.RowsWeight + m.RowsWeight*m.UsualRows/rows
}

// Learn takes a judged sample x (on the model's scale). Residuals are clipped
// at three sigma, which alone keeps unlabelled outliers from bending the band.
func (m *Model) Learn(e *Expectation, x float64) {
	reach := 3 * e.Sigma
	cell := e.Slot.Cell(m.PerDay)
	keep := m.gClass[e.Slot.Class]
	if m.Family == Mult {
		if e.Exposure <= 0 {
			return
		}
		// Of rare events one or two are no outlier: without them the level sinks.
		xt := max(e.Mu+clamp(x-e.Mu, -reach, max(reach, 2)), 0)
		r := 0.0
		if e.Level > 0 {
			r = xt / e.Level
		}
		if e.Level < emptyLevel {
			r = min(r, 3)
		}
		of := xt
		if e.Profile < quietProfile {
			of = e.Mu
		}
		m.Mean.see(m.lam, of, e.Profile*e.Exposure)
		m.cells.see(cell, keep, r/max(e.Day, 0.05), e.Exposure)
		m.slots.see(int(e.Slot.Week), m.gSlot, r, e.Exposure)
		m.Days[e.Slot.Day].see(m.gDay, r, e.Parent*e.Exposure)
	} else {
		xt := e.Mu + clamp(x-e.Mu, -reach, reach)
		r := xt - e.Level
		m.Mean.see(m.lam, xt-e.Profile, 1)
		m.cells.see(cell, keep, r-e.Day, 1)
		m.slots.see(int(e.Slot.Week), m.gSlot, r, 1)
		m.Days[e.Slot.Day].see(m.gDay, r-e.Parent, 1)
	}
	m.level = max(m.Mean.Sum/m.Mean.Weight, m.leastLevel())
	m.Seen++
	if !m.light {
		m.scales.see(cell, keep, e.v*min(math.Abs(x-e.Mu)/e.Sigma, 3)*1.2533, 1)
	}
}

// Forward maps a sample onto the model's scale, on which counts are not negative.
func (m *Model) Forward(s timeline.Sample) float64 {
	switch {
	case m.MeanRows > 0:
		return math.Round(max(s.Value*s.Rows, 0))
	case m.Family == Mult:
		return max(s.Value, 0)
	case m.Transform == Arcsine:
		return 2 * math.Asin(math.Sqrt(clamp(s.Value, 0, 1)))
	case m.Transform == Log:
		return math.Log(max(s.Value, 0) + m.Offset)
	}
	return s.Value
}

// Back maps a value on the model's scale to what is observed and drawn.
func (m *Model) Back(y, rows float64) float64 {
	switch {
	case m.MeanRows > 0:
		if rows <= 0 {
			return math.NaN()
		}
		return clamp(y/rows, 0, 1)
	case m.Transform == Arcsine:
		s := math.Sin(clamp(y, 0, math.Pi) / 2)
		return s * s
	case m.Transform == Log:
		return Bound(max(math.Exp(y)-m.Offset, 0))
	}
	return Bound(y)
}

func clamp(v, lo, hi float64) float64 { return min(max(v, lo), hi) }

// Restore recomputes what is not stored, after decoding.
func (m *Model) Restore() { m.derive() }
