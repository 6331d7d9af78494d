package drift

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
)

// coded makes random codes of some features, and the rows' numbers.
func coded(rng *rand.Rand, features, n int) (columns [][]uint8, rows []int32) {
	columns = make([][]uint8, features)
	for f := range columns {
		columns[f] = make([]uint8, n)
		for i := range columns[f] {
			columns[f][i] = uint8(1 + rng.IntN(32))
		}
	}
	return columns, upto(n)
}

func TestTreesOfDepthTwoLearnWhatOneFeatureCannotTell(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 8))
	columns, rows := coded(rng, 4, 4000)
	for name, truth := range map[string]func(i int) bool{
		"one threshold":         func(i int) bool { return columns[2][i] > 20 },
		"both high or both low": func(i int) bool { return columns[0][i] > 16 == (columns[1][i] > 16) },
	} {
		y := make([]bool, len(rows))
		for i := range y {
			y[i] = truth(i)
		}
		forest := boost(columns, y, rows, rand.New(rand.NewPCG(1, 1)))
		right := 0
		for _, i := range rows {
			if predict(forest, columns, i) > 0 == y[i] {
				right++
			}
		}
		if share := float64(right) / float64(len(rows)); share < 0.97 {
			t.Errorf("%s: %.3f of the rows are told right", name, share)
		}
		if uses(forest, 3) && name == "one threshold" && len(forest) < trees {
			t.Errorf("%s: a feature that tells nothing is asked", name)
		}
	}
}

func TestNothingIsLearnedWhereThereIsNothing(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 9))
	columns, rows := coded(rng, 3, 200)
	y := make([]bool, len(rows)) // all of one side
	for _, i := range rows[:3] {
		if p := predict(boost(columns, y, rows, rng), columns, i); math.IsNaN(p) || p > 0 {
			t.Errorf("rows of one side score %g", p)
		}
	}
	for f := range columns { // no feature has two values
		for i := range columns[f] {
			columns[f][i] = 5
		}
	}
	for i := range y {
		y[i] = i%2 == 0
	}
	if forest := boost(columns, y, rows, rng); len(forest) != 0 {
		t.Errorf("%d trees of features without a difference", len(forest))
	}
}

func TestCategoriesAreOrderedByWhatTheyTell(t *testing.T) {
	words := []int32{0, 0, 0, 1, 1, 1, 2, 2, -1}
	y := []bool{true, true, true, false, false, false, true, false, true}
	codes := ordered(words, y, upto(len(words)))
	if !(codes[3] < codes[6] && codes[6] < codes[0]) || codes[8] != 0 {
		t.Errorf("never of the period, half, always, missing: %v", []uint8{codes[3], codes[6], codes[0], codes[8]})
	}
	numbers := binned([]float64{1, 2, math.NaN()}, []float64{3, 3, 1})
	if numbers[0] != numbers[5] || numbers[3] != numbers[4] || numbers[2] != 0 || !(numbers[0] < numbers[1] && numbers[1] < numbers[3]) {
		t.Errorf("numbers are coded %v", numbers)
	}
}

func TestWholeDaysStayInOneFold(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 5))
	block := make([]int32, 500)
	for i := range block {
		block[i] = int32(i % 9)
	}
	fold := make([]uint8, len(block))
	inFolds(fold, block, rng)
	of := map[int32]uint8{}
	used := map[uint8]bool{}
	for i, b := range block {
		if f, seen := of[b]; seen && f != fold[i] {
			t.Fatalf("day %d is in folds %d and %d", b, f, fold[i])
		}
		of[b], used[fold[i]] = fold[i], true
	}
	if len(used) != folds {
		t.Errorf("%d folds are used", len(used))
	}
	inFolds(fold, block[:0], rng) // days not known: rows are dealt out
	counts := make([]int, folds)
	for _, f := range fold {
		counts[f]++
	}
	if slices.Max(counts)-slices.Min(counts) > 1 {
		t.Errorf("rows are dealt out as %v", counts)
	}
}

func TestCleanSamplesStayUnderTheNullLimit(t *testing.T) {
	if testing.Short() {
		t.Skip("fits some two thousand classifiers")
	}
	// Days wobble: what tells two days of a reference apart is no drift.
	rng := rand.New(rand.NewPCG(21, 4))
	day := func(id int32, n int) Sample {
		level := 0.15 * rng.NormFloat64()
		s := rows(rng, n, 4, func(r []float64) { r[2] += level })
		for i := range s.Block {
			s.Block[i] = id
		}
		return s
	}
	join := func(list []Sample) Sample {
		all := Sample{Features: make([]Values, 4)}
		for f := range all.Features {
			all.Features[f].Kind = Number
			for _, s := range list {
				all.Features[f].Numbers = append(all.Features[f].Numbers, s.Features[f].Numbers...)
			}
		}
		for _, s := range list {
			all.Block = append(all.Block, s.Block...)
		}
		return all
	}
	over, without, judged := 0, 0, 0
	for range 6 {
		var days []Sample
		for id := range int32(24) {
			days = append(days, day(id, 300))
		}
		reference := join(days)
		limit, blind := NullLimit(reference, days[:NullBlocks], 300, 1), NullLimit(reference, nil, 300, 1)
		for range 8 {
			part := reference.Pick(some(upto(reference.Rows()), 300, rng))
			s := Separate(part, day(99, 300), 7)
			judged++
			if s.Score > limit {
				over++
			}
			if s.Score > blind {
				without++
			}
		}
	}
	t.Logf("of %d clean days %d are over, %d over a limit that knows nothing of days", judged, over, without)
	if over > 1 {
		t.Errorf("%d of %d clean days are over the limit", over, judged)
	}
}

func TestTheIntervalOfSeparabilityHoldsWhatMoreRowsFind(t *testing.T) {
	rng := rand.New(rand.NewPCG(2, 22))
	shift := func(r []float64) { r[2] += 0.5 }
	large := Separate(rows(rng, 12000, 5, nil), rows(rng, 12000, 5, shift), 1)
	held := 0
	const rounds = 40
	for range rounds {
		s := Separate(rows(rng, 1500, 5, nil), rows(rng, 1500, 5, shift), 1)
		// A classifier of fewer rows is a little worse.
		if s.Low <= large.Score && large.Score <= s.High+0.02 {
			held++
		}
	}
	if held < 34 {
		t.Errorf("the interval held %.3f in %d of %d", large.Score, held, rounds)
	}
}
