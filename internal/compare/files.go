package compare

import (
	"cmp"
	"context"
	"fmt"
	"hash/fnv"
	"maps"
	"math"
	"math/rand/v2"
	"runtime"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"tinbell/core/drift"
	"tinbell/core/timeline"
	"tinbell/internal/collect/columns"
	"tinbell/internal/record"
)

// Files are rows in CSV and Parquet files with the same columns.
type Files struct {
	List []File
}

// File is one of them; At is when it landed, which rows without a time column are
// taken by.
type File struct {
	Path string
	At   int64
}

// Columns are those of the first file; others may have them in another order.
func (f *Files) Columns(context.Context) ([]columns.Column, error) {
	if len(f.List) == 0 {
		return nil, record.Invalid{Field: "files", Given: "none", Allowed: "at least one " + strings.Join(columns.Formats, ", ")}
	}
	t, err := columns.Open(f.List[0].Path)
	if err != nil {
		return nil, err
	}
	defer t.Close()
	return t.Columns(), nil
}

// aheadOfTime is by how much rows may be dated later than their file landed,
// seconds.
const aheadOfTime = 2 * 86400

// block is some rows of a file: the day of each, and what the columns wanted are.
type block struct {
	columns.Block
	places []int     // of the features; -1 where the file lacks one
	day    []int64   // local midnight of each row
	at     []float64 // its time, Unix seconds; nil without a time column
	in     []bool    // it lies in the span
	model  [3]int    // places of score, version, outcome
	key    int       // place of the model's key
}

// walk reads the files block by block.
func (f *Files) walk(ctx context.Context, w Wanted, span timeline.Span, do func(*block) error) error {
	for _, file := range f.List {
		if file.At != 0 && file.At < span.From-aheadOfTime {
			continue // nothing in it can be of the span
		}
		err := func() error {
			t, err := columns.Open(file.Path)
			if err != nil {
				return err
			}
			defer t.Close()
			list := t.Columns()
			b := block{}
			for _, feature := range w.Features {
				b.places = append(b.places, columns.Place(list, feature.Name))
			}
			for i, name := range []string{w.Model.Score, w.Model.Version, w.Model.Outcome} {
				b.model[i] = columns.Place(list, name)
			}
			b.key = columns.Place(list, w.Model.Key)
			timed := -1
			if w.Time != "" {
				if timed = columns.Place(list, w.Time); timed < 0 {
					return record.Invalid{Field: "time_column", Given: w.Time, Allowed: fmt.Sprintf("a column of %s: %s", file.Path, names(list))}
				}
			}
			return t.Blocks(func(rows columns.Block) error {
				if err := ctx.Err(); err != nil {
					return err
				}
				b.Block = rows
				if err := b.date(w, file, timed, span); err != nil {
					return err
				}
				return do(&b)
			})
		}()
		if err != nil {
			return err
		}
	}
	return nil
}

// date finds the day of each row.
func (b *block) date(w Wanted, file File, timed int, span timeline.Span) error {
	n := b.Rows()
	b.day, b.in = slices.Grow(b.day[:0], n)[:n], slices.Grow(b.in[:0], n)[:n]
	midnight := midnights{zone: w.Zone}
	if timed < 0 {
		day := file.At
		if day != 0 {
			day = midnight.of(day)
		}
		in := file.At == 0 || file.At >= span.From && file.At < span.To
		for i := range n {
			b.day[i], b.in[i] = day, in
		}
		return nil
	}
	b.at = slices.Grow(b.at[:0], n)[:n]
	return b.Numbers(timed, func(at int, values []float64) {
		for i, x := range values {
			row := at + i
			b.at[row] = x
			b.in[row] = x-x == 0 && int64(x) >= span.From && int64(x) < span.To
			if b.in[row] {
				b.day[row] = midnight.of(int64(x))
			}
		}
	})
}

// parallel works on the features of a block at the same time.
func (b *block) parallel(do func(feature, column int) error) error {
	var group errgroup.Group
	group.SetLimit(runtime.GOMAXPROCS(0))
	for i, column := range b.places {
		if column >= 0 {
			group.Go(func() error { return do(i, column) })
		}
	}
	return group.Wait()
}

// numbers hands over a numeric feature's values of the rows in the span; times
// count from the row's own, or as the hour of the day.
func (b *block) numbers(f record.Feature, column int, do func(row int, x float64)) error {
	return b.Numbers(column, func(at int, values []float64) {
		for i, x := range values {
			if row := at + i; b.in[row] {
				if f.Kind == drift.Time && x-x == 0 {
					if b.at != nil {
						x = (x - b.at[row]) / 3600
					} else {
						x = math.Mod(x, 86400) / 3600
					}
				}
				do(row, x)
			}
		}
	})
}

func (b *block) words(column int, do func(row int, word []byte)) error {
	return b.Words(column, func(at int, values [][]byte) {
		for i, word := range values {
			if b.in[at+i] {
				do(at+i, word)
			}
		}
	})
}

// First is the time of the earliest row.
func (f *Files) First(ctx context.Context, w Wanted) (at int64, ok bool, err error) {
	w.Features = nil
	at = math.MaxInt64
	err = f.walk(ctx, w, everything, func(b *block) error {
		for row := range b.Rows() {
			if b.in[row] {
				at, ok = min(at, b.day[row]), true
			}
		}
		return nil
	})
	return at, ok, err
}

func (f *Files) Layouts(ctx context.Context, w Wanted, span timeline.Span) ([]*drift.Layout, error) {
	sketches := make([]*drift.Sketch, len(w.Features))
	for i, feature := range w.Features {
		sketches[i] = drift.NewSketch(feature.Kind, w.Seed)
	}
	err := f.walk(ctx, w, span, func(b *block) error {
		return b.parallel(func(i, column int) error {
			s := sketches[i]
			if w.Features[i].Kind.Numeric() {
				return b.numbers(w.Features[i], column, func(_ int, x float64) { s.Number(x) })
			}
			return b.words(column, func(_ int, word []byte) {
				if word != nil {
					s.Word(word)
				}
			})
		})
	})
	layouts := make([]*drift.Layout, len(sketches))
	for i, s := range sketches {
		layouts[i] = s.Layout()
		layouts[i].Ready()
	}
	return layouts, err
}

func (f *Files) Days(ctx context.Context, w Wanted, layouts []*drift.Layout, span timeline.Span) ([]Day, error) {
	for _, l := range layouts {
		l.Ready()
	}
	var days []Day
	places := map[int64]int{}
	var place []int32 // of each row's day
	err := f.walk(ctx, w, span, func(b *block) error {
		n := b.Rows()
		place = slices.Grow(place[:0], n)[:n]
		last, at := int64(math.MinInt64), -1
		for row := range n {
			if !b.in[row] {
				continue
			}
			if b.day[row] != last {
				last = b.day[row]
				known := false
				if at, known = places[last]; !known {
					at = len(days)
					places[last] = at
					d := Day{At: last, Counts: make([]drift.Counts, len(layouts)), Models: map[string]*ModelDay{}}
					for i, l := range layouts {
						d.Counts[i] = drift.NewCounts(l)
					}
					days = append(days, d)
				}
			}
			place[row] = int32(at)
		}
		lacking := make([][]int32, len(layouts))
		err := b.parallel(func(i, column int) error {
			l := layouts[i]
			input := w.Features[i].Role == ""
			if w.Features[i].Kind.Numeric() {
				return b.numbers(w.Features[i], column, func(row int, x float64) {
					days[place[row]].Counts[i].Number(l, x)
					if x != x && input {
						lacking[i] = append(lacking[i], int32(row))
					}
				})
			}
			return b.words(column, func(row int, word []byte) {
				c := &days[place[row]].Counts[i]
				if word != nil {
					c.Word(l, word)
					return
				}
				c.Nothing(false)
				if input {
					lacking[i] = append(lacking[i], int32(row))
				}
			})
		})
		if err != nil || b.model[0] < 0 {
			return err
		}
		return b.models(w, layouts, days, place, lacking)
	})
	slices.SortFunc(days, func(a, b Day) int { return cmp.Compare(a.At, b.At) })
	return days, err
}

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
	of := func(row int) *ModelDay {
		d := &days[place[row]]
		m := d.Models[versions[row]]
		if m == nil {
			m = newModelDay(score)
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
		m.score(x, outcomes[row], w.Model.Threshold)
	})
}

// score takes a score and its outcome; NaN is not known.
func (m *ModelDay) score(x, outcome, threshold float64) {
	if x >= threshold {
		m.Above++
	}
	if outcome != outcome || !(x >= 0 && x <= 1) {
		return
	}
	b := &m.Outcomes[min(outcomeBins-1, int(x*outcomeBins))]
	b.Rows++
	b.Score += x
	b.Squares += x * x
	if outcome > 0 {
		b.Positive++
		b.Hit += x
	}
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

func (f *Files) Samples(ctx context.Context, w Wanted, layouts []*drift.Layout, spans []timeline.Span, rows []int) ([]Drawn, error) {
	drawn := make([]Drawn, len(spans))
	for k := range drawn {
		drawn[k] = newDrawn(w, rows[k])
	}
	seen := make([]int, len(spans))
	rng := rand.New(rand.NewPCG(w.Seed, 0xd1a))
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
					if slot = rng.IntN(seen[k]); slot >= rows[k] {
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

// newDrawn has room for a number of rows.
func newDrawn(w Wanted, rows int) Drawn {
	d := Drawn{Sample: drift.Sample{Features: make([]drift.Values, len(w.Features)), Block: make([]int32, rows)}, Versions: make([]string, rows)}
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
