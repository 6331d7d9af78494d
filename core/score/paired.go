package score

import (
	"math"
	"math/rand/v2"
	"slices"

	"gonum.org/v1/gonum/stat/distuv"
)

// Paired is the difference between two ways of alerting on the same past: the
// second less the first.
type Paired struct {
	OnlyFirst  int     // incidents that only the first found
	OnlySecond int     // … only the second
	RecallP    float64 // exact two-sided probability of a split this uneven by chance
	False      int     // false alarms more (or fewer) with the second
	FalseLow   float64 // 95 % interval of that
	FalseHigh  float64
	FalseP     float64
	Recall     Difference
	Precision  Difference
}

// Difference of a share with its 95 % interval.
type Difference struct{ Estimate, Low, High float64 }

// Tally is what one way of alerting did on one series.
type Tally struct{ Hits, False int }

const (
	draws = 2000
	flips = 5000
)

// Compare sets two ways of alerting beside each other. found holds per incident
// whether the first and the second found it; tallies per series what each told.
// Incidents are compared by McNemar's exact test (1947), false alarms by flipping
// the signs of the differences of series at random (Fisher 1935), intervals come
// from drawing series and incidents with replacement (Efron 1979), always from
// the same seed.
func Compare(found [][2]bool, tallies [][2]Tally) Paired {
	p := Paired{RecallP: 1, FalseP: 1}
	for _, f := range found {
		switch {
		case f[0] && !f[1]:
			p.OnlyFirst++
		case f[1] && !f[0]:
			p.OnlySecond++
		}
	}
	if n := p.OnlyFirst + p.OnlySecond; n > 0 {
		b := distuv.Binomial{N: float64(n), P: 0.5}
		p.RecallP = min(2*b.CDF(float64(min(p.OnlyFirst, p.OnlySecond))), 1)
	}
	differences := make([]int, len(tallies))
	for i, t := range tallies {
		differences[i] = t[1].False - t[0].False
		p.False += differences[i]
	}
	rng := rand.New(rand.NewPCG(1947, 1935))
	p.FalseP = signFlip(differences, p.False, rng)
	p.bootstrap(found, tallies, rng)
	return p
}

func signFlip(differences []int, observed int, rng *rand.Rand) float64 {
	if observed == 0 {
		return 1
	}
	as := 1
	for range flips {
		sum := 0
		for _, d := range differences {
			if d != 0 && rng.IntN(2) == 0 {
				d = -d
			}
			sum += d
		}
		if abs(sum) >= abs(observed) {
			as++
		}
	}
	return float64(as) / (flips + 1)
}

func abs(n int) int { return max(n, -n) }

func (p *Paired) bootstrap(found [][2]bool, tallies [][2]Tally, rng *rand.Rand) {
	var recalls, precisions, wolves []float64
	for k := range draws + 1 {
		var hits, wrong, incidents [2]int
		for i := range tallies {
			t := tallies[i]
			if k > 0 {
				t = tallies[rng.IntN(len(tallies))]
			}
			for way := range 2 {
				hits[way], wrong[way] = hits[way]+t[way].Hits, wrong[way]+t[way].False
			}
		}
		for i := range found {
			f := found[i]
			if k > 0 {
				f = found[rng.IntN(len(found))]
			}
			for way := range 2 {
				if f[way] {
					incidents[way]++
				}
			}
		}
		recall := float64(incidents[1]-incidents[0]) / float64(max(len(found), 1))
		precision := precisionOf(hits[1], wrong[1]) - precisionOf(hits[0], wrong[0])
		if k == 0 {
			p.Recall.Estimate, p.Precision.Estimate = recall, precision
			continue
		}
		recalls, wolves = append(recalls, recall), append(wolves, float64(wrong[1]-wrong[0]))
		if !math.IsNaN(precision) {
			precisions = append(precisions, precision)
		}
	}
	p.Recall.Low, p.Recall.High = middleOf(recalls)
	p.Precision.Low, p.Precision.High = middleOf(precisions)
	p.FalseLow, p.FalseHigh = middleOf(wolves)
	agree(&p.FalseP, &p.FalseLow, &p.FalseHigh, wolves)
	agree(&p.RecallP, &p.Recall.Low, &p.Recall.High, recalls)
}

// agree lets a probability and an interval of the same difference say the same: the
// probability is at least that of the draws, and where it exceeds 0.05 the interval
// reaches as far as no difference.
func agree(p, low, high *float64, drawn []float64) {
	below, above := 0, 0
	for _, v := range drawn {
		if v <= 0 {
			below++
		}
		if v >= 0 {
			above++
		}
	}
	if n := len(drawn); n > 0 {
		*p = max(*p, min(2*float64(min(below, above))/float64(n), 1))
	}
	if *p > 0.05 {
		*low, *high = min(*low, 0), max(*high, 0)
	}
}

func precisionOf(hits, wrong int) float64 {
	if hits+wrong == 0 {
		return math.NaN()
	}
	return float64(hits) / float64(hits+wrong)
}

// middleOf gives the bounds of the middle 95 % of values; NaN for none.
func middleOf(values []float64) (low, high float64) {
	n := len(values)
	if n == 0 {
		return math.NaN(), math.NaN()
	}
	slices.Sort(values)
	return values[int(0.025*float64(n))], values[min(int(0.975*float64(n)), n-1)]
}
