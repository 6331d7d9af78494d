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

// judge computes the leave-worst-out windows: sums over the last w points
// without the few most deviating ones, against the level as of the window's
// start, so that one spike can never alarm and a fault cannot explain itself.
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
	if quiet := newest.Z > -deviating; all || !quiet {
		r.sweep(c, mult, low, &scale[low], effect, quiet, v)
	}
	if quiet := newest.Z < deviating; all || !quiet {
		r.sweep(c, mult, high, &scale[high], effect, quiet, v)
	}
}

// sweep goes back through the ring once for all windows of a side, keeping the
// two points that deviate most.
func (r *ring) sweep(c *cadence, mult bool, side int, scale *[5]float64, effect float64, quiet bool, v *verdict) {
	var (
		x, part, variance, shift, level float64
		present, done                   int
		i                               = r.Head
		points                          = r.Points
		sign                            = float64(2*side - 1)
		worst, second                   = math.Inf(-1), math.Inf(-1)
		worstAt, secondAt               = -1, -1
	)
	for w := range c.windows[:c.count] {
		length := c.windows[w]
		if length > r.Valid {
			return
		}
		for ; done < length; done++ {
			p := &points[i]
			if p.OK {
				x += p.X
				part += p.Part
				variance += p.Var
				shift += p.Shift
				level = p.Level
				present++
				if z := p.Z * sign; z > worst {
					second, secondAt = worst, worstAt
					worst, worstAt = z, i
				} else if c.drop > 1 && z > second {
					second, secondAt = z, i
				}
			}
			if i--; i < 0 {
				i = len(points) - 1
			}
		}
		drop := c.dropped(length)
		if present*2 < length || present <= drop {
			continue
		}
		sums := sums{x, part, variance, shift}
		if drop > 0 {
			sums.without(&points[worstAt])
		}
		if drop > 1 && secondAt >= 0 {
			sums.without(&points[secondAt])
		}
		z, gone := sums.statistic(mult, level, float64(present-drop))
		z *= sign
		v.raw[side][w], v.ample[side][w] = z, gone >= effect
		if quiet {
			continue
		}
		u := z / scale[w]
		v.u[side] = max(v.u[side], u)
		if u > v.told[side] && gone >= effect {
			v.told[side], v.window[side] = u, length
		}
	}
}

type sums struct{ x, part, variance, shift float64 }

func (s *sums) without(p *point) {
	s.x, s.part, s.variance, s.shift = s.x-p.X, s.part-p.Part, s.variance-p.Var, s.shift-p.Shift
}

// statistic is the variance-stabilised distance of a window's sum from its
// expectation (counts: Anscombe 1948), and the distance itself.
func (s *sums) statistic(mult bool, level, n float64) (z, gone float64) {
	if mult {
		mean := level * s.part
		perD := min(max(mean, 0.3)/s.variance, 1)
		return 2 * (math.Sqrt(max(s.x, 0)*perD+0.375) - math.Sqrt(mean*perD+0.375)), math.Abs(s.x - mean)
	}
	moved := s.shift - n*level
	return moved / math.Sqrt(max(s.variance, 1e-300)), math.Abs(moved)
}

// deviating is how many sigma the newest point must be off for its side to be
// judged.
const deviating = 0.7

var silentVerdict = verdict{raw: [2][5]float64{unknown, unknown}}

var unknown = [5]float64{math.NaN(), math.NaN(), math.NaN(), math.NaN(), math.NaN()}
