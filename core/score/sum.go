package score

import "math"

// Sums are what a set of alerts and their match with the catalogue come to. NaN where
// nothing is known.
type Sums struct {
	Alerts, Faults, Noise, Planned, Unlabelled int

	Precision       Interval // faults among alerts labelled fault or noise
	Lowest, Highest float64  // if every unlabelled alert were noise, or a fault
	Catalogue       Interval // alerts that match an incident, labels set aside; repeats not counted
	Recall          Interval
	Delay           Interval // median, seconds
	FalseWeekly     Interval
	FalseMost       float64 // a week, if every unlabelled alert that matches nothing were noise
	F1              float64
	Achieved        Achieved
	AtWorst         Achieved // if every unlabelled alert that matches nothing were noise
}

// Achieved is how often wolf was cried, as the time between disturbances in seconds,
// with its 95 % interval (Garwood 1936). Infinite where there was none.
type Achieved struct {
	Groups                     int
	Between, Shortest, Longest float64
}

// Sum counts alerts and what matching them found, over some weeks. What nobody labelled
// is not false because nobody did: it widens what is false to a range. In a replay,
// which nobody can label, the catalogue decides.
func Sum(alerts []Alert, m Matched, weeks float64, replay bool) Sums {
	s := Sums{Alerts: len(alerts), Lowest: math.NaN(), Highest: math.NaN(), FalseMost: math.NaN(), F1: math.NaN()}
	ofSeries := map[int64]*perSeries{}
	wrong, perhaps := 0, 0
	var wolves, doubtful []Span
	for i := range alerts {
		a := &alerts[i]
		of := ofSeries[a.Series]
		if of == nil {
			of = &perSeries{place: len(ofSeries)}
			ofSeries[a.Series] = of
		}
		switch a.Label {
		case Fault:
			s.Faults++
			of.faults++
			of.judged++
		case Noise:
			s.Noise++
			of.judged++
			wrong++
			wolves = append(wolves, a.span())
		case Planned:
			s.Planned++
		default:
			s.Unlabelled++
			switch {
			case m.Outcomes[i] != FalseAlarm:
			case replay:
				wrong++
				wolves = append(wolves, a.span())
			default:
				perhaps++
				doubtful = append(doubtful, a.span())
			}
		}
		switch m.Outcomes[i] {
		case Hit:
			of.hits++
			of.counted++
		case FalseAlarm:
			of.counted++
		}
	}
	faults, judged := make([]int, len(ofSeries)), make([]int, len(ofSeries))
	hits, counted := make([]int, len(ofSeries)), make([]int, len(ofSeries))
	for _, of := range ofSeries {
		faults[of.place], judged[of.place], hits[of.place], counted[of.place] = of.faults, of.judged, of.hits, of.counted
	}
	s.Precision, s.Catalogue = Clustered(faults, judged), Clustered(hits, counted)
	if n := s.Faults + s.Noise + s.Unlabelled; n > 0 {
		s.Lowest, s.Highest = float64(s.Faults)/float64(n), float64(s.Faults+s.Unlabelled)/float64(n)
	}
	found := 0
	for _, f := range m.Found {
		if f {
			found++
		}
	}
	s.Recall, s.Delay = Wilson(found, len(m.Found)), MedianDelay(m.Delay)
	s.FalseWeekly = PoissonRate(wrong, weeks)
	if weeks > 0 {
		s.FalseMost = float64(wrong+perhaps) / weeks
	}
	if !math.IsNaN(s.Precision.Estimate) && !math.IsNaN(s.Recall.Estimate) {
		s.F1 = F1(s.Precision.Estimate, s.Recall.Estimate)
	}
	s.Achieved = achieved(wolves, weeks*7*86400)
	s.AtWorst = achieved(append(wolves, doubtful...), weeks*7*86400)
	return s
}

// perSeries are counts of one series: alerts of one are not independent.
type perSeries struct{ place, faults, judged, hits, counted int }

// span is how long what an alert tells of lasted.
func (a *Alert) span() Span {
	if a.Since != 0 {
		return Span{a.Since, a.End}
	}
	return Span{a.Start, a.End}
}

// achieved is the rate of false alarms, said as the time between them.
func achieved(wolves []Span, seconds float64) Achieved {
	_, n := Groups(wolves, GroupGap)
	a := Achieved{Groups: n, Between: math.Inf(1), Shortest: math.NaN(), Longest: math.Inf(1)}
	if seconds <= 0 {
		return a
	}
	rate := PoissonRate(n, seconds)
	a.Shortest = 1 / rate.High
	if n > 0 {
		a.Between, a.Longest = 1/rate.Estimate, 1/rate.Low
	}
	return a
}
