// Package tune chooses settings for monitors together: the fewest false alarms at a
// stated limit of faults lost.
package tune

import "math"

// Gone is an alert of today's setting that another would not have told.
type Gone struct {
	Chance   float64 // that it was a fault, as the filter sees it
	Answered bool
	Fault    bool // the answer
}

// Outlook is what another setting of a monitor is expected to do, beside
// today's, over a stretch of the past.
type Outlook struct {
	Spared float64 // false alarms that are gone
	Lost   float64 // faults that are gone
}

// pull is how many faults' worth of answers a monitor needs to be believed as
// much as all of them together, and all of them as much as the filter.
const pull = 8

// Outlooks sums up what would be gone, by monitor and setting. Answers count as
// they are. Of alerts nobody answered the filter's chances are summed, scaled by
// how many faults the answered ones among the monitor's gone alerts turned out
// to hold beside what the filter thought, shrunk to the same ratio over all
// monitors (a gamma prior for a Poisson mean: Clayton and Kaldor 1987).
func Outlooks(gone [][][]Gone) [][]Outlook {
	result := make([][]Outlook, len(gone))
	most := 0
	for m := range gone {
		result[m] = make([]Outlook, len(gone[m]))
		most = max(most, len(gone[m]))
	}
	for k := range most {
		thought, found := 0.0, 0.0
		for m := range gone {
			if k < len(gone[m]) {
				t, f := answersOf(gone[m][k])
				thought, found = thought+t, found+f
			}
		}
		all := (found + pull) / (thought + pull)
		for m := range gone {
			if k >= len(gone[m]) {
				continue
			}
			t, f := answersOf(gone[m][k])
			own := (f + pull*all) / (t + pull)
			o := &result[m][k]
			for _, g := range gone[m][k] {
				chance := min(own*g.Chance, 1)
				if g.Answered {
					chance = 0
					if g.Fault {
						chance = 1
					}
				}
				o.Lost, o.Spared = o.Lost+chance, o.Spared+1-chance
			}
		}
	}
	return result
}

// answersOf is how many faults the filter thought there were among the answered,
// and how many there were.
func answersOf(gone []Gone) (thought, found float64) {
	for _, g := range gone {
		if g.Answered {
			thought += g.Chance
			if g.Fault {
				found++
			}
		}
	}
	return thought, found
}

// Allocate chooses a setting for each of several monitors so that the false
// alarms of all together are fewest while the faults lost are at most the limit,
// a share of the faults that today's settings tell. outlooks[m][0] is today's
// setting of monitor m; faults[m] how many faults it tells. Each fault lost is
// given the same price everywhere, the lowest at which the limit is kept (the
// Lagrangian of the problem: Everett 1963), so that a monitor gives up a fault
// only where that spares the most.
func Allocate(outlooks [][]Outlook, faults []float64, limit float64) []int {
	total := 0.0
	for _, f := range faults {
		total += f
	}
	best := make([]int, len(outlooks))
	lo, hi := 1e-3, 1e4
	for range 60 {
		price := math.Sqrt(lo * hi)
		choice, lost := atPrice(outlooks, price)
		if lost <= limit*total {
			best, hi = choice, price
		} else {
			lo = price
		}
	}
	return best
}

// atPrice chooses each monitor's setting for itself; today's where nothing is
// better.
func atPrice(outlooks [][]Outlook, price float64) (choice []int, lost float64) {
	choice = make([]int, len(outlooks))
	for m, options := range outlooks {
		least := math.Inf(1)
		for k, o := range options {
			if cost := price*o.Lost - o.Spared; cost < least-1e-9 {
				least, choice[m] = cost, k
			}
		}
		lost += options[choice[m]].Lost
	}
	return choice, lost
}
