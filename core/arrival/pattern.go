// Package arrival learns when loads arrive and says by when the next one is
// due.
//
// Two patterns are known. A schedule has the same loads at the same times of a
// weekday; its deadline follows from how late they have been. Anything else is
// judged in rescaled time: gaps are measured in expected loads, so that nights
// and weekends without loads stop the clock (time rescaling: Brown et al.
// 2002).
package arrival

import (
	"fmt"
	"math"
	"slices"
	"sort"
	"time"

	"tinbell/core/robust"
)

const (
	minLoads  = 12
	halfHour  = 1800
	bins      = 336 // half-hours of the local week
	maxPerDay = 24
)

// TooFew says that too few loads were seen to know a pattern.
type TooFew struct{ Have, Need int }

func (t TooFew) Error() string {
	return fmt.Sprintf("%d loads seen, %d needed before the next one can be expected", t.Have, t.Need)
}

// Pattern is a learned arrival pattern. Times are Unix seconds.
type Pattern struct {
	zone      *time.Location
	Scheduled bool
	slots     [7][]float64 // seconds of the day, by weekday
	lateness  []float64    // sorted, seconds
	rate      [bins]float64
	gaps      [2][]float64 // sorted, in expected loads: begun in quiet and in busy half-hours
	busy      float64      // rate from which a half-hour is busy
	PerMonth  float64      // loads per 30 days
}

// Learn fits the pattern of ascending load times.
func Learn(loads []int64, zone *time.Location) (*Pattern, error) {
	if len(loads) < minLoads {
		return nil, TooFew{len(loads), minLoads}
	}
	p := &Pattern{zone: zone}
	span := float64(loads[len(loads)-1] - loads[0])
	p.PerMonth = float64(len(loads)-1) / max(span, 1) * 30 * 86400
	days := splitDays(batches(loads), zone)
	if p.Scheduled = p.learnSchedule(days); !p.Scheduled {
		p.learnRate(loads)
	}
	return p, nil
}

// batches keeps the first of loads that come within half an hour of each other:
// files of one delivery swap places, and only the delivery has a timetable.
func batches(loads []int64) []int64 {
	kept := loads[:1:1]
	for _, at := range loads[1:] {
		if at-kept[len(kept)-1] >= halfHour {
			kept = append(kept, at)
		}
	}
	return kept
}

// day is the loads of one local date, in seconds of that day.
type day struct {
	start   time.Time
	weekday int
	seconds []float64
}

func splitDays(loads []int64, zone *time.Location) []day {
	var days []day
	var end int64
	for _, at := range loads {
		t := time.Unix(at, 0).In(zone)
		for len(days) == 0 || at >= end {
			var start time.Time
			if len(days) == 0 {
				start = midnight(t)
			} else {
				start = days[len(days)-1].start.AddDate(0, 0, 1)
			}
			days = append(days, day{start: start, weekday: int(start.Weekday())})
			end = start.AddDate(0, 0, 1).Unix()
		}
		d := &days[len(days)-1]
		d.seconds = append(d.seconds, wallSeconds(t))
	}
	return days
}

func midnight(t time.Time) time.Time {
	y, m, d := t.Date()
	return time.Date(y, m, d, 0, 0, 0, 0, t.Location())
}

func wallSeconds(t time.Time) float64 {
	return float64(t.Hour()*3600 + t.Minute()*60 + t.Second())
}

// learnSchedule finds a template of times of day per weekday and how late its
// loads were; it reports false where days differ too much to have one. The
// first and last day are partial and not counted.
func (p *Pattern) learnSchedule(days []day) bool {
	if len(days) < 9 {
		return false
	}
	inner := days[1 : len(days)-1]
	for weekday := range 7 {
		var counts []float64
		for _, d := range inner {
			if d.weekday == weekday {
				counts = append(counts, float64(len(d.seconds)))
			}
		}
		if len(counts) == 0 {
			return false
		}
		k := math.Round(robust.Median(slices.Clone(counts)))
		if k > maxPerDay {
			return false
		}
		near := 0
		for _, c := range counts {
			if math.Abs(c-k) <= 0.05*k {
				near++
			}
		}
		if float64(near) < 0.6*float64(len(counts)) {
			return false
		}
		p.slots[weekday] = template(inner, weekday, int(k))
	}
	var late []float64
	for _, d := range inner {
		late = append(late, p.latenessOf(d)...)
	}
	if len(late) < minLoads {
		return false
	}
	slices.Sort(late)
	p.lateness = late
	return true
}

func template(days []day, weekday, k int) []float64 {
	var slots []float64
	for j := range k {
		var times []float64
		for _, d := range days {
			if d.weekday == weekday && len(d.seconds) == k {
				times = append(times, d.seconds[j])
			}
		}
		slots = append(slots, robust.Median(times))
	}
	return slots
}

func (p *Pattern) latenessOf(d day) []float64 {
	var late []float64
	slots := p.slots[d.weekday]
	for j, slot := range slots {
		before := 6 * 3600.0
		if j > 0 {
			before = min(before, (slot-slots[j-1])/2)
		}
		i := sort.SearchFloat64s(d.seconds, slot-before)
		if i < len(d.seconds) {
			late = append(late, d.seconds[i]-slot)
		}
	}
	return late
}

func (p *Pattern) binOf(t time.Time) int {
	return int(t.Weekday())*48 + int(wallSeconds(t))/halfHour
}

// learnRate estimates the loads per half-hour of the week, recent weeks
// counting more (half-life six weeks), shrunk to the rate of the same half-hour
// on all weekdays or weekends.
func (p *Pattern) learnRate(loads []int64) {
	var counts, weights [bins]float64
	last := loads[len(loads)-1]
	weight := func(at int64) float64 { return math.Exp2(-float64(last-at) / (6 * 7 * 86400)) }
	for _, at := range loads {
		counts[p.binOf(time.Unix(at, 0).In(p.zone))] += weight(at)
	}
	for at := loads[0]; at <= last; at += halfHour {
		weights[p.binOf(time.Unix(at, 0).In(p.zone))] += weight(at)
	}
	for h := range 48 {
		for class := range 2 {
			sum, n := 0.0, 0.0
			for d := range 7 {
				if (d == 0 || d == 6) == (class == 1) {
					sum, n = sum+counts[d*48+h], n+weights[d*48+h]
				}
			}
			mean := sum / max(n, 1e-9)
			for d := range 7 {
				if (d == 0 || d == 6) == (class == 1) {
					b := d*48 + h
					p.rate[b] = (counts[b]+mean)/(weights[b]+1) + 1e-4
				}
			}
		}
	}
	p.busy = 0.8 * robust.Quantile(slices.Clone(p.rate[:]), 0.8)
	for i := 1; i < len(loads); i++ {
		k := p.pool(loads[i-1])
		p.gaps[k] = append(p.gaps[k], p.expected(loads[i-1], loads[i]))
	}
	for k := range p.gaps {
		if len(p.gaps[k]) < minLoads {
			p.gaps[k] = slices.Concat(p.gaps[0], p.gaps[1])
		}
		slices.Sort(p.gaps[k])
	}
}

// pool says which gaps one that begins at the instant is compared with: where
// loads are frequent they are regular, where they are rare they are not.
func (p *Pattern) pool(at int64) int {
	if p.rate[p.binOf(time.Unix(at, 0).In(p.zone))] >= p.busy {
		return 1
	}
	return 0
}

// expected is the number of loads expected between two instants.
func (p *Pattern) expected(from, to int64) float64 {
	sum := 0.0
	for at := from; at < to; {
		end := min(at-at%halfHour+halfHour, to)
		sum += p.rate[p.binOf(time.Unix(at, 0).In(p.zone))] * float64(end-at) / halfHour
		at = end
	}
	return sum
}

// Confidence is the quantile of lateness to wait for so that a stated number of
// false overdue alerts per 30 days is kept; at most 0.999999.
func (p *Pattern) Confidence(budget float64) float64 {
	return min(max(1-budget/max(p.PerMonth, 1e-9), 0.9), 0.999999)
}

// quantile of sorted values: the order statistic where enough were seen, else
// an exponential tail above the thirty largest (or, of few, the largest tenth),
// as wide as so few warrant (a Lomax predictive). A load that was very late once
// is no measure.
func quantile(sorted []float64, q float64) float64 {
	n := float64(len(sorted))
	if rank := math.Ceil(q * (n + 1)); q*(n+1) < n-3 {
		return sorted[int(rank)-1]
	}
	tail := max(min(30, 0.1*n), 2)
	u := sorted[int(n-1-tail)]
	excess := 0.0
	for _, v := range sorted[int(n-tail):] {
		excess += v - u
	}
	mean := excess / tail
	worth := tail + 4
	return u + worth*mean*(math.Pow(tail/n/(1-q), 1/worth)-1)
}

// Due says when the load after last is usually there (half of them are) and by
// when it is overdue at the confidence.
func (p *Pattern) Due(last int64, confidence float64) (expected, deadline int64) {
	if p.Scheduled {
		slot := p.nextSlot(last)
		middle := quantile(p.lateness, 0.5)
		late := max(quantile(p.lateness, confidence), middle+300)
		return slot + int64(max(middle, 0)), slot + int64(late)
	}
	gaps := p.gaps[p.pool(last)]
	return p.after(last, quantile(gaps, 0.5)), p.after(last, quantile(gaps, confidence))
}

// nextSlot is the earliest slot that the load at last cannot have served.
func (p *Pattern) nextSlot(last int64) int64 {
	start := midnight(time.Unix(last, 0).In(p.zone))
	for range 15 {
		slots := p.slots[start.Weekday()]
		for j, s := range slots {
			before := 6 * 3600.0
			if j > 0 {
				before = min(before, (s-slots[j-1])/2)
			}
			y, m, d := start.Date()
			at := time.Date(y, m, d, 0, 0, int(s), 0, p.zone).Unix()
			if at-int64(before) > last {
				return at
			}
		}
		start = start.AddDate(0, 0, 1)
	}
	return last + 14*86400
}

// after is the instant by which that many loads are expected after from.
func (p *Pattern) after(from int64, loads float64) int64 {
	at := from
	for range 4 * bins {
		rate := p.rate[p.binOf(time.Unix(at, 0).In(p.zone))] / halfHour
		end := at - at%halfHour + halfHour
		if part := rate * float64(end-at); part < loads {
			loads, at = loads-part, end
			continue
		}
		return at + int64(loads/rate)
	}
	return at
}
