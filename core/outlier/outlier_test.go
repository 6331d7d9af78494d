package outlier

import (
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"
)

// The example of Iglewicz and Hoaglin (How to Detect and Handle Outliers, 1993, as in the
// NIST handbook's Rosner data): modified z of the two largest of fifty-four.
var rosner = []float64{-0.25, 0.68, 0.94, 1.15, 1.20, 1.26, 1.26, 1.34, 1.38, 1.43, 1.49, 1.49, 1.55, 1.56, 1.58, 1.65, 1.69,
	1.70, 1.76, 1.77, 1.81, 1.91, 1.94, 1.96, 1.99, 2.06, 2.09,
	2.10, 2.14, 2.15, 2.23, 2.24, 2.26, 2.35, 2.37, 2.40, 2.47, 2.54, 2.62, 2.64, 2.90, 2.92, 2.92, 2.93, 3.21, 3.26, 3.30, 3.59,
	3.68, 4.30, 4.64, 5.34, 5.42, 6.01}

func rule(t *testing.T, r Result, name string) Rule {
	t.Helper()
	i := slices.IndexFunc(r.Rules, func(x Rule) bool { return x.Name == name })
	if i < 0 {
		t.Fatalf("no rule %s", name)
	}
	return r.Rules[i]
}

func TestRulesAreThoseOfTheLiterature(t *testing.T) {
	r, err := Look(rosner, Options{})
	if err != nil {
		t.Fatal(err)
	}
	// The first step of the generalised test that the handbook prints has R = 3.118 for 6.01.
	if math.Abs((6.01-r.All.Mean)/r.All.SD-3.118) > 1e-3 {
		t.Errorf("mean %.5f, sd %.5f", r.All.Mean, r.All.SD)
	}
	if z := rule(t, r, ByZ); z.Beyond != 1 {
		t.Errorf("z finds %d", z.Beyond)
	}
	if r.Odd[0].Value != 6.01 || len(r.Odd[0].Rules) != 3 || math.Abs(r.Odd[0].Z-3.118) > 1e-3 {
		t.Errorf("the farthest is %+v", r.Odd[0])
	}
	median := (2.09 + 2.10) / 2
	if math.Abs(r.All.Median-median) > 1e-9 || r.Without.N+len(r.Odd) != len(rosner) || r.Without.Largest >= 6.01 ||
		r.Without.Mean >= r.All.Mean {
		t.Errorf("%+v without %+v", r.All, r.Without)
	}
	for _, o := range r.Odd {
		if math.Abs(o.Modified-0.6745*(o.Value-median)/r.All.MAD) > 1e-9 {
			t.Errorf("modified z of %g: %g", o.Value, o.Modified)
		}
	}
}

// A rule that cannot find, or would find everything, says so and does neither.
func TestRulesThatCannotJudgeSaySo(t *testing.T) {
	few, err := Look([]float64{1, 2, 3, 2, 1, 2, 900}, Options{})
	if err != nil || rule(t, few, ByZ).Word == "" || rule(t, few, ByZ).Beyond != 0 || few.Odd[0].Value != 900 {
		t.Errorf("seven values: %+v, %v", few, err)
	}
	zeros := make([]float64, 40)
	zeros[3], zeros[9], zeros[20] = 1, 1, 80
	mostly, err := Look(zeros, Options{})
	if err != nil || rule(t, mostly, ByModified).Word == "" || rule(t, mostly, ByFences).Word == "" || rule(t, mostly,
		ByFences).Beyond != 0 || mostly.Odd[0].Value != 80 {
		t.Errorf("mostly zero: %+v, %v", mostly, err)
	}
	if same, err := Look(slices.Repeat([]float64{7}, 30), Options{}); err != nil || len(same.Odd) != 0 {
		t.Errorf("constant: %+v, %v", same.Odd, err)
	}
	var few2 TooFew
	for _, values := range [][]float64{nil, {1, 2, 3}, slices.Repeat([]float64{math.NaN()}, 30)} {
		if _, err := Look(values, Options{}); !errors.As(err, &few2) {
			t.Errorf("%v: %v", values, err)
		}
	}
	odd, err := Look([]float64{1, 2, math.Inf(1), 3, 2, math.NaN(), 1, 2}, Options{})
	if err != nil || odd.Missing != 1 || len(odd.Odd) != 1 || odd.Odd[0].Index != 2 || math.IsInf(odd.All.Mean, 0) {
		t.Errorf("an infinite value: %+v, %v", odd, err)
	}
	low, high := 0.0, 10.0
	if r, err := Look([]float64{1, 2, 3, 4, 5, 6, -1, 11}, Options{Low: &low, High: &high}); err != nil || rule(t, r, ByRange).Beyond != 2 {
		t.Errorf("the allowed range: %+v, %v", r, err)
	}
}

// A value that is usual at noon stands out at night, and the other way round.
func TestASeasonIsFoundAndValuesAreJudgedByIt(t *testing.T) {
	rng := rand.New(rand.NewPCG(4, 4))
	var values []float64
	var slots []int
	for i := range 24 * 30 {
		hour := i % 24
		values, slots = append(values, 50+200*math.Max(0, math.Sin(float64(hour-6)/12*math.Pi))+4*rng.NormFloat64()), append(slots, hour)
	}
	values[10*24+2] = 240 // as at noon, at two in the night
	r, err := Look(values, Options{Slots: slots})
	if err != nil || !r.Seasonal || r.Odd[0].Index != 10*24+2 || math.Abs(r.Odd[0].Usual-50) > 5 || len(r.Odd) > 12 {
		t.Errorf("%v, seasonal %v, %d stand out, first %+v", err, r.Seasonal, len(r.Odd), r.Odd[0])
	}
	if plain, _ := Look(values, Options{}); plain.Seasonal || rule(t, plain, ByZ).Beyond != 0 {
		t.Errorf("without its season it does not: %+v", plain.Rules)
	}
	noise := make([]float64, len(values))
	for i := range noise {
		noise[i] = rng.NormFloat64()
	}
	if r, _ := Look(noise, Options{Slots: slots}); r.Seasonal {
		t.Error("noise has a season")
	}
}

// Of clean normal values each rule finds about the share that theory gives.
func TestCleanValuesStandOutAsRarelyAsStated(t *testing.T) {
	rng := rand.New(rand.NewPCG(9, 9))
	values := make([]float64, 200_000)
	for i := range values {
		values[i] = rng.NormFloat64()
	}
	r, err := Look(values, Options{})
	if err != nil {
		t.Fatal(err)
	}
	for name, share := range map[string]float64{ByZ: 0.0027, ByModified: 0.000465, ByFences: 0.00698} {
		got := float64(rule(t, r, name).Beyond) / float64(len(values))
		if sd := math.Sqrt(share / float64(len(values))); math.Abs(got-share) > 4*sd+0.03*share {
			t.Errorf("%s finds %.5f, theory %.5f", name, got, share)
		}
	}
}

func TestPairsThatSeldomMeetAreFoundAndChanceIsAllowedFor(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 1))
	var a, b []string
	for range 5000 {
		x := rng.IntN(12)
		y := rng.IntN(9)
		if x == 4 && y == 2 { // seldom together
			y = 3
		}
		a, b = append(a, fmt.Sprint("route ", x)), append(b, fmt.Sprint("ship ", y))
	}
	a, b = append(a, "route 4"), append(b, "ship 2")
	found := Pairs(a, b, 0.05)
	if len(found) != 1 || found[0].A != "route 4" || found[0].B != "ship 2" || found[0].Rows != 1 || found[0].First != 5000 ||
		found[0].Expected < 30 {
		t.Errorf("%+v", found)
	}
	alarms := 0
	for range 200 {
		var a, b []string
		for range 600 {
			a, b = append(a, fmt.Sprint(rng.IntN(8))), append(b, fmt.Sprint(rng.IntN(8)))
		}
		if len(Pairs(a, b, 0.05)) > 0 {
			alarms++
		}
	}
	if alarms > 18 {
		t.Errorf("%d of 200 sets of independent categories have an odd pair, 10 are stated", alarms)
	}
}
