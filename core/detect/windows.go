package detect

import (
	"math"

	"tinbell/core/baseline"
	"tinbell/core/figures"
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

// point is what a judged period adds to the windows. Absent ones (missing,
// masked) keep OK false. Shift is of additive models the moved level, of counts
// what the high side sums: X, bounded, so that no single file makes a window.
type point struct {
	X, Part, Var, Z, Shift, Level float64
	OK                            bool
}

// maxWindows is how many window lengths a cadence has at most.
const maxWindows = 7

// perWindow is a figure for each window length.
type perWindow [maxWindows]float64

// recent keeps the last points, as many as the longest window has, as running
// sums: what a window holds is a difference of two. Entries fill room for twice
// as many; when it is full the later half moves to the front and the sums begin
// anew, so that rounding does not build up.
type recent struct {
	Size  int
	Sums  running        // before each entry, and after the last
	Z     figures.Floats // standardised residual, NaN where absent
	Level figures.Floats // of the model at the time
	Valid int            // entries since the last restart, at most Size
}

func newRecent(size int) recent {
	r := recent{Size: size, Sums: make(running, 1, 2*size+1), Z: make(figures.Floats, 0, 2*size), Level: make(figures.Floats, 0, 2*size)}
	return r
}

func (r *recent) push(p *point) {
	n := len(r.Z)
	if n == 2*r.Size {
		base := r.Sums[r.Size]
		for i := range r.Size + 1 {
			r.Sums[i] = r.Sums[r.Size+i].minus(&base)
		}
		copy(r.Z, r.Z[r.Size:])
		copy(r.Level, r.Level[r.Size:])
		n = r.Size
		r.Sums, r.Z, r.Level = r.Sums[:n+1], r.Z[:n], r.Level[:n]
	}
	next := r.Sums[n]
	z := math.NaN()
	if p.OK {
		z = p.Z
		next.X, next.Part, next.Var, next.Shift, next.N = next.X+p.X, next.Part+p.Part, next.Var+p.Var, next.Shift+p.Shift, next.N+1
	}
	r.Sums, r.Z, r.Level = append(r.Sums, next), append(r.Z, z), append(r.Level, p.Level)
	r.Valid = min(r.Valid+1, r.Size)
}

// last is the entry k periods before the newest, for k < Valid.
func (r *recent) last(k int) point {
	i := len(r.Z) - 1 - k
	d := r.Sums[i+1].minus(&r.Sums[i])
	return point{X: d.X, Part: d.Part, Var: d.Var, Shift: d.Shift, Z: r.Z[i], Level: r.Level[i], OK: d.N > 0}
}

// restart forgets what was seen: windows begin afresh after an alert.
func (r *recent) restart() { r.Valid = 0 }

// pointOf makes the entry of a judged sample. Residuals of additive models are
// clipped at 8 sigma so that a single point stays bounded; all of them at a
// million, so that sums keep their digits.
func pointOf(m *baseline.Model, e *baseline.Expectation, x float64) point {
	x = min(max(x, e.Mu-1e6*e.Sigma), e.Mu+1e6*e.Sigma)
	p := point{X: x, Var: e.Sigma * e.Sigma, Z: (x - e.Mu) / e.Sigma, Level: e.Level, OK: true}
	if m.Family == baseline.Mult {
		p.Part = e.Profile * e.Exposure
		if e.Slot.Date != 0 && e.Level > 0 {
			p.Part = e.Mu / e.Level
		}
		p.Shift = min(x, e.Mu+max(8*e.Sigma, 10))
	} else {
		p.Shift = min(max(x-e.Mu, -8*e.Sigma), 8*e.Sigma) + e.Level
	}
	return p
}

// verdict is what the windows say of the newest point, per side.
type verdict struct {
	raw    [2]perWindow        // statistic per window, NaN where there is none
	ample  [2][maxWindows]bool // the window's effect is large enough
	u      [2]float64          // largest scaled statistic
	told   [2]float64          // the same over windows whose effect is large enough
	window [2]int              // which window told
}

// judge computes the leave-worst-out windows: sums over the last w points
// without the few most deviating ones, against the level as of the window's
// start, so that one spike can never alarm and a fault cannot explain itself.
//
// A side on which the newest point does not itself deviate says nothing: a
// window that still holds old deviations must not alarm after recovery. Its
// statistics are computed only where all of them are asked for, and so are
// those of windows that lean the other way.
func (r *recent) judge(c *cadence, mult bool, s *scales, effect float64, all bool, v *verdict) {
	*v = silentVerdict
	newest := r.Z[len(r.Z)-1]
	if math.IsNaN(newest) {
		return
	}
	if quiet := newest > -deviating; all || !quiet {
		r.sweep(c, mult, low, s, effect, all, quiet, v)
	}
	if quiet := newest < deviating; all || !quiet {
		r.sweep(c, mult, high, s, effect, all, quiet, v)
	}
}

// sweep goes back once for all windows of a side, keeping the two entries that
// deviate most.
func (r *recent) sweep(c *cadence, mult bool, side int, s *scales, effect float64, all, quiet bool, v *verdict) {
	n := len(r.Z)
	sign := float64(2*side - 1)
	worst, second := math.Inf(-1), math.Inf(-1)
	worstAt, secondAt := -1, -1
	i := n - 1
	for w, length := range c.windows[:c.count] {
		if length > r.Valid {
			return
		}
		first := n - length
		for ; i >= first; i-- {
			if z := r.Z[i] * sign; z > worst {
				second, secondAt = worst, worstAt
				worst, worstAt = z, i
			} else if c.drop > 1 && z > second {
				second, secondAt = z, i
			}
		}
		drop := c.dropped(length)
		end, start := &r.Sums[n], &r.Sums[first]
		present := end.N - start.N
		if present*2 < float64(length) || present <= float64(drop) {
			continue
		}
		out := [2]int{worstAt, secondAt}
		var z, gone float64
		if mult {
			// What the window holds, and what of it counts: on the high side of more
			// than one period values are bounded.
			held, part, variance := end.X-start.X, end.Part-start.Part, end.Var-start.Var
			x, bounded := held, side == high && length > 1
			if bounded {
				x = end.Shift - start.Shift
			}
			for _, k := range out[:drop] {
				if k >= 0 {
					after, before := &r.Sums[k+1], &r.Sums[k]
					left := after.X - before.X
					held, part, variance = held-left, part-(after.Part-before.Part), variance-(after.Var-before.Var)
					if bounded {
						left = after.Shift - before.Shift
					}
					x -= left
				}
			}
			mean := r.Level[first] * part
			if !all && sign*(x-mean) <= 0 {
				continue
			}
			z, gone = ofCounts(x, mean, variance), math.Abs(held-mean)
		} else {
			shift, variance := end.Shift-start.Shift, end.Var-start.Var
			for _, k := range out[:drop] {
				if k >= 0 {
					after, before := &r.Sums[k+1], &r.Sums[k]
					shift, variance, present = shift-(after.Shift-before.Shift), variance-(after.Var-before.Var), present-1
				}
			}
			moved := shift - present*r.Level[first]
			if !all && sign*moved <= 0 {
				continue
			}
			z, gone = ofValues(moved, variance)
		}
		z *= sign
		v.raw[side][w], v.ample[side][w] = z, gone >= effect
		if quiet {
			continue
		}
		u := s.of(side, w, z)
		v.u[side] = max(v.u[side], u)
		if u > v.told[side] && gone >= effect {
			v.told[side], v.window[side] = u, length
		}
	}
}

// sums over a stretch of entries, and how many of them are present.
type sums struct{ X, Part, Var, Shift, N float64 }

func (s sums) minus(o *sums) sums {
	return sums{s.X - o.X, s.Part - o.Part, s.Var - o.Var, s.Shift - o.Shift, s.N - o.N}
}

// ofCounts is the variance-stabilised distance of a window's sum from its
// expectation (Anscombe 1948).
func ofCounts(x, mean, variance float64) float64 {
	perD := min(max(mean, 0.3)/max(variance, 1e-300), 1)
	return 2 * (math.Sqrt(max(x, 0)*perD+0.375) - math.Sqrt(max(mean, 0)*perD+0.375))
}

// ofValues is the standardised distance of a window's sum, and the distance.
func ofValues(moved, variance float64) (z, gone float64) {
	return moved / math.Sqrt(max(variance, 1e-300)), math.Abs(moved)
}

// deviating is how many sigma the newest point must be off for its side to be
// judged.
const deviating = 0.7

var silentVerdict = func() (v verdict) {
	for s := range 2 {
		for w := range v.raw[s] {
			v.raw[s][w] = math.NaN()
		}
	}
	return v
}()

// scales bring the statistics of all windows onto one footing, by side: each is
// divided and shifted so that its block maxima have the tail of a standard normal
// one's. Centre is the statistic's median.
type scales struct{ Scale, Shift, Centre [2]perWindow }

func unitScales() (s scales) {
	for side := range 2 {
		for w := range maxWindows {
			s.Scale[side][w] = 1
		}
	}
	return s
}

// of is what a window's statistic counts; nothing where it leans the other way.
func (s *scales) of(side, w int, z float64) float64 {
	if z <= 0 {
		return 0
	}
	return max(z/s.Scale[side][w]+s.Shift[side][w], 0)
}
