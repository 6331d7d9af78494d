package scorecard

import (
	"math"
	"time"

	"tinbell/core/score"
	"tinbell/internal/record"
)

// byWeek counts alerts by the week they were raised in and incidents by the
// week they began in.
func byWeek(alerts []score.Alert, m score.Matched, incidents []record.Incident, from, to time.Time) []Week {
	n := int(math.Ceil(to.Sub(from).Hours() / (7 * 24)))
	if n <= 0 || n > 520 {
		return []Week{}
	}
	weeks := make([]Week, n)
	start := to.AddDate(0, 0, -7*n)
	index := func(at time.Time) int { return min(max(int(at.Sub(start).Hours()/(7*24)), 0), n-1) }
	found, known := make([]int, n), make([]int, n)
	for i := range weeks {
		weeks[i].From = start.AddDate(0, 0, 7*i)
	}
	for i := range alerts {
		a := &alerts[i]
		w := &weeks[index(time.Unix(a.Start, 0))]
		switch a.Label {
		case record.Fault:
			w.Faults++
		case record.Noise:
			w.Noise++
		case record.Planned:
			w.Planned++
		default:
			w.Unlabelled++
		}
	}
	for j, i := range incidents {
		k := index(i.StartedAt)
		known[k]++
		if m.Found[j] {
			found[k]++
		}
	}
	for i := range weeks {
		weeks[i].Precision = figure(score.Wilson(weeks[i].Faults, weeks[i].Faults+weeks[i].Noise))
		weeks[i].Recall = figure(score.Wilson(found[i], known[i]))
	}
	return weeks
}
