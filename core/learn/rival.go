package learn

import (
	"math"

	"tinbell/core/detect"
	"tinbell/core/timeline"
)

// Rival is a simple rule that a person would write in an afternoon. It judges
// one series at a time; two deviating periods in a row open an alert, the first
// ordinary one closes it.
type Rival struct {
	Name  string
	Limit func(history []timeline.Sample, i, perDay int) (low, high float64)
}

// Rivals are the rules the accuracy report compares with.
func Rivals() []Rival {
	return []Rival{
		{Name: "rolling mean ± 3 sd, 7 days", Limit: rollingMean},
		{Name: "same hour last week ± 30 %", Limit: lastWeek},
	}
}

func rollingMean(history []timeline.Sample, i, perDay int) (low, high float64) {
	n, sum, squares := 0.0, 0.0, 0.0
	for _, s := range history[max(0, i-7*perDay):i] {
		if !s.Missing() {
			n, sum, squares = n+1, sum+s.Value, squares+s.Value*s.Value
		}
	}
	if n < 3 {
		return math.Inf(-1), math.Inf(1)
	}
	mean := sum / n
	sd := math.Sqrt(max(squares/n-mean*mean, 0))
	return mean - 3*sd, mean + 3*sd
}

func lastWeek(history []timeline.Sample, i, perDay int) (low, high float64) {
	if i < 7*perDay || history[i-7*perDay].Missing() {
		return math.Inf(-1), math.Inf(1)
	}
	v := history[i-7*perDay].Value
	return v * 0.7, v * 1.3
}

// Walk runs the rival over a dense history from an instant on.
func (r Rival) Walk(grid timeline.Grid, history []timeline.Sample, from int64) []detect.Alert {
	step := int64(grid.Period.Seconds())
	var alerts []detect.Alert
	open, run := false, 0
	for i, s := range history {
		if s.At < from || s.Missing() {
			continue
		}
		low, high := r.Limit(history, i, grid.PerDay())
		if s.Value >= low && s.Value <= high {
			if run = 0; open {
				alerts[len(alerts)-1].End, alerts[len(alerts)-1].Closed = s.At, s.At+step
				open = false
			}
			continue
		}
		if run++; run >= 2 && !open {
			d := detect.High
			if s.Value < low {
				d = detect.Low
			}
			alerts = append(alerts, detect.Alert{Cause: detect.Deviation, Direction: d, Severity: detect.Warning, Since: s.At - step, Raised: s.At + step})
			open = true
		}
	}
	return alerts
}
