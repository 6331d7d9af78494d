package template

import (
	"cmp"
	"math"
	"slices"
)

const (
	// slotsADay is how many periods of five minutes a day has, window how many are judged
	// together.
	slotsADay = 288
	window    = 12
	// leastDays is how much past a watch needs.
	leastDays = 7
	// regular is in how many periods a sentence must have come before it can be missed.
	regular = 50
	// burstLines is how many lines a burst has at least, and leastBurst how far beyond what is
	// usual it lies, in standard deviations of this sentence's counts.
	burstLines, leastBurst = 10, 4
	// clipped is how far an hour counts at most for how counts wander.
	clipped = 6
	// shortest is how many periods a gap has at least, and leastGap by how much it is longer
	// than any before.
	shortest, leastGap = 3, 1.5
)

// Cell is how many lines of a sentence came in a period of five minutes, counted from the
// first day of a history.
type Cell struct {
	Period int
	Lines  int64
}

// Track is when a sentence came: its periods that have lines, in order.
type Track struct {
	ID    int
	Cells []Cell
}

// habit is what is usual of a sentence.
type habit struct {
	hours  [24]float32  // lines within an hour, by the hour of the day
	week   [168]float32 // and of the week
	wander float64      // by how much more than Poisson's its counts wander
	most   int          // the longest gap, in periods
	often  bool
}

// Watch tells which sentences of a log burst or vanish, with limits from the log's own
// past: over all its sentences together either is told as rarely as is asked for.
type Watch struct {
	habits     map[int]*habit
	burst, gap float64 // limits; infinite where the past is too short
}

// Learner learns from so many whole days of a log what its sentences do. How far a burst
// lies beyond what is usual is measured by how its own sentence's hours wander, and a gap
// by the longest before. The greatest of each day over all sentences, each held against
// what the other days say, give the limits that one in so many days passes, by an
// exponential tail of the upper quarter or of its logarithms (Hill 1975), whichever reaches
// farther.
type Learner struct {
	known        []bool
	n            int // known days
	habits       map[int]*habit
	bursts, gaps []float64 // greatest of each day
	sums         []float32 // lines within the hour that ends with each period
}

// NewLearner begins with a number of days; those that are left out, as those of known
// faults, count for nothing.
func NewLearner(days int, out map[int]bool) *Learner {
	l := &Learner{known: make([]bool, days), habits: map[int]*habit{}, bursts: make([]float64, days), gaps: make([]float64, days),
		sums: make([]float32, days*slotsADay)}
	for d := range days {
		if l.known[d] = !out[d]; l.known[d] {
			l.n++
		}
	}
	return l
}

// Add takes in when a sentence came over all those days.
func (l *Learner) Add(t Track) {
	if l.n >= leastDays {
		l.habits[t.ID] = l.learn(t)
	}
}

// Watch gives limits that either kind passes once in so many days.
func (l *Learner) Watch(rare float64) *Watch {
	w := &Watch{habits: l.habits, burst: math.Inf(1), gap: math.Inf(1)}
	if l.n >= leastDays {
		w.burst = max(l.limit(l.bursts, 0, rare), leastBurst)
		// The first third of the past says nothing of gaps yet: those before are too few.
		w.gap = max(l.limit(l.gaps, len(l.known)/3, rare), leastGap)
	}
	return w
}

// learn gives a sentence's habit, and raises the extremes of each day by its own.
func (l *Learner) learn(t Track) *habit {
	h := &habit{often: len(t.Cells) >= regular}
	clear(l.sums)
	for _, c := range t.Cells {
		for k := c.Period; k < min(c.Period+window, len(l.sums)); k++ {
			l.sums[k] += float32(c.Lines)
		}
	}
	var hours, n, week, nWeek [168]float64
	for hour := range len(l.sums) / window {
		day := hour / 24
		if !l.known[day] {
			continue
		}
		sum := 0.0
		for _, v := range l.sums[hour*window : (hour+1)*window] {
			sum += float64(v)
		}
		of, at := hour%24, hour%168
		hours[of], n[of] = hours[of]+sum, n[of]+window
		week[at], nWeek[at] = week[at]+sum, nWeek[at]+window
	}
	for i := range 24 {
		h.hours[i] = float32(hours[i] / max(n[i], 1))
	}
	for i := range week {
		h.week[i] = float32(week[i] / max(nWeek[i], 1))
	}
	// Each hour is held against the same of other days.
	departure := func(p int, v float64) float64 {
		of, at := p/window%24, p/window%168
		others := (hours[of] - v*window) / max(n[of]-window, 1)
		same := (week[at] - v*window) / max(nWeek[at]-window, 1)
		return departs(v, max(others, same, 0))
	}
	square, hoursSeen := 0.0, 0.0
	for p := window - 1; p < len(l.sums); p += window {
		if l.known[p/slotsADay] && h.expected(p) > 0 {
			z := departs(float64(l.sums[p]), h.expected(p))
			square, hoursSeen = square+min(z*z, clipped*clipped), hoursSeen+1
		}
	}
	h.wander = max(math.Sqrt(square/max(hoursSeen, 1)), 1)
	for p, v := range l.sums {
		if day := p / slotsADay; v >= burstLines && l.known[day] {
			l.bursts[day] = max(l.bursts[day], departure(p, float64(v))/h.wander)
		}
	}
	if h.often {
		l.missed(t, h)
	}
	return h
}

// missed learns the gaps of a sentence.
func (l *Learner) missed(t Track, h *habit) {
	for i := 1; i < len(t.Cells); i++ {
		from, to := t.Cells[i-1].Period, t.Cells[i].Period
		silent := true // not with a known fault
		for day := from / slotsADay; day <= to/slotsADay; day++ {
			silent = silent && l.known[day]
		}
		if !silent {
			continue
		}
		gap := to - from
		if day := to / slotsADay; gap >= shortest && h.most > 0 && i >= regular {
			l.gaps[day] = max(l.gaps[day], float64(gap)/float64(max(h.most, 2)))
		}
		h.most = max(h.most, gap)
	}
}

// expected is how many lines an hour's window that ends with a period has.
func (h *habit) expected(period int) float64 {
	return float64(max(h.hours[period/window%24], h.week[period/window%168]))
}

// departs is how far a count lies from what is expected, in standard deviations of
// Poisson's (Anscombe 1948).
func departs(n, expected float64) float64 {
	return 2 * (math.Sqrt(n+0.375) - math.Sqrt(expected+0.375))
}

// limit is what daily extremes from a day on pass once in so many days.
func (l *Learner) limit(daily []float64, from int, rare float64) float64 {
	var list []float64
	for d, v := range daily[from:] {
		if l.known[from+d] && v > 0 {
			list = append(list, v)
		}
	}
	k := max(len(list)/4, 3)
	if len(list) <= k {
		return 0
	}
	slices.SortFunc(list, func(a, b float64) int { return cmp.Compare(b, a) })
	sum, logs := 0.0, 0.0
	for _, v := range list[:k] {
		sum, logs = sum+v-list[k], logs+math.Log(v/list[k])
	}
	times := math.Log(max(rare*float64(k)/float64(len(list)), 1))
	return max(list[k]+sum/float64(k)*times, list[k]*math.Exp(logs/float64(k)*times))
}

// Bursts tells how far a count within the hour that ends with a period (counted as in the
// history) lies beyond what is usual, by its limit: 1 and more rings.
func (w *Watch) Bursts(id, period int, lines int64) float64 {
	h := w.habits[id]
	if h == nil || lines < burstLines || math.IsInf(w.burst, 1) {
		return 0
	}
	return departs(float64(lines), h.expected(period)) / h.wander / w.burst
}

// Usual is how many lines a sentence has within the hour that ends with a period.
func (w *Watch) Usual(id, period int) float64 {
	if h := w.habits[id]; h != nil {
		return h.expected(period)
	}
	return 0
}

// Missing tells how much longer than any before the gap since a sentence's last line is,
// in periods, by its limit: 1 and more rings.
func (w *Watch) Missing(id, gap int) float64 {
	h := w.habits[id]
	if h == nil || !h.often || gap < shortest || math.IsInf(w.gap, 1) {
		return 0
	}
	return float64(gap) / float64(max(h.most, 2)) / w.gap
}

// Longest is the longest gap of a sentence before, in periods.
func (w *Watch) Longest(id int) int {
	if h := w.habits[id]; h != nil {
		return h.most
	}
	return 0
}
