package benchmark

import (
	"math"
	"math/rand/v2"
	"time"

	"gonum.org/v1/gonum/stat/distuv"

	"tinbell/core/timeline"
)

// sheet collects what happens, second by second, into periods.
type sheet struct {
	*rand.Rand
	source rand.Source // of the same draws
	grid   timeline.Grid
	start  time.Time
	at     []int64
	value  []float64
	rows   []float64
	turn   float64 // where in the series, 0 to 1, something changes for good
	nature [4]float64
}

func (s *sheet) step() float64 { return s.grid.Period.Seconds() }
func (s *sheet) n() int        { return len(s.at) }
func (s *sheet) end() float64  { return float64(s.at[len(s.at)-1]-s.at[0]) + s.step() }

// hit adds rows that come at a moment, in seconds from the start.
func (s *sheet) hit(second, rows float64) {
	if second < 0 || second >= s.end() {
		return
	}
	i := int(second / s.step())
	for i > 0 && float64(s.at[min(i, s.n()-1)]-s.at[0]) > second {
		i--
	}
	for i+1 < s.n() && float64(s.at[i+1]-s.at[0]) <= second {
		i++
	}
	s.value[i] += rows
}

// arrive adds rows of a day at a rate an hour, in quarters of an hour.
func (s *sheet) arrive(d *day, rate func(hour float64) float64) {
	const quarter = 0.25
	for h := 0.0; h < 24; h += quarter {
		s.hit(d.second+(h+quarter*s.Float64())*3600, s.poisson(rate(h)*quarter))
	}
}

func (s *sheet) poisson(mean float64) float64 {
	if mean <= 0 {
		return 0
	}
	return distuv.Poisson{Lambda: mean, Src: s.source}.Rand()
}

func (s *sheet) lognormal(median, sigma float64) float64 {
	return median * math.Exp(sigma*s.NormFloat64())
}

func (s *sheet) gamma(shape float64) float64 {
	return distuv.Gamma{Alpha: shape, Beta: 1, Src: s.source}.Rand()
}

// every gives each period of a day a value by its hour; of daily series their
// mean.
func (s *sheet) every(d *day, of func(hour float64) float64) {
	if s.grid.Daily() {
		sum := 0.0
		for h := range 24 {
			sum += of(float64(h))
		}
		s.value[d.number] = sum / 24
		return
	}
	s.eachPeriod(d, func(i int, hour float64) { s.value[i] = of(hour) })
}

func (s *sheet) eachPeriod(d *day, do func(i int, hour float64)) {
	first := int(d.second / s.step())
	for k := range int(86400 / s.step()) {
		if i := first + k; i < s.n() {
			do(i, float64(k)*s.step()/3600)
		}
	}
}

func (s *sheet) shares(d *day, rate func(hour float64) float64, p float64) {
	s.eachPeriod(d, func(i int, hour float64) {
		n := s.poisson(rate(hour) * math.Sqrt(s.step()/3600))
		k := 0.0
		for range int(n) {
			if s.Float64() < p {
				k++
			}
		}
		if s.rows[i] = n; n > 0 {
			s.value[i] = k / n
		} else {
			s.value[i], s.rows[i] = math.NaN(), timeline.NoRows
		}
	})
}

// lose makes hours of a day missing.
func (s *sheet) lose(d *day, from, hours float64) {
	if s.grid.Daily() {
		if hours >= 24 {
			s.value[d.number] = math.NaN()
		}
		return
	}
	s.eachPeriod(d, func(i int, hour float64) {
		if hour >= from && hour < from+hours {
			s.value[i] = math.NaN()
		}
	})
}
