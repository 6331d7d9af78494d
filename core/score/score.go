// Package score compares alerts with the faults that did happen.
package score

import (
	"cmp"
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
	order := make([]int, len(alerts))
	for i := range order {
		order[i], m.Incident[i] = i, -1
	}
	slices.SortFunc(order, func(i, j int) int { return cmp.Or(cmp.Compare(alerts[i].Start, alerts[j].Start), i-j) })
	for _, i := range order {
		a := &alerts[i]
		m.Outcomes[i] = FalseAlarm
		end := a.End
		if end == 0 {
			end = now
		}
		for j := range incidents {
			in := &incidents[j]
			last := in.End
			if last == 0 {
				last = now
			}
			if a.Start > last+a.Slack || end < in.Start || !in.Covers(a.Series) {
				continue
			}
			if m.Incident[i] < 0 {
				m.Incident[i] = j
			}
			if !m.Found[j] {
				m.Found[j], m.First[j], m.Delay[j] = true, i, max(a.Start-in.Start, 0)
				m.Outcomes[i] = Hit
			} else if m.Outcomes[i] != Hit {
				m.Outcomes[i] = Repeat
			}
		}
		if m.Outcomes[i] == FalseAlarm && (a.Planned || a.Label == Planned) {
			m.Outcomes[i] = Expected
		}
	}
	return m
}
