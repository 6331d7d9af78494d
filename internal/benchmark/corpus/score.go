package corpus

import (
	"math"
	"sort"

	"tinbell/core/detect"
	"tinbell/core/robust"
	"tinbell/core/score"
)

// Result is what would have been told, counted against what is known.
type Result struct {
	Corpus           string
	Series           int
	Months           float64 // of 30 days of one series, judged
	Stated           float64 // false alarms, by the budget
	False, True      int     // alerts, long ones in pieces
	Neutral          int
	Incidents, Found int
	Delay            *float64 `json:",omitempty"` // median seconds from start to first alert, none without an incident found
	Rules            []RuleCount
	Kinds            []KindCount
	Alerts           []Verdict `json:"-"`
}

// RuleCount is what one rule told.
type RuleCount struct {
	Rule        detect.Cause
	True, False int
}

// KindCount is how many incidents of a kind there were and were found.
type KindCount struct {
	Kind             string
	Found, Incidents int
}

// Verdict is one alert and what it was.
type Verdict struct {
	Rang
	True, Neutral bool
	Incident      string
}

// Precision counts the alerts of one incident once.
func (r Result) Precision() score.Interval { return score.Wilson(r.Found, r.Found+r.False) }

// Recall is of the known incidents.
func (r Result) Recall() score.Interval { return score.Wilson(r.Found, r.Incidents) }

// F1 is the harmonic mean of both.
func (r Result) F1() float64 {
	if r.Found == 0 {
		return 0
	}
	return 2 * float64(r.Found) / float64(r.Found+r.False+r.Incidents)
}

// Ratio is how many false alarms were found for each that was stated, with its
// 95 % interval.
func (r Result) Ratio() score.Interval {
	return score.PoissonRate(r.False, r.Stated)
}

// tolerance is how far an alert may lie beside an incident.
func (s *Series) tolerance() int64 { return max(1800, 2*s.Step()) }

// longest is how long an alert may be before it is cut into pieces that are
// judged each by itself, so that one that never ends is no free match.
func (s *Series) longest() int64 {
	if s.Step() >= 86400 {
		return 14 * s.Step()
	}
	return min(max(288*s.Step(), 86400), 3*86400)
}

type piece struct {
	Rang
	from, to int64
	first    bool
	long     bool
}

// Score matches alerts with incidents: an alert is about an incident in its
// scope if it begins no later than a tolerance after the incident's end and ends
// no earlier than its start. An alert that matches none but lies where an
// incident shows downstream counts for that incident.
func (c *Corpus) Score(rang []Rang, budget float64) Result {
	r := Result{Corpus: c.Name, Series: len(c.Series)}
	for i := range c.Series {
		s := &c.Series[i]
		r.Months += float64(s.End-s.Split) / (30 * 86400)
	}
	r.Stated = budget * r.Months
	judged := map[string]bool{}
	for k := range c.Incidents {
		i := &c.Incidents[k]
		for n := range c.Series {
			if s := &c.Series[n]; i.covers(s) && i.Start >= s.Split {
				judged[i.ID] = true
			}
		}
		if judged[i.ID] && !i.Neutral {
			r.Incidents++
		}
	}
	seen := map[string]float64{}
	rules := map[detect.Cause]*RuleCount{}
	for _, p := range pieces(rang) {
		about, neutral := c.about(&p, judged)
		v := Verdict{Rang: p.Rang, True: len(about) > 0, Neutral: len(about) == 0 && neutral}
		rule := rules[p.Alert.Cause]
		if rule == nil {
			rule = &RuleCount{Rule: p.Alert.Cause}
			rules[p.Alert.Cause] = rule
		}
		switch {
		case v.True:
			r.True++
			rule.True++
			v.Incident = about[0].ID
			for _, i := range about {
				delay := max(float64(p.from-i.Start), 0)
				if before, found := seen[i.ID]; !found || delay < before {
					seen[i.ID] = delay
				}
			}
		case v.Neutral:
			r.Neutral++
		default:
			r.False++
			rule.False++
		}
		r.Alerts = append(r.Alerts, v)
	}
	kinds := map[string]*KindCount{}
	var delays []float64
	for k := range c.Incidents {
		i := &c.Incidents[k]
		if !judged[i.ID] || i.Neutral {
			continue
		}
		kind := kinds[i.Kind]
		if kind == nil {
			kind = &KindCount{Kind: i.Kind}
			kinds[i.Kind] = kind
		}
		kind.Incidents++
		if delay, found := seen[i.ID]; found {
			kind.Found++
			r.Found++
			delays = append(delays, delay)
		}
	}
	for _, rule := range rules {
		r.Rules = append(r.Rules, *rule)
	}
	sort.Slice(r.Rules, func(a, b int) bool { return r.Rules[a].Rule < r.Rules[b].Rule })
	for _, kind := range kinds {
		r.Kinds = append(r.Kinds, *kind)
	}
	sort.Slice(r.Kinds, func(a, b int) bool { return r.Kinds[a].Kind < r.Kinds[b].Kind })
	if len(delays) > 0 {
		m := robust.Median(delays)
		r.Delay = &m
	}
	return r
}

// pieces clips alerts to the judged stretch and cuts long ones.
func pieces(rang []Rang) []piece {
	var list []piece
	for _, r := range rang {
		s, a := r.Series, r.Alert
		from, to := a.Raised, a.End
		if a.Closed == 0 {
			to = s.End
		}
		if to = max(from, to); to < s.Split || from > s.End+s.tolerance() {
			continue
		}
		from, to = max(from, s.Split), max(from, min(to, s.End+s.tolerance()))
		long, first := to-from > s.longest(), true
		for ; to-from > s.longest(); first = false {
			list = append(list, piece{r, from, from + s.longest(), first, long})
			from += s.longest()
		}
		list = append(list, piece{r, from, to, first, long})
	}
	return list
}

// about are the faults that a piece of an alert may be about.
func (c *Corpus) about(p *piece, judged map[string]bool) (faults []*Incident, neutral bool) {
	tolerance := p.Series.tolerance()
	for k := range c.Incidents {
		i := &c.Incidents[k]
		if judged[i.ID] && i.covers(p.Series) && p.from <= i.End+tolerance && p.to >= i.Start {
			if neutral = neutral || i.Neutral; !i.Neutral {
				faults = append(faults, i)
			}
		}
	}
	if len(faults) > 0 || neutral {
		return faults, neutral
	}
	least := int64(math.MaxInt64)
	for _, m := range c.Impacts {
		if m.Dataset != p.Series.Dataset || m.Slice != "" && p.Series.Slice != "" && p.Series.Slice != m.Slice ||
			p.from > m.End+tolerance || p.to < m.Start || p.long && (!p.first || p.from < m.Start-2*p.Series.Step()) {
			continue
		}
		if off := max(m.Start-p.from, p.from-m.Start); off < least {
			for k := range c.Incidents {
				if i := &c.Incidents[k]; i.ID == m.Incident && judged[i.ID] {
					faults, least = []*Incident{i}, off
				}
			}
		}
	}
	return faults, false
}
