package benchmark

import (
	"math"
	"math/rand/v2"
	"time"

	"tinbell/core/baseline"
	"tinbell/core/replay"
	"tinbell/core/timeline"
)

// Family is a sort of series that scenes are made of.
type Family string

const (
	Counts    Family = "counts, 20 and more"
	LowCounts Family = "counts, under 20"
	Shares    Family = "shares"
	RareShare Family = "shares, mostly 0"
	Means     Family = "means of few rows"
	Durations Family = "durations"
	Reference Family = "reference tables"
)

// Families in the order they are reported.
var Families = []Family{Counts, LowCounts, Shares, RareShare, Means, Durations, Reference}

// Fault is a planted fault: what is wrong and when.
type Fault struct {
	timeline.Span
	Kind string
}

// Scene is one made-up series with all that truly happened on it. Samples
// before From are history to learn from.
type Scene struct {
	Family     Family
	Config     baseline.Config
	History    []timeline.Sample // dense
	From       int64
	Faults     []Fault
	Past       []timeline.Span // faults in the history that nobody labelled
	Artifacts  int
	Exclusions []replay.Exclusion
}

// Setting says what scenes to make.
type Setting struct {
	Seed         uint64
	Period       time.Duration
	Learn, Judge int  // days
	Contaminated bool // unlabelled faults in 5 % of the history that is learned from
	Faults       bool // faults, artifacts and planned events in the judged part
}

// maker draws one scene. The generator shares nothing with the demo's world:
// its shapes, noise and faults are its own.
type maker struct {
	*rand.Rand
	setting Setting
	grid    timeline.Grid
	family  Family
	scene   *Scene
	mean    float64
	profile [2][24]float64
	weekday [7]float64
	night   float64
	noise   float64 // relative, beyond counting noise
	wander  float64 // sd of the slow level
	trend   float64 // relative a day
	monthly float64 // factor on a month's last three working days
	rows    float64 // mean rows of shares and means
	truth   []float64
	count   []float64 // rows a share or mean is taken of
}

var beginning = time.Date(2026, 1, 28, 12, 0, 0, 0, time.UTC)

// NewScene makes the index-th scene of a setting; the same arguments give the
// same scene.
func NewScene(setting Setting, family Family, index int) Scene {
	zone, err := time.LoadLocation([]string{"America/Halifax", "Europe/Lisbon", "Asia/Kathmandu"}[index%3])
	if err != nil {
		panic(err)
	}
	grid := timeline.Grid{Period: setting.Period, Zone: zone}
	m := &maker{
		Rand:    rand.New(rand.NewPCG(setting.Seed*1000003+uint64(index), uint64(setting.Period)+uint64(len(family)))),
		setting: setting, grid: grid, family: family, scene: &Scene{Family: family, Config: baseline.Config{Kind: kindOf(family),
			Grid: grid}},
	}
	m.draw()
	return *m.scene
}

func kindOf(f Family) timeline.Kind {
	switch f {
	case Shares, RareShare:
		return timeline.Share
	case Means:
		return timeline.Value
	case Durations:
		return timeline.Duration
	}
	return timeline.Count
}

func (m *maker) between(lo, hi float64) float64 { return lo + (hi-lo)*m.Float64() }
func (m *maker) logBetween(lo, hi float64) float64 {
	return math.Exp(m.between(math.Log(lo), math.Log(hi)))
}

// draw settles the series' character, then its clean truth, then what happens
// to it, and at last the samples.
func (m *maker) draw() {
	m.character()
	m.path()
	from := len(m.truth) * m.setting.Learn / (m.setting.Learn + m.setting.Judge)
	m.holidays()
	m.sample()
	m.scene.From = m.scene.History[from].At
	if m.setting.Contaminated {
		m.contaminate(from)
	}
	if m.setting.Faults {
		m.happenings(from)
	}
	for i := range m.scene.History {
		if m.Float64() < m.missing() {
			m.scene.History[i] = timeline.Sample{At: m.scene.History[i].At, Value: math.NaN()}
		}
	}
}

func (m *maker) missing() float64 {
	if m.noise > 0.15 {
		return 0.02
	}
	return 0.002
}

func (m *maker) character() {
	day := float64(m.grid.PerDay())
	switch m.family {
	case Counts:
		m.mean = m.logBetween(25, 4000)
	case LowCounts:
		m.mean = m.logBetween(1, 20)
	case Shares:
		m.mean, m.rows = m.logBetween(0.01, 0.2), m.logBetween(60, 2000)
	case RareShare:
		m.rows = m.logBetween(60, 1000)
		m.mean = m.between(0.1, 0.6) / m.rows
	case Means:
		m.mean, m.rows = m.logBetween(10, 400), m.logBetween(2, 25)
	case Durations:
		m.mean = m.logBetween(60, 4000)
	case Reference:
		m.mean = math.Round(m.logBetween(30, 20000))
	}
	m.noise = m.logBetween(0.02, 0.25)
	m.wander = m.logBetween(0.008, 0.05)
	m.trend = m.between(-0.002, 0.004)
	m.night = m.logBetween(0.01, 0.5)
	if m.Float64() < 0.3 {
		m.night = 0.9 // hardly any shape
	}
	for c := range 2 {
		peak, second := m.between(7, 13), m.between(15, 21)
		width, share := m.between(1.5, 4), m.between(0.3, 1)
		for h := range 24 {
			hour := float64(h)
			m.profile[c][h] = m.night + (1-m.night)*(math.Exp(-sq((hour-peak)/width)/2)+share*math.Exp(-sq((hour-second)/width)/2))
		}
	}
	weekend := m.between(0.3, 1.2)
	for d := range m.weekday {
		m.weekday[d] = m.between(0.9, 1.1)
		if d == 0 || d == 6 {
			m.weekday[d] *= weekend
		}
	}
	m.monthly = 1
	if day == 1 && m.Float64() < 0.4 {
		m.monthly = m.between(1.3, 2.2)
	}
}

func sq(x float64) float64 { return x * x }

// shape is the relative expectation of a period, one on average over a day.
func (m *maker) shape(at time.Time) float64 {
	local := at.In(m.grid.Zone)
	factor := m.weekday[local.Weekday()]
	if m.monthly != 1 && lastWorkingDays(local) {
		factor *= m.monthly
	}
	if m.grid.Daily() {
		return factor
	}
	class := 0
	if local.Weekday() == time.Saturday || local.Weekday() == time.Sunday {
		class = 1
	}
	profile := &m.profile[class]
	h, part := local.Hour(), float64(local.Minute())/60
	sum := 0.0
	for _, v := range profile {
		sum += v / 24
	}
	return factor * (profile[h]*(1-part) + profile[(h+1)%24]*part) / sum
}

// lastWorkingDays tells whether at most two weekdays are left in the month.
func lastWorkingDays(t time.Time) bool {
	if t.Weekday() == time.Saturday || t.Weekday() == time.Sunday {
		return false
	}
	left := 0
	for d := t.AddDate(0, 0, 1); d.Month() == t.Month(); d = d.AddDate(0, 0, 1) {
		if d.Weekday() != time.Saturday && d.Weekday() != time.Sunday {
			left++
		}
	}
	return left < 3
}

// path makes the clean expectation of every period: shape, trend and a slow
// level that wanders with a memory of about a day and a half.
func (m *maker) path() {
	n := (m.setting.Learn + m.setting.Judge) * m.grid.PerDay()
	memory := math.Pow(0.97, 24/float64(m.grid.PerDay()))
	if m.grid.Daily() {
		memory = 0.6
	}
	at := m.grid.Floor(beginning)
	level := m.wander * m.NormFloat64()
	m.truth, m.count = make([]float64, n), make([]float64, n)
	m.scene.History = make([]timeline.Sample, n)
	step := m.mean
	for i := range n {
		level = memory*level + m.wander*math.Sqrt(1-memory*memory)*m.NormFloat64()
		days := at.Sub(beginning).Hours() / 24
		grow := math.Exp(level + m.trend*days)
		shape := m.shape(at)
		switch m.family {
		case Counts, LowCounts:
			m.truth[i] = m.mean * shape * grow
		case Shares, RareShare:
			m.truth[i], m.count[i] = min(m.mean*math.Exp(3*level), 0.9), m.rows*shape*grow
		case Means:
			m.truth[i], m.count[i] = m.mean*math.Exp(level)*(1+0.1*shape), m.rows*shape
		case Durations:
			m.truth[i] = m.mean * math.Exp(level) * (0.7 + 0.3*shape)
		case Reference:
			if m.Float64() < 0.1/float64(m.grid.PerDay()) {
				step = math.Round(step * m.between(0.97, 1.06))
			}
			m.truth[i] = step
		}
		m.scene.History[i].At = at.Unix()
		at = m.grid.Next(at)
	}
}

// holidays makes two local days look like quiet Sundays and tells them.
func (m *maker) holidays() {
	if m.family == Reference || m.Float64() > 0.4 {
		return
	}
	m.scene.Config.Holidays = map[int]bool{}
	days := m.setting.Learn + m.setting.Judge
	for range 2 {
		date := beginning.In(m.grid.Zone).AddDate(0, 0, int(m.between(float64(days)/2, float64(days)-1)))
		y, mo, d := date.Date()
		m.scene.Config.Holidays[y*10000+int(mo)*100+d] = true
		for i := range m.truth {
			ly, lm, ld := time.Unix(m.scene.History[i].At, 0).In(m.grid.Zone).Date()
			if ly == y && lm == mo && ld == d {
				if m.count[i] > 0 {
					m.count[i] *= 0.6
				} else if m.family != Durations {
					m.truth[i] *= 0.6
				}
			}
		}
	}
}

// sample draws what is observed.
func (m *maker) sample() {
	for i := range m.truth {
		m.redraw(i, 1)
	}
}

// redraw draws a period with its expectation multiplied.
func (m *maker) redraw(i int, factor float64) {
	s := &m.scene.History[i]
	mu := m.truth[i] * factor
	switch m.family {
	case Counts, LowCounts:
		s.Value = m.poisson(mu * math.Exp(m.noise*m.NormFloat64()-sq(m.noise)/2))
	case Shares, RareShare:
		s.Rows = m.poisson(m.count[i])
		if s.Rows == 0 {
			s.Rows, s.Value = timeline.NoRows, math.NaN()
			return
		}
		s.Value = min(m.poisson(s.Rows*min(mu, 1)), s.Rows) / s.Rows
	case Means:
		s.Rows = m.poisson(m.count[i])
		if s.Rows == 0 {
			s.Rows, s.Value = timeline.NoRows, math.NaN()
			return
		}
		s.Value = mu * (1 + m.NormFloat64()*max(2*m.noise, 0.1)/math.Sqrt(s.Rows))
	case Durations:
		s.Value = mu * math.Exp(m.noise*m.NormFloat64())
	case Reference:
		s.Value = math.Round(mu)
	}
}

// poisson draws a Poisson count; large means by a rounded normal.
func (m *maker) poisson(mu float64) float64 {
	if mu > 300 {
		return max(math.Round(mu+math.Sqrt(mu)*m.NormFloat64()), 0)
	}
	limit, k, p := math.Exp(-mu), 0.0, 1.0
	for {
		if p *= m.Float64(); p <= limit {
			return k
		}
		k++
	}
}
