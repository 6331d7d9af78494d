package diagnose

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
)

// orchard makes cells of three columns, with week-to-week noise that the search
// knows nothing of, and lets spoil change this week's.
func orchard(rng *rand.Rand, spoil func(values []string, a *Amount)) []Cell {
	names := [][]string{{"n", "s", "e", "w", "x", "y"}, {"red", "green", "blue", "dun"}, {"a", "b", "c"}}
	var cells []Cell
	for _, a := range names[0] {
		for _, b := range names[1] {
			for _, c := range names[2] {
				base := 20 * math.Exp(1.2*rng.NormFloat64())
				rate := 0.02 + 0.1*rng.Float64()
				draw := func() Amount {
					rows := math.Max(0, math.Round(base*math.Exp(0.05*rng.NormFloat64())+math.Sqrt(base)*rng.NormFloat64()))
					hits := math.Round(rows*rate + math.Sqrt(rows*rate*(1-rate))*rng.NormFloat64())
					return Amount{rows, min(max(hits, 0), rows)}
				}
				cell := Cell{Values: []string{a, b, c}, Now: draw()}
				for range 4 {
					cell.Before = append(cell.Before, draw())
				}
				spoil(cell.Values, &cell.Now)
				cells = append(cells, cell)
			}
		}
	}
	return cells
}

func nothing([]string, *Amount) {}

func TestThePlantedSegmentsAreFoundAndNoOthers(t *testing.T) {
	lose := func(share float64) func(*Amount) {
		return func(a *Amount) { a.Rows, a.Value = math.Round(a.Rows*(1-share)), math.Round(a.Value*(1-share)) }
	}
	half := lose(0.5)
	for name, c := range map[string]struct {
		spoil func([]string, *Amount)
		want  [][]Pair
		least int // of 60
	}{
		"nothing": {nothing, nil, 54},
		"one segment": {func(v []string, a *Amount) {
			if v[0] == "e" {
				half(a)
			}
		}, [][]Pair{{{0, "e"}}}, 48},
		"a pair": {func(v []string, a *Amount) {
			if v[0] == "e" && v[1] == "red" {
				lose(0.8)(a)
			}
		}, [][]Pair{{{0, "e"}, {1, "red"}}}, 36},
		"two": {func(v []string, a *Amount) {
			if v[0] == "e" || v[1] == "dun" {
				half(a)
			}
		}, [][]Pair{{{0, "e"}}, {{1, "dun"}}}, 36},
		"the whole": {func(_ []string, a *Amount) { half(a) }, [][]Pair{{}}, 54},
	} {
		rng := rand.New(rand.NewPCG(7, 7))
		right := 0
		for range 60 {
			x := Explain(Rows, 3, orchard(rng, c.spoil), 0)
			if len(x.Parts) != len(c.want) {
				continue
			}
			found := 0
			for _, want := range c.want {
				if slices.ContainsFunc(x.Parts, func(p Part) bool { return slices.Equal(p.Pairs, want) }) {
					found++
				}
			}
			if found == len(c.want) {
				right++
			}
		}
		if right < c.least {
			t.Errorf("%s: the exact set was found in %d of 60, want %d", name, right, c.least)
		}
	}
}

func TestAShareIsExplainedBySegmentsAndSplitsIntoRateAndMix(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 9))
	right := 0
	for range 40 {
		cells := orchard(rng, func(v []string, a *Amount) {
			if v[1] == "green" {
				a.Value = math.Round(a.Value + 0.4*(a.Rows-a.Value))
			}
		})
		x := Explain(Share, 3, cells, 0)
		if len(x.Parts) == 1 && slices.Equal(x.Parts[0].Pairs, []Pair{{1, "green"}}) {
			right++
		}
		for _, c := range x.By {
			if math.Abs(c.Rate+c.Mix-(x.Observed-x.Expected)) > 1e-9 {
				t.Fatalf("rate %g and mix %g are not the change %g", c.Rate, c.Mix, x.Observed-x.Expected)
			}
		}
		if x.By[0].Column != 1 {
			t.Errorf("the most telling column is %d", x.By[0].Column)
		}
	}
	if right < 34 {
		t.Errorf("the exact segment was found in %d of 40", right)
	}
}

// A published example of a mix effect: two kinds of rows whose rates stay as they
// are while the second becomes more frequent (weights 0.9, 0.1 to 0.6, 0.4; rates
// 0.1 and 0.5): the share goes from 0.14 to 0.26 by mix alone.
func TestAnotherMixIsNoChangeOfRates(t *testing.T) {
	before := []Amount{{900, 90}, {100, 50}}
	now := []Amount{{600, 60}, {400, 200}}
	var cells []Cell
	for i, v := range []string{"low", "high"} {
		cells = append(cells, Cell{Values: []string{v}, Now: now[i], Before: []Amount{before[i], before[i], before[i]}})
	}
	x := Explain(Share, 1, cells, 0)
	if math.Abs(x.Expected-0.14) > 1e-12 || math.Abs(x.Observed-0.26) > 1e-12 {
		t.Errorf("from %g to %g", x.Expected, x.Observed)
	}
	if math.Abs(x.By[0].Mix-0.12) > 1e-12 || math.Abs(x.By[0].Rate) > 1e-12 || len(x.Parts) != 0 {
		t.Errorf("rate %g, mix %g, parts %+v", x.By[0].Rate, x.By[0].Mix, x.Parts)
	}
}

// What moves all rows of a value together from week to week is no news, however many
// cells it is spread over; and against rises elsewhere a loss is still all that is lost.
func TestSegmentsThatWobbleByThemselvesExplainNothing(t *testing.T) {
	rng := rand.New(rand.NewPCG(12, 5))
	clean, found := 0, 0
	for range 40 {
		cells := orchard(rng, nothing)
		lost := rng.IntN(2) == 0
		for _, v := range []string{"n", "s", "e", "w", "x", "y"} {
			for week := -1; week < 4; week++ {
				factor := math.Exp(0.12 * rng.NormFloat64())
				if lost && v == "e" && week < 0 {
					factor *= 0.35
				}
				for i := range cells {
					if cells[i].Values[0] != v {
						continue
					}
					a := &cells[i].Now
					if week >= 0 {
						a = &cells[i].Before[week]
					}
					a.Rows = math.Round(4 * a.Rows * factor)
				}
			}
		}
		x := Explain(Rows, 3, cells, -1)
		right := len(x.Parts) == 0
		if lost {
			right = len(x.Parts) >= 1 && slices.Equal(x.Parts[0].Pairs, []Pair{{0, "e"}}) && x.Share > 0.5 && x.Share <= 1
		}
		if right && lost {
			found++
		} else if right {
			clean++
		}
	}
	if clean < 14 || found < 14 {
		t.Errorf("of about twenty each, %d without a loss are left alone, and %d losses found", clean, found)
	}
}

func TestWhatIsNewOrGoneIsSaid(t *testing.T) {
	cell := func(v string, now, was float64) Cell {
		return Cell{Values: []string{v}, Now: Amount{Rows: now}, Before: []Amount{{Rows: was}, {Rows: was * 1.02}, {Rows: was * 0.98}}}
	}
	cells := []Cell{cell("stays", 1000, 1000), cell("gone", 0, 300), cell("new", 250, 0)}
	if x := Explain(Rows, 1, cells, -1); len(x.Parts) != 1 || !x.Parts[0].Gone || x.Parts[0].Pairs[0].Value != "gone" {
		t.Errorf("what fell: %+v", x.Parts)
	}
	if x := Explain(Rows, 1, cells, 1); len(x.Parts) != 1 || !x.Parts[0].New || x.Parts[0].Pairs[0].Value != "new" {
		t.Errorf("what rose: %+v", x.Parts)
	}
	if x := Explain(Mean, 2, nil, 0); x.Parts != nil {
		t.Errorf("no cells: %+v", x)
	}
}

func TestWhatBrokenSeriesShareIsTold(t *testing.T) {
	var list []Moved
	for i := range 60 {
		port := []string{"Gull", "Esk", "Cald"}[i%3]
		m := Moved{ID: int64(i), Z: 0.5, Segment: []Tag{{"port", port}, {"type", []string{"adult", "child"}[i%2]}}}
		if port == "Gull" {
			m.Z = -9
		}
		list = append(list, m)
	}
	shared := Common(list)
	if len(shared) != 1 || shared[0].Tag != (Tag{"port", "Gull"}) || shared[0].Broken != 20 || shared[0].Sound != 0 ||
		shared[0].OtherBroken != 0 || shared[0].OtherSound != 40 {
		t.Fatalf("%+v", shared)
	}
	// 1 / C(60,20), computed independently: C(60,20) = 4191844505805495.
	if want := math.Log10(4191844505805495); math.Abs(shared[0].Surprise-want) > 1e-6 {
		t.Errorf("surprise %g, want %g", shared[0].Surprise, want)
	}
}

func TestAnAlertOfASeriesThatIsAsUsualDoesNotBreakIt(t *testing.T) {
	for _, c := range []struct {
		m      Moved
		broken bool
	}{{Moved{Z: -4.2}, true}, {Moved{Z: 3}, false}, {Moved{Z: -2.5, Rang: true}, true}, {Moved{Z: 0.6, Rang: true}, false}} {
		if c.m.Broken() != c.broken {
			t.Errorf("%+v is broken: %v", c.m, c.m.Broken())
		}
	}
}

func TestSurpriseNeverRestsOnNoSpread(t *testing.T) {
	rows := func(usual float64) float64 { return ByChance(usual, 0, true) }
	share := func(usual float64) float64 { return ByChance(usual, 200, false) }
	if z := Surprise(0.5, []float64{0, 0, 0, 0}, share); z < 10 {
		t.Errorf("half of 200 rows are without a value, where none ever was: %g", z)
	}
	if z := Surprise(0.005, []float64{0, 0, 0, 0}, share); z > 2 {
		t.Errorf("one of 200 rows is without a value: %g", z)
	}
	if z := Surprise(90, []float64{100, 100, 100, 100}, rows); math.Abs(z) > 2 {
		t.Errorf("ten of a hundred rows fewer is no surprise: %g", z)
	}
	if z := Surprise(0, []float64{1000, 1010, 990, 1005}, rows); z > -15 {
		t.Errorf("all rows are gone: z %g", z)
	}
	if z := Surprise(5, []float64{5, 5}, nil); z != 0 {
		t.Errorf("two values say nothing: %g", z)
	}
}

func BenchmarkExplain(b *testing.B) {
	cells := orchard(rand.New(rand.NewPCG(1, 1)), nothing)
	for b.Loop() {
		Explain(Rows, 3, cells, 0)
	}
}
