package filter

import (
	"testing"
)

// Labels that contradict what the prior is sure of lead to where the likelihood is
// best: there is next to no curvature where the fit begins, and a whole step of
// Newton's would lead far beyond, and the next one back.
func TestLabelsAgainstASurePriorDoNotThrowTheFitOff(t *testing.T) {
	for _, sure := range []float64{2, 6, 12, 40} {
		var prior Weights
		prior[1] = sure / 4
		var cases []Labelled
		var rows [][]row
		for i := range 60 {
			x := row{1, 4, 0.1 * float64(i%7), 1}
			fault := i%6 == 0
			if fault {
				x[3] = -1
			}
			// of which most contradict: they deviate strongly and are noise
			cases, rows = append(cases, Labelled{Fault: fault}), append(rows, []row{x})
		}
		every := func(int) bool { return true }
		w := fitWeights(rows, cases, prior, every)
		best := loss(rows, cases, &prior, every, &w)
		if before := loss(rows, cases, &prior, every, &prior); best > before {
			t.Errorf("a prior sure by %g: the fit is worse than where it began: %g, was %g", sure, best, before)
		}
		for j := range w {
			for _, d := range []float64{-0.05, 0.05} {
				moved := w
				moved[j] += d
				if l := loss(rows, cases, &prior, every, &moved); l < best {
					t.Errorf("a prior sure by %g: weight %d moved by %g is better by %g", sure, j, d, best-l)
				}
			}
		}
	}
}
