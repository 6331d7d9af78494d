package replay

import (
	"math"
	"slices"

	"tinbell/core/detect"
	"tinbell/core/robust"
	"tinbell/core/timeline"
)

// Rival is a simple rule that a person would write in an afternoon. It scores
// each period by its distance from an ordinary value; as many periods in a row
// beyond a limit as Points says open an alert, the first ordinary one closes
// it.
type Rival struct {
	Name   string
	Points int
	Usual  float64 // the limit people choose
	// Scores gives the signed distance of every period, NaN where the rule
	// cannot say. Those from the index from on are judged; what lies before may
	// be learned from as a whole.
	Scores func(history []timeline.Sample, from, perDay int) []float64
}

// Rivals are the rules that accuracy is compared with, each alarming at one
// period and at some in a row.
func Rivals(inRow int) []Rival {
	simple := []Rival{
		{Name: "fixed, 0.1 and 99.9 % of history", Usual: 1, Scores: fixedQuantiles},
		{Name: "rolling mean ± k sd, 24 hours", Usual: 3, Scores: rollingMean(1)},
		{Name: "rolling mean ± k sd, 7 days", Usual: 3, Scores: rollingMean(7)},
		{Name: "same time last week ± k %", Usual: 0.3, Scores: lastWeek},
		{Name: "median ± k MAD by time of week", Usual: 4, Scores: slotMedian},
	}
	var list []Rival
	for _, points := range []int{1, inRow} {
		for _, r := range simple {
			r.Points = points
			list = append(list, r)
		}
	}
	return list
}

func unknown(n int) []float64 {
	scores := make([]float64, n)
	for i := range scores {
		scores[i] = math.NaN()
	}
	return scores
}

func present(history []timeline.Sample) []float64 {
	var values []float64
	for _, s := range history {
		if !s.Missing() {
			values = append(values, s.Value)
		}
	}
	return values
}

func fixedQuantiles(history []timeline.Sample, from, _ int) []float64 {
	scores := unknown(len(history))
	values := present(history[:from])
	if len(values) == 0 {
		return scores
	}
	low, middle, high := robust.Quantile(values, 0.001), robust.Quantile(values, 0.5), robust.Quantile(values, 0.999)
	for i, s := range history {
		if d := s.Value - middle; d >= 0 {
			scores[i] = ratio(d, high-middle)
		} else {
			scores[i] = ratio(d, middle-low)
		}
	}
	return scores
}

// ratio is a distance over its scale; of no scale, nothing or everything.
func ratio(d, scale float64) float64 {
	if d == 0 || scale > 0 {
		return d / max(scale, 1e-12)
	}
	return math.Copysign(1e6, d)
}

func rollingMean(days int) func([]timeline.Sample, int, int) []float64 {
	return func(history []timeline.Sample, _, perDay int) []float64 {
		scores := unknown(len(history))
		window := max(days*perDay, 3)
		n, sum, squares := 0.0, 0.0, 0.0
		put := func(s timeline.Sample, sign float64) {
			if !s.Missing() {
				n, sum, squares = n+sign, sum+sign*s.Value, squares+sign*s.Value*s.Value
			}
		}
		for i, s := range history {
			if n >= 3 && !s.Missing() {
				mean := sum / n
				scores[i] = ratio(s.Value-mean, math.Sqrt(max(squares/n-mean*mean, 0)))
			}
			put(s, 1)
			if i >= window {
				put(history[i-window], -1)
			}
		}
		return scores
	}
}

func lastWeek(history []timeline.Sample, _, perDay int) []float64 {
	scores := unknown(len(history))
	for i := 7 * perDay; i < len(history); i++ {
		if before := history[i-7*perDay].Value; !history[i].Missing() && !math.IsNaN(before) {
			scores[i] = ratio(history[i].Value-before, math.Abs(before))
		}
	}
	return scores
}

func slotMedian(history []timeline.Sample, from, perDay int) []float64 {
	scores := unknown(len(history))
	cells := make([][]float64, 7*perDay)
	for i, s := range history[:from] {
		if !s.Missing() {
			cells[i%len(cells)] = append(cells[i%len(cells)], s.Value)
		}
	}
	centre, spread := make([]float64, len(cells)), make([]float64, len(cells))
	for k, values := range cells {
		centre[k] = robust.Median(values)
		for i := range values {
			values[i] = math.Abs(values[i] - centre[k])
		}
		spread[k] = 1.4826 * robust.Median(values)
	}
	typical := robust.Median(slices.Clone(spread))
	for i, s := range history {
		if k := i % len(cells); !s.Missing() {
			scores[i] = ratio(s.Value-centre[k], max(spread[k], 0.1*typical))
		}
	}
	return scores
}

// Alerts gives what a rival raises at a limit, from scores of its own.
func (r Rival) Alerts(history []timeline.Sample, scores []float64, from int, limit float64, step int64) []detect.Alert {
	var alerts []detect.Alert
	open, run := false, 0
	for i := from; i < len(history); i++ {
		s, v := history[i], scores[i]
		if math.IsNaN(v) {
			continue
		}
		if math.Abs(v) <= limit {
			if run = 0; open {
				alerts[len(alerts)-1].End, alerts[len(alerts)-1].Closed = s.At, s.At+step
				open = false
			}
			continue
		}
		if run++; run >= r.Points && !open {
			d := detect.High
			if v < 0 {
				d = detect.Low
			}
			alerts = append(alerts, detect.Alert{Cause: detect.Deviation, Direction: d, Severity: detect.Warning,
				Since: s.At - int64(r.Points-1)*step, Raised: s.At + step})
			open = true
		}
	}
	return alerts
}
