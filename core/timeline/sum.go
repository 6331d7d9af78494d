package timeline

import (
	"math"
	"time"
)

// Sum adds up series period by period, one after another, so that only one of them is
// held at a time.
type Sum struct {
	at    []int64
	place map[int64]int
	value []float64
	n     []float64
}

// NewSum begins one over the periods of a grid in [from, to).
func NewSum(g Grid, from, to time.Time) *Sum {
	s := &Sum{place: map[int64]int{}}
	for at := g.Floor(from); at.Before(to); at = g.Next(at) {
		s.place[at.Unix()] = len(s.at)
		s.at = append(s.at, at.Unix())
	}
	s.value, s.n = make([]float64, len(s.at)), make([]float64, len(s.at))
	return s
}

// Add takes in a series. Periods outside, and those that did not come, add nothing.
func (s *Sum) Add(history []Sample) {
	for _, v := range history {
		if i, there := s.place[v.At]; there && !v.Missing() {
			s.value[i] += v.Value
			s.n[i]++
		}
	}
}

// Samples gives what was added up, from the first period that came; means where what
// was added is no count. A period that came of no series is NaN.
func (s *Sum) Samples(count bool) []Sample {
	var list []Sample
	for i, at := range s.at {
		v := math.NaN()
		if s.n[i] > 0 {
			if v = s.value[i]; !count {
				v /= s.n[i]
			}
		} else if list == nil {
			continue
		}
		list = append(list, Sample{At: at, Value: v})
	}
	return list
}
