package compare

import (
	"context"
	"math"
	"math/rand/v2"

	"tinbell/core/drift"
	"tinbell/core/timeline"
)

func (f *Files) Samples(ctx context.Context, w Wanted, layouts []*drift.Layout, spans []timeline.Span, rows []int) ([]Drawn, error) {
	drawn := make([]Drawn, len(spans))
	for k := range drawn {
		drawn[k] = newDrawn(w, rows[k])
	}
	seen := make([]int, len(spans))
	chance := make([]*rand.Rand, len(spans)) // of its own for each span: what else is drawn changes nothing
	for k, s := range spans {
		chance[k] = rand.New(rand.NewPCG(w.Seed, uint64(s.From)))
	}
	type taken struct{ row, span, slot int }
	all := timeline.Span{From: math.MaxInt64, To: math.MinInt64}
	for _, s := range spans {
		all = timeline.Span{From: min(all.From, s.From), To: max(all.To, s.To)}
	}
	err := f.walk(ctx, w, all, func(b *block) error {
		var take []taken
		for row := range b.Rows() {
			if !b.in[row] {
				continue
			}
			when := b.day[row]
			if b.at != nil {
				when = int64(b.at[row])
			}
			for k, s := range spans {
				if when < s.From || when >= s.To {
					continue
				}
				// Every row is in with the same chance (Vitter's algorithm R).
				slot := seen[k]
				if seen[k]++; slot >= rows[k] {
					if slot = chance[k].IntN(seen[k]); slot >= rows[k] {
						continue
					}
				}
				take = append(take, taken{row, k, slot})
				drawn[k].Block[slot] = int32(b.day[row] / 3600)
			}
		}
		// values fills a column of the rows taken.
		next := func() func(row int, put func(span, slot int)) {
			at := 0
			return func(row int, put func(span, slot int)) {
				for ; at < len(take) && take[at].row < row; at++ {
				}
				for ; at < len(take) && take[at].row == row; at++ {
					put(take[at].span, take[at].slot)
				}
			}
		}
		if len(take) == 0 {
			return nil
		}
		err := b.parallel(func(i, column int) error {
			of := next()
			if w.Features[i].Kind.Numeric() {
				return b.numbers(w.Features[i], column, func(row int, x float64) {
					of(row, func(k, slot int) {
						if x-x != 0 {
							x = math.NaN()
						}
						drawn[k].Features[i].Numbers[slot] = x
					})
				})
			}
			return b.words(column, func(row int, word []byte) {
				of(row, func(k, slot int) {
					code := int32(-1)
					if word != nil {
						code = layouts[i].Code(word)
					}
					drawn[k].Features[i].Codes[slot] = code
				})
			})
		})
		if err != nil || b.model[1] < 0 {
			return err
		}
		of := next()
		return b.words(b.model[1], func(row int, word []byte) {
			of(row, func(k, slot int) { drawn[k].Versions[slot] = string(word) })
		})
	})
	for k := range drawn {
		drawn[k].cut(w, min(seen[k], rows[k]))
	}
	return drawn, err
}

// newDrawn has room for a number of rows.
func newDrawn(w Wanted, rows int) Drawn {
	d := Drawn{Sample: drift.Sample{Features: make([]drift.Values, len(w.Features)), Block: make([]int32, rows)},
		Versions: make([]string, rows)}
	for i, f := range w.Features {
		d.Features[i].Kind = f.Kind
		if f.Kind.Numeric() {
			d.Features[i].Numbers = make([]float64, rows)
			for j := range d.Features[i].Numbers {
				d.Features[i].Numbers[j] = math.NaN()
			}
		} else {
			d.Features[i].Codes = make([]int32, rows)
			for j := range d.Features[i].Codes {
				d.Features[i].Codes[j] = -1
			}
		}
	}
	return d
}

// cut leaves the first rows, and takes the score out of what a classifier sees.
func (d *Drawn) cut(w Wanted, rows int) {
	for i := range d.Features {
		v := &d.Features[i]
		v.Numbers, v.Codes = v.Numbers[:min(rows, len(v.Numbers))], v.Codes[:min(rows, len(v.Codes))]
	}
	d.Block, d.Versions = d.Block[:rows], d.Versions[:rows]
	if at := w.scorePlace(); at >= 0 {
		d.Scores = d.Features[at].Numbers
	}
	inputs := make([]drift.Values, 0, len(d.Features))
	for _, i := range w.inputs() {
		inputs = append(inputs, d.Features[i])
	}
	d.Features = inputs
}
