package detect

import (
	"math"

	"tinbell/core/baseline"
)

// Direction of a deviation.
type Direction int8

const (
	Low  Direction = -1
	Both Direction = 0
	High Direction = 1
)

func (d Direction) String() string {
	switch d {
	case Low:
		return "low"
	case High:
		return "high"
	}
	return "both"
}

// sides index the two directions in arrays.
const (
	low  = 0
	high = 1
)

func side(d Direction) int {
	if d == High {
		return high
	}
	return low
}

// point is one ring entry. Absent points (missing, masked) keep OK false.
type point struct {
	X, Part, Var, Z, Shift, Level float64
	OK                            bool
}

// ring keeps the last points as long as the longest window.
type ring struct {
	Points []point
	Head   int // index of the newest
	Valid  int // points since the last restart, at most len(Points)
}

func newRing(size int) ring { return ring{Points: make([]point, size), Head: -1} }

func (r *ring) push(p point) {
	if r.Head++; r.Head == len(r.Points) {
		r.Head = 0
	}
	r.Points[r.Head] = p
	r.Valid = min(r.Valid+1, len(r.Points))
}

// restart forgets what was seen: windows begin afresh after an alert.
func (r *ring) restart() { r.Valid = 0 }

// pointOf makes the ring entry of a judged sample. Residuals of additive
// models are clipped at 8 sigma so that a single point stays bounded.
func pointOf(m *baseline.Model, e *baseline.Expectation, x float64) point {
	p := point{X: x, Var: e.Sigma * e.Sigma, Z: (x - e.Mu) / e.Sigma, Level: e.Level, OK: true}
	if m.Family == baseline.Mult {
		p.Part = e.Profile * e.Exposure
		if e.Slot.Date != 0 && e.Level > 0 {
			p.Part = e.Mu / e.Level
		}
	} else {
		p.Shift = min(max(x-e.Mu, -8*e.Sigma), 8*e.Sigma) + e.Level
	}
	return p
}

// verdict is what the windows say of the newest point, per side.
type verdict struct {
	raw    [2][5]float64 // statistic per window, NaN where there is none
	u      [2]float64    // largest scaled statistic
	told   [2]float64    // the same over windows whose effect is large enough
	window [2]int        // which window told
}

// worst keeps the d most extreme points of a window on one side, most extreme
// first. offer expects that z belongs among them.
type worst struct {
	z   [3]float64
	at  [3]int
	len int
}

func (w *worst) offer(z float64, at, keep int) {
	i := w.len
	if i == keep {
		i--
	} else {
		w.len++
	}
	for i > 0 && z > w.z[i-1] {
		w.z[i], w.at[i] = w.z[i-1], w.at[i-1]
		i--
	}
	w.z[i], w.at[i] = z, at
}

// judge computes the leave-worst-out windows: sums over the last w points
// without the few most deviating ones, against the level as of the window's
// start, so that one spike can never alarm and a fault cannot explain itself.
// One backward sweep serves all windows.
//
// A side on which the newest point does not itself deviate says nothing: a
// window that still holds old deviations must not alarm after recovery. Its
// statistics are computed only where all of them are asked for.
func (r *ring) judge(c *cadence, mult bool, scale *[2][5]float64, effect float64, all bool, v *verdict) {
	for s := range 2 {
		v.u[s], v.told[s], v.window[s] = 0, 0, 0
		for w := range v.raw[s] {
			v.raw[s][w] = math.NaN()
		}
	}
	newest := &r.Points[r.Head]
	if !newest.OK {
		return
	}
	quiet := [2]bool{newest.Z > -0.7, newest.Z < 0.7}
	first, last := low, high
	if !all {
		if quiet[low] {
			first = high
		}
		if quiet[high] {
			last = low
		}
		if first > last {
			return
		}
	}
	var (
		sumX, sumPart, sumVar, sumShift float64
		level                           float64
		present, w                      int
		extremes                        [2]worst
	)
	i := r.Head
	for k := 1; k <= r.Valid; k++ {
		p := &r.Points[i]
		if p.OK {
			sumX, sumPart, sumVar, sumShift = sumX+p.X, sumPart+p.Part, sumVar+p.Var, sumShift+p.Shift
			level = p.Level
			present++
			for s := first; s <= last; s++ {
				z := p.Z
				if s == low {
					z = -z
				}
				if w := &extremes[s]; w.len < c.drop || z > w.z[c.drop-1] {
					w.offer(z, i, c.drop)
				}
			}
		}
		if i--; i < 0 {
			i = len(r.Points) - 1
		}
		if k != c.windows[w] {
			continue
		}
		drop := c.dropped(k)
		if present*2 >= k && present > drop {
			for s := first; s <= last; s++ {
				x, part, variance, shift := sumX, sumPart, sumVar, sumShift
				for j := range drop {
					out := &r.Points[extremes[s].at[j]]
					x, part, variance, shift = x-out.X, part-out.Part, variance-out.Var, shift-out.Shift
				}
				z, gone := windowStatistic(mult, x, part, variance, shift, level, float64(present-drop))
				if s == low {
					z = -z
				}
				v.raw[s][w] = z
				if quiet[s] {
					continue
				}
				u := z / scale[s][w]
				v.u[s] = max(v.u[s], u)
				if u > v.told[s] && gone >= effect {
					v.told[s], v.window[s] = u, k
				}
			}
		}
		if w++; w == len(c.windows) {
			break
		}
	}
}

func windowStatistic(mult bool, x, part, variance, shift, level, n float64) (z, gone float64) {
	if mult {
		mean := level * part
		d := max(variance/max(mean, 0.3), 1)
		return 2 * (math.Sqrt(max(x, 0)/d+0.375) - math.Sqrt(mean/d+0.375)), math.Abs(x - mean)
	}
	moved := shift - n*level
	return moved / math.Sqrt(max(variance, 1e-300)), math.Abs(moved)
}
