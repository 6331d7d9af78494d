package benchmark

import (
	"math"
	"math/rand/v2"
	"slices"

	"tinbell/core/filter"
)

// PriorOf fits the weights that the filter starts from, on fleets of their own,
// and on others the cuts that go with them.
func PriorOf(seeds, cutSeeds []uint64, perFamily int, progress func(done, total int)) (filter.Prior, error) {
	var prior filter.Prior
	cases, err := answered(seeds, perFamily, progress)
	if err != nil {
		return prior, err
	}
	f, err := filter.FitFilter(cases, nil, prior, 0.02)
	if err != nil {
		return prior, err
	}
	prior.Weights = f.Weights
	other, err := answered(cutSeeds, perFamily, progress)
	if err != nil {
		return prior, err
	}
	var faults []float64
	for _, c := range other {
		if c.Fault {
			faults = append(faults, f.Strongest(&c.Case))
		}
	}
	slices.Sort(faults)
	for _, share := range []float64{0.005, 0.01, 0.02, 0.05, 0.1, 0.2} {
		prior.Cuts = append(prior.Cuts, [2]float64{share, math.Round(faults[int(share*float64(len(faults)))]*1e4) / 1e4})
	}
	return prior, nil
}

// answered gives the alerts of fleets with the truth, each knowing a random
// part of the labels before it, as in a service that is some weeks old.
func answered(seeds []uint64, perFamily int, progress func(done, total int)) ([]filter.Labelled, error) {
	var cases []filter.Labelled
	for k, seed := range seeds {
		f, err := newFleet(seed, perFamily, []float64{3, 2, 1, 0.3})
		if err != nil {
			return nil, err
		}
		rng := rand.New(rand.NewPCG(seed, 77))
		for _, list := range f.alerts {
			share := max(rng.Float64()-0.6, 0)
			known := newMemory()
			for i := range list {
				a := &list[i]
				if !a.counts() {
					continue
				}
				known.recall(a)
				cases = append(cases, filter.Labelled{Case: a.Case, Fault: a.real()})
				if rng.Float64() < share {
					known.learn(a, a.real())
				}
			}
		}
		progress(k+1, len(seeds))
	}
	return cases, nil
}

// memory keeps answers by series and by monitor.
type memory struct{ series, monitor map[int]filter.Surprise }

func newMemory() memory {
	return memory{map[int]filter.Surprise{}, map[int]filter.Surprise{}}
}

func (m memory) learn(a *rang, fault bool) {
	s, v := m.series[a.scene], m.monitor[a.monitor]
	s.Add(a.Case, fault)
	v.Add(a.Case, fault)
	m.series[a.scene], m.monitor[a.monitor] = s, v
}

func (m memory) recall(a *rang) { a.Series, a.Monitor = m.series[a.scene], m.monitor[a.monitor] }

// recallWithout recalls all answers but the alert's own.
func (m memory) recallWithout(a *rang, fault bool) {
	m.recall(a)
	a.Series.Less(a.Case, fault)
	a.Monitor.Less(a.Case, fault)
}
