package forecast

import (
	"math"

	"tinbell/core/robust"
)

// Crosses is the probability that the typical day has passed a limit after each
// day forecast, from the same uncertainty as the interval, and the first day on
// which the expectation itself has (−1 if none).
func (f *Forecast) Crosses(limit float64) (first int, chance []float64) {
	first = -1
	if f.log {
		limit = math.Log(max(limit, 1))
	}
	up := limit >= f.centre[0]
	reach := f.quantile(0.9) / ninety
	for h := range f.centre {
		d := (limit - f.centre[h]) / max(f.spread[h]*reach, 1e-12)
		if !up {
			d = -d
		}
		chance = append(chance, math.Erfc(d/math.Sqrt2)/2)
		if first < 0 && (up && f.centre[h] >= limit || !up && f.centre[h] <= limit) {
			first = h
		}
	}
	return first, chance
}

// Reaches is the first day forecast after which the typical day has passed a limit with
// at least a probability; −1 if there is none.
func (f *Forecast) Reaches(limit, probability float64) int {
	_, chance := f.Crosses(limit)
	for h, p := range chance {
		if p >= probability {
			return h
		}
	}
	return -1
}

// Totals is what the days forecast come to together, up to each of them, with intervals of
// the forecast's coverage. Days err together, as their level does, so the level's errors
// are added as they are; what a day strays by itself averages out.
func (f *Forecast) Totals() (expected, low, high []float64) {
	reach := f.quantile(f.Coverage)
	wide := robust.NormalQuantile((1 + f.Coverage) / 2)
	own, lift := f.noise/ninety, 1.0
	if f.log {
		lift = math.Exp(own * own / 2) // the mean of what strays by a factor
	}
	var sum, under, over, square float64
	for h := range f.centre {
		centre := f.centre[h] + f.shape[h]
		day := lift * f.back(centre)
		sum += day
		under += day - lift*f.back(centre-reach*f.spread[h])
		over += lift*f.back(centre+reach*f.spread[h]) - day
		stray := own
		if f.log {
			stray *= day
		}
		square += stray * stray
		expected = append(expected, sum)
		low, high = append(low, sum-math.Hypot(under, wide*math.Sqrt(square))), append(high, sum+math.Hypot(over, wide*math.Sqrt(square)))
	}
	return expected, low, high
}
