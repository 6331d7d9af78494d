package benchmark

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"

	"gonum.org/v1/gonum/stat/distuv"

	"tinbell/core/drift"
	"tinbell/core/score"
)

// CellRow is how often a clean feature of one sort was flagged at one size.
type CellRow struct {
	Sort   string  `json:"sort"`
	Days   bool    `json:"days" doc:"against 28 days that differ; else against four times the rows, which are independent"`
	Rows   int     `json:"rows" doc:"of a period"`
	Judged int     `json:"judged"`
	Stated float64 `json:"stated"`
	Found  float64 `json:"found"`
	Low    float64 `json:"low" doc:"of a 95 % interval; periods of one reference count as one cluster"`
	High   float64 `json:"high"`
}

// cellSort makes values whose distribution is off by so much on a day. Numbers have a
// distribution function below, categories the shares of their words.
type cellSort struct {
	name   string
	kind   drift.Kind
	draw   func(rng *rand.Rand, off float64) float64
	below  func(x, off float64) float64
	shares func(off float64) []float64
}

func normalBelow(z float64) float64 { return distuv.UnitNormal.CDF(z) }

// zipf are the shares of words that lean to the frequent or the rare.
func zipf(words int) func(off float64) []float64 {
	return func(off float64) []float64 {
		list, sum := make([]float64, words), 0.0
		for i := range list {
			list[i] = math.Pow(float64(i+1), -1+0.05*off)
			sum += list[i]
		}
		for i := range list {
			list[i] /= sum
		}
		return list
	}
}

var cellSorts = []cellSort{
	{name: "numbers", kind: drift.Number, draw: func(rng *rand.Rand, off float64) float64 { return 0.05*off + rng.NormFloat64() },
		below: func(x, off float64) float64 { return normalBelow(x - 0.05*off) }},
	{name: "heavy tails", kind: drift.Number, draw: func(rng *rand.Rand, off float64) float64 {
		return math.Exp(0.05*off) * math.Pow(1-rng.Float64(), -1/1.3)
	},
		below: func(x, off float64) float64 { return 1 - math.Pow(max(x/math.Exp(0.05*off), 1), -1.3) }},
	{name: "ties", kind: drift.Number, draw: func(rng *rand.Rand, off float64) float64 {
		return math.Floor(math.Exp(1.2 + 0.05*off + 0.7*rng.NormFloat64()))
	},
		below: func(x, off float64) float64 {
			return normalBelow((math.Log(max(math.Ceil(x), 1e-9)) - 1.2 - 0.05*off) / 0.7)
		}},
	{name: "a flag of 0.1 %", kind: drift.Boolean,
		shares: func(off float64) []float64 { p := 0.001 * math.Exp(0.2*off); return []float64{1 - p, p} }},
	{name: "5 categories", kind: drift.Category, shares: zipf(5)},
	{name: "300 categories", kind: drift.Category, shares: zipf(300)},
}

// cellSizes are rows of a period. Beyond rowByRow they are drawn bin by bin.
var cellSizes = []int{50, 500, 5000, 50_000, 1_000_000}

const (
	rowByRow    = 50_000
	cellPeriods = 25 // clean ones against each reference
)

// Cells judges clean features of every sort at every size, rows independent or days
// that differ: references is how many there are for each cell, each by each seed.
func Cells(p DriftPlan, references int, progress func(done, total int)) []CellRow {
	var list []CellRow
	for _, s := range cellSorts {
		for _, days := range []bool{false, true} {
			for _, rows := range cellSizes {
				list = append(list, CellRow{Sort: s.name, Days: days, Rows: rows, Stated: p.Accept})
			}
		}
	}
	inParallel(len(list), progress, func(i int) func() {
		row := &list[i]
		var flagged, judged []int
		for _, seed := range p.Seeds {
			for n := range references {
				flags := cellSorts[i/(2*len(cellSizes))].cell(rand.New(rand.NewPCG(seed, uint64(n)<<16|uint64(i))), *row)
				flagged, judged = append(flagged, flags), append(judged, cellPeriods)
				row.Judged, row.Found = row.Judged+cellPeriods, row.Found+float64(flags)
			}
		}
		row.Found /= float64(row.Judged)
		within := score.Clustered(flagged, judged)
		row.Low, row.High = within.Low, within.High
		return nil
	})
	return list
}

// cell makes a reference and counts how many of its clean periods are flagged.
func (s cellSort) cell(rng *rand.Rand, c CellRow) (flagged int) {
	off := func() float64 {
		if c.Days {
			return rng.NormFloat64()
		}
		return 0
	}
	rows := []int{4 * c.Rows}
	if c.Days {
		rows = make([]int, 28)
		for i := range rows {
			rows[i] = c.Rows
		}
	}
	offs := make([]float64, len(rows))
	draws := make([]cellRows, len(rows))
	sketch := drift.NewSketch(s.kind, 1)
	for i, n := range rows {
		offs[i] = off()
		draws[i] = s.some(rng, n, offs[i])
		draws[i].show(sketch)
	}
	l := sketch.Layout()
	if s.kind != drift.Number { // a sketch counts words one by one
		known := map[string]int64{}
		for _, d := range draws {
			for word, n := range d.words {
				known[word] += n
			}
		}
		l = drift.WordLayout(s.kind, known, false)
	}
	blocks := make([]drift.Counts, len(rows))
	for i, d := range draws {
		blocks[i] = d.counted(rng, s, l)
	}
	r := drift.NewReference(l, blocks)
	for range cellPeriods {
		period := s.some(rng, c.Rows, off()).counted(rng, s, l)
		if drift.Judge(&r, &period, c.Stated).State == drift.Over {
			flagged++
		}
	}
	return flagged
}

// cellRows is rows: numbers one by one, or how many and how they lie; words by count.
type cellRows struct {
	numbers []float64
	rows    int
	off     float64
	words   map[string]int64
}

func (s cellSort) some(rng *rand.Rand, rows int, off float64) cellRows {
	v := cellRows{rows: rows, off: off}
	if s.shares != nil {
		v.words = map[string]int64{}
		left, of := float64(rows), 1.0
		for i, p := range s.shares(off) {
			n := left
			if of > p {
				n = distuv.Binomial{N: left, P: min(p/of, 1), Src: rng}.Rand()
			}
			if n > 0 {
				v.words[fmt.Sprint(i)] = int64(n)
			}
			left, of = left-n, of-p
			if left <= 0 {
				break
			}
		}
		return v
	}
	drawn := rows
	if rows > rowByRow {
		drawn = 4000 // of each day, for the edges
	}
	v.numbers = make([]float64, drawn)
	for i := range v.numbers {
		v.numbers[i] = s.draw(rng, off)
	}
	return v
}

func (v cellRows) show(to *drift.Sketch) {
	for _, x := range v.numbers {
		to.Number(x)
	}
}

func (v cellRows) counted(rng *rand.Rand, s cellSort, l *drift.Layout) drift.Counts {
	c := drift.NewCounts(l)
	for word, n := range v.words {
		c.Words(l, word, n)
	}
	if s.shares != nil {
		return c
	}
	if v.rows <= rowByRow {
		for _, x := range v.numbers {
			c.Number(l, x)
		}
		return c
	}
	before := 0.0
	for i := range c.Bins {
		upto := 1.0
		if i < len(l.Edges) {
			upto = s.below(l.Edges[i], v.off)
		}
		if p := upto - before; p > 0 {
			c.Bins[i] = int64(distuv.Poisson{Lambda: float64(v.rows) * p, Src: rng}.Rand())
		}
		c.Rows, before = c.Rows+c.Bins[i], upto
	}
	c.Min, c.Max = slices.Min(v.numbers), slices.Max(v.numbers)
	return c
}
