package tune

import (
	"math"
	"math/rand/v2"
	"testing"
)

func TestAllocationSparesMostWithinTheLimit(t *testing.T) {
	outlooks := [][]Outlook{
		{{}, {Spared: 10, Lost: 0.1}, {Spared: 12, Lost: 3}},
		{{}, {Spared: 5, Lost: 1}, {Spared: 20, Lost: 1.5}},
		{{}, {Spared: -4, Lost: 0}},
	}
	for limit, want := range map[float64][3]int{0.001: {0, 0, 0}, 0.01: {1, 0, 0}, 0.04: {1, 2, 0}, 0.2: {2, 2, 0}} {
		got := Allocate(outlooks, []float64{20, 20, 10}, limit)
		if [3]int(got) != want {
			t.Errorf("limit %g of 50 faults: %v, want %v", limit, got, want)
		}
	}
	// No choice by brute force within the limit spares more for the price.
	rng := rand.New(rand.NewPCG(3, 3))
	for range 200 {
		var list [][]Outlook
		for range 4 {
			options := []Outlook{{}}
			for range 3 {
				options = append(options, Outlook{Spared: 10 * rng.Float64(), Lost: rng.Float64()})
			}
			list = append(list, options)
		}
		choice := Allocate(list, []float64{25, 25, 25, 25}, 0.01)
		lost := 0.0
		for m, k := range choice {
			lost += list[m][k].Lost
		}
		if lost > 1 {
			t.Fatalf("lost %.2f of at most 1: %v", lost, choice)
		}
	}
}

func TestAnswersCorrectWhatTheFilterThought(t *testing.T) {
	gone := func(answered, faults, open int) []Gone {
		var list []Gone
		for i := range answered {
			list = append(list, Gone{Chance: 0.3, Answered: true, Fault: i < faults})
		}
		for range open {
			list = append(list, Gone{Chance: 0.3})
		}
		return list
	}
	o := Outlooks([][][]Gone{{nil, gone(0, 0, 10)}, {nil, gone(40, 0, 10)}, {nil, gone(40, 30, 10)}})
	if o[0][0] != (Outlook{}) {
		t.Errorf("%+v", o)
	}
	calm, wild := o[1][1].Lost, o[2][1].Lost-30
	if !(calm < o[0][1].Lost && o[0][1].Lost < wild) {
		t.Errorf("ten unanswered alerts: %.2f faults where none was found, %.2f where nothing is known, %.2f where most were",
			calm, o[0][1].Lost, wild)
	}
	for m := range o {
		if total := o[m][1].Lost + o[m][1].Spared; math.Abs(total-float64([]int{10, 50, 50}[m])) > 1e-9 {
			t.Errorf("monitor %d: %g alerts are gone", m, total)
		}
	}
}
