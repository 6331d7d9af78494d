package scorecard

import (
	"math"
	"time"

	"tinbell/core/score"
	"tinbell/internal/record"
)

// Sum counts a set of alerts and their match with the catalogue. What nobody labelled
// is not false because nobody did: it widens what is false to a range. In a replay,
// which nobody can label, the catalogue decides.
func Sum(alerts []record.Alert, m score.Matched, weeks float64, replay bool) Card {
	c := Card{Alerts: len(alerts)}
	bySeries := map[int64]int{}
	var faults, judged, hits, counted []int
	wrong, perhaps := 0, 0
	var wolves, doubtful []score.Span
	for i := range alerts {
		a := &alerts[i]
		k, there := bySeries[a.SeriesID]
		if !there {
			k = len(faults)
			bySeries[a.SeriesID] = k
			faults, judged = append(faults, 0), append(judged, 0)
			hits, counted = append(hits, 0), append(counted, 0)
		}
		switch a.Verdict {
		case record.Fault:
			c.Faults++
			faults[k]++
			judged[k]++
		case record.Noise:
			c.Noise++
			judged[k]++
			wrong++
			wolves = append(wolves, spanOf(a))
		case record.Planned:
			c.Planned++
		default:
			c.Unlabelled++
			switch {
			case m.Outcomes[i] != score.FalseAlarm:
			case replay:
				wrong++
				wolves = append(wolves, spanOf(a))
			default:
				perhaps++
				doubtful = append(doubtful, spanOf(a))
			}
		}
		switch m.Outcomes[i] {
		case score.Hit:
			hits[k]++
			counted[k]++
		case score.FalseAlarm:
			counted[k]++
		}
	}
	c.Labelled = c.Faults + c.Noise + c.Planned
	c.Precision = figure(score.Clustered(faults, judged))
	c.Catalogue = figure(score.Clustered(hits, counted))
	if n := c.Faults + c.Noise + c.Unlabelled; n > 0 {
		low, high := float64(c.Faults)/float64(n), float64(c.Faults+c.Unlabelled)/float64(n)
		c.Lowest, c.Highest = &low, &high
	}
	found := 0
	for _, f := range m.Found {
		if f {
			found++
		}
	}
	recall := score.Wilson(found, len(m.Found))
	c.Recall = figure(recall)
	c.DelaySeconds = figure(score.MedianDelay(m.Delay))
	c.FalseWeekly = figure(score.PoissonRate(wrong, weeks))
	if weeks > 0 {
		most := float64(wrong+perhaps) / weeks
		c.FalseMost = &most
	}
	if c.Precision.Estimate != nil && !math.IsNaN(recall.Estimate) {
		f := score.F1(*c.Precision.Estimate, recall.Estimate)
		c.F1 = &f
	}
	c.Achieved = achieved(wolves, weeks*7*86400)
	atWorst := achieved(append(wolves, doubtful...), weeks*7*86400)
	c.Achieved.GroupsMost, c.Achieved.Least = atWorst.Groups, atWorst.Seconds
	return c
}

func spanOf(a *record.Alert) score.Span {
	s := score.Span{Start: a.Since.Unix()}
	if a.EndedAt != nil {
		s.End = a.EndedAt.Unix()
	}
	return s
}

// achieved is the rate of false alarms, said as the time between them.
func achieved(wolves []score.Span, seconds float64) Achieved {
	_, n := score.Groups(wolves, score.GroupGap)
	rate := score.PoissonRate(n, seconds)
	a := Achieved{Groups: n}
	if seconds <= 0 {
		return a
	}
	shortest := 1 / rate.High
	a.Shortest = &shortest
	if n > 0 {
		between, longest := 1/rate.Estimate, 1/rate.Low
		a.Seconds, a.Longest = &between, &longest
	}
	return a
}

// byWeek counts alerts by the week they were raised in and incidents by the
// week they began in.
func byWeek(alerts []record.Alert, m score.Matched, incidents []record.Incident, from, to time.Time) []Week {
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
		w := &weeks[index(a.RaisedAt)]
		switch a.Verdict {
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
