// Package score compares alerts with the faults that did happen.
package score

import (
	"cmp"
	"iter"
	"slices"
)

// Verdict of people on an alert.
type Verdict string

const (
	Unlabelled Verdict = ""
	Fault      Verdict = "fault"
	Noise      Verdict = "noise"
	Planned    Verdict = "planned"
)

// Alert is what is scored. Times are Unix seconds; End is 0 while open. Slack
// is how long after an incident's end it may still be raised for it (three
// periods of its series).
type Alert struct {
	Series  int64
	Since   int64 // start of the first deviating period; 0 if not known
	Start   int64 // when it was raised
	End     int64
	Slack   int64
	Label   Verdict
	Planned bool // raised under a planned event
}

// Incident is a fault that did happen, on the series it covers.
type Incident struct {
	Covers func(series int64) bool
	Start  int64
	End    int64 // 0 while it lasts
}

// Outcome of one alert against the catalogue.
type Outcome string

const (
	Hit        Outcome = "hit"    // the first alert of an incident
	Repeat     Outcome = "repeat" // a further alert of the same incident
	FalseAlarm Outcome = "false"
	Expected   Outcome = "planned" // under a planned event: neither
)

// Matched is the comparison of alerts with incidents.
type Matched struct {
	Outcomes []Outcome // per alert
	Incident []int     // per alert, the incident matched or −1
	Found    []bool    // per incident
	Delay    []int64   // per incident, seconds from its start to the first alert, 0 if earlier; −1 if missed
	First    []int     // per incident, index of the first matching alert or −1
}

// Match pairs alerts and incidents: an alert belongs to an incident of its
// series if it is raised no later than Slack after the incident's end and ends
// no earlier than the incident's start. Several alerts of one incident are one
// hit and repeats; one alert over several incidents finds each of them.
func Match(alerts []Alert, incidents []Incident, now int64) Matched {
	m := Matched{
		Outcomes: make([]Outcome, len(alerts)), Incident: make([]int, len(alerts)),
		Found: make([]bool, len(incidents)), Delay: make([]int64, len(incidents)), First: make([]int, len(incidents)),
	}
	for i := range m.Delay {
		m.Delay[i], m.First[i] = -1, -1
	}
	for i := range alerts {
		m.Outcomes[i], m.Incident[i] = FalseAlarm, -1
	}
	for i, j := range Pairs(alerts, incidents, now) {
		m.pair(i, j, max(alerts[i].Start-incidents[j].Start, 0))
	}
	for i := range alerts {
		if m.Outcomes[i] == FalseAlarm && (alerts[i].Planned || alerts[i].Label == Planned) {
			m.Outcomes[i] = Expected
		}
	}
	return m
}

// Pairs gives every alert with every incident that it belongs to, as Match has it, by
// their indexes; alerts in the order in which they were raised.
func Pairs(alerts []Alert, incidents []Incident, now int64) iter.Seq2[int, int] {
	return func(yield func(alert, incident int) bool) {
		order, longest := make([]int, len(alerts)), int64(0)
		for i := range order {
			order[i], longest = i, max(longest, alerts[i].Slack)
		}
		slices.SortFunc(order, func(i, j int) int { return cmp.Or(cmp.Compare(alerts[i].Start, alerts[j].Start), i-j) })
		near := upcoming(incidents, now)
		for n, i := range order {
			a := &alerts[i]
			if n%64 == 0 { // what no later alert can have been raised for
				near = slices.DeleteFunc(near, func(t span) bool { return t.end < a.Start-longest })
			}
			end := lasting(a.End, now)
			for _, t := range near {
				if t.start > end {
					break
				}
				if a.Start <= t.end+a.Slack && incidents[t.index].Covers(a.Series) && !yield(i, t.index) {
					return
				}
			}
		}
	}
}

// pair says that alert i was raised for incident j, so long after it began. Alerts come
// in the order in which they were raised.
func (m *Matched) pair(i, j int, delay int64) {
	if m.Incident[i] < 0 || j < m.Incident[i] {
		m.Incident[i] = j
	}
	if !m.Found[j] {
		m.Found[j], m.First[j], m.Delay[j] = true, i, delay
		m.Outcomes[i] = Hit
	} else if m.Outcomes[i] != Hit {
		m.Outcomes[i] = Repeat
	}
}

// span is when an incident lasted.
type span struct {
	start, end int64
	index      int
}

// upcoming gives when incidents lasted, the earliest first.
func upcoming(incidents []Incident, now int64) []span {
	list := make([]span, len(incidents))
	for j := range incidents {
		list[j] = span{incidents[j].Start, lasting(incidents[j].End, now), j}
	}
	slices.SortFunc(list, func(a, b span) int { return cmp.Or(cmp.Compare(a.start, b.start), a.index-b.index) })
	return list
}

// lasting is an end, and now for what is not over.
func lasting(end, now int64) int64 {
	if end == 0 {
		return now
	}
	return end
}
