package baseline

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"tinbell/core/robust"
	"tinbell/core/timeline"
)

func near(t *testing.T, what string, got, want, within float64) {
	t.Helper()
	if math.Abs(got-want) > within || math.IsNaN(got) {
		t.Errorf("%s is %g, want %g", what, got, want)
	}
}

// The ten values are Iglewicz and Hoaglin's kind of example: two of them would
// hide behind the standard deviation they inflate.
var spoilt = []float64{2.1, 2.6, 2.4, 2.5, 2.3, 2.1, 2.3, 2.6, 8.2, 8.3}

func TestZScoresHideWhatModifiedOnesShow(t *testing.T) {
	z := NewPlain(Method{Name: ZScore}, spoilt)
	centre, inner, spread, known := z.Around(Method{Name: ZScore})
	near(t, "mean", centre, 3.54, 1e-9)
	near(t, "standard deviation", spread, 2.48873, 1e-4) // √(55.744/9)
	if d := Distance(8.3, inner, spread); !known || d > 2 {
		t.Errorf("8.3 is %.2f standard deviations off: the z score should hide it", d)
	}
	m := NewPlain(Method{Name: Modified}, spoilt)
	centre, inner, spread, _ = m.Around(Method{Name: Modified})
	near(t, "median", centre, 2.45, 1e-9)
	// Median absolute deviation 0.15: 0.6745·5.85/0.15.
	near(t, "modified z of 8.3", Distance(8.3, inner, spread), 26.3055, 1e-3)
}

func TestFencesStandOnQuartiles(t *testing.T) {
	values := []float64{1, 2, 3, 4, 5, 6, 7, 8, 9, 10}
	f := NewPlain(Method{Name: Fences}, values)
	_, inner, spread, _ := f.Around(Method{Name: Fences})
	near(t, "lower quartile", inner[0], 3.25, 1e-12) // Hyndman and Fan's type 7
	near(t, "upper quartile", inner[1], 7.75, 1e-12)
	near(t, "interquartile range", spread, 4.5, 1e-12)
	if d := Distance(7.75+1.5*4.5, inner, spread); math.Abs(d-1.5) > 1e-12 {
		t.Errorf("the inner fence lies %g ranges out", d)
	}
	if Distance(5, inner, spread) != 0 {
		t.Error("between the quartiles there is no distance")
	}
}

func TestEqualValuesLeaveNoSpreadAndAnyOtherIsFar(t *testing.T) {
	for _, name := range []Name{ZScore, Modified, Fences} {
		p := NewPlain(Method{Name: name}, []float64{4, 4, 4, 4, 4, 4})
		_, inner, spread, known := p.Around(Method{Name: name})
		if d := Distance(5, inner, spread); !known || d != 99 || Distance(4, inner, spread) != 0 {
			t.Errorf("%s: five is %g away from fours", name, d)
		}
	}
	// More than half equal: the mean absolute deviation takes over.
	near(t, "spread", madOf([]float64{4, 4, 4, 4, 9}, 4), 1.2533, 1e-3)
}

func TestRollingStatisticsAreThoseOfTheWindow(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	for _, sturdy := range []bool{false, true} {
		m := Method{Name: Rolling, Window: 24, Robust: sturdy}
		p := NewPlain(m, nil)
		var seen []float64
		for i := range 300 {
			v := 10*rng.NormFloat64() + float64(i%7)
			if i%11 == 3 {
				v = math.NaN()
			}
			if i%50 == 49 { // as if stored and read again
				p = &Plain{Ring: p.Ring, Next: p.Next, Seen: p.Seen, Unit: p.Unit}
				p.Restore()
			}
			centre, _, spread, known := p.Around(m)
			window := seen[max(0, len(seen)-24):]
			var values []float64
			for _, w := range window {
				if !math.IsNaN(w) {
					values = append(values, w)
				}
			}
			if known != (len(values) >= 3) {
				t.Fatalf("period %d: known %t with %d values", i, known, len(values))
			}
			if known {
				want, wide := robust.Mean(values), deviationOf(values, robust.Mean(values))
				if sturdy {
					want = robust.Median(slices.Clone(values))
					wide = madOf(values, want)
				}
				near(t, "centre", centre, want, 1e-9)
				near(t, "spread", spread, wide, 1e-9)
			}
			p.Learn(v)
			seen = append(seen, v)
		}
	}
}

func TestChangeComparesWithTheValueOneLagEarlier(t *testing.T) {
	m := Method{Name: Change, Lag: 5}
	p := NewPlain(m, nil)
	for i := range 40 {
		centre, _, _, known := p.Around(m)
		if known != (i >= 5) || known && centre != float64(i-5) {
			t.Fatalf("period %d is compared with %g (%t)", i, centre, known)
		}
		p.Learn(float64(i))
	}
}

func TestFixedBoundsNeedNoHistory(t *testing.T) {
	open := Method{Name: Fixed, Low: 5, High: math.Inf(1)}
	_, inner, spread, known := NewPlain(open, nil).Around(open)
	if !known || Distance(4, inner, spread) != -99 || Distance(5, inner, spread) != 0 || Distance(1e9, inner, spread) != 0 {
		t.Error("five is the lowest allowed")
	}
	if need := Need(Config{Method: open, Grid: timeline.Grid{Period: time.Hour}}); need != 0 {
		t.Errorf("bounds want %d samples", need)
	}
}

func TestMethodsThatCannotBeFollowedAreRefused(t *testing.T) {
	inf := math.Inf(1)
	for _, m := range []Method{{Name: "guess"}, {Name: Fixed, Low: -inf, High: inf}, {Name: Fixed, Low: 5, High: 5},
		{Name: Change}, {Name: Change, Lag: 1 << 20},
		{Name: Rolling, Window: 2}, {Name: Siblings, Window: 1 << 20}, {Name: ZScore, Width: -1}} {
		if m.Check() == nil {
			t.Errorf("%+v was accepted", m)
		}
	}
	for _, m := range []Method{{}, {Name: Seasonal}, {Name: Fixed, Low: 0, High: 3}, {Name: Rolling, Window: 168}, {Name: Fences}} {
		if err := m.Check(); err != nil {
			t.Errorf("%+v: %v", m, err)
		}
	}
}

func TestSiblingsAreTheMedianOfTheOthers(t *testing.T) {
	at := func(values ...float64) []timeline.Sample {
		list := make([]timeline.Sample, len(values))
		for i, v := range values {
			list[i] = timeline.Sample{At: int64(i) * 3600, Value: v}
		}
		return list
	}
	series := map[string][]timeline.Sample{"a": at(1, 10, math.NaN()), "b": at(2, 20, 5), "c": at(3, 30, 7), "d": at(9, 40),
		"e": at(4, 50, 6)}
	Beside(series)
	for name, want := range map[string][]float64{"a": {3.5, 35, 6}, "b": {3.5, 35, 0}, "c": {3, 30, 0}, "d": {2.5, 25}, "e": {2.5, 25, 0}} {
		for i, w := range want {
			if got := series[name][i].Rows; got != w {
				t.Errorf("%s at %d: siblings say %g, want %g", name, i, got, w)
			}
		}
	}
}
