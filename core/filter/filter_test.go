package filter

import (
	"math"
	"math/rand/v2"
	"testing"

	"tinbell/core/detect"
	"tinbell/core/timeline"
)

// made draws a case: faults deviate more and are rarer by chance, and their
// deviation lasts.
func made(rng *rand.Rand, fault bool) Labelled {
	mean, rarity := 1.3+0.5*rng.Float64(), math.Exp(rng.Float64())
	if fault {
		mean, rarity = 1.5+2*rng.Float64(), math.Exp(5*rng.Float64())
	}
	c := Case{Kind: timeline.Count, Cause: detect.Deviation, Direction: detect.Low, Budget: 1}
	for _, age := range detect.Looks[:1+rng.IntN(3)] {
		n := age + 2
		c.Looks = append(c.Looks, detect.Evidence{Periods: n, Age: age, Excess: 1 + 0.1*math.Log(rarity), Rarity: rarity,
			Z: mean * float64(n), Worst: mean + 1, Last: mean, Expected: 80, Ratio: 0.6})
	}
	return Labelled{Case: c, Fault: fault}
}

func many(rng *rand.Rand, n int) (list []Labelled, everyone []Case) {
	for range n {
		l := made(rng, rng.Float64() < 0.4)
		list, everyone = append(list, l), append(everyone, l.Case)
	}
	return list, everyone
}

func TestTheFilterKeepsItsLimitOnAlertsItHasNotSeen(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 1))
	for _, limit := range []float64{0.02, 0.05} {
		lost, faults, spared, noise := 0, 0, 0, 0
		for range 20 {
			labelled, everyone := many(rng, 200)
			f, err := FitFilter(labelled, everyone, ShippedPrior, limit)
			if err != nil {
				t.Fatal(err)
			}
			fresh, _ := many(rng, 300)
			for i := range fresh {
				held := f.Holds(&fresh[i].Case)
				if fresh[i].Fault {
					faults++
					if held {
						lost++
					}
				} else if noise++; held {
					spared++
				}
			}
		}
		rate, share := float64(lost)/float64(faults), float64(spared)/float64(noise)
		t.Logf("limit %.2f: lost %.3f of faults, held back %.2f of noise", limit, rate, share)
		if rate > 1.5*limit {
			t.Errorf("limit %.2f: lost %.3f of faults", limit, rate)
		}
		if share < 3*rate {
			t.Errorf("limit %.2f: held back %.2f of noise and lost %.3f of faults", limit, share, rate)
		}
	}
}

func TestLabelsSharpenTheFilter(t *testing.T) {
	rng := rand.New(rand.NewPCG(4, 4))
	labelled, everyone := many(rng, 300)
	for i := range labelled { // here everything upwards is noise, whatever it looks like
		if labelled[i].Direction = detect.Low; i%2 == 0 {
			labelled[i].Direction, labelled[i].Fault = detect.High, false
		}
		everyone[i] = labelled[i].Case
	}
	f, err := FitFilter(labelled, everyone, ShippedPrior, 0.02)
	if err != nil {
		t.Fatal(err)
	}
	c := made(rng, true).Case
	low := f.Probability(&c)
	c.Direction = detect.High
	if high := f.Probability(&c); high > low/2 {
		t.Errorf("the same alert downwards %.2f, upwards %.2f", low, high)
	}
	if f.Right < 0.8 {
		t.Errorf("orders %.2f of unseen pairs rightly", f.Right)
	}
}

func TestWithoutLabelsTheFilterIsItsPrior(t *testing.T) {
	f, err := FitFilter(nil, nil, ShippedPrior, 0.01)
	if err != nil || f.Weights != ShippedPrior.Weights || f.Cut > ShippedPrior.cut(0.01) {
		t.Errorf("%+v, %v", f, err)
	}
	if _, err := FitFilter(nil, nil, ShippedPrior, 0); err == nil {
		t.Error("a limit of nothing")
	}
}

func TestWhatWasToldIsNotTakenBackAndPlainClaimsAreAlwaysTold(t *testing.T) {
	rng := rand.New(rand.NewPCG(2, 3))
	f := Filter{Weights: ShippedPrior.Weights, Cut: 0.6}
	strong, weak := made(rng, true).Case, made(rng, false).Case
	strong.Looks, weak.Looks = strong.Looks[:1], weak.Looks[:1]
	strong.Looks[0].Z, strong.Looks[0].Rarity, strong.Looks[0].Excess = 24, 5000, 3
	both := Case{Kind: timeline.Count, Cause: detect.Deviation, Direction: detect.Low, Budget: 1,
		Looks: []detect.Evidence{strong.Looks[0], weak.Looks[0]}}
	if f.Holds(&strong) || !f.Holds(&weak) || f.Holds(&both) {
		t.Errorf("strong %.2f, weak %.2f, first strong then weak %.2f", f.Strongest(&strong), f.Strongest(&weak), f.Strongest(&both))
	}
	for _, cause := range []detect.Cause{detect.Silence, detect.Missing, detect.Overdue} {
		if weak.Cause = cause; f.Holds(&weak) {
			t.Errorf("an alert of the %s rule is held back", cause)
		}
	}
}

func TestNearestAreThoseThatLookAlike(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 6))
	among, _ := many(rng, 50)
	f := Filter{Weights: ShippedPrior.Weights}
	for i := range among {
		if got := f.Nearest(&among[i].Case, among, 3); len(got) != 3 || f.Weights.distance(ptr(among[i].rows()),
			ptr(among[got[0]].rows())) > 1e-9 {
			t.Fatalf("case %d: nearest %v", i, got)
		}
	}
}

func TestReasonsAreToldByThemeAndAddUp(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 7))
	among, _ := many(rng, 60)
	f := Filter{Weights: ShippedPrior.Weights}
	c := made(rng, false).Case
	sum, middle := 0.0, 0.0
	seen := map[string]bool{}
	reasons := f.Reasons(&c, among)
	for i, r := range reasons {
		if seen[r.Theme] || r.Theme == "" || i > 0 && r.Push < reasons[i-1].Push {
			t.Errorf("reasons: %+v", reasons)
		}
		seen[r.Theme], sum = true, sum+r.Push
	}
	for i := range among {
		middle += f.Weights.dot(ptr(among[i].rows())) / float64(len(among))
	}
	if off := f.Weights.dot(ptr(c.rows())) - middle; math.Abs(sum-off) > 0.05*float64(len(Themes)) || len(reasons) == 0 {
		t.Errorf("reasons add up to %.2f, the case is %.2f from the middle", sum, off)
	}
}

func ptr(rows []row) *row { return &rows[len(rows)-1] }

func TestAnswersAreMeasuredBesideWhatWasExpected(t *testing.T) {
	rng := rand.New(rand.NewPCG(9, 9))
	var s Surprise
	c := made(rng, true).Case
	p := chanceOf(&c, &ShippedPrior.Weights)
	s.Add(c, true)
	if math.Abs(s.Sum-(1-p)) > 1e-12 || s.N != 1 {
		t.Errorf("%+v, expected %.3f", s, 1-p)
	}
	s.Add(c, false)
	s.Less(c, true)
	if math.Abs(s.Sum+p) > 1e-12 || s.N != 1 {
		t.Errorf("left out again: %+v", s)
	}
}

func TestTheQueueAsksWhereTheFilterIsUnsureAndSpreadsItsQuestions(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 7))
	f := Filter{Weights: ShippedPrior.Weights}
	var questions []Question
	for i := range 60 {
		questions = append(questions, Question{Case: made(rng, i%2 == 0).Case, Monitor: int64(i % 3), Series: int64(i),
			Chance: []float64{0.5, 0.02, 0.98}[i/20]})
	}
	order := Ask(questions, &f, map[int64]int{0: 30}, nil, 12)
	if len(order) != 12 {
		t.Fatalf("%d questions", len(order))
	}
	byMonitor := map[int64]int{}
	for _, i := range order {
		if questions[i].Chance != 0.5 {
			t.Errorf("asks about an alert it is %.2f sure of while undecided ones wait", questions[i].Chance)
		}
		byMonitor[questions[i].Monitor]++
	}
	if byMonitor[0] >= byMonitor[1] || byMonitor[1] == 0 || byMonitor[2] == 0 {
		t.Errorf("monitor 0 has thirty answers already; asked %v", byMonitor)
	}
	if got := Ask(questions[:2], &f, nil, nil, 10); len(got) != 2 {
		t.Errorf("more questions than there are: %v", got)
	}
}

// An alert waits for the first look at which the filter lets go of it; what has no look is taken
// as it is.
func TestAnAlertWaitsForTheLookThatLetsItGo(t *testing.T) {
	f := Filter{Weights: ShippedPrior.Weights}
	c := Case{Budget: 0.1, Kind: timeline.Count, Cause: detect.Deviation, Direction: detect.Low, Looks: []detect.Evidence{
		{Age: 1, Periods: 1, Excess: 1.01, Z: 1, Worst: 1, Last: 1, Ratio: 0.95, Expected: 10, Rarity: 1},
		{Age: 4, Periods: 4, Excess: 4, Z: 16, Worst: 5, Last: 5, Ratio: 0.1, Expected: 400, Rarity: 1000},
	}}
	first := c
	first.Looks = c.Looks[:1]
	weak, strong := f.Probability(&first), f.Probability(&c)
	if weak >= strong {
		t.Fatalf("the second look should say more: %.3f and %.3f", weak, strong)
	}
	for _, at := range []struct {
		cut  float64
		want int
	}{{weak / 2, 0}, {(weak + strong) / 2, 3}, {(1 + strong) / 2, -1}} {
		f.Cut = at.cut
		if got := f.Waits(c); got != at.want {
			t.Errorf("cut at %.3f: %d, want %d", at.cut, got, at.want)
		}
	}
}
