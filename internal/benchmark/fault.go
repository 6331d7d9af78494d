package benchmark

import (
	"math"
	"time"

	"tinbell/core/replay"
	"tinbell/core/timeline"
)

// plan is one thing that happens to a series: what it does to the period i of
// n, and for how many hours it lasts at least and at most.
type plan struct {
	kind    string
	from    float64 // hours; of daily series, days
	to      float64
	effect  func(m *maker, i, n, at int, strength float64)
	lo, hi  float64 // strength
	forever bool    // a lasting change: counts as found within four days
}

func times(m *maker, _, _, at int, f float64) { m.redraw(at, f) }

func ramp(m *maker, i, n, at int, f float64) {
	m.redraw(at, 1+(f-1)*float64(i+1)/float64(n))
}

// gone sets back to zero, or for what has no zero takes it away.
func gone(m *maker, _, _, at int, _ float64) {
	m.scene.History[at].Value = 0
}

func same(m *maker, i, _, at int, _ float64) {
	if i > 0 {
		m.scene.History[at].Value, m.scene.History[at].Rows = m.scene.History[at-1].Value, m.scene.History[at-1].Rows
	}
}

func absent(m *maker, _, _, at int, _ float64) {
	m.scene.History[at] = timeline.Sample{At: m.scene.History[at].At, Value: math.NaN()}
}

// late holds back the rows of the first half and delivers them in the last
// period.
func late(m *maker, i, n, at int, _ float64) {
	s := m.scene.History
	if i < n-1 {
		if next := at + n - 1 - i; next < len(s) && !s[next].Missing() {
			s[next].Value += s[at].Value
		}
		s[at].Value = 0
	}
}

func level(m *maker, _, _, at int, sds float64) {
	s := &m.scene.History[at]
	s.Value += sds * m.truth[at] * max(2*m.noise, 0.1) / math.Sqrt(max(m.rows, 1))
}

func scaled(m *maker, _, _, at int, f float64) { m.scene.History[at].Value *= f }

func share(m *maker, _, _, at int, p float64) {
	if s := &m.scene.History[at]; s.Rows > 0 {
		s.Value = math.Round(s.Rows*p) / s.Rows
	}
}

// plansOf are the faults a family can have.
func plansOf(f Family) []plan {
	missing := plan{kind: "missing periods", from: 5, to: 12, effect: absent}
	stuck := plan{kind: "stuck", from: 8, to: 24, effect: same}
	switch f {
	case Shares, RareShare:
		return []plan{
			{kind: "null burst", from: 3, to: 12, effect: share, lo: 0.35, hi: 1},
			{kind: "null rise", from: 12, to: 48, effect: times, lo: 3, hi: 8}, missing,
		}
	case Means:
		return []plan{
			{kind: "unit", from: 3, to: 24, effect: scaled, lo: 100, hi: 100},
			{kind: "level up", from: 6, to: 36, effect: level, lo: 3, hi: 8},
			{kind: "level down", from: 6, to: 36, effect: level, lo: -8, hi: -3}, stuck, missing,
		}
	case Durations:
		return []plan{
			{kind: "slow", from: 3, to: 12, effect: times, lo: 2, hi: 5},
			{kind: "unit", from: 3, to: 24, effect: scaled, lo: 1000, hi: 1000}, stuck, missing,
		}
	case Reference:
		return []plan{
			{kind: "emptied", from: 6, to: 24, effect: gone},
			{kind: "doubled", from: 6, to: 24, effect: scaled, lo: 2, hi: 2},
			{kind: "cut", from: 6, to: 24, effect: times, lo: 0.3, hi: 0.6}, missing,
		}
	}
	list := []plan{
		{kind: "stall", from: 2, to: 24, effect: gone},
		{kind: "stall", from: 2, to: 24, effect: gone},
		{kind: "dip", from: 3, to: 12, effect: times, lo: 0.2, hi: 0.6},
		{kind: "dip", from: 3, to: 12, effect: times, lo: 0.2, hi: 0.6},
		{kind: "doubled", from: 3, to: 12, effect: scaled, lo: 2, hi: 2},
		{kind: "burst", from: 2, to: 5, effect: times, lo: 3, hi: 6},
		{kind: "late", from: 4, to: 12, effect: late},
		{kind: "unit", from: 3, to: 24, effect: scaled, lo: 100, hi: 100},
		{kind: "drift", from: 96, to: 144, effect: ramp, lo: 0.5, hi: 0.75},
		{kind: "new normal", from: 24, to: 24, effect: times, lo: 0.45, hi: 0.7, forever: true},
		{kind: "new normal", from: 24, to: 24, effect: times, lo: 1.5, hi: 2.2, forever: true}, missing,
	}
	for _, loss := range []float64{0.5, 0.7, 0.8, 0.88, 0.92} {
		list = append(list, plan{kind: "loss of " + percents[loss], from: 12, to: 48, effect: times, lo: loss, hi: loss})
	}
	if f == Counts {
		list = append(list, stuck)
	}
	return list
}

var percents = map[float64]string{0.5: "50 %", 0.7: "30 %", 0.8: "20 %", 0.88: "12 %", 0.92: "8 %"}

// periods is how many periods a plan lasts: of daily series one for every
// twelve hours, at least one, so that a stall of two hours is a lost day.
func (m *maker) periods(p plan) int {
	hours := m.between(p.from, p.to)
	if m.grid.Daily() {
		if p.kind == "stuck" {
			return 6
		}
		return max(1, int(hours/12))
	}
	return max(2, int(hours*float64(m.grid.PerDay())/24))
}

// apply does a plan to the series from a period on and gives its span.
func (m *maker) apply(p plan, at int) timeline.Span {
	n := m.periods(p)
	strength := m.between(p.lo, p.hi)
	last := min(at+n, len(m.truth))
	if p.forever {
		for i := at; i < len(m.truth); i++ {
			m.truth[i] *= strength
			m.redraw(i, 1)
		}
		last = min(at+4*max(m.grid.PerDay(), 1), len(m.truth))
	} else {
		for i := at; i < last; i++ {
			p.effect(m, i-at, n, i, strength)
		}
	}
	return timeline.Span{From: m.scene.History[at].At, To: m.scene.History[last-1].At + int64(m.setting.Period.Seconds())}
}

// contaminate puts faults nobody labelled into the history: about a twentieth
// of its periods.
func (m *maker) contaminate(from int) {
	plans := plansOf(m.family)
	spoilt, tries := 0, 0
	for ; spoilt < from/20 && tries < 20; tries++ {
		p := plans[m.IntN(len(plans))]
		if p.forever || p.kind == "missing periods" || p.kind == "drift" {
			continue
		}
		at := m.IntN(from * 9 / 10)
		m.scene.Past = append(m.scene.Past, m.apply(p, at))
		spoilt += m.periods(p)
	}
}

// happenings puts faults, one-period artifacts and a planned event into the
// judged part, days apart from each other.
func (m *maker) happenings(from int) {
	perDay := m.grid.PerDay()
	gap := 4 * perDay
	if m.grid.Daily() {
		gap = 14
	}
	plans := plansOf(m.family)
	for at := from + m.IntN(gap) + perDay; at+gap/2 < len(m.truth); {
		switch what := m.Float64(); {
		case what < 0.45:
			p := plans[m.IntN(len(plans))]
			span := m.apply(p, at)
			m.scene.Faults = append(m.scene.Faults, Fault{Span: span, Kind: p.kind})
			if p.forever || p.kind == "drift" {
				at += gap
			}
		case what < 0.9 && m.family != Reference && !m.grid.Daily():
			m.scene.Artifacts++
			for range m.artifactPeriods() {
				m.scene.History[at] = m.spike(at)
			}
		case what > 0.95 && m.family == Counts:
			span := m.apply(plan{from: 6, to: 12, effect: times, lo: 0.1, hi: 0.4}, at)
			m.scene.Exclusions = append(m.scene.Exclusions, replay.Exclusion{Span: span, Known: span.From - 86400, Planned: true})
		}
		at += gap/2 + m.IntN(gap)
	}
}

func (m *maker) artifactPeriods() int {
	if m.setting.Period < 15*time.Minute {
		return 1 + m.IntN(2)
	}
	return 1
}

// spike is one period that is far off by itself.
func (m *maker) spike(at int) timeline.Sample {
	s := m.scene.History[at]
	switch m.family {
	case Shares, RareShare:
		if s.Rows > 0 {
			s.Value = math.Round(s.Rows*m.between(0.3, 1)) / s.Rows
		}
	default:
		s.Value = s.Value * m.logBetween(2.5, 12)
		if m.family == Counts || m.family == LowCounts {
			s.Value = math.Round(s.Value)
		}
	}
	return s
}
