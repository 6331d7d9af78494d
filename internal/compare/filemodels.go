package compare

import (
	"context"
	"hash/fnv"
	"maps"
	"math"
	"slices"
	"strings"

	"tinbell/core/drift"
	"tinbell/core/timeline"
)

// models counts what the versions of a model did.
func (b *block) models(w Wanted, layouts []*drift.Layout, days []Day, place []int32, lacking [][]int32) error {
	lacks := make([]bool, b.Rows())
	for _, rows := range lacking {
		for _, row := range rows {
			lacks[row] = true
		}
	}
	versions, err := b.text(b.model[1])
	if err != nil {
		return err
	}
	outcomes, err := b.outcomes()
	if err != nil {
		return err
	}
	at := w.scorePlace()
	score := layouts[at]
	of := func(row int) *drift.VersionCounts {
		d := &days[place[row]]
		m := d.Models[versions[row]]
		if m == nil {
			m = drift.NewVersionCounts(score)
			d.Models[versions[row]] = m
		}
		m.Rows++
		if lacks[row] {
			m.MissingInput++
		}
		return m
	}
	if !w.Features[at].Kind.Numeric() {
		return b.words(b.model[0], func(row int, word []byte) {
			m := of(row)
			if word == nil {
				m.Scores.Nothing(false)
			} else {
				m.Scores.Word(score, word)
			}
		})
	}
	return b.numbers(w.Features[at], b.model[0], func(row int, x float64) {
		m := of(row)
		m.Scores.Number(score, x)
		m.Add(x, outcomes[row], w.Model.Threshold)
	})
}

// text reads a column's words; without the column all are empty.
func (b *block) text(column int) ([]string, error) {
	list := make([]string, b.Rows())
	if column < 0 {
		return list, nil
	}
	known := map[string]string{}
	return list, b.words(column, func(row int, word []byte) {
		text, there := known[string(word)]
		if !there {
			text = string(word)
			known[text] = text
		}
		list[row] = text
	})
}

// outcomes reads what came true: 1, 0, or NaN while unknown.
func (b *block) outcomes() ([]float64, error) {
	list := make([]float64, b.Rows())
	for i := range list {
		list[i] = math.NaN()
	}
	if b.model[2] < 0 {
		return list, nil
	}
	return list, b.words(b.model[2], func(row int, word []byte) {
		list[row] = truth(string(word))
	})
}

// truth reads an outcome.
func truth(text string) float64 {
	switch strings.ToLower(text) {
	case "1", "true", "t", "yes":
		return 1
	case "0", "false", "f", "no":
		return 0
	}
	return math.NaN()
}

// pairedCases is how many cases two versions are compared on at most.
const pairedCases = 100_000

// Paired compares on a part of the cases if there are very many: those whose keys
// have the smallest hashes, which is a fair sample that both versions share.
func (f *Files) Paired(ctx context.Context, w Wanted, a, b string, span timeline.Span) (drift.Paired, error) {
	type scored struct{ sum, rows [2]float64 }
	cases, most := map[uint64]scored{}, uint64(math.MaxUint64)
	err := f.walk(ctx, w, span, func(rows *block) error {
		if rows.model[0] < 0 || rows.model[1] < 0 || rows.key < 0 {
			return nil
		}
		versions, err := rows.text(rows.model[1])
		if err != nil {
			return err
		}
		keys := make([]uint64, rows.Rows())
		if err := rows.words(rows.key, func(row int, word []byte) {
			if word != nil {
				h := fnv.New64a()
				h.Write(word)
				keys[row] = h.Sum64()
			}
		}); err != nil {
			return err
		}
		return rows.numbers(w.Features[w.scorePlace()], rows.model[0], func(row int, x float64) {
			side := slices.Index([]string{a, b}, versions[row])
			if side < 0 || keys[row] == 0 || keys[row] > most || x-x != 0 {
				return
			}
			c := cases[keys[row]]
			c.sum[side], c.rows[side] = c.sum[side]+x, c.rows[side]+1
			cases[keys[row]] = c
			if len(cases) > 2*pairedCases {
				most /= 2
				maps.DeleteFunc(cases, func(key uint64, _ scored) bool { return key > most })
			}
		})
	})
	var p drift.Paired
	for _, c := range cases {
		if c.rows[0] == 0 || c.rows[1] == 0 {
			continue
		}
		x, y := c.sum[0]/c.rows[0], c.sum[1]/c.rows[1]
		p.Rows++
		p.A, p.B, p.Squares, p.SquaresOfB, p.Product = p.A+x, p.B+y, p.Squares+x*x, p.SquaresOfB+y*y, p.Product+x*y
		if (x >= w.Model.Threshold) != (y >= w.Model.Threshold) {
			p.Apart++
		}
	}
	return p, err
}
