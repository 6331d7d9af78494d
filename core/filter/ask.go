package filter

import "math"

// Question is an alert that nobody has answered yet.
type Question struct {
	Case
	Monitor, Series int64
	Chance          float64 // that it is a fault, as the filter sees it
	Weight          float64 // how much hangs on it; 0 counts as 1
}

// Ask orders questions so that the answers that teach most come first, at most
// n of them, and gives their places. An answer teaches where the filter is
// unsure; less about a monitor or a series that was answered often, and less
// about an alert much like one asked before. asked and askedSeries count answers
// by monitor and series. Time grows with n times the number of questions.
func Ask(questions []Question, f *Filter, asked, askedSeries map[int64]int, n int) []int {
	rows := make([]row, len(questions))
	value := make([]float64, len(questions))
	monitors, series := map[int64]int{}, map[int64]int{}
	for i := range questions {
		q := &questions[i]
		all := q.rows()
		rows[i] = all[len(all)-1]
		value[i] = math.Sqrt(q.Chance*(1-q.Chance)) * max(q.Weight, 0)
		if q.Weight == 0 {
			value[i] = math.Sqrt(q.Chance * (1 - q.Chance))
		}
		monitors[q.Monitor], series[q.Series] = asked[q.Monitor], askedSeries[q.Series]
	}
	alike := make([]float64, len(questions)) // to what was asked already, 0..1 each
	var order []int
	taken := make([]bool, len(questions))
	for len(order) < min(n, len(questions)) {
		best, most := -1, -1.0
		for i := range questions {
			if taken[i] {
				continue
			}
			q := &questions[i]
			v := value[i] / (1 + alike[i]) / math.Sqrt(1+float64(monitors[q.Monitor])) / (1 + 0.5*float64(series[q.Series]))
			if v > most {
				best, most = i, v
			}
		}
		q := &questions[best]
		taken[best], order = true, append(order, best)
		monitors[q.Monitor]++
		series[q.Series]++
		for i := range questions {
			if !taken[i] && questions[i].Monitor == q.Monitor {
				alike[i] += math.Exp(-f.Weights.distance(&rows[i], &rows[best]))
			}
		}
	}
	return order
}
