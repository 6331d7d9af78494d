// Package filter weighs alerts by what people said of others: how likely each is
// a fault, which to hold back under a stated limit of faults lost, and which to
// ask about next.
package filter

import (
	"cmp"
	"errors"
	"math"
	"slices"

	"gonum.org/v1/gonum/mat"

	"tinbell/core/detect"
)

// Labelled is a case that a person answered. Planned alerts teach nothing.
type Labelled struct {
	Case
	Fault bool
}

// Filter tells alerts that look like labelled noise: a logistic regression that
// is drawn towards prior weights while labels are few, and a cut below which
// alerts are held back.
type Filter struct {
	Weights Weights
	Cut     float64 // probability below which an alert is held back; 0 holds back none
	Limit   float64 // share of faults that may be lost, as stated
	Faults  int     // labels it was learned from
	Noise   int
	Right   float64 // share of pairs of a fault and a noise that it orders rightly so; NaN without pairs
}

// Prior are weights to start from, and the cut that goes with them by the share
// of faults lost.
type Prior struct {
	Weights Weights
	Cuts    [][2]float64 // share of faults lost, cut; ascending
}

const (
	ridge = 5 // how strongly weights are drawn to the prior
	folds = 5
)

// Probability that the case is a fault, by its newest look.
func (f *Filter) Probability(c *Case) float64 { return chanceOf(c, &f.Weights) }

func chanceOf(c *Case, w *Weights) float64 {
	rows := c.rows()
	return sigmoid(w.dot(&rows[len(rows)-1]))
}

// Strongest is the largest probability of the looks so far: what was told once
// is not taken back.
func (f *Filter) Strongest(c *Case) float64 { return f.Weights.best(c.rows()) }

// Holds tells whether the alert is held back, given its evidence so far. Alerts
// of the silence, missing-data and overdue rules are claims about nothing at
// all and always told.
func (f *Filter) Holds(c *Case) bool {
	return f.Cut > 0 && !plain(c.Cause) && f.Strongest(c) < f.Cut
}

// plain causes leave no doubt about what was seen.
// Waits is after how many periods an alert is let through, by what is seen of it then; −1 if it
// never is.
func (f *Filter) Waits(c Case) int {
	looks := c.Looks
	if len(looks) == 0 && !f.Holds(&c) {
		return 0
	}
	for k, look := range looks {
		if c.Looks = looks[:k+1]; !f.Holds(&c) {
			return look.Age - 1
		}
	}
	return -1
}

func plain(c detect.Cause) bool {
	return c == detect.Silence || c == detect.Missing || c == detect.Overdue || c == detect.Bound
}

func (w *Weights) best(rows []row) float64 {
	p := 0.0
	for i := range rows {
		p = max(p, sigmoid(w.dot(&rows[i])))
	}
	return p
}

func (w *Weights) dot(x *row) (sum float64) {
	for i, v := range x {
		sum += w[i] * v
	}
	return sum
}

func sigmoid(x float64) float64 { return 1 / (1 + math.Exp(-x)) }

// FitFilter learns from labelled cases and sets the cut on everyone: all alerts
// of the recent past, answered or not. limit is the share of faults that may be
// held back: the cut is the largest at which, by the chances that the fitted
// weights give, no more than that share of everyone's faults lies below, nor of
// the labelled ones, each judged by a filter that has not seen its fold's labels
// (risk control as Angelopoulos et al. 2024 have it). Where there are few alerts
// it is not above the prior's own.
func FitFilter(cases []Labelled, everyone []Case, prior Prior, limit float64) (Filter, error) {
	if limit <= 0 || limit >= 1 {
		return Filter{}, errors.New("the limit on faults lost is a share between 0 and 1")
	}
	all := make([][]row, len(cases))
	f := Filter{Limit: limit, Right: math.NaN()}
	for i := range cases {
		all[i] = cases[i].rows()
		if cases[i].Fault {
			f.Faults++
		} else {
			f.Noise++
		}
	}
	f.Weights = fitWeights(all, cases, prior.Weights, func(int) bool { return true })
	unseen := make([]float64, len(cases)) // probability by a filter without the case's fold
	for k := range min(folds, len(cases)) {
		w := fitWeights(all, cases, prior.Weights, func(i int) bool { return i%folds != k })
		for i := k; i < len(cases); i += folds {
			unseen[i] = w.best(all[i])
		}
	}
	var faults, noise []float64
	for i, c := range cases {
		switch {
		case plain(c.Cause):
		case c.Fault:
			faults = append(faults, unseen[i])
		default:
			noise = append(noise, unseen[i])
		}
	}
	slices.Sort(faults)
	f.Cut = f.expectedCut(everyone)
	if len(everyone) < enough {
		f.Cut = min(f.Cut, prior.cut(limit))
	}
	if n := len(faults); n >= 10 {
		f.Cut = min(f.Cut, max(faults[min(int(limit*float64(n+1)), n-1)], prior.cut(limit/4)))
	}
	f.Right = ordered(faults, noise)
	return f, nil
}

// enough is how many alerts tell what share of faults a cut would lose.
const enough = 100

// expectedCut is the largest cut below which no more than the limit of
// everyone's expected faults lies.
func (f *Filter) expectedCut(everyone []Case) float64 {
	type chance struct{ strongest, now float64 }
	list := make([]chance, 0, len(everyone))
	total := 0.0
	for i := range everyone {
		c := &everyone[i]
		p := chance{f.Strongest(c), f.Probability(c)}
		total += p.now
		if !plain(c.Cause) {
			list = append(list, p)
		}
	}
	slices.SortFunc(list, func(a, b chance) int { return cmp.Compare(a.strongest, b.strongest) })
	below := 0.0
	for _, p := range list {
		if below += p.now; below > f.Limit*total {
			return p.strongest
		}
	}
	return 0.5
}

// cut of the prior that loses the share of faults.
func (p Prior) cut(share float64) float64 {
	for i, c := range p.Cuts {
		if c[0] >= share {
			if i == 0 {
				return c[1] * share / c[0]
			}
			before := p.Cuts[i-1]
			return before[1] + (c[1]-before[1])*(share-before[0])/(c[0]-before[0])
		}
	}
	if n := len(p.Cuts); n > 0 {
		return p.Cuts[n-1][1]
	}
	return 0
}

// ordered is the share of pairs in which the fault has the higher probability
// (Mann and Whitney 1947); NaN without pairs.
func ordered(faults, noise []float64) float64 {
	if len(faults) == 0 || len(noise) == 0 {
		return math.NaN()
	}
	right := 0.0
	for _, a := range faults {
		for _, b := range noise {
			switch {
			case a > b:
				right++
			case a == b:
				right += 0.5
			}
		}
	}
	return right / float64(len(faults)*len(noise))
}

// fitWeights maximises the penalised likelihood by Newton's method. Each alert
// counts once: its looks share its weight.
func fitWeights(all [][]row, cases []Labelled, prior Weights, use func(int) bool) Weights {
	w := prior
	for range 30 {
		hessian := mat.NewSymDense(width, nil)
		gradient := mat.NewVecDense(width, nil)
		for j := range width {
			hessian.SetSym(j, j, ridge)
			gradient.SetVec(j, ridge*(w[j]-prior[j]))
		}
		for i, rows := range all {
			if !use(i) {
				continue
			}
			y := 0.0
			if cases[i].Fault {
				y = 1
			}
			for k := range rows {
				x, share := &rows[k], shareOf(k, len(rows))
				p := sigmoid(w.dot(x))
				g, h := share*(p-y), share*max(p*(1-p), 1e-6)
				for a, va := range x {
					if va == 0 {
						continue
					}
					gradient.SetVec(a, gradient.AtVec(a)+g*va)
					for b := a; b < width; b++ {
						if x[b] != 0 {
							hessian.SetSym(a, b, hessian.At(a, b)+h*va*x[b])
						}
					}
				}
			}
		}
		var chol mat.Cholesky
		var step mat.VecDense
		if !chol.Factorize(hessian) || chol.SolveVecTo(&step, gradient) != nil {
			return w // cannot be: the penalty makes it positive definite
		}
		length := mat.Norm(&step, math.Inf(1))
		// A whole step may lead far beyond where the curvature still holds.
		share, before, next := 1.0, loss(all, cases, &prior, use, &w), w
		for ; share*length >= 1e-8; share /= 2 {
			for j := range width {
				next[j] = w[j] - share*step.AtVec(j)
			}
			if loss(all, cases, &prior, use, &next) <= before {
				break
			}
		}
		if share*length < 1e-8 {
			return w
		}
		w = next
	}
	return w
}

// loss is the penalised negative log-likelihood that fitWeights minimises.
func loss(all [][]row, cases []Labelled, prior *Weights, use func(int) bool, w *Weights) float64 {
	sum := 0.0
	for j := range width {
		d := w[j] - prior[j]
		sum += ridge * d * d / 2
	}
	for i, rows := range all {
		if !use(i) {
			continue
		}
		for k := range rows {
			z := w.dot(&rows[k])
			if cases[i].Fault {
				z = -z
			}
			// log(1 + e^z), which does not overflow
			sum += shareOf(k, len(rows)) * (max(z, 0) + math.Log1p(math.Exp(-math.Abs(z))))
		}
	}
	return sum
}

// shareOf is what of an alert's weight one of its looks has: most has the last.
func shareOf(k, n int) float64 {
	switch {
	case n < 2:
		return 1
	case k == n-1:
		return 0.8
	}
	return 0.2 / float64(n-1)
}

// Reason is what moved a probability, in words.
type Reason struct {
	Theme string
	Push  float64 // on the log-odds scale; negative speaks for noise
}

// Reasons lists the themes of a case's last look by how far their features
// together push it from the middle of the cases it is compared with, what speaks
// most for noise first.
func (f *Filter) Reasons(c *Case, beside []Labelled) []Reason {
	rows := c.rows()
	x := rows[len(rows)-1]
	var middle row
	for i := range beside {
		other := beside[i].rows()
		for j, v := range other[len(other)-1] {
			middle[j] += v / float64(len(beside))
		}
	}
	pushes := map[string]float64{}
	for j := 1; j < width; j++ {
		pushes[Themes[j]] += f.Weights[j] * (x[j] - middle[j])
	}
	var list []Reason
	for theme, push := range pushes {
		if math.Abs(push) > 0.05 {
			list = append(list, Reason{theme, push})
		}
	}
	slices.SortFunc(list, func(a, b Reason) int { return cmp.Or(cmp.Compare(a.Push, b.Push), cmp.Compare(a.Theme, b.Theme)) })
	return list
}

// Nearest gives the places of the labelled cases most like a case, nearest
// first: by the distance of their last looks, each feature in units of its
// weight.
func (f *Filter) Nearest(c *Case, among []Labelled, n int) []int {
	type at struct {
		place int
		far   float64
	}
	rows := c.rows()
	list := make([]at, len(among))
	for i := range among {
		other := among[i].rows()
		list[i] = at{i, f.Weights.distance(&rows[len(rows)-1], &other[len(other)-1])}
	}
	slices.SortStableFunc(list, func(a, b at) int { return cmp.Compare(a.far, b.far) })
	places := make([]int, 0, n)
	for _, v := range list[:min(n, len(list))] {
		places = append(places, v.place)
	}
	return places
}

// distance of two looks; every feature counts at least a little.
func (w *Weights) distance(a, b *row) float64 {
	sum := 0.0
	for j := 1; j < width; j++ {
		d := (math.Abs(w[j]) + 0.3) * (a[j] - b[j])
		sum += d * d
	}
	return math.Sqrt(sum)
}
