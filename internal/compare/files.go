package compare

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"runtime"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"tinbell/core/drift"
	"tinbell/core/timeline"
	"tinbell/internal/collect/columns"
	"tinbell/internal/contain"
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
					return record.Invalid{Field: "time_column", Given: w.Time, Allowed: fmt.Sprintf("a column of %s: %s",
						file.Path, names(list))}
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
			contain.Go(&group, func() error { return do(i, column) })
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
					x = b.hours(row, x)
				}
				do(row, x)
			}
		}
	})
}

// stretches hands over a column's numbers as numbers does, in stretches of rows that
// follow each other and are in one place; at is the first row of each.
func (b *block) stretches(f record.Feature, column int, place []int32, do func(at int, values []float64)) error {
	var own []float64
	return b.Numbers(column, func(at int, values []float64) {
		if f.Kind == drift.Time {
			own = append(own[:0], values...)
			values = own
			for i, x := range values {
				if b.in[at+i] && x-x == 0 {
					values[i] = b.hours(at+i, x)
				}
			}
		}
		for i := 0; i < len(values); {
			j := i + 1
			if b.in[at+i] {
				for j < len(values) && b.in[at+j] && place[at+j] == place[at+i] {
					j++
				}
				do(at+i, values[i:j])
			}
			i = j
		}
	})
}

// hours are those from a row's own time to another, or of the day where rows have none.
func (b *block) hours(row int, x float64) float64 {
	if b.at != nil {
		return (x - b.at[row]) / 3600
	}
	return math.Mod(x, 86400) / 3600
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
					d := Day{At: last, Counts: make([]drift.Counts, len(layouts)), Models: map[string]*drift.VersionCounts{}}
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
				return b.stretches(w.Features[i], column, place, func(at int, values []float64) {
					days[place[at]].Counts[i].Numbers(l, values)
					for k, x := range values {
						if x != x && input {
							lacking[i] = append(lacking[i], int32(at+k))
						}
					}
				})
			}
			finder := l.Finder()
			return b.words(column, func(row int, word []byte) {
				c := &days[place[row]].Counts[i]
				if word != nil {
					c.Found(finder, word)
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
