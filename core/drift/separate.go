package drift

import (
	"cmp"
	"math"
	"math/rand/v2"
	"slices"
	"sync"

	"gonum.org/v1/gonum/stat"
	"gonum.org/v1/gonum/stat/distuv"
)

// SampleRows is how many rows of a side the classifier is given unless more are
// asked for.
const SampleRows = 3000

// Values are one feature of sampled rows: Numbers (NaN is missing) if the kind is
// numeric, else Codes, the bins of the feature's layout (-1 is missing).
type Values struct {
	Kind    Kind
	Numbers []float64
	Codes   []int32
}

func (v Values) rows() int { return max(len(v.Numbers), len(v.Codes)) }

// Sample is rows of a stretch, feature by feature. Block tells the day or span
// that each row belongs to; nil if that is not known.
type Sample struct {
	Features []Values
	Block    []int32
}

// Rows is how many rows the sample has.
func (s Sample) Rows() int {
	if len(s.Features) == 0 {
		return 0
	}
	return s.Features[0].rows()
}

// Pick gives the rows of the sample at the places named.
func (s Sample) Pick(rows []int32) Sample {
	picked := Sample{Features: make([]Values, len(s.Features))}
	for f, v := range s.Features {
		w := Values{Kind: v.Kind}
		for _, i := range rows {
			if v.Kind.Numeric() {
				w.Numbers = append(w.Numbers, v.Numbers[i])
			} else {
				w.Codes = append(w.Codes, v.Codes[i])
			}
		}
		picked.Features[f] = w
	}
	if s.Block != nil {
		for _, i := range rows {
			picked.Block = append(picked.Block, s.Block[i])
		}
	}
	return picked
}

// Separability is how well a classifier tells a period's rows from the
// reference's: max(0, 2 AUC - 1), 0 if it cannot, 1 if it always can, with a 95 %
// interval (DeLong 1988). Importance is each feature's share of what the AUC
// loses when that feature is shuffled.
type Separability struct {
	Score      float64   `json:"score"`
	Low        float64   `json:"low"`
	High       float64   `json:"high"`
	Limit      float64   `json:"limit"`
	Rows       int       `json:"rows"` // of the smaller side
	Importance []float64 `json:"importance"`
}

const folds = 4

// Separate tries to tell two samples of the same features apart, walking through
// four folds (of whole blocks where a side has four). The same seed gives the
// same figures. Limit is not set: see NullLimit.
func Separate(reference, period Sample, seed uint64) Separability {
	t := newTrial(reference, period, seed)
	auc, variance, drops := t.run(true)
	s := Separability{Score: max(0, 2*auc-1), Rows: min(reference.Rows(), period.Rows()), Importance: drops}
	se := 2 * math.Sqrt(variance)
	s.Low, s.High = max(0, 2*auc-1-1.96*se), min(1, max(0, 2*auc-1+1.96*se))
	total := 0.0
	for _, d := range drops {
		total += d
	}
	for i := range drops {
		if total > 0 {
			drops[i] /= total
		}
	}
	return s
}

// NullBlocks is how many blocks of a reference are told apart from its others.
const NullBlocks = 20

// NullLimit is the separability that clean periods stay under: what blocks of the
// reference reach against the rest of it, each with as many rows as the period
// has: the mean and as many standard deviations as Student's t asks for, and at
// least 2.2/sqrt(rows). Scores of days that wobble lean to the right (skewness .8 in
// the bench), so that a smaller share is asked of it than apartByChance. Blocks are samples of
// stretches as long as a period; their rows bear the same Block as those of the
// reference. With fewer than five, random halves of
// the reference take their place, which do not show its wobble.
func NullLimit(reference Sample, blocks []Sample, rows int, seed uint64) float64 {
	rng := rand.New(rand.NewPCG(seed, 0xa11))
	limit := 2.2 / math.Sqrt(float64(max(rows, 1)))
	if reference.Rows() < 4*MinRows {
		return max(limit, 1)
	}
	var scores []float64
	tell := func(a, b Sample) {
		if min(a.Rows(), b.Rows()) >= MinRows {
			auc, _, _ := newTrial(a, b, rng.Uint64()).run(false)
			scores = append(scores, 2*auc-1)
		}
	}
	if len(blocks) >= MinBlocks {
		for _, b := range blocks {
			rest := reference.without(b)
			tell(rest.Pick(some(upto(rest.Rows()), rows, rng)), b.Pick(some(upto(b.Rows()), rows, rng)))
		}
	} else {
		for range NullBlocks {
			all := some(upto(reference.Rows()), reference.Rows(), rng)
			half := len(all) / 2
			tell(reference.Pick(all[:min(half, rows)]), reference.Pick(all[half:half+min(half, rows)]))
		}
	}
	if len(scores) < 2 {
		return limit
	}
	k := float64(len(scores))
	mean, sd := stat.MeanStdDev(scores, nil)
	return max(limit, mean+distuv.StudentsT{Sigma: 1, Nu: k - 1}.Quantile(1-leaning*apartByChance)*math.Sqrt(1+1/k)*sd)
}

// without is the sample without the blocks that another has rows of.
func (s Sample) without(b Sample) Sample {
	in := map[int32]bool{}
	for _, id := range b.Block {
		in[id] = true
	}
	var others []int32
	for i, id := range s.Block {
		if !in[id] {
			others = append(others, int32(i))
		}
	}
	return s.Pick(others)
}

func upto(n int) []int32 {
	list := make([]int32, n)
	for i := range list {
		list[i] = int32(i)
	}
	return list
}

// some draws at most n of a list.
func some(list []int32, n int, rng *rand.Rand) []int32 {
	rng.Shuffle(len(list), func(i, j int) { list[i], list[j] = list[j], list[i] })
	return list[:min(len(list), n)]
}

// trial is the rows of two samples under one another.
type trial struct {
	numbers [][]uint8 // codes of numeric features; nil of the others
	words   [][]int32 // codes of the others
	y       []bool
	fold    []uint8
	seed    uint64
}

func newTrial(reference, period Sample, seed uint64) *trial {
	n, m := reference.Rows(), period.Rows()
	t := &trial{y: make([]bool, n+m), fold: make([]uint8, n+m), seed: seed}
	for i := n; i < n+m; i++ {
		t.y[i] = true
	}
	rng := rand.New(rand.NewPCG(seed, 1))
	inFolds(t.fold[:n], reference.Block, rng)
	inFolds(t.fold[n:], period.Block, rng)
	for f, a := range reference.Features {
		b := period.Features[f]
		if a.Kind.Numeric() {
			t.numbers, t.words = append(t.numbers, binned(a.Numbers, b.Numbers)), append(t.words, nil)
		} else {
			t.numbers, t.words = append(t.numbers, nil), append(t.words, slices.Concat(a.Codes, b.Codes))
		}
	}
	return t
}

// inFolds deals blocks, or single rows if there are fewer blocks than folds, to
// the folds.
func inFolds(fold []uint8, block []int32, rng *rand.Rand) {
	distinct := slices.Compact(slices.Sorted(slices.Values(block)))
	if len(distinct) < folds {
		for i, at := range rng.Perm(len(fold)) {
			fold[at] = uint8(i % folds)
		}
		return
	}
	rng.Shuffle(len(distinct), func(i, j int) { distinct[i], distinct[j] = distinct[j], distinct[i] })
	of := make(map[int32]uint8, len(distinct))
	for i, d := range distinct {
		of[d] = uint8(i % folds)
	}
	for i := range fold {
		fold[i] = of[block[i]]
	}
}

// binned codes numbers of both sides by 32 quantiles of all; 0 is missing.
func binned(a, b []float64) []uint8 {
	all := slices.Concat(a, b)
	sorted := slices.DeleteFunc(slices.Clone(all), math.IsNaN)
	slices.Sort(sorted)
	var edges []float64
	for i := 1; i < 32 && len(sorted) > 0; i++ {
		if v := sorted[i*len(sorted)/32]; len(edges) == 0 || v > edges[len(edges)-1] {
			edges = append(edges, v)
		}
	}
	l := Layout{Edges: edges}
	coded := make([]uint8, len(all))
	for i, x := range all {
		if x == x {
			coded[i] = uint8(1 + l.Bin(x))
		}
	}
	return coded
}

// ordered codes categories by how much more often they are of the period among
// the training rows, so that a split takes a set of them; 0 is missing.
func ordered(words []int32, y []bool, rows []int32) []uint8 {
	var n, m [codes]float64
	for _, i := range rows {
		c := words[i] + 1
		if y[i] {
			m[c]++
		} else {
			n[c]++
		}
	}
	var list [codes - 1]int
	for c := range list {
		list[c] = c + 1
	}
	lean := func(c int) float64 { return (m[c] + 1) / (n[c] + m[c] + 2) }
	slices.SortStableFunc(list[:], func(a, b int) int { return cmp.Compare(lean(a), lean(b)) })
	var rank [codes]uint8
	for place, c := range list {
		rank[c] = uint8(place + 1)
	}
	coded := make([]uint8, len(words))
	for i, c := range words {
		if c >= 0 {
			coded[i] = rank[c+1]
		}
	}
	return coded
}

// run fits and tests a classifier in each fold. It gives the mean AUC of the
// folds, its variance, and, if asked, by how much the AUC drops with each
// feature shuffled.
func (t *trial) run(importance bool) (auc, variance float64, drops []float64) {
	type outcome struct {
		auc, variance float64
		drops         []float64
	}
	var results [folds]outcome
	var broke [folds]any // a panic ends whoever asked, not the process
	var wait sync.WaitGroup
	for k := range folds {
		wait.Go(func() {
			defer func() { broke[k] = recover() }()
			columns, test, forest := t.fit(k)
			r := outcome{drops: make([]float64, len(columns))}
			scores := make([]float64, len(test))
			score := func() (float64, float64) {
				for i, row := range test {
					scores[i] = predict(forest, columns, row)
				}
				return t.auc(test, scores)
			}
			r.auc, r.variance = score()
			rng := rand.New(rand.NewPCG(t.seed, uint64(k)+100))
			for f := range columns {
				if !importance || !uses(forest, f) {
					continue
				}
				kept := columns[f]
				shuffled := slices.Clone(kept)
				for i, j := range rng.Perm(len(test)) {
					shuffled[test[i]] = kept[test[j]]
				}
				columns[f] = shuffled
				without, _ := score()
				columns[f] = kept
				r.drops[f] = max(0, r.auc-without)
			}
			results[k] = r
		})
	}
	wait.Wait()
	for _, value := range broke {
		if value != nil {
			panic(value)
		}
	}
	drops = make([]float64, len(t.numbers))
	for _, r := range results {
		auc += r.auc / folds
		variance += r.variance / folds / folds
		for f, d := range r.drops {
			drops[f] += d / folds
		}
	}
	return auc, variance, drops
}

func uses(forest []tree, feature int) bool {
	return slices.ContainsFunc(forest, func(t tree) bool {
		return slices.ContainsFunc(t.nodes[:], func(n node) bool { return n.feature == feature })
	})
}

// fit makes the classifier of a fold from the rows of the others.
func (t *trial) fit(k int) (columns [][]uint8, test []int32, forest []tree) {
	var train []int32
	for i, f := range t.fold {
		if int(f) == k {
			test = append(test, int32(i))
		} else {
			train = append(train, int32(i))
		}
	}
	columns = make([][]uint8, len(t.numbers))
	for f := range columns {
		if columns[f] = t.numbers[f]; columns[f] == nil {
			columns[f] = ordered(t.words[f], t.y, train)
		}
	}
	return columns, test, boost(columns, t.y, train, rand.New(rand.NewPCG(t.seed, uint64(k)+10)))
}

// auc is the area under the ROC curve of scores, ties counted half, and its
// variance (DeLong, DeLong and Clarke-Pearson 1988).
func (t *trial) auc(rows []int32, scores []float64) (auc, variance float64) {
	order := make([]int, len(rows))
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(a, b int) int { return cmp.Compare(scores[a], scores[b]) })
	var bins []ScoreBin
	for at := 0; at < len(order); {
		var bin ScoreBin
		first := scores[order[at]]
		for ; at < len(order) && scores[order[at]] == first; at++ {
			bin.Rows++
			if t.y[rows[order[at]]] {
				bin.Positive++
			}
		}
		bins = append(bins, bin)
	}
	return AUC(bins)
}
