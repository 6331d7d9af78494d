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
	ample  [2][5]bool    // the window's effect is large enough
	u      [2]float64    // largest scaled statistic
	told   [2]float64    // the same over windows whose effect is large enough
	window [2]int        // which window told
}

// worst keeps the two most extreme points of a sweep on one side, the more
// extreme first, by their place in the ring; −1 where there is none.
type worst struct {
	z  [2]float64
	at [2]int
}

func (w *worst) clear() {
	w.z = [2]float64{math.Inf(-1), math.Inf(-1)}
	w.at = [2]int{-1, -1}
}

func (w *worst) offer(z float64, at int) {
	if z > w.z[0] {
		w.z[1], w.at[1] = w.z[0], w.at[0]
		w.z[0], w.at[0] = z, at
		return
	}
	w.z[1], w.at[1] = z, at
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
	*v = silentVerdict
	newest := &r.Points[r.Head]
	if !newest.OK {
		return
	}
	quiet := [2]bool{newest.Z > -deviating, newest.Z < deviating}
	ask := [2]bool{all || !quiet[low], all || !quiet[high]}
	if !ask[low] && !ask[high] {
		return
	}
	var (
		x, part, variance, shift, level float64
		present                         int
		i                               = r.Head
		done                            = 0
		worst                           [2]worst
	)
	worst[low].clear()
	worst[high].clear()
	for w, length := range c.windows {
		if length > r.Valid {
			return
		}
		for ; done < length; done++ {
			at := i
			p := &r.Points[at]
			if i--; i < 0 {
				i = len(r.Points) - 1
			}
			if !p.OK {
				continue
			}
			x, part, variance, shift = x+p.X, part+p.Part, variance+p.Var, shift+p.Shift
			level = p.Level
			present++
			if p.Z > worst[high].z[1] {
				worst[high].offer(p.Z, at)
			}
			if -p.Z > worst[low].z[1] {
				worst[low].offer(-p.Z, at)
			}
		}
		drop := c.dropped(length)
		if present*2 < length || present <= drop {
			continue
		}
		for s := range 2 {
			if !ask[s] {
				continue
			}
			sums := point{X: x, Part: part, Var: variance, Shift: shift}
			for _, at := range worst[s].at[:drop] {
				if at < 0 {
					continue
				}
				out := &r.Points[at]
				sums.X, sums.Part, sums.Var, sums.Shift = sums.X-out.X, sums.Part-out.Part, sums.Var-out.Var, sums.Shift-out.Shift
			}
			z, gone := windowStatistic(mult, &sums, level, float64(present-drop))
			if s == low {
				z = -z
			}
			v.raw[s][w], v.ample[s][w] = z, gone >= effect
			if quiet[s] {
				continue
			}
			u := z / scale[s][w]
			v.u[s] = max(v.u[s], u)
			if u > v.told[s] && gone >= effect {
				v.told[s], v.window[s] = u, length
			}
		}
	}
}

// deviating is how many sigma the newest point must be off for its side to be
// judged.
const deviating = 0.7

var silentVerdict = verdict{raw: [2][5]float64{unknown, unknown}}

var unknown = [5]float64{math.NaN(), math.NaN(), math.NaN(), math.NaN(), math.NaN()}

func windowStatistic(mult bool, sums *point, level, n float64) (z, gone float64) {
	if mult {
		mean := level * sums.Part
		perD := min(max(mean, 0.3)/sums.Var, 1)
		return 2 * (math.Sqrt(max(sums.X, 0)*perD+0.375) - math.Sqrt(mean*perD+0.375)), math.Abs(sums.X - mean)
	}
	moved := sums.Shift - n*level
	return moved / math.Sqrt(max(sums.Var, 1e-300)), math.Abs(moved)
}
