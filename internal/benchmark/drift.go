package benchmark

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"sync"

	"tinbell/core/drift"

	"gonum.org/v1/gonum/stat"
	"gonum.org/v1/gonum/stat/distuv"
)

// DriftPlan says what drifts are planted.
type DriftPlan struct {
	Seeds  []uint64
	Rounds int     // data sets of each kind, strength and size, by seed
	Accept float64 // stated share of clean features and periods that are flagged
	Sizes  []int   // rows a day; 200, 2,000 and 20,000 if empty
}

// DriftRow is one kind of planted drift: how often it was found, by what.
type DriftRow struct {
	Kind     string  `json:"kind"`
	Strength string  `json:"strength"`
	Rows     int     `json:"rows" doc:"a day"`
	Rounds   int     `json:"rounds"`
	Verdict  float64 `json:"verdict" doc:"share found by the calibrated verdict of the feature"`
	PSI      float64 `json:"psi" doc:"by PSI > 0.2 over ten bins"`
	KS       float64 `json:"ks" doc:"by a plain Kolmogorov-Smirnov test at 0.05; chi-square for categories"`
	Blocks   float64 `json:"blocks" doc:"by the better of two t-tests of the day against the days of the reference, each at the stated share: of mean rank, and of the mean distance of ranks from the middle; 0 for categories"`
	Together float64 `json:"together" doc:"by separability over its limit"`
	Pairs    float64 `json:"pairs" doc:"by a pair of features over its limit"`

	rank, depth float64 // what each of the two t-tests found
}

// driftKind plants a drift in a day's rows; strength 0 is none.
type driftKind struct {
	name      string
	strengths []float64
	told      string // how a strength is written
	feature   int    // that is drifted
	plant     func(r *driftDay, strength float64)
}

// The features of made-up rows: two that go together, a skewed amount, a
// category, a rare flag.
const (
	driftFirst = iota
	driftSecond
	driftAmount
	driftCategory
	driftFlag
	driftFeatures
)

// driftDay is a day's rows. Real days differ: level, spread and shares wobble.
type driftDay struct {
	rng    *rand.Rand
	values [driftFeatures][]float64
}

func newDriftDay(rng *rand.Rand, rows int) *driftDay {
	d := &driftDay{rng: rng}
	level, spread := 0.05*rng.NormFloat64(), math.Exp(0.03*rng.NormFloat64())
	amount, lean, gone := 0.05*rng.NormFloat64(), 0.06*rng.NormFloat64(), 0.01*math.Exp(0.2*rng.NormFloat64())
	for f := range d.values {
		d.values[f] = make([]float64, rows)
	}
	for i := range rows {
		x := rng.NormFloat64()
		y := 0.7*x + math.Sqrt(1-0.49)*rng.NormFloat64()
		d.values[driftFirst][i] = level + spread*x
		d.values[driftSecond][i] = y
		d.values[driftAmount][i] = math.Exp(3 + amount + 0.8*rng.NormFloat64())
		d.values[driftCategory][i] = math.Floor(8 * math.Pow(rng.Float64(), 1.6*math.Exp(lean)))
		d.values[driftFlag][i] = 0
		if rng.Float64() < 0.15*math.Exp(lean) {
			d.values[driftFlag][i] = 1
		}
		if rng.Float64() < gone {
			d.values[driftAmount][i] = math.NaN()
		}
	}
	return d
}

// some alters a share of the values of a feature.
func (d *driftDay) some(feature int, share float64, alter func(x float64) float64) {
	for i, x := range d.values[feature] {
		if d.rng.Float64() < share {
			d.values[feature][i] = alter(x)
		}
	}
}

var driftKinds = []driftKind{
	{"clean", []float64{0}, "", driftFirst, func(*driftDay, float64) {}},
	{"shift", []float64{0.2, 0.4, 0.8}, "%g sd", driftFirst,
		func(d *driftDay, s float64) { d.some(driftFirst, 1, func(x float64) float64 { return x + s }) }},
	{"spread", []float64{1.2, 1.5, 2}, "x %g", driftFirst,
		func(d *driftDay, s float64) { d.some(driftFirst, 1, func(x float64) float64 { return x * s }) }},
	{"shape, two humps", []float64{0.5, 0.8}, "%g sd apart", driftFirst, func(d *driftDay, s float64) {
		// Mean and spread stay as they were.
		d.some(driftFirst, 1, func(x float64) float64 {
			side := s
			if d.rng.Float64() < 0.5 {
				side = -s
			}
			return side + math.Sqrt(1-s*s)*x
		})
	}},
	{"new category", []float64{0.01, 0.03, 0.1}, "%g of rows", driftCategory,
		func(d *driftDay, s float64) { d.some(driftCategory, s, func(float64) float64 { return 9 }) }},
	{"shares of categories", []float64{1.2, 1.5}, "x %g", driftCategory, func(d *driftDay, s float64) {
		d.some(driftCategory, 1, func(x float64) float64 { return math.Floor(8 * math.Pow((x+d.rng.Float64())/8, s)) })
	}},
	{"missing burst", []float64{0.02, 0.05, 0.2}, "+%g", driftAmount,
		func(d *driftDay, s float64) { d.some(driftAmount, s, func(float64) float64 { return math.NaN() }) }},
	{"unit changed", []float64{0.02, 0.1, 1}, "x 100 in %g", driftAmount,
		func(d *driftDay, s float64) { d.some(driftAmount, s, func(x float64) float64 { return 100 * x }) }},
	{"joint only", []float64{0.3, 1}, "%g of rows", driftSecond,
		func(d *driftDay, s float64) { d.some(driftSecond, s, func(x float64) float64 { return -x }) }},
	{"slow", []float64{0.01, 0.02}, "%g sd a day for 30", driftFirst,
		func(d *driftDay, s float64) { d.some(driftFirst, 1, func(x float64) float64 { return x + 30*s }) }},
}

// driftSizes are rows a day.
var driftSizes = []int{200, 2000, 20000}

const driftReference = 28 // days

// Drift plants drifts of every kind, strength and size in days whose level and
// spread wobble as real ones do, and counts how often each is found: by the
// calibrated verdict, beside PSI > 0.2 and a plain test at 0.05.
func Drift(p DriftPlan, progress func(done, total int)) []DriftRow {
	type task struct {
		kind     driftKind
		strength float64
		size     int
	}
	if len(p.Sizes) == 0 {
		p.Sizes = driftSizes
	}
	var tasks []task
	for _, k := range driftKinds {
		for _, s := range k.strengths {
			for _, n := range p.Sizes {
				tasks = append(tasks, task{k, s, n})
			}
		}
	}
	list := make([]DriftRow, len(tasks))
	levels := driftLevels{known: map[[3]uint64]driftLevel{}}
	inParallel(len(tasks), progress, func(i int) func() {
		t := tasks[i]
		row := DriftRow{Kind: t.kind.name, Rows: t.size}
		if t.kind.told != "" {
			row.Strength = fmt.Sprintf(t.kind.told, t.strength)
		}
		for _, seed := range p.Seeds {
			for round := range p.Rounds {
				// All kinds meet the same references, so that they can be compared.
				driftRound(&row, t.kind, t.strength, p.Accept, rand.New(rand.NewPCG(seed, uint64(round)<<20|uint64(t.size))),
					[3]uint64{seed, uint64(round), uint64(t.size)}, &levels)
			}
		}
		n := float64(row.Rounds)
		row.Verdict, row.PSI, row.KS, row.Together, row.Pairs = row.Verdict/n, row.PSI/n, row.KS/n, row.Together/n, row.Pairs/n
		row.Blocks = max(row.rank, row.depth) / n
		list[i] = row
		return nil
	})
	return list
}

func driftRound(row *DriftRow, k driftKind, strength, accept float64, rng *rand.Rand, key [3]uint64, levels *driftLevels) {
	days := make([]*driftDay, driftReference)
	for i := range days {
		days[i] = newDriftDay(rng, row.Rows)
	}
	day := newDriftDay(rng, row.Rows)
	if strength != 0 {
		k.plant(day, strength)
	}
	row.Rounds++
	layout, blocks := countDays(days, k.feature)
	period := drift.NewCounts(layout)
	for _, x := range day.values[k.feature] {
		countValue(&period, layout, x)
	}
	r := drift.NewReference(layout, blocks)
	v := drift.Judge(&r, &period, accept)
	count := func(into *float64, found bool) {
		if found {
			*into++
		}
	}
	count(&row.Verdict, v.State == drift.Over)
	psi, plain := customary(v)
	count(&row.PSI, psi)
	count(&row.KS, plain)
	if k.feature != driftCategory {
		rank, depth := blockTests(days, day, k.feature, accept)
		count(&row.rank, rank)
		count(&row.depth, depth)
	}
	before, after := driftSample(rng, days, row.Rows), driftSample(rng, []*driftDay{day}, row.Rows)
	half := thin(before, after.Rows())
	s := drift.Separate(half, after, 1)
	own := levels.of(key, func() driftLevel { return driftLevelOf(rng, days, before, row.Rows) })
	count(&row.Together, s.Score > own.limit)
	pairs := drift.Pairs(half, after, accept, own.pairs, 1)
	count(&row.Pairs, len(pairs) > 0 && pairs[0].Beyond > pairs[0].Limit)
}

// blockTests is the power to compare with: what each of two simple tests finds that hold
// the stated share, days being normal and independent. Whoever knew which kind of drift
// comes would take the one that finds it. Ranks are of all rows pooled.
func blockTests(days []*driftDay, day *driftDay, feature int, accept float64) (rank, depth bool) {
	var all []float64
	for _, d := range days {
		all = append(all, d.values[feature]...)
	}
	all = slices.DeleteFunc(all, math.IsNaN)
	slices.Sort(all)
	far := func(depth bool) float64 {
		of := func(d *driftDay) float64 {
			sum, n := 0.0, 0.0
			for _, x := range d.values[feature] {
				if math.IsNaN(x) {
					continue
				}
				low, _ := slices.BinarySearch(all, x)
				high, _ := slices.BinarySearch(all, math.Nextafter(x, math.Inf(1)))
				rank := float64(low+high) / 2 / float64(len(all))
				if depth {
					rank = math.Abs(rank - 0.5)
				}
				sum, n = sum+rank, n+1
			}
			return sum / n
		}
		var list []float64
		for _, d := range days {
			list = append(list, of(d))
		}
		mean, sd := stat.MeanStdDev(list, nil)
		return math.Abs(of(day)-mean) / sd / math.Sqrt(1+1/float64(len(days)))
	}
	limit := distuv.StudentsT{Sigma: 1, Nu: float64(len(days) - 1)}.Quantile(1 - accept/2)
	return far(false) > limit, far(true) > limit
}

// driftLevel is what a reference shows of itself: how well it can be told apart,
// and how its pairs wobble.
type driftLevel struct {
	limit float64
	pairs []float64
}

// driftLevelOf measures days of a reference against one another; before is a sample of
// all of them.
func driftLevelOf(rng *rand.Rand, days []*driftDay, before drift.Sample, rows int) driftLevel {
	var blocks []drift.Sample
	for i := range drift.NullBlocks {
		at := i * len(days) / drift.NullBlocks
		block := driftSample(rng, days[at:at+1], rows)
		for j := range block.Block {
			block.Block[j] = int32(at)
		}
		blocks = append(blocks, block)
	}
	return driftLevel{drift.NullLimit(before, blocks, blocks[0].Rows(), 1), drift.PairWobble(before, blocks)}
}

// driftLevels keeps the level of each reference: all kinds of drift meet the same
// ones.
type driftLevels struct {
	mu    sync.Mutex
	known map[[3]uint64]driftLevel
}

func (n *driftLevels) of(key [3]uint64, measure func() driftLevel) driftLevel {
	n.mu.Lock()
	level, known := n.known[key]
	n.mu.Unlock()
	if !known {
		level = measure()
		n.mu.Lock()
		n.known[key] = level
		n.mu.Unlock()
	}
	return level
}

// countDays makes a feature's layout and its counts of each day.
func countDays(days []*driftDay, feature int) (*drift.Layout, []drift.Counts) {
	kind := drift.Number
	if feature == driftCategory {
		kind = drift.Category
	}
	sketch := drift.NewSketch(kind, 1)
	for _, d := range days {
		for _, x := range d.values[feature] {
			if kind == drift.Category {
				sketch.Word(driftWord(x))
			} else {
				sketch.Number(x)
			}
		}
	}
	layout := sketch.Layout()
	blocks := make([]drift.Counts, len(days))
	for i, d := range days {
		blocks[i] = drift.NewCounts(layout)
		for _, x := range d.values[feature] {
			countValue(&blocks[i], layout, x)
		}
	}
	return layout, blocks
}

func countValue(c *drift.Counts, l *drift.Layout, x float64) {
	if l.Kind == drift.Category {
		c.Word(l, driftWord(x))
		return
	}
	c.Number(l, x)
}

func driftWord(x float64) []byte { return []byte{'a' + byte(x)} }

// driftSample draws up to three times the classifier's rows of some days.
func driftSample(rng *rand.Rand, days []*driftDay, size int) drift.Sample {
	s := drift.Sample{Features: make([]drift.Values, driftFeatures)}
	each := min(size, drift.SampleRows)
	if len(days) > 1 {
		each = min(size, 3*drift.SampleRows/len(days))
	}
	for f := range s.Features {
		s.Features[f].Kind = drift.Number
		if f == driftCategory {
			s.Features[f].Kind = drift.Category
		}
	}
	for b, d := range days {
		for _, i := range rng.Perm(size)[:each] {
			for f := range s.Features {
				if f == driftCategory {
					s.Features[f].Codes = append(s.Features[f].Codes, int32(d.values[f][i]))
				} else {
					s.Features[f].Numbers = append(s.Features[f].Numbers, d.values[f][i])
				}
			}
			s.Block = append(s.Block, int32(b))
		}
	}
	return s
}

func thin(s drift.Sample, rows int) drift.Sample {
	n := s.Rows()
	if n <= rows {
		return s
	}
	picked := make([]int32, rows)
	for i := range picked {
		picked[i] = int32(i * n / rows)
	}
	return s.Pick(picked)
}
