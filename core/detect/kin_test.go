package detect

import (
	"math"
	"math/rand/v2"
	"testing"
)

func TestAlikeTailsArePooledAndUnlikeOnesHardly(t *testing.T) {
	of := func(k float64, slopes ...float64) (list []*tail) {
		for _, s := range slopes {
			list = append(list, &tail{above: k, own: k * s})
		}
		return list
	}
	// By hand: slope 2, Q = 10 (1/4 + 0 + 1/4) = 5, tau^2 = (5 - 2)/(30 - 10), worth = 1/(.15 + 1/30).
	if got := pool(of(10, 1, 2, 3)); math.Abs(got.Slope-2) > 1e-9 || math.Abs(got.Worth-60.0/11) > 1e-9 {
		t.Errorf("slopes of 1, 2 and 3: %+v", got)
	}
	if got := pool(of(7, 2, 2, 2, 2)); got.Slope != 2 || math.Abs(got.Worth-28) > 1e-9 {
		t.Errorf("equal slopes are worth all their values: %+v", got)
	}
	if got := pool(of(7, 2, 2)); got != (KinTail{}) {
		t.Errorf("two series are no kin: %+v", got)
	}
	if got := pool(of(5, 1, 1, 1, 1, 60)); got.Worth > tailPrior {
		t.Errorf("one fault that nobody labelled speaks for all: %+v", got)
	}
	rng := rand.New(rand.NewPCG(3, 11))
	worth := func(spread float64) (sum float64) {
		const groups = 200
		for range groups {
			var list []*tail
			for range 12 {
				slope, tl := math.Exp(spread*rng.NormFloat64()), &tail{above: 8}
				for range 8 {
					tl.own += slope * rng.ExpFloat64()
				}
				list = append(list, tl)
			}
			sum += min(pool(list).Worth, 96) / groups
		}
		return sum
	}
	alike, apart := worth(0), worth(0.8)
	// A slope whose logarithm spreads by .8 varies by exp(.64) - 1 = .9 of its square: worth about one value.
	if alike < 40 || apart > 4 {
		t.Errorf("of 12 series with 8 values each alike ones are worth %.1f values, unlike ones %.1f", alike, apart)
	}
}

// Days' largest of 48 normal deviations, which are no exponential: limits of eighteen days
// are exceeded by what is stated, and lie closer together with kin than alone.
func TestKinSteadyTheLimitsOfYoungSeries(t *testing.T) {
	rng := rand.New(rand.NewPCG(9, 30))
	const fleets, size, days, budget = 60, 12, 18, 1.0
	day := func() (largest float64) {
		for range 48 {
			largest = max(largest, rng.NormFloat64())
		}
		return largest
	}
	stated := deviationShare * budget / 30 / 2
	figures := func(kin bool) (exceeded, spread float64) {
		var sum, squares float64
		for range fleets {
			var fleet []*maxima
			var tails []*tail
			for range size {
				m := filled(days, func(int) float64 { return day() })
				m.Alone = true
				fleet, tails = append(fleet, m), append(tails, &m.All.fit)
			}
			k := Kinship{Low: pool(tails)}
			for _, m := range fleet {
				if kin {
					var odd []float32
					m.settle(k.windows(low), &odd)
				}
				limit := m.threshold(budget, 2, 1)
				exceeded += (1 - math.Pow(0.5*math.Erfc(-limit/math.Sqrt2), 48)) / stated / fleets / size
				sum, squares = sum+limit, squares+limit*limit
			}
		}
		n := float64(fleets * size)
		return exceeded, math.Sqrt(squares/n - sum/n*sum/n)
	}
	alone, width := figures(false)
	among, narrow := figures(true)
	if among > 1.2 || among < 0.3 || narrow > 0.95*width {
		t.Errorf("found over stated %.2f alone and %.2f with kin, limits spread by %.2f and %.2f", alone, among, width, narrow)
	}
}

// Most days have no run at all: the tail is of those that have one, and what kin know of
// theirs makes up for their number.
func TestRareRunsAreAsLongAsThoseThatCame(t *testing.T) {
	rng := rand.New(rand.NewPCG(6, 2))
	var alone Kinship
	among := Kinship{Silence: KinTail{Slope: 20, Worth: 60}}
	const p, histories = 0.002, 500
	var all, rare, kin float64
	for range histories {
		values := make([]float32, 100)
		for i := range values {
			if rng.Float64() < 0.15 {
				values[i] = float32(20 * rng.ExpFloat64())
			}
		}
		of := func(prior slopePrior) float64 {
			tl := fitTail(values, sortedOf(values), prior)
			return 0.15 * math.Exp(-tl.level(p)/20) / p / histories
		}
		all += of(slopePrior{slope: surprisePrior, worth: tailPrior})
		rare += of(alone.surprise(Silence))
		kin += of(among.surprise(Silence))
	}
	if rare > 0.7*all || kin > 1.3 || kin < 0.3 {
		t.Errorf("exceeded %.2f times as often as stated; with kin %.2f; with days that had none counted in %.2f", rare, kin, all)
	}
	if tl := fitTail(make([]float32, 9), make([]float32, 9), alone.surprise(Stuck)); math.IsNaN(tl.level(p)) || tl.level(p) < 0 {
		t.Errorf("of nothing: %v", tl.level(p))
	}
}
