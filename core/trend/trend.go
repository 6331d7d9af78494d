// Package trend tests whether a series grows and whether its level changed, parametrically
// and not, with what its values owe to the ones before them allowed for: analytically and
// by a bootstrap of an autoregression.
package trend

import (
	"fmt"
	"math"
	"slices"

	"tinbell/core/robust"
)

// Least is how many values a test needs.
const Least = 20

// Most is how many values are tested, the newest of them.
const Most = 2000

// Options say how a series is looked at.
type Options struct {
	Season      int    // periods after which it repeats, taken out first; 0 or 1: none
	Independent bool   // values owe nothing to those before them
	Draws       int    // of the bootstrap; 999 if 0, none if negative
	Seed        uint64 // of the bootstrap
}

// Test is one test of "nothing changes but by chance".
type Test struct {
	Name      string  // Linear, Kendall, Spearman, Pettitt, CUSUM, SupF
	Statistic float64 // as the literature defines it, without allowance
	P         float64 // analytic, autocorrelation allowed for
	Bootstrap float64 // NaN without a bootstrap
}

// Tests in their order.
const (
	Linear   = "linear trend"
	Kendall  = "Mann-Kendall"
	Spearman = "Spearman"
	Pettitt  = "Pettitt"
	CUSUM    = "CUSUM"
	SupF     = "sup-F"
)

// Step is the best single change of level.
type Step struct {
	At            int // index of the first value after it
	Low, High     int // 95 % interval of At
	Before, After float64
}

// Result is what the tests say of a series.
type Result struct {
	N         int     // values tested
	Rho       float64 // what a value owes to the one before it: lag-1 autocorrelation, bias corrected
	Slope     float64 // a period, Theil and Sen
	Low, High float64 // 95 % interval of it (Sen 1968), autocorrelation allowed for
	Step      Step
	Tests     []Test
	Better    string // which describes it better, by the information criterion of Schwarz: "trend", "step" or ""
}

// TooShort says how many values there are and how many it takes.
type TooShort struct{ Have, Need int }

func (e TooShort) Error() string {
	return fmt.Sprintf("%d values are too few to test: it takes %d", e.Have, e.Need)
}

// ErrConstant is what a series gives that never changes.
var ErrConstant = fmt.Errorf("every value is the same: there is nothing to test")

// Look tests a series of equally spaced values, NaN where one is missing.
func Look(values []float64, o Options) (Result, error) {
	if len(values) > Most {
		values = values[len(values)-Most:]
	}
	for _, v := range values {
		if math.IsInf(v, 0) {
			return Result{}, fmt.Errorf("a value is infinite: leave it out")
		}
	}
	s := seasonless(values, o.Season)
	if len(s.y) < Least {
		return Result{}, TooShort{len(s.y), Least}
	}
	if slices.Min(s.y) == slices.Max(s.y) {
		return Result{}, ErrConstant
	}
	a := s.analyse(o.Independent)
	r := Result{N: len(s.y), Rho: a.rho, Step: a.step, Better: a.better}
	r.Slope, r.Low, r.High = s.slope(a.rho)
	for i, name := range names {
		r.Tests = append(r.Tests, Test{name, a.raw[i], a.p[i], math.NaN()})
	}
	if o.Draws >= 0 {
		s.bootstrap(&r, a, o)
	}
	return r, nil
}

var names = [6]string{Linear, Kendall, Spearman, Pettitt, CUSUM, SupF}

// series are the values that there are, and when.
type series struct {
	t []float64
	y []float64
}

// seasonless takes the median of each part of the season out, and leaves the level.
func seasonless(values []float64, season int) series {
	middle := make([]float64, max(season, 1))
	if season > 1 {
		var all []float64
		parts := make([][]float64, season)
		for i, v := range values {
			if !math.IsNaN(v) {
				parts[i%season], all = append(parts[i%season], v), append(all, v)
			}
		}
		if len(all) > 0 {
			level := robust.Median(all)
			for k, part := range parts {
				if len(part) > 0 {
					middle[k] = robust.Median(part) - level
				}
			}
		}
	}
	var s series
	for i, v := range values {
		if !math.IsNaN(v) {
			s.t, s.y = append(s.t, float64(i)), append(s.y, v-middle[i%len(middle)])
		}
	}
	return s
}

// analysis is what one pass over a series gives.
type analysis struct {
	rho      float64
	raw      [6]float64
	p        [6]float64
	step     Step
	better   string
	residual []float64 // of the better of line and step
}

// analyse computes all statistics and their analytic p.
func (s series) analyse(independent bool) analysis {
	var a analysis
	n := float64(len(s.y))
	line, slope, rssLine := s.line()
	stepped, at, rssStep, most := s.steps()
	a.residual = line
	if rssStep < rssLine {
		a.residual = stepped
	}
	// A step fits noise better than a line does: it has its place to choose as well.
	switch lineFit, stepFit := n*math.Log(rssLine/n)+2*math.Log(n), n*math.Log(rssStep/n)+3*math.Log(n); {
	case lineFit < stepFit:
		a.better = "trend"
	case stepFit < lineFit:
		a.better = "step"
	}
	rhoLine, rhoStep := s.owed(line, 2), s.owed(stepped, 3)
	a.rho = min(rhoLine, rhoStep) // whichever leaves the least: what it leaves is not memory
	if independent {
		rhoLine, rhoStep, a.rho = 0, 0, 0
	}
	inflate := func(rho float64) float64 { return (1 + rho) / (1 - rho) }
	free := func(rho float64) float64 { return max(n/inflate(rho)-2, 1) }

	t := slope / math.Sqrt(rssLine/(n-2)/s.spread())
	a.raw[0], a.p[0] = t, student(t/math.Sqrt(inflate(rhoLine)), free(rhoLine))

	concordance, variance := s.kendall()
	z := (concordance - sign(concordance)) / math.Sqrt(variance)
	a.raw[1], a.p[1] = z, normal(z/math.Sqrt(kendallInflation(rhoLine, len(s.y))))

	rank := s.spearman()
	a.raw[2], a.p[2] = rank, student(rank*math.Sqrt(free(rhoLine)/math.Max(1-rank*rank, 1e-12)), free(rhoLine))

	k := s.pettitt()
	a.raw[3], a.p[3] = k, min(1, 2*math.Exp(-6*k*k/inflate(ranked(rhoStep))/(n*n*n+n*n)))

	c := s.cusum()
	a.raw[4], a.p[4] = c, bridge(c/math.Sqrt(inflate(rhoStep)))

	a.raw[5], a.p[5] = most, supF(most/inflate(rhoStep))

	a.step = s.found(at, rssStep/(n-2)*inflate(rhoStep))
	return a
}
