package detect

// Strangers compares how far series deviate in days that their limits were not fitted to
// with how far in those they were: what youth costs.
type Strangers struct{ met, known, blocks, youth, series float64 }

// Meet begins to follow a series from its evaluator as it was fitted, and gives what takes
// the evaluator after each step and whether the period counts.
func (g *Strangers) Meet(fitted *Evaluator) func(e *Evaluator, counts bool) {
	usual, bound := fitted.usual()
	if usual == 0 {
		return func(*Evaluator, bool) {}
	}
	g.series, g.youth = g.series+1, g.youth+fitted.youth
	block, largest, whole := fitted.Block, 0.0, false
	return func(e *Evaluator, counts bool) {
		if e.Block != block {
			if whole {
				g.met, g.known, g.blocks = g.met+min(largest, bound), g.known+usual, g.blocks+1
			}
			block, largest, whole = e.Block, 0, true
		}
		if counts {
			largest = max(largest, e.verdict.u[low], e.verdict.u[high])
		}
	}
}

// strangersPrior is how many blocks the usual raise is worth.
const strangersPrior = 10

// Young is the share by which limits of a series without any past are to be raised, drawn
// towards the usual while there is little to go by; 0 where all series are old.
func (g *Strangers) Young() float64 {
	youth := g.youth / max(g.series, 1)
	if g.blocks == 0 || youth < leastYouth {
		return 0
	}
	ratio := (g.blocks*g.met/g.known + strangersPrior*(1+youngRaise*youth)) / (g.blocks + strangersPrior)
	return min(max((ratio-1)/youth, leastRaise), mostRaise)
}

const (
	leastYouth = 0.1
	leastRaise = 0.05
	mostRaise  = 2
)

// usual is the mean of the largest deviations of the blocks that limits were fitted to, each
// counted up to the limit, and that limit. Blocks in which nothing was judged yet hold nothing.
func (e *Evaluator) usual() (mean, bound float64) {
	bound = max(e.warn[low], e.warn[high])
	n := 0.0
	for i, v := range e.Maxima[low].All.Values {
		if largest := float64(max(v, e.Maxima[high].All.Values[i])); largest > 0 {
			mean, n = mean+min(largest, bound), n+1
		}
	}
	return mean / max(n, 1), bound
}
